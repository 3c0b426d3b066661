package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/core/check"
	"nestseed/internal/service/runs"
	"nestseed/internal/wire"
)

func siteFlags(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "from", Required: true, Usage: "release: music-base@3, or music-base for the newest"},
		&cli.StringFlag{Name: "host", Required: true, Usage: "the host it goes on"},
		&cli.StringFlag{Name: "address", Usage: "its address; by the host's pattern unless given"},
		&cli.StringFlag{Name: "name", Usage: "its name; the client's unless given"},
		&cli.StringSliceFlag{Name: "set", Usage: "KEY=VALUE for this site alone, any number of times"},
		&cli.BoolFlag{Name: "visible", Usage: "let search engines in"},
	}, more...)
}

func newSite(c *cli.Command, name string) (wire.NewSite, error) {
	set, err := pairs(c.StringSlice("set"))
	return wire.NewSite{Client: name, From: c.String("from"), Host: c.String("host"), Address: c.String("address"), Name: c.String("name"), Set: set, Visible: c.Bool("visible")}, err
}

func (a *app) site() *cli.Command {
	return noun("site", "sites that were made from releases",
		asking(a, "plan", "CLIENT", "show what would be made; nothing is touched", siteFlags(), func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Plan, error) {
			in, err := newSite(c, args[0])
			if err != nil {
				return wire.Plan{}, err
			}
			return svc.PlanSite(ctx, in)
		}, a.printPlan),
		verb("provision", "CLIENT", "make a site", siteFlags(detach), a.siteProvision),
		listing(a, "list sites", (*client.Client).Sites, []string{"site", "title", "address", "release", ">size", "checks"}, func(s wire.Site) []string {
			return []string{s.Name, s.Title, s.Address, s.Release, size(s.Bytes), checksLine(s.Report)}
		}),
		showing(a, "show a site", (*client.Client).Site, a.printSite),
		verb("check", "NAME", "visit a site and judge it", []cli.Flag{detach}, a.siteCheck),
		asking(a, "tick", "NAME TASK", "tick off a launch task", []cli.Flag{&cli.BoolFlag{Name: "undo", Usage: "it is not done after all"}},
			func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Site, error) {
				return svc.TickTask(ctx, args[0], args[1], !c.Bool("undo"))
			}, a.printTasks))
}

func (a *app) printPlan(p wire.Plan) {
	fmt.Fprintf(a.out, "plan: %s from %s at %s\n\n", p.Name, p.Release, p.Address)
	for i, s := range p.Steps {
		fmt.Fprintf(a.out, "%2d  %s", i+1, s.Title)
		if s.Amount != "" {
			fmt.Fprintf(a.out, "  (%s)", s.Amount)
		}
		fmt.Fprintf(a.out, "\n    %s\n", s.Detail)
	}
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, v := range p.Values {
		value := v.Value
		if v.Problem != "" {
			value = strings.TrimSpace(value + " ✗ " + v.Problem)
		}
		rows = append(rows, []string{v.Key, value, v.Origin, strings.Join(v.To, ", ")})
	}
	table(a.out, []string{"value", "", "from", "goes to"}, rows)
	fmt.Fprintf(a.out, "\nwill be generated: %s\n", strings.Join(p.Generated, ", "))
	for _, r := range p.Problems {
		fmt.Fprintln(a.out, "✗", r)
	}
	if len(p.Missing) > 0 {
		fmt.Fprintf(a.out, "✗ missing or not fitting: %s; set them with nestseed client set, or with --set\n", strings.Join(p.Missing, ", "))
	}
	state := "ready"
	if !p.Ready {
		state = "not possible like this"
	}
	fmt.Fprintf(a.out, "%s; nothing has been touched; about %s\n", state, millis(p.ExpectedMillis))
}

func (a *app) siteProvision(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	in, err := newSite(c, args[0])
	if err != nil {
		return err
	}
	run, err := svc.ProvisionSite(ctx, in)
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var res runs.ProvisionResult
	if err := json.Unmarshal(ended.Result, &res); err != nil {
		return err
	}
	s, err := svc.Site(ctx, res.Site)
	if err != nil {
		return err
	}
	err = a.print(c, s, func() {
		fmt.Fprintf(a.out, "made in %s\n", millis(ended.EndedAt.Sub(*ended.StartedAt).Milliseconds()))
		a.printSite(s)
	})
	if err == nil && s.Report != nil && s.Report.Faults() > 0 {
		return errFaults
	}
	return err
}

func checksLine(r *check.Report) string {
	switch {
	case r == nil:
		return "not checked"
	case r.Faults() > 0:
		return fmt.Sprintf("✗ %d of %d failed", r.Faults(), len(r.Checks))
	case r.Warnings() > 0:
		return fmt.Sprintf("! %d of %d warn", r.Warnings(), len(r.Checks))
	}
	return fmt.Sprintf("✓ %d passed", len(r.Checks))
}

func (a *app) printSite(s wire.Site) {
	fmt.Fprintf(a.out, "%s: %s\n", s.Name, s.Title)
	fmt.Fprintf(a.out, "address   %s\nrelease   %s for client %s on host %s\nfolder    %s (%s files, %s)\ndatabase  %s (%s rows, prefix %s)\n", s.Address, s.Release, s.Client, s.Host, s.Folder, count(s.Files), size(s.Bytes), s.Database, count(s.Rows), s.Prefix)
	fmt.Fprintf(a.out, "log in    %s as %s; reveal the password with: nestseed vault reveal site %s administrator\n", s.LoginAt, s.Admin, s.Name)
	var forms []string
	for _, f := range slices.Sorted(maps.Keys(s.Rewritten.Forms)) {
		forms = append(forms, fmt.Sprintf("%s %s", count(s.Rewritten.Forms[f]), f))
	}
	fmt.Fprintf(a.out, "rewritten %s places (%s); %s inside serialised values", count(s.Rewritten.Replaced), strings.Join(forms, ", "), count(s.Rewritten.Serialised))
	if s.Rewritten.Broken > 0 {
		fmt.Fprintf(a.out, "; %s serialised values were broken before and left as they are", count(s.Rewritten.Broken))
	}
	fmt.Fprintln(a.out)
	var steps []string
	for _, t := range s.Steps {
		steps = append(steps, fmt.Sprintf("%s %s", strings.ToLower(t.Name), millis(t.Millis)))
	}
	fmt.Fprintf(a.out, "steps     %s\n\n", strings.Join(steps, ", "))
	a.printTasks(s)
	a.printReport(s.Report)
}

// printTasks lists what a person must still do on a site.
func (a *app) printTasks(s wire.Site) {
	if len(s.Tasks) == 0 {
		return
	}
	fmt.Fprintln(a.out, "launch tasks")
	for _, t := range s.Tasks {
		mark, done := "□", ""
		if t.DoneAt != nil {
			mark, done = "✓", fmt.Sprintf(" (%s, %s)", t.DoneBy, day(*t.DoneAt))
		}
		fmt.Fprintf(a.out, "%s %-21s %s%s\n", mark, t.Key, t.Title, done)
		if t.DoneAt != nil {
			continue
		}
		for _, line := range []string{t.Detail, t.Page} {
			if line != "" {
				fmt.Fprintf(a.out, "    %s\n", line)
			}
		}
	}
	fmt.Fprintln(a.out)
}

func (a *app) printReport(r *check.Report) {
	if r == nil {
		fmt.Fprintln(a.out, "not checked yet")
		return
	}
	fmt.Fprintf(a.out, "checks of %s, %d pages in %s\n", day(r.At), r.Pages, millis(r.TookMillis))
	for _, k := range r.Checks {
		fmt.Fprintf(a.out, "%s %-21s %s\n", map[check.Verdict]string{check.Pass: "✓", check.Warn: "!", check.Fail: "✗"}[k.Verdict], k.Name, k.Sentence)
		for _, e := range k.Evidence {
			fmt.Fprintf(a.out, "    %s\n", e)
		}
		if k.Remedy != "" {
			fmt.Fprintf(a.out, "    remedy: %s\n", k.Remedy)
		}
	}
}

func (a *app) siteCheck(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	run, err := svc.CheckSite(ctx, args[0])
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var r check.Report
	if err := json.Unmarshal(ended.Result, &r); err != nil {
		return err
	}
	if err := a.print(c, r, func() { a.printReport(&r) }); err != nil {
		return err
	}
	if r.Faults() > 0 {
		return errFaults
	}
	return nil
}
