package sites

import (
	"context"
	"errors"
	"fmt"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// TableRow is a site to make: a line of a table.
type TableRow struct {
	Client  string `json:"client"`
	Address string `json:"address,omitempty"`
	Name    string `json:"name,omitempty"`
	Sealed  string `json:"sealed,omitempty"` // values for this site alone
}

// TableArgs ask for a site for each row. Clients and their settings are there already.
type TableArgs struct {
	Release       string     `json:"release"`
	Host          string     `json:"host"`
	Visible       bool       `json:"visible"`
	Mail          bool       `json:"mail,omitempty"`
	MailAddresses bool       `json:"mail_addresses,omitempty"`
	Mend          bool       `json:"mend,omitempty"`
	TenantOf      string     `json:"tenant_of,omitempty"`
	Hold          bool       `json:"hold"`
	Rows          []TableRow `json:"rows"`
}

// TableResult is one report over all rows.
type TableResult struct {
	Rows   []TableOutcome `json:"rows"`
	Made   int            `json:"made"`
	Failed int            `json:"failed"`
}

// TableOutcome is what became of a row.
type TableOutcome struct {
	Site    string `json:"site"`
	Address string `json:"address,omitempty"`
	Status  string `json:"status"` // done, failed, cancelled, or there: it was made before
	Error   string `json:"error,omitempty"`
	RunID   int64  `json:"run_id,omitempty"`
	Faults  int    `json:"faults"`
	Millis  int64  `json:"ms"`
}

// tableAtOnce is how many sites of a table are made at a time. One run is the table's own.
const tableAtOnce = engine.DefaultWorkers - 1

// makingOfTable is about which share of a table's time the making of its sites takes; their checks take the rest.
const makingOfTable = 0.25

// ProvisionTable starts a run for each row, a few at a time, and gathers what became of them. Each succeeds or fails by
// itself. All sites stand before they are checked, but for the first, which shows at once what is wrong with all. Of tenants, which have
// the code of the first, some pages are opened (check.Like). A table that begins again goes on where it was: rows whose site is there are
// passed over, and checked where they have not been.
func (svc *Sites) ProvisionTable(ctx context.Context, run engine.Run, args TableArgs, report progress.Reporter) (*TableResult, error) {
	progress.Stage(report, 0, makingOfTable)
	report.Step("Make sites", progress.Amount{Files: int64(len(args.Rows))})
	out := make([]TableOutcome, len(args.Rows))
	group := parallel.Group{}
	group.SetLimit(tableAtOnce)
	for i, row := range args.Rows {
		group.Go(func() error {
			out[i] = svc.tableRow(ctx, run, args, row, i > 0)
			report.Add(progress.Amount{Files: 1})
			if out[i].Error != "" {
				report.Note(out[i].Site + ": " + out[i].Error)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	progress.Stage(report, makingOfTable, 1)
	if err := svc.checkRows(ctx, out, report); err != nil {
		return nil, err
	}
	res := &TableResult{Rows: out}
	for _, o := range out {
		if o.made() {
			res.Made++
		} else {
			res.Failed++
		}
	}
	if ctx.Err() != nil {
		return res, ctx.Err()
	}
	if res.Failed > 0 {
		return res, fmt.Errorf("%d of %d sites could not be made; the others are live, and the same table again makes those that are missing",
			res.Failed, len(out))
	}
	return res, nil
}

// made says whether the site of a row stands.
func (o TableOutcome) made() bool { return o.Status == records.Done || o.Status == "there" }

// checkRows checks the sites of rows that have not been checked. That one cannot be checked is told, and does not fail its row.
func (svc *Sites) checkRows(ctx context.Context, rows []TableOutcome, report progress.Reporter) error {
	report.Step("Check sites", progress.Amount{Files: int64(len(rows))})
	whole := svc.checkedWhole(ctx, rows)
	group := parallel.Group{}
	group.SetLimit(tableAtOnce)
	for i := range rows {
		group.Go(func() error {
			if o := &rows[i]; o.made() && ctx.Err() == nil {
				if err := svc.checkRow(ctx, o, whole.like(i)); err != nil && ctx.Err() == nil {
					report.Note(fmt.Sprintf("%s could not be checked: %v", o.Site, err))
				}
			}
			report.Add(progress.Amount{Files: 1})
			return nil
		})
	}
	return group.Wait()
}

// checkedWhole is a tenant all of whose pages were opened, without a fault, and what of them falls to each row of its table.
type checkedWhole struct {
	site   records.Site
	shares [][]string
}

// checkedWhole checks the first tenant of a table whole; nil where the rows share no code, or that one has a fault, so that each is to be
// looked at as a whole. One that was there, and of which it is not known which pages were opened, is passed over.
func (svc *Sites) checkedWhole(ctx context.Context, rows []TableOutcome) *checkedWhole {
	for i := range rows {
		o := &rows[i]
		if !o.made() {
			continue
		}
		s, err := svc.DB.Site(ctx, o.Site)
		if err != nil || s.CodeID == nil || svc.checkRow(ctx, o, nil) != nil {
			return nil
		}
		if s, err = svc.DB.Site(ctx, o.Site); err != nil || s.Report == nil || s.Report.Faults() > 0 {
			return nil
		}
		if s.Report.Like == "" && len(s.Report.Opened) > 0 {
			return &checkedWhole{s, check.Shares(s.Report.Opened, len(rows))}
		}
	}
	return nil
}

// like says what to open of a row's site, should it have the same code and come from the same release.
func (c *checkedWhole) like(row int) func(s records.Site) *check.Like {
	return func(s records.Site) *check.Like {
		if c == nil || s.CodeID == nil || *s.CodeID != *c.site.CodeID || s.ReleaseID != c.site.ReleaseID {
			return nil
		}
		return &check.Like{Name: c.site.Name, Count: c.site.Report.Pages, Pages: c.shares[row]}
	}
}

// checkRow checks a row's site, where it has not been; the whole of it where something is wrong with the part that like names.
func (svc *Sites) checkRow(ctx context.Context, o *TableOutcome, like func(records.Site) *check.Like) error {
	s, err := svc.DB.Site(ctx, o.Site)
	if err != nil {
		return err
	}
	if s.Report == nil {
		var part *check.Like
		if like != nil {
			part = like(s)
		}
		if s.Report, err = svc.checkSite(ctx, o.Site, part, progress.Discard); err == nil && part != nil && s.Report.Faults() > 0 {
			s.Report, err = svc.checkSite(ctx, o.Site, nil, progress.Discard)
		}
		if err != nil {
			return err
		}
		o.Millis += s.Report.TookMillis
	}
	o.Faults = s.Report.Faults()
	return nil
}

func (svc *Sites) tableRow(ctx context.Context, run engine.Run, args TableArgs, row TableRow, unchecked bool) TableOutcome {
	name := row.Name
	if name == "" {
		name = row.Client
	}
	o := TableOutcome{Site: name, Status: records.Failed}
	fail := func(err error) TableOutcome {
		o.Error = err.Error()
		return o
	}
	if ctx.Err() != nil {
		o.Status = records.Cancelled
		return fail(errors.New("it was not begun"))
	}
	if s, err := svc.DB.Site(ctx, name); err == nil {
		o.Status, o.Address = "there", s.Address
		return o
	} else if !errors.Is(err, records.ErrNotFound) {
		return fail(err)
	}
	pa := ProvisionArgs{Name: name, Client: row.Client, Release: args.Release, Host: args.Host, Address: row.Address, Visible: args.Visible,
		Hold: args.Hold, Mail: args.Mail, MailAddresses: args.MailAddresses, Mend: args.Mend, TenantOf: args.TenantOf,
		Sealed: row.Sealed, Unchecked: unchecked}
	child, err := svc.Engine.Start(ctx, engine.Run{Job: "provision", Title: "Make site " + name, Target: engine.Target("site", name),
		Who: run.Who}, pa)
	if err != nil {
		return fail(err)
	}
	o.RunID = child.ID
	child, err = svc.Await(ctx, child.ID)
	if err != nil {
		return fail(err)
	}
	o.Status = child.Status
	if child.StartedAt != nil && child.EndedAt != nil {
		o.Millis = child.EndedAt.Sub(*child.StartedAt).Milliseconds()
	}
	if child.Status != records.Done {
		return fail(errors.New(child.Error))
	}
	if s, err := svc.DB.Site(context.WithoutCancel(ctx), name); err == nil {
		o.Address = s.Address
	}
	return o
}

// Await waits for a run to end that another has begun. When that is cancelled, so is the run.
func (svc *Sites) Await(ctx context.Context, id int64) (engine.Run, error) {
	changed, stop := svc.Engine.Listen()
	defer stop()
	for {
		r, err := svc.DB.Run(context.WithoutCancel(ctx), id)
		if err != nil || r.EndedAt != nil {
			return r, err
		}
		if next(ctx, changed, id) {
			continue
		}
		if errors.Is(context.Cause(ctx), engine.ErrCancelled) {
			// One that is over, or past the point where it can be cancelled, is made.
			if err := svc.DB.AskCancel(context.WithoutCancel(ctx), id); err != nil && !errors.Is(err, records.ErrNotFound) {
				return r, err
			}
			// It is made, or takes back what it had made; that is waited for.
			for range 600 {
				if r, err = svc.DB.Run(context.WithoutCancel(ctx), id); err != nil || r.EndedAt != nil {
					return r, err
				}
				time.Sleep(100 * time.Millisecond)
			}
		}
		return r, ctx.Err()
	}
}

// next waits until a run changes, or might have without having been told of; false when ctx has ended.
func next(ctx context.Context, changed <-chan int64, id int64) bool {
	might := time.After(time.Second)
	for {
		select {
		case <-ctx.Done():
			return false
		case <-might:
			return true
		case of := <-changed:
			if of == id {
				return true
			}
		}
	}
}
