package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func siteFlags(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "from", Usage: "release: music-base@3, or music-base for the newest"},
		&cli.StringFlag{Name: "host", Usage: "the host it goes on"},
		&cli.StringFlag{Name: "tenant-of",
			Usage: "an `INSTALL` whose code it shares; it says the host, and the release unless one is given"},
		&cli.StringFlag{Name: "address", Usage: "its address; by the host's pattern unless given"},
		&cli.StringFlag{Name: "name", Usage: "its name; the client's unless given"},
		&cli.StringSliceFlag{Name: "set", Usage: "KEY=VALUE for this site alone, any number of times"},
		fileFlag(),
		&cli.BoolFlag{Name: "visible", Usage: "let search engines in"},
		&cli.BoolFlag{Name: "replace", Usage: "put it in the place of the site of this name, which is kept as a safety copy"},
		&cli.StringSliceFlag{Name: "keep",
			Usage: "with --replace, a part of the old site to take over: comments, users, uploads, …; any number of times"},
		&cli.BoolFlag{Name: "own-code", Usage: "with --replace, of a site that shares the code of an install: give it code of its own"},
		&cli.BoolFlag{Name: "hold", Usage: "keep visitors out until it is opened"},
		&cli.BoolFlag{Name: "mend", Usage: "put lengths right in serialised values that are broken in the source"},
		&cli.BoolFlag{Name: "mail-addresses", Usage: "change mail addresses at the source's host too; else they stay"},
		&cli.BoolFlag{Name: "mail", Usage: "let its mail go out; without --visible, or held, it is a preview and keeps it"},
	}, more...)
}

func tableFlag() cli.Flag {
	return &cli.StringFlag{Name: "table",
		Usage: "`FILE.csv` with a column client, and address, name and settings as further columns; - reads standard input"}
}

// fromWhere refuses flags that do not say what a site is made from.
func fromWhere(c *cli.Command) error {
	if !c.IsSet("tenant-of") && (!c.IsSet("from") || !c.IsSet("host")) {
		return usage("say which release with --from and where with --host, or whose code it shares with --tenant-of")
	}
	return nil
}

func newSite(c *cli.Command, name string) (wire.NewSite, error) {
	if err := fromWhere(c); err != nil {
		return wire.NewSite{}, err
	}
	if c.IsSet("own-code") && !c.Bool("replace") {
		return wire.NewSite{}, usage("--own-code is for a site that is replaced and shares code; give --replace too")
	}
	if c.IsSet("keep") && !c.Bool("replace") {
		return wire.NewSite{}, usage("--keep takes parts of the site that is replaced; give --replace too")
	}
	set, err := pairs(c.StringSlice("set"))
	return wire.NewSite{Client: name, From: c.String("from"), Host: c.String("host"), Address: c.String("address"), Name: c.String("name"),
		Set: set, Visible: c.Bool("visible"),
		Replace: c.Bool("replace"), Keep: c.StringSlice("keep"), Hold: c.Bool("hold"), Mail: c.Bool("mail"),
		MailAddresses: c.Bool("mail-addresses"), Mend: c.Bool("mend"),
		TenantOf: c.String("tenant-of"), OwnCode: c.Bool("own-code"), Despite: decided(c)}, err
}

func (a *app) site() *cli.Command {
	return noun("site", "sites that were made from releases",
		verb("plan", "[CLIENT]", "show what would be made; nothing is touched", siteFlags(tableFlag()), a.sitePlan),
		verb("provision", "[CLIENT]", "make a site, or one for each line of a table", siteFlags(
			detach(), tableFlag(), strict(), despite(), despiteWhy(),
			&cli.StringFlag{Name: "plan", Usage: "the mark of the plan that you reviewed; another plan is refused"}), a.siteProvision),
		asking(a, "list", "", "list sites", []cli.Flag{&cli.BoolFlag{Name: "retired", Usage: "those that are gone"},
			&cli.StringFlag{Name: "state", Usage: "failed, warned, passed, unchecked, held, behind, to-do, elsewhere or leading"},
			&cli.StringFlag{Name: "client"}, &cli.StringFlag{Name: "host"}, &cli.StringFlag{Name: "starter"},
			&cli.StringFlag{Name: "find", Usage: "a part of name, title, address or client"},
			&cli.StringFlag{Name: "sort", Usage: "name, title, attention, newest, size, checked or retired"}},
			func(ctx context.Context, c *cli.Command, svc *client.Client, _ []string) ([]wire.SiteRow, error) {
				by := client.SitesBy{Retired: c.Bool("retired"), State: c.String("state"), Client: c.String("client"), Host: c.String("host"),
					Starter: c.String("starter"), Find: c.String("find"), Sort: c.String("sort")}
				if by.Retired && by.Sort == "" {
					by.Sort = "retired"
				}
				return svc.Sites(ctx, by)
			}, a.printSites),
		showing(a, "show a site", (*client.Client).Site, a.printSite),
		verb("check", "NAME", "check pages, files, login, mail and database of a site", []cli.Flag{detach(), strict(),
			&cli.BoolFlag{Name: "full", Usage: "open all pages, not some of a template, and read all files, not what has changed"}},
			a.siteCheck),
		verb("side-by-side", "NAME", "look at pages of a site beside its source's, and mark what differs", []cli.Flag{detach(),
			&cli.IntFlag{Name: "pages", Value: 6, Usage: "how many"}, &cli.StringFlag{Name: "to",
				Usage: "write the pictures into `DIR`"}}, a.siteSideBySide),
		a.siteTick(), a.siteAccept(),
		verb("undo", "NAME", "undo a site's last provisioning: what stood there before comes back",
			[]cli.Flag{detach(), &cli.BoolFlag{Name: "plan", Usage: "only say what it would do"}}, a.siteUndo),
		verb("keep-copy", "NAME", "make a safety copy of a site", []cli.Flag{detach()}, a.siteKeepCopy),
		verb("put-back", "NAME COPY", "put a safety copy of a site back; what stands there becomes one", []cli.Flag{detach()}, a.sitePutBack),
		asking(a, "copy-rule", "NAME", "say which safety copies of a site are kept; without a rule, all until a person drops them", []cli.Flag{
			&cli.IntFlag{Name: "last", Usage: "keep so many; 0 for all"}, &cli.IntFlag{Name: "days",
				Usage: "drop them after so many days; 0 for never"}},
			func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Site, error) {
				return svc.SetCopyRule(ctx, args[0], wire.CopyRule{Last: int(c.Int("last")), Days: int(c.Int("days"))})
			}, func(s wire.Site) { fmt.Fprintf(a.out, "safety copies of %s: %s\n", s.Name, copyRule(s.CopyRule)) }),
		verb("handover", "NAME", "create a one-time login link for the client", []cli.Flag{
			&cli.IntFlag{Name: "days", Value: 7, Usage: "until it ends"},
			&cli.BoolFlag{Name: "withdraw", Usage: "make links that were not opened useless"},
			&cli.StringFlag{Name: "sheet", Usage: "write `FILE.html` instead: the same to be printed, without the password"}}, a.siteHandover),
		verb("drop-copy", "NAME COPY", "remove a safety copy of a site", nil, a.siteDropCopy),
		verb("hold", "NAME", "keep visitors out of a site until it is opened", nil, a.siteHold(true)),
		verb("open", "NAME", "let visitors into a site that is held",
			[]cli.Flag{&cli.BoolFlag{Name: "visible", Usage: "let search engines in too, and its mail out: the site is live"}}, a.siteHold(false)),
		verb("refresh", "NAME", "give a site the code of a newer release; its content stays, and what it was is kept as a safety copy",
			[]cli.Flag{detach(),
				&cli.StringFlag{Name: "to", Usage: "the release; the newest of the site's starter unless given"},
				&cli.StringFlag{Name: "tenant-of", Usage: "an `INSTALL` whose code of that release it shares from then on"},
				&cli.BoolFlag{Name: "own-code", Usage: "give it code of its own, where it shares that of an install"},
				despite(), despiteWhy(), strict(),
				&cli.BoolFlag{Name: "plan", Usage: "only say what it would do"}}, a.siteRefresh),
		verb("move", "NAME", "move a site, whole, to another host, or to another address where it is", []cli.Flag{detach(),
			&cli.StringFlag{Name: "host", Required: true, Usage: "the host it goes to, or the one it is on"},
			&cli.StringFlag{Name: "address", Usage: "its address there; by the host's pattern unless given; on the host it is on, another one"},
			&cli.BoolFlag{Name: "visible", Usage: "let search engines in there; as it is now unless given, --visible=false keeps them out"},
			despite(), despiteWhy(), &cli.BoolFlag{Name: "plan", Usage: "only say what it would do"}}, a.siteMove),
		verb("dns", "NAME", "ask DNS where a site's name leads, and which records would be lost when it moves to other name servers", []cli.Flag{
			&cli.StringSliceFlag{Name: "name-servers", Usage: "servers that the name is to move to, which are asked for every record"},
			&cli.StringFlag{Name: "zone-file", Usage: "write the records to this file, to hand over", TakesFile: true}}, a.siteDNS),
		verb("rotate", "NAME", "give a live site a new database user and its administrator a new password", []cli.Flag{detach()}, a.siteRotate),
		verb("retire", "NAME", "make a last safety copy and take the site off its host",
			[]cli.Flag{detach(), &cli.BoolFlag{Name: "no-copy", Usage: "make no last safety copy"}}, a.siteRetire))
}

func (a *app) siteTick() *cli.Command {
	return asking(a, "tick", "NAME TASK", "tick off a launch task, or say by when it is to be done", []cli.Flag{
		&cli.BoolFlag{Name: "undo", Usage: "it is not done after all"},
		&cli.StringFlag{Name: "due", Usage: "it is to be done by this `DAY`, like 2026-12-01; none for no day"}},
		func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Site, error) {
			t := wire.Tick{Done: !c.Bool("undo") && !c.IsSet("due")}
			if due := c.String("due"); due == "none" {
				t.Due = new(time.Time{}.Format(time.DateOnly))
			} else if due != "" {
				t.Due = &due
			}
			return svc.TickTask(ctx, args[0], args[1], t)
		}, a.printTasks)
}

func (a *app) siteAccept() *cli.Command {
	return asking(a, "accept", "NAME CHECK", "accept what a check warns of or fails by, until it finds something else", []cli.Flag{
		&cli.StringFlag{Name: "reason", Usage: "why it is accepted; shown on the site"},
		&cli.StringFlag{Name: "until", Usage: "to the end of this `DAY`, like 2026-12-31"},
		&cli.BoolFlag{Name: "everywhere", Usage: "on all sites of the starter, where just the same is found"},
		&cli.BoolFlag{Name: "undo", Usage: "accept it no more"}},
		func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Site, error) {
			if c.Bool("undo") {
				return svc.UnacceptCheck(ctx, args[0], args[1])
			}
			a := wire.Accept{What: args[1], Reason: c.String("reason"), Everywhere: c.Bool("everywhere")}
			if day := c.String("until"); day != "" {
				at, err := time.ParseInLocation(time.DateOnly, day, time.Local)
				if err != nil {
					return wire.Site{}, usage("--until %s is not a day; write it like 2026-12-31", day)
				}
				a.Until = new(at.AddDate(0, 0, 1))
			}
			return svc.AcceptCheck(ctx, args[0], a)
		}, func(s wire.Site) { a.printReport(s.Report, s.Accepted...) })
}

func (a *app) printSites(sites []wire.SiteRow) {
	var rows [][]string
	for _, s := range sites {
		state := countsLine(s.Checks)
		switch {
		case s.RetiredAt != nil:
			state = "retired " + day(*s.RetiredAt)
		case s.Held:
			state += ", held"
		}
		release := s.Release
		if s.Behind > 0 && s.RetiredAt == nil {
			release += fmt.Sprintf(", %d behind", s.Behind)
		}
		rows = append(rows, []string{s.Name, s.Title, s.Address, release, size(s.Bytes), state})
	}
	table(a.out, []string{"site", "title", "address", "release", ">size", "checks"}, rows)
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
		value := shownValue(v.Value)
		if v.Problem != "" {
			value = strings.TrimSpace(value + " ✗ " + v.Problem)
		}
		rows = append(rows, []string{v.Key, value, v.Origin, strings.Join(v.To, ", ")})
	}
	if p.Refresh == nil {
		table(a.out, []string{"value", "", "from", "goes to"}, rows)
	}
	a.printRefresh(p.Refresh)
	fmt.Fprintln(a.out)
	if len(p.Generated) > 0 {
		fmt.Fprintf(a.out, "will be generated: %s\n", strings.Join(p.Generated, ", "))
	}
	for _, w := range p.Without {
		fmt.Fprintf(a.out, "will be without:   %s\n", w)
	}
	if p.Replaces != "" {
		fmt.Fprintf(a.out, "stands there now:  %s; kept as a safety copy\n", p.Replaces)
	}
	if len(p.Keeps) > 0 {
		fmt.Fprintf(a.out, "is taken over:     %s\n", strings.Join(p.Keeps, ", "))
	}
	if len(p.Counts) > 0 {
		a.printPlaces(p)
	}
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
	fmt.Fprintf(a.out, "%s; nothing has been touched; about %s; mark %s\n", state, millis(p.ExpectedMillis), p.Mark)
}

// shownPlaces is how many tables and folders of a plan are listed before the rest is summed.
const shownPlaces = 6

// printPlaces lists where the old address and folder will be replaced.
func (a *app) printPlaces(p wire.Plan) {
	var all int64
	var parts []string
	for i, c := range p.Counts {
		all += c.Places
		if i < shownPlaces {
			parts = append(parts, fmt.Sprintf("%s %s", c.Where, count(c.Places)))
		}
	}
	if len(p.Counts) > shownPlaces {
		parts = append(parts, fmt.Sprintf("%d more", len(p.Counts)-shownPlaces))
	}
	fmt.Fprintf(a.out, "will be replaced:  %s places: %s\n", count(all), strings.Join(parts, ", "))
	for i, s := range p.Samples {
		if i < 3 {
			fmt.Fprintf(a.out, "    %s: %s\n", s.Where, strings.Join(strings.Fields(s.Text), " "))
		}
	}
}

// copyRule says a rule for safety copies in words.
func copyRule(r wire.CopyRule) string {
	switch {
	case r.Last == 0 && r.Days == 0:
		return "all are kept until a person drops them"
	case r.Days == 0 && r.Last == 1:
		return "the newest is kept"
	case r.Days == 0:
		return fmt.Sprintf("the last %d are kept", r.Last)
	case r.Last == 0:
		return fmt.Sprintf("each is kept for %d days", r.Days)
	}
	return fmt.Sprintf("the last %d are kept, each for %d days", r.Last, r.Days)
}

func (a *app) sitePlan(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	if c.IsSet("table") {
		return a.planTable(ctx, c, svc, args)
	}
	if len(args) != 1 {
		return usage("nestseed site plan takes CLIENT, or --table FILE.csv")
	}
	in, err := newSite(c, args[0])
	if err == nil {
		err = addFiles(ctx, svc, in.Client, c.StringSlice("file"), in.Set)
	}
	if err != nil {
		return err
	}
	p, err := svc.PlanSite(ctx, in)
	if err != nil {
		return err
	}
	return a.print(c, p, func() { a.printPlan(p) })
}

func (a *app) siteProvision(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	if c.IsSet("table") {
		return a.provisionTable(ctx, c, svc, args)
	}
	if len(args) != 1 {
		return usage("nestseed site provision takes CLIENT, or --table FILE.csv")
	}
	in, err := newSite(c, args[0])
	if err == nil {
		err = addFiles(ctx, svc, in.Client, c.StringSlice("file"), in.Set)
	}
	if err != nil {
		return err
	}
	in.Plan = c.String("plan")
	run, err := svc.ProvisionSite(ctx, in)
	if err != nil {
		return err
	}
	return a.siteMade(ctx, c, svc, run)
}

// siteMade follows a run that makes a site, and shows the site.
func (a *app) siteMade(ctx context.Context, c *cli.Command, svc *client.Client, run wire.Run) error {
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var res wire.ProvisionResult
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
	if err == nil && (len(res.NewFaults) > 0 || c.Bool("strict") && s.Report != nil && s.Report.Open(true) > 0) {
		fmt.Fprintf(a.err, "the site stands, and its checks found faults. Correct them there and run nestseed site check %s; or correct "+
			"the source "+
			"or the packing list, build again, and make the site again with nestseed run retry %d --from %s (what stands there becomes a "+
			"safety copy)\n", s.Name, ended.ID, strings.Split(s.Release, "@")[0])
		return errFaults
	}
	return err
}

func countsLine(c wire.CheckCounts) string {
	all, warned := c.Passed+c.Warned+c.Failed, c.Warned-c.Accepted
	switch {
	case c.At == nil:
		return "not checked"
	case c.Failed > 0:
		return fmt.Sprintf("✗ %d of %d failed", c.Failed, all)
	case warned > 0:
		return fmt.Sprintf("! %d of %d warn", warned, all)
	case c.Accepted > 0:
		return fmt.Sprintf("✓ %d passed, %d accepted", c.Passed, c.Accepted)
	}
	return fmt.Sprintf("✓ %d passed", all)
}

func (a *app) printSite(s wire.Site) {
	fmt.Fprintf(a.out, "%s: %s\n", s.Name, s.Title)
	database := "none"
	if s.Database != "" {
		database = fmt.Sprintf("%s (%s rows", s.Database, count(s.Rows))
		if s.Prefix != "" {
			database += ", prefix " + s.Prefix
		}
		database += ")"
	}
	fmt.Fprintf(a.out, "address   %s\nrelease   %s for client %s on host %s\nfolder    %s (%s files, %s)\ndatabase  %s\n", s.Address,
		s.Release,
		s.Client, s.Host, s.Folder, count(s.Files), size(s.Bytes), database)
	fmt.Fprintf(a.out, "log in    %s: %s\n", s.LoginAt, s.Accounts)
	if s.Install != "" {
		fmt.Fprintf(a.out, "code      that of install %s, which it shares with others: nestseed install show %s\n", s.Install, s.Install)
	}
	fmt.Fprintf(a.out, "descent   %s\n", descent(s))
	a.printHandovers(s)
	switch {
	case s.RetiredAt != nil:
		fmt.Fprintf(a.out, "retired   %s; what is said here is how it was\n", day(*s.RetiredAt))
	case s.Held:
		fmt.Fprintf(a.out, "held      visitors see a holding page; nestseed site open %s lets them in\n", s.Name)
	}
	if l := s.Lead; l != nil && s.RetiredAt == nil {
		fmt.Fprintf(a.out, "name      %s; so since %s\n", l.Sentence, day(l.Since))
	}
	if s.Quiet {
		fmt.Fprintf(a.out, "mail      kept from going out; nestseed site open %s --visible lets it out and search engines in\n", s.Name)
	}
	if s.Upgraded != "" {
		fmt.Fprintf(a.out, "upgraded  its tables were brought to version %s by the site itself\n", s.Upgraded)
	}
	for _, line := range s.Adjustments {
		fmt.Fprintf(a.out, "adjusted  %s\n", line)
	}
	for _, part := range slices.Sorted(maps.Keys(s.Kept)) {
		fmt.Fprintf(a.out, "kept      %s: %s rows\n", part, count(s.Kept[part]))
	}
	var forms []string
	for _, f := range slices.Sorted(maps.Keys(s.Rewritten.Forms)) {
		forms = append(forms, fmt.Sprintf("%s %s", count(s.Rewritten.Forms[f]), f))
	}
	if len(forms) > 0 {
		fmt.Fprintf(a.out, "rewritten %s places (%s); %s inside serialised values", count(s.Rewritten.Replaced), strings.Join(forms, ", "),
			count(s.Rewritten.Serialised))
		if s.Rewritten.Packed > 0 {
			fmt.Fprintf(a.out, ", %s compressed or encoded", count(s.Rewritten.Packed))
		}
		if s.Rewritten.Unopened > 0 {
			fmt.Fprintf(a.out, "; %s compressed values are too large to be opened", count(s.Rewritten.Unopened))
		}
		if s.Rewritten.Broken > 0 {
			fmt.Fprintf(a.out, "; serialised values that were broken before: %s, mended: %s", count(s.Rewritten.Broken),
				count(s.Rewritten.Mended))
		}
		fmt.Fprintln(a.out)
		a.printExamples(s.Rewritten.Samples)
		for _, at := range s.Rewritten.BrokenAt {
			fmt.Fprintf(a.out, "          broken, in %s\n", at)
		}
	}
	var steps []string
	for _, t := range s.Steps {
		steps = append(steps, fmt.Sprintf("%s %s", strings.ToLower(t.Name), millis(t.Millis)))
	}
	fmt.Fprintf(a.out, "steps     %s\n\n", strings.Join(steps, ", "))
	a.printCopies(s)
	a.printTasks(s)
	a.printReport(s.Report, s.Accepted...)
}

// printExamples shows one replacement of each disguise.
func (a *app) printExamples(samples []wire.RewriteSample) {
	seen := map[string]bool{}
	for _, x := range samples {
		if !seen[x.Form] {
			seen[x.Form] = true
			line := func(text string) string { return strings.Join(strings.Fields(text), " ") }
			fmt.Fprintf(a.out, "          %s, in %s: %s → %s\n", x.Form, x.Where, line(x.Before), line(x.After))
		}
	}
}

// printTasks lists what a person must still do on a site.
func (a *app) printTasks(s wire.Site) {
	if len(s.Tasks) == 0 {
		return
	}
	fmt.Fprintln(a.out, "launch tasks")
	for _, t := range s.Tasks {
		mark, done := "□", ""
		if t.Due != nil {
			done = ", by " + t.Due.Format("2 Jan 2006")
		}
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

// marks of results: icon and word, where the word is the name of the check.
var marks = map[wire.Result]string{wire.Pass: "✓", wire.Warn: "!", wire.Fail: "✗"}

func (a *app) printReport(r *wire.Report, accepted ...wire.Acceptance) {
	if r == nil {
		fmt.Fprintln(a.out, "not checked yet")
		return
	}
	fmt.Fprintf(a.out, "checks of %s, %d pages in %s\n", day(r.At), r.Pages, millis(r.TookMillis))
	for _, k := range r.Checks {
		fmt.Fprintf(a.out, "%s %-21s %s\n", marks[k.Result], k.Name,
			k.Sentence)
		for _, e := range k.Evidence {
			fmt.Fprintf(a.out, "    %s\n", e)
		}
		if k.InSource != nil {
			for _, e := range k.InSource.Evidence {
				fmt.Fprintf(a.out, "    also in the source: %s\n", e)
			}
		}
		of := slices.IndexFunc(accepted, func(a wire.Acceptance) bool { return a.What == k.Name })
		switch {
		case of >= 0:
			until := ""
			if end := accepted[of].Until; end != nil {
				until = ", until " + day(*end)
			}
			fmt.Fprintf(a.out, "    accepted by %s, %s%s: %s\n", accepted[of].Who, day(accepted[of].At), until, accepted[of].Reason)
		case k.Remedy != "":
			fmt.Fprintf(a.out, "    remedy: %s\n", k.Remedy)
		}
	}
}

func (a *app) siteCheck(ctx context.Context, c *cli.Command, args []string) error {
	return a.checked(ctx, c, args[0], func(svc *client.Client) (wire.Run, error) { return svc.CheckSite(ctx, args[0], c.Bool("full")) })
}

func (a *app) sourceCheck(ctx context.Context, c *cli.Command, args []string) error {
	return a.checked(ctx, c, "", func(svc *client.Client) (wire.Run, error) { return svc.CheckSource(ctx, args[0]) })
}

// checked follows a run that checks, and prints what it found.
// checked follows the checks of a site, or, with "" for it, of something else.
func (a *app) checked(ctx context.Context, c *cli.Command, site string, start func(*client.Client) (wire.Run, error)) error {
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
	var r wire.Report
	if err := json.Unmarshal(ended.Result, &r); err != nil {
		return err
	}
	var accepted []wire.Acceptance
	if site != "" {
		s, err := svc.Site(ctx, site)
		if err != nil {
			return err
		}
		accepted = s.Accepted
	}
	if err := a.print(c, r, func() { a.printReport(&r, accepted...) }); err != nil {
		return err
	}
	if r.Open(c.Bool("strict"), accepted...) > 0 {
		return errFaults
	}
	return nil
}

// descent says where a site comes from.
func descent(s wire.Site) string {
	parts := []string{s.Name}
	for _, f := range s.Descent {
		part := f.Name
		if f.Noun == "source" {
			part = "source " + f.Name
		}
		if f.Gone {
			part += map[string]string{"release": " (archive discarded)", "source": " (removed)", "site": " (retired)"}[f.Noun]
		}
		parts = append(parts, part)
	}
	line := strings.Join(parts, " ← ")
	switch s.Behind {
	case 0:
		return line
	case 1:
		return line + "; 1 release behind"
	}
	return fmt.Sprintf("%s; %d releases behind", line, s.Behind)
}
