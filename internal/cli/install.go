package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func (a *app) install() *cli.Command {
	first := &cli.StringSliceFlag{Name: "first", Usage: "a site that comes before the others; any number of times, in their order"}
	plan := &cli.BoolFlag{Name: "plan", Usage: "only say what it would do"}
	return noun("install", "code on a host that several sites share: its tenants",
		verb("add", "NAME", "place the code of a release on a host, for sites to share (nestseed site provision --tenant-of NAME)", []cli.Flag{
			detach(),
			&cli.StringFlag{Name: "from", Required: true, Usage: "release: music-base@3, or music-base for the newest"},
			&cli.StringFlag{Name: "host", Required: true, Usage: "the host it goes on"}}, a.installAdd),
		listing(a, "list installs", (*client.Client).Installs, []string{"install", "host", ">sites", "made"}, func(i wire.Install) []string {
			return []string{i.Name, i.Host, strconv.Itoa(i.Tenants), day(i.MadeAt)}
		}),
		showing(a, "show an install with its code and its sites", (*client.Client).Install, a.printInstall),
		verb("refresh", "NAME", "bring all its sites to the code of a release, one after the other; each is checked before the next", []cli.Flag{
			detach(), plan, first, despite(), despiteWhy(),
			&cli.StringFlag{Name: "to", Usage: "the release; the newest of its starter unless given"}},
			a.installRun((*client.Client).PlanInstallRefresh, (*client.Client).RefreshInstall)),
		verb("undo", "NAME", "bring its sites back to the code they had before, with content and database as they stood then", []cli.Flag{
			detach(), plan, first}, a.installRun((*client.Client).PlanInstallUndo, (*client.Client).UndoInstall)),
		verb("remove", "NAME", "remove its code from the host; no site may share it", []cli.Flag{detach(),
			&cli.StringFlag{Name: "release", Usage: "only the code of this release"}}, a.installRemove))
}

func (a *app) installAdd(ctx context.Context, c *cli.Command, args []string) error {
	return siteRun(ctx, a, c, func(svc *client.Client) (wire.Run, error) {
		return svc.AddInstall(ctx, wire.NewInstall{Name: args[0], Host: c.String("host"), From: c.String("from")})
	}, func(r wire.InstallMade) {
		fmt.Fprintf(a.out, "install %s has the code of %s: %s files, %s. Make sites that share it with nestseed site provision CLIENT "+
			"--tenant-of %s\n", r.Install, r.Release, count(r.Files), size(r.Bytes), r.Install)
	})
}

func (a *app) installRemove(ctx context.Context, c *cli.Command, args []string) error {
	return siteRun(ctx, a, c, func(svc *client.Client) (wire.Run, error) {
		return svc.RemoveInstall(ctx, args[0], c.String("release"))
	},
		func(map[string]string) { fmt.Fprintln(a.out, "removed") })
}

func (a *app) printInstall(i wire.Install) {
	fmt.Fprintf(a.out, "install %s on host %s, made %s\n\n", i.Name, i.Host, day(i.MadeAt))
	var rows [][]string
	for _, c := range i.Codes {
		rows = append(rows, []string{c.Release, count(c.Files), size(c.Bytes), strconv.Itoa(c.Tenants), strconv.Itoa(c.Copies), c.Folder})
	}
	table(a.out, []string{"code of", ">files", ">size", ">sites", ">safety copies", "in"}, rows)
	fmt.Fprintln(a.out)
	rows = nil
	for _, s := range i.Sites {
		rows = append(rows, []string{s.Site, s.Address, s.Release, countsLine(s.Checks)})
	}
	table(a.out, []string{"site", "address", "code of", "checks"}, rows)
}

// installRun does something with all sites of an install, or says what it would do.
func (a *app) installRun(plan func(*client.Client, context.Context, string, wire.NewInstallCode) (wire.InstallPlan, error),
	start func(*client.Client, context.Context, string, wire.NewInstallCode) (wire.Run, error)) func(context.Context, *cli.Command,
	[]string) error {
	return func(ctx context.Context, c *cli.Command, args []string) error {
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		in := wire.NewInstallCode{To: c.String("to"), First: c.StringSlice("first"), Despite: decided(c)}
		p, err := plan(svc, ctx, args[0], in)
		if err != nil {
			return err
		}
		if c.Bool("plan") {
			return a.print(c, p, func() { a.printInstallPlan(p) })
		}
		in.Mark = p.Mark
		run, err := start(svc, ctx, args[0], in)
		if err != nil {
			return err
		}
		ended, ok, err := a.follow(ctx, c, svc, run)
		if !ok && err == nil {
			return nil
		}
		var res wire.InstallResult
		if json.Unmarshal(ended.Result, &res) != nil || len(res.Sites) == 0 {
			return err
		}
		printErr := a.print(c, res, func() { a.printInstallResult(res) })
		if err == nil {
			err = printErr
		}
		return err
	}
}

func (a *app) printInstallPlan(p wire.InstallPlan) {
	if p.Place {
		fmt.Fprintf(a.out, "the code of %s is placed on host %s; then, one after the other, each checked before the next:\n\n", p.Release, p.Host)
	}
	var rows [][]string
	for i, s := range p.Sites {
		what := s.From + " → " + s.To
		if s.There {
			what = s.To + ", as now"
		}
		rows = append(rows, []string{strconv.Itoa(i + 1), s.Site, s.Address, what})
	}
	table(a.out, []string{">", "site", "address", "code of"}, rows)
	if len(p.Problems) == 0 && !p.Place && !slices.ContainsFunc(p.Sites, func(s wire.TenantPlan) bool { return !s.There }) {
		fmt.Fprintln(a.out, "there is nothing to do")
	}
	for _, r := range p.Problems {
		fmt.Fprintln(a.out, "✗", r)
	}
	fmt.Fprintf(a.out, "nothing has been touched; mark %s\n", p.Mark)
}

func (a *app) printInstallResult(res wire.InstallResult) {
	var rows [][]string
	for _, o := range res.Sites {
		mark, what := "✓", "checks passed"
		switch {
		case o.Status == "waiting":
			mark, what = "·", "not begun"
		case o.Status == "there":
			what = "was there already"
		case o.Status != wire.Done:
			mark, what = "✗", o.Error
		case o.Faults > 0:
			mark, what = "!", fmt.Sprintf("%d checks failed, as before", o.Faults)
		}
		rows = append(rows, []string{mark, o.Site, what})
	}
	table(a.out, []string{"", "site", ""}, rows)
}
