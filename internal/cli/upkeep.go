package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// newTable reads the table that --table names. Columns client, name and address are the site's; every other is a
// setting.
func (a *app) newTable(c *cli.Command, args []string) (wire.NewTable, error) {
	for _, f := range []string{"address", "name", "set", "file"} {
		if c.IsSet(f) {
			return wire.NewTable{}, usage("with --table, --%s is a column of the table", f)
		}
	}
	for _, f := range []string{"replace", "keep", "plan"} {
		if c.IsSet(f) {
			return wire.NewTable{}, usage("--%s is for one site and not for a --table", f)
		}
	}
	if len(args) > 0 {
		return wire.NewTable{}, usage("with --table, the clients are in the table")
	}
	if err := fromWhere(c); err != nil {
		return wire.NewTable{}, err
	}
	heads, lines, err := a.readTable(c.String("table"), "client")
	if err != nil {
		return wire.NewTable{}, err
	}
	in := wire.NewTable{From: c.String("from"), Host: c.String("host"), TenantOf: c.String("tenant-of"),
		Visible: c.Bool("visible"), Hold: c.Bool("hold"),
		Mail: c.Bool("mail"), MailAddresses: c.Bool("mail-addresses"), Mend: c.Bool("mend")}
	for _, line := range lines {
		row := wire.TableRow{Set: map[string]string{}}
		for i, v := range line {
			switch heads[i] {
			case "client":
				row.Client = v
			case "name":
				row.Name = v
			case "address":
				row.Address = v
			default:
				if v != "" {
					row.Set[heads[i]] = v
				}
			}
		}
		in.Rows = append(in.Rows, row)
	}
	return in, nil
}

func (a *app) planTable(ctx context.Context, c *cli.Command, svc *client.Client, args []string) error {
	in, err := a.newTable(c, args)
	if err == nil {
		err = a.fileCells(ctx, svc, c.String("table"), &in, false)
	}
	if err != nil {
		return err
	}
	p, err := svc.PlanTable(ctx, in)
	if err != nil {
		return err
	}
	return a.print(c, p, func() {
		var rows [][]string
		for _, r := range p.Rows {
			mark, what := "✓", r.Address
			switch {
			case r.There:
				what += " (is there already, and stays)"
			case !r.Ready:
				mark, what = "✗", strings.Join(r.Problems, "; ")
			}
			client := r.Client
			if r.NewClient {
				client += " (added)"
			}
			rows = append(rows, []string{mark, r.Site, client, what})
		}
		table(a.out, []string{"", "site", "client", ""}, rows)
		fmt.Fprintf(a.out, "%d would be made, %d are there, %d would fail; nothing has been touched\n", p.Ready, p.There, p.Wrong)
	})
}

// provisionTable makes a site for each line of a table.
func (a *app) provisionTable(ctx context.Context, c *cli.Command, svc *client.Client, args []string) error {
	in, err := a.newTable(c, args)
	if err == nil {
		err = a.fileCells(ctx, svc, c.String("table"), &in, true)
	}
	if err != nil {
		return err
	}
	run, err := svc.ProvisionTable(ctx, in)
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if !ok && err == nil {
		return nil
	}
	var res wire.TableResult
	if json.Unmarshal(ended.Result, &res) != nil || len(res.Rows) == 0 {
		return err
	}
	printErr := a.print(c, res, func() { a.printTable(res) })
	switch {
	case err != nil:
		return err
	case printErr == nil && slices.ContainsFunc(res.Rows, func(o wire.TableOutcome) bool { return o.Faults > 0 }):
		return errFaults
	}
	return printErr
}

func (a *app) printTable(res wire.TableResult) {
	var rows [][]string
	for _, o := range res.Rows {
		mark, what := "✓", o.Address
		switch {
		case o.Status == "there":
			what += " (was there already)"
		case o.Status != wire.Done:
			mark, what = "✗", o.Error
		case o.Faults > 0:
			mark, what = "!", fmt.Sprintf("%s; %d checks failed", o.Address, o.Faults)
		}
		took := ""
		if o.Millis > 0 {
			took = millis(o.Millis)
		}
		rows = append(rows, []string{mark, o.Site, what, took})
	}
	table(a.out, []string{"", "site", "", ">took"}, rows)
	fmt.Fprintf(a.out, "%d made, %d failed\n", res.Made, res.Failed)
}

// printCopies lists the safety copies of a site.
func (a *app) printCopies(s wire.Site) {
	if len(s.Copies) == 0 {
		return
	}
	var rows [][]string
	for _, c := range s.Copies {
		where := c.Where
		if c.Host != "" {
			where = c.Host + ": " + where
		}
		if c.Serves != "" {
			where += ", still serving " + c.Serves
		}
		rows = append(rows, []string{strconv.FormatInt(c.ID, 10), day(c.MadeAt), c.Why, c.Release, size(c.Bytes), where})
	}
	table(a.out, []string{"safety copy", "made", "because", "of", ">size", "where"}, rows)
	fmt.Fprintln(a.out)
}

func (a *app) siteUndo(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	p, err := svc.PlanUndo(ctx, args[0])
	if err != nil {
		return err
	}
	if c.Bool("plan") {
		return a.print(c, p, func() {
			fmt.Fprintf(a.out, "undoing the last provisioning of %s:\n- %s\nnothing has been touched\n", p.Site, strings.Join(p.Sentences, "\n- "))
		})
	}
	run, err := svc.UndoSite(ctx, args[0], p.Mark)
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	return a.print(c, ended, func() { fmt.Fprintf(a.out, "undone:\n- %s\n", strings.Join(p.Sentences, "\n- ")) })
}

func (a *app) siteMove(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	in := wire.Move{Host: c.String("host"), Address: c.String("address"), Despite: decided(c)}
	if c.IsSet("visible") {
		in.Visible = new(c.Bool("visible"))
	}
	p, err := svc.PlanMove(ctx, args[0], in)
	if err != nil {
		return err
	}
	if c.Bool("plan") {
		return a.print(c, p, func() {
			fmt.Fprintf(a.out, "moving %s:\n- %s\n", p.Site, strings.Join(p.Sentences, "\n- "))
			for _, r := range p.Problems {
				fmt.Fprintln(a.out, "✗", r)
			}
			fmt.Fprintln(a.out, "nothing has been touched")
		})
	}
	in.Mark = p.Mark
	run, err := svc.MoveSite(ctx, args[0], in)
	if err != nil {
		return err
	}
	return a.siteMade(ctx, c, svc, run)
}

func (a *app) siteRefresh(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	if c.Bool("own-code") && c.IsSet("tenant-of") {
		return usage("a site shares the code of an install with --tenant-of, or has its own with --own-code")
	}
	in := wire.NewCode{From: c.String("to"), TenantOf: c.String("tenant-of"), OwnCode: c.Bool("own-code"), Despite: decided(c)}
	p, err := svc.PlanRefresh(ctx, args[0], in)
	if err != nil {
		return err
	}
	if c.Bool("plan") {
		return a.print(c, p, func() { a.printPlan(p) })
	}
	in.Mark = p.Mark
	run, err := svc.RefreshSite(ctx, args[0], in)
	if err != nil {
		return err
	}
	return a.siteMade(ctx, c, svc, run)
}

// shownNames is how many names of a list are printed before the rest is counted.
const shownNames = 12

// some joins the first of a list of names.
func some(names []string) string {
	if len(names) <= shownNames {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:shownNames], ", "), len(names)-shownNames)
}

// printRefresh tells what of the code differs.
func (a *app) printRefresh(r *wire.Refreshed) {
	if r == nil {
		return
	}
	var rows [][]string
	for _, u := range r.Units {
		rows = append(rows, []string{u.Unit, count(int64(u.Added)), count(int64(u.Changed)), count(int64(u.Removed))})
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.out, "the site has this code already")
	}
	table(a.out, []string{"code", ">added", ">changed", ">removed"}, rows)
	if len(r.Stays) > 0 {
		fmt.Fprintf(a.out, "stays, as the release does not have it: %s\n", some(r.Stays))
	}
	if len(r.Edited) > 0 {
		fmt.Fprintf(a.out, "! changed on the site by somebody, and replaced: %s\n", some(r.Edited))
	}
}

func (a *app) siteKeepCopy(ctx context.Context, c *cli.Command, args []string) error {
	return siteRun(ctx, a, c, func(svc *client.Client) (wire.Run, error) { return svc.KeepCopy(ctx, args[0]) }, func(r wire.CopyResult) {
		fmt.Fprintf(a.out, "safety copy of %s: %s; nestseed site show %s lists it\n", r.Site, size(r.Bytes), r.Site)
	})
}

func (a *app) siteRetire(ctx context.Context, c *cli.Command, args []string) error {
	return siteRun(ctx, a, c, func(svc *client.Client) (wire.Run, error) { return svc.RetireSite(ctx, args[0], c.Bool("no-copy")) },
		func(r wire.CopyResult) {
			last := "no last copy was made"
			if r.Bytes > 0 {
				last = "its last copy is kept: " + size(r.Bytes)
			}
			fmt.Fprintf(a.out, "%s is off its host; %s; nestseed site list --retired has its record\n", r.Site, last)
		})
}

func (a *app) siteRotate(ctx context.Context, c *cli.Command, args []string) error {
	return siteRun(ctx, a, c, func(svc *client.Client) (wire.Run, error) { return svc.RotateSite(ctx, args[0]) }, func(r wire.RotateResult) {
		fmt.Fprintf(a.out, "%s works with database user %s and a new password; %s logs in with a new password: nestseed vault reveal site %s "+
			"administrator\n", r.Site, r.User, r.Admin, r.Site)
	})
}

// siteRun starts a run on a site, follows it and prints what it made.
func siteRun[T any](ctx context.Context, a *app, c *cli.Command, start func(*client.Client) (wire.Run, error), human func(T)) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	run, err := start(svc)
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var r T
	if err := json.Unmarshal(ended.Result, &r); err != nil {
		return err
	}
	return a.print(c, r, func() { human(r) })
}

func copyNumber(word string) (int64, error) {
	id, err := strconv.ParseInt(word, 10, 64)
	if err != nil {
		return 0, usage("%q is not the number of a safety copy; nestseed site show lists them", word)
	}
	return id, nil
}

func (a *app) sitePutBack(ctx context.Context, c *cli.Command, args []string) error {
	id, err := copyNumber(args[1])
	if err != nil {
		return err
	}
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	run, err := svc.PutBackCopy(ctx, args[0], id)
	if err != nil {
		return err
	}
	return a.siteMade(ctx, c, svc, run)
}

func (a *app) siteDropCopy(ctx context.Context, c *cli.Command, args []string) error {
	id, err := copyNumber(args[1])
	if err != nil {
		return err
	}
	return siteRun(ctx, a, c, func(svc *client.Client) (wire.Run, error) { return svc.DropCopy(ctx, args[0], id) }, func(r wire.CopyResult) {
		fmt.Fprintf(a.out, "safety copy %d of %s is gone; %s are free again\n", id, args[0], size(r.Bytes))
	})
}

func (a *app) siteHold(held bool) func(context.Context, *cli.Command, []string) error {
	return func(ctx context.Context, c *cli.Command, args []string) error {
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		h, err := svc.HoldSite(ctx, args[0], wire.Held{Held: held, Visible: !held && c.Bool("visible")})
		if err != nil {
			return err
		}
		return a.print(c, h, func() {
			switch {
			case !held && c.Bool("visible"):
				fmt.Fprintf(a.out, "%s is open, to search engines too, and sends its mail\n", args[0])
				return
			case !held:
				fmt.Fprintf(a.out, "%s is open\n", args[0])
				return
			}
			fmt.Fprintf(a.out, "%s is held: visitors see a holding page\nwho has this address sees the site: %s\nnestseed site open %s lets "+
				"everybody in\n", args[0], h.Preview, args[0])
		})
	}
}
