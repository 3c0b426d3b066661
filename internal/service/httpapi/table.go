package httpapi

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"nestseed/internal/core/parallel"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/clients"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sites"
	"nestseed/internal/wire"
)

// plansAtOnce is how many rows of a table are planned at a time.
const plansAtOnce = 4

// tablePlan plans each row as it would be made, with clients who are not there yet as they would be added.
func (a *api) tablePlan(ctx context.Context, in wire.NewTable) (wire.TablePlan, error) {
	if err := a.ofInstall(ctx, in.TenantOf, &in.From, &in.Host); err != nil {
		return wire.TablePlan{}, err
	}
	r, err := a.db.Release(ctx, in.From)
	if err != nil {
		return wire.TablePlan{}, err
	}
	if err := tableProblems(in.Rows); err != nil {
		return wire.TablePlan{}, err
	}
	out := wire.TablePlan{Rows: make([]wire.TableRowPlan, len(in.Rows))}
	group, gctx := parallel.WithContext(ctx)
	group.SetLimit(plansAtOnce)
	for i, row := range in.Rows {
		group.Go(func() (err error) {
			out.Rows[i], err = a.rowPlan(gctx, row, sites.ProvisionArgs{Name: row.Name, Client: row.Client, Release: r.Ref(), Host: in.Host,
				Address: row.Address, Visible: in.Visible, Hold: in.Hold, Mail: in.Mail, MailAddresses: in.MailAddresses, Mend: in.Mend,
				TenantOf: in.TenantOf, NewClient: true})
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return wire.TablePlan{}, err
	}
	for _, row := range out.Rows {
		switch {
		case row.There:
			out.There++
		case row.Ready:
			out.Ready++
		default:
			out.Wrong++
		}
	}
	return out, nil
}

func (a *api) rowPlan(ctx context.Context, row wire.TableRow, args sites.ProvisionArgs) (wire.TableRowPlan, error) {
	out := wire.TableRowPlan{Site: siteOfRow(row), Client: row.Client, Problems: []string{}}
	if s, err := a.db.Site(ctx, out.Site); err == nil {
		out.There, out.Address = true, s.Address
		return out, nil
	}
	_, err := a.db.Client(ctx, row.Client)
	out.NewClient = errors.Is(err, records.ErrNotFound)
	if err != nil && !out.NewClient {
		return out, err
	}
	p, err := a.plan(ctx, args, row.Set)
	if err != nil {
		if errors.Is(err, records.ErrNotFound) || ctx.Err() != nil {
			return out, err // the host is not there: that is no row's fault
		}
		out.Problems = append(out.Problems, err.Error())
		return out, nil
	}
	out.Address, out.Ready, out.Problems = p.Address, p.Ready, append(out.Problems, p.Problems...)
	for _, v := range p.Values {
		if v.Problem != "" {
			out.Problems = append(out.Problems, fmt.Sprintf("%s (%s) %s", v.Label, v.Key, v.Problem))
		}
	}
	return out, nil
}

func siteOfRow(row wire.TableRow) string {
	if row.Name != "" {
		return row.Name
	}
	return row.Client
}

// provisionTable looks at all rows before anything is done about the first.
func (a *api) provisionTable(ctx context.Context, in *Put[wire.NewTable]) (*begun, error) {
	if err := a.ofInstall(ctx, in.Body.TenantOf, &in.Body.From, &in.Body.Host); err != nil {
		return nil, err
	}
	r, err := a.db.Release(ctx, in.Body.From)
	if err != nil {
		return nil, err
	}
	if _, err := a.db.Host(ctx, in.Body.Host); err != nil {
		return nil, err
	}
	args := sites.TableArgs{Release: r.Ref(), Host: in.Body.Host, Visible: in.Body.Visible, Hold: in.Body.Hold, Mail: in.Body.Mail,
		MailAddresses: in.Body.MailAddresses, Mend: in.Body.Mend, TenantOf: in.Body.TenantOf}
	if err := tableProblems(in.Body.Rows); err != nil {
		return nil, err
	}
	var run *begun
	err = a.db.Tx(ctx, func(ctx context.Context) error { // with the clients that are new, or not at all
		for _, row := range in.Body.Rows {
			out, err := a.tableRow(ctx, row)
			if err != nil {
				return err
			}
			args.Rows = append(args.Rows, out)
		}
		run, err = a.start(ctx, records.Run{Job: "table", Title: fmt.Sprintf("Make %d sites from %s", len(args.Rows), r.Ref()),
			Target: engine.Target("table", "sites")}, args) // one table at a time
		return err
	})
	return run, err
}

// tableRow is what a table's run is told of a row. A client who is not there is added with the values of the row.
func (a *api) tableRow(ctx context.Context, row wire.TableRow) (sites.TableRow, error) {
	out := sites.TableRow{Client: row.Client, Name: row.Name, Address: row.Address}
	_, err := a.db.Client(ctx, row.Client)
	switch {
	case errors.Is(err, records.ErrNotFound):
		if err := a.Clients.Add(ctx, row.Client, row.Set); err != nil {
			return out, fmt.Errorf("client %s: %w", row.Client, err)
		}
		return out, nil
	case err != nil:
		return out, err
	}
	var given sites.ProvisionArgs
	err = a.Sites.SealValues(&given, row.Set)
	out.Sealed = given.Sealed
	return out, err
}

// tableProblems finds what is wrong with a table as a whole. Errors: provision.ErrPlan.
func tableProblems(rows []wire.TableRow) error {
	var wrong []string
	names, addresses := map[string]int{}, map[string]int{}
	for i, row := range rows {
		name := siteOfRow(row)
		if first, there := names[name]; there {
			wrong = append(wrong, fmt.Sprintf("rows %d and %d are both to make site %s; give one another name", first, i+1, name))
		}
		names[name] = i + 1
		if first, there := addresses[row.Address]; there && row.Address != "" {
			wrong = append(wrong, fmt.Sprintf("rows %d and %d have the same address %s", first, i+1, row.Address))
		}
		addresses[row.Address] = i + 1
		for key := range row.Set {
			if !clients.IsKey(key) {
				wrong = append(wrong, fmt.Sprintf("row %d: %q is not a name of a setting", i+1, key))
			}
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%w: %s; no row was begun", provision.ErrPlan, strings.Join(wrong, "; "))
	}
	return nil
}
