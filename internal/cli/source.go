package cli

import (
	"context"
	"fmt"
	"path"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func (a *app) addSource() *cli.Command {
	return verb("add", "NAME", "add a site that starters are built from", []cli.Flag{
		&cli.StringFlag{Name: "host", Required: true, Usage: "the host it lies on"},
		&cli.StringFlag{Name: "path", Required: true, Usage: "its web root, below the host's files"},
		&cli.StringFlag{Name: "kind", Usage: "what it must be; found out unless given"},
		&cli.StringFlag{Name: "address", Usage: "its address; read from its database unless given"},
		&cli.StringFlag{Name: "database", Usage: "its database: mysql://user@host:port/name; read from its settings file unless given"},
		databasePassword(),
		&cli.StringFlag{Name: "prefix", Usage: "how the names of its tables begin; read from its settings file unless given"},
		&cli.StringFlag{Name: "sub-site", Usage: "of a network: its host name, folder or number; the source is then that site alone"},
		confirmAccount(),
		&cli.BoolFlag{Name: "ask", Usage: "place a page in its folder for one request at --address, that tells its database and table prefix"},
	}, func(ctx context.Context, c *cli.Command, args []string) error {
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		password, err := a.passwordFrom(c)
		if err != nil {
			return err
		}
		s, err := svc.AddSource(ctx, wire.NewSource{Name: args[0], Host: c.String("host"), Path: c.String("path"), Kind: c.String("kind"),
			Address: c.String("address"), Database: c.String("database"), DatabasePassword: password,
			Prefix: c.String("prefix"), SubSite: c.String("sub-site"), Ask: c.Bool("ask"), ConfirmAccount: c.Bool("confirm-account")})
		if err != nil {
			return err
		}
		return a.print(c, s, func() {
			fmt.Fprintf(a.out, "source %s added: %s %s at %s\n", s.Name, s.Kind, s.Version, s.Address)
			if given := path.Clean(c.String("path")); s.Path != given {
				fmt.Fprintf(a.out, "it lies in %s, and what is beside it in %s is not part of it\n", s.Path, given)
			}
		})
	})
}

func (a *app) setSource() *cli.Command {
	return asking(a, "set", "NAME", "change where a source is read; what is not given stays as it is", []cli.Flag{
		&cli.StringFlag{Name: "path", Usage: "its web root, below the host's files"},
		&cli.StringFlag{Name: "address", Usage: "its address; read from its database again unless given"},
		&cli.StringFlag{Name: "database", Usage: "its database: mysql://user@host:port/name"},
		databasePassword(),
		&cli.StringFlag{Name: "prefix", Usage: "how the names of its tables begin; read from its settings file unless given"},
		&cli.StringFlag{Name: "sub-site", Usage: "of a network: the one that it is"},
		confirmAccount(),
	}, func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Source, error) {
		password, err := a.newPasswordFrom(c)
		if err != nil {
			return wire.Source{}, err
		}
		in := wire.ChangedSource{Path: c.String("path"), Address: c.String("address"), Database: c.String("database"), DatabasePassword: password,
			Prefix: c.String("prefix"), SubSite: c.String("sub-site"), ConfirmAccount: c.Bool("confirm-account")}
		if in == (wire.ChangedSource{}) {
			return wire.Source{}, usage("say what to change; see nestseed source set --help")
		}
		return svc.ChangeSource(ctx, args[0], in)
	}, func(s wire.Source) {
		fmt.Fprintf(a.out, "source %s changed: %s %s at %s; survey it again with: nestseed source survey %s\n", s.Name, s.Kind, s.Version,
			s.Address, s.Name)
	})
}

// sourceValues lists what fields could lead to.
func (a *app) sourceValues() *cli.Command {
	return asking(a, "values", "NAME [OPTION]", "list options and settings of a source, or the values inside one option",
		[]cli.Flag{&cli.StringFlag{Name: "find", Usage: "words in its name or its text"}},
		func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.SourceValues, error) {
			return svc.SourceValues(ctx, args[0], at(args, 1), c.String("find"))
		}, func(all wire.SourceValues) {
			var rows [][]string
			for _, v := range all.Values {
				text := strings.Join(strings.Fields(v.Text), " ")
				switch {
				case v.Secret:
					text = "••••••••"
				case v.Inside > 0:
					text = several(int64(v.Inside), "value") + " inside"
				}
				place := v.Option
				if v.Setting != "" {
					place = "setting " + v.Setting
				}
				rows = append(rows, []string{strings.Join(append([]string{place}, v.Path...), " › "), text})
			}
			table(a.out, []string{"place", "value"}, rows)
			if all.More {
				fmt.Fprintln(a.out, "there are more; narrow it with --find")
			}
		})
}

func (a *app) source() *cli.Command {
	return noun("source", "configured sites that starters are built from", a.addSource(), a.setSource(),
		listing(a, "list sources", (*client.Client).Sources, []string{"source", "kind", "address", ">files", ">size", ">findings"},
			func(s wire.Source) []string {
				files, bytes, found := "-", "not surveyed", "-"
				if s.Survey != nil {
					files, bytes, found = count(s.Survey.Totals.Files), size(s.Survey.Totals.Bytes+s.Survey.Totals.DatabaseBytes),
						fmt.Sprint(len(s.Survey.Findings))
				}
				return []string{s.Name, s.Kind + " " + s.Version, s.Address, files, bytes, found}
			}),
		showing(a, "show a source with its newest survey", (*client.Client).Source, a.printSource),
		verb("check", "NAME", "visit a source, or any site made by hand that was added as one, and judge it", []cli.Flag{detach()},
			a.sourceCheck),
		a.sourceValues(),
		verb("survey", "NAME", "read a source once and say what is there", []cli.Flag{detach()}, func(ctx context.Context, c *cli.Command,
			args []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			run, err := svc.SurveySource(ctx, args[0])
			if err != nil {
				return err
			}
			if _, ok, err := a.follow(ctx, c, svc, run); err != nil || !ok {
				return err
			}
			s, err := svc.Source(ctx, args[0])
			if err != nil {
				return err
			}
			return a.print(c, s.Survey, func() { a.printSource(s) })
		}),
		asking(a, "accept", "NAME FINDING WHERE", "accept a finding as known and harmless", []cli.Flag{
			&cli.StringFlag{Name: "reason", Usage: "why it is harmless"}, &cli.BoolFlag{Name: "undo", Usage: "accept it no more"}},
			func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Source, error) {
				if c.Bool("undo") {
					return svc.UnacceptFinding(ctx, args[0], args[1], args[2])
				}
				return svc.AcceptFinding(ctx, args[0], wire.Accept{What: args[1], Where: args[2], Reason: c.String("reason")})
			}, func(s wire.Source) {
				for _, of := range s.Accepted {
					fmt.Fprintf(a.out, "%s: accepted by %s, %s: %s\n", of.What, of.Who, day(of.At), of.Reason)
				}
			}),
		a.remove("sources", "source"))
}

func (a *app) printSource(s wire.Source) {
	fmt.Fprintf(a.out, "%s: %s %s at %s, on host %s in %s\n", s.Name, s.Kind, s.Version, s.Address, s.Host, s.Path)
	v := s.Survey
	if v == nil {
		fmt.Fprintf(a.out, "not surveyed yet; run: nestseed source survey %s\n", s.Name)
		return
	}
	if len(v.SubSites) > 0 {
		fmt.Fprintf(a.out, "a network of %d sites; one alone is a source with --sub-site:\n", len(v.SubSites))
		var rows [][]string
		for _, s := range v.SubSites {
			rows = append(rows, []string{s.ID, s.Address, s.Title})
		}
		table(a.out, []string{">", "sub-site", "title"}, rows)
	}
	if s.SubSite != "" {
		fmt.Fprintf(a.out, "of a network it is the sub-site %s alone\n", s.SubSite)
	}
	if len(v.Also) > 0 {
		fmt.Fprintf(a.out, "also known as %s; new sites have their own address in place of each\n", strings.Join(v.Also, ", "))
	}
	database, tables := "no database", ""
	if v.Database.Engine != "" {
		database, tables = v.Database.Engine+" "+v.Database.Number, fmt.Sprintf("; %s in %d tables", size(v.Totals.DatabaseBytes),
			v.Totals.Tables)
	}
	if v.Prefix != "" {
		database += ", table prefix " + v.Prefix
	}
	fmt.Fprintf(a.out, "surveyed %s in %s: %s, %s\n", day(v.TakenAt), millis(v.TookMillis), runtimeOf(v), database)
	fmt.Fprintf(a.out, "%s in %s files and %s folders%s\n\n", size(v.Totals.Bytes), count(v.Totals.Files), count(v.Totals.Folders), tables)
	a.printAreas(v)
	a.printFolders(v)
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, f := range v.Largest[:min(len(v.Largest), 20)] {
		rows = append(rows, []string{size(f.Bytes), bar(f.Bytes, v.Largest[0].Bytes), f.Path})
	}
	table(a.out, []string{">size", "", "largest files"}, rows)
	fmt.Fprintln(a.out)
	rows = nil
	for _, t := range v.Tables {
		rows = append(rows, []string{size(t.DataBytes), count(t.Rows), t.Name})
	}
	table(a.out, []string{">size", ">rows, about", "tables"}, rows)
	fmt.Fprintln(a.out)
	a.printFindings(v)
}

// printFindings prints what a person can act on: the most severe first, with the command that is the remedy.
func (a *app) printFindings(v *wire.Survey) {
	if len(v.Findings) == 0 {
		fmt.Fprintln(a.out, "no findings")
		return
	}
	sums := map[string]int{}
	for _, f := range v.Findings {
		sums[f.Severity]++
	}
	fmt.Fprintf(a.out, "%d findings: %d faults, %d warnings, %d notes\n\n", len(v.Findings), sums["fault"], sums["warning"], sums["note"])
	for _, f := range v.Findings {
		fmt.Fprintf(a.out, "%-8s %s: %s", f.Severity, f.What, f.Where)
		var parts []string
		if f.Count > 1 {
			parts = append(parts, count(f.Count))
		}
		if f.Bytes > 0 {
			parts = append(parts, size(f.Bytes))
		}
		if len(parts) > 0 {
			fmt.Fprintf(a.out, " (%s)", strings.Join(parts, ", "))
		}
		fmt.Fprintf(a.out, "\n         %s\n", f.Why)
		if len(f.Examples) > 0 && (len(f.Examples) > 1 || f.Examples[0] != f.Where) {
			fmt.Fprintf(a.out, "         for example %s\n", strings.Join(f.Examples, ", "))
		}
		for _, line := range remedyLines(f.Remedy) {
			fmt.Fprintf(a.out, "         remedy: %s\n", line)
		}
		if f.Advice != "" {
			fmt.Fprintf(a.out, "         %s\n", f.Advice)
		}
	}
}

// remedyLines writes an edit of a packing list as the commands that make it.
func remedyLines(e *wire.ListEdit) (out []string) {
	if e == nil {
		return nil
	}
	line := func(verb string, words ...string) {
		quoted := make([]string, len(words))
		for i, w := range words {
			if quoted[i] = w; strings.ContainsAny(w, " *?[]{}'\"\\$;&|<>()›~") || w == "" {
				quoted[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
			}
		}
		text := "nestseed packing " + verb + " STARTER " + strings.Join(quoted, " ")
		if len(words) > 6 {
			text = "nestseed packing " + verb + " STARTER " + strings.Join(quoted[:5], " ") + fmt.Sprintf(" … (%d in all; see --json)", len(words))
		}
		out = append(out, text)
	}
	for _, x := range []struct {
		verb  string
		words []string
	}{{"leave-out", e.LeaveOut}, {"leave-out --table", e.LeaveOutTables}, {"empty", e.Empty}, {"blank", e.BlankOptions},
		{"blank --setting", e.BlankSettings}} {
		if len(x.words) > 0 {
			line(x.verb, x.words...)
		}
	}
	for _, r := range e.DropRows {
		line("drop-rows", append([]string{r.Table, r.Column}, r.Values...)...)
	}
	for _, v := range e.BlankValues {
		line("blank", strings.Join(append([]string{v.Option}, v.Path...), " › "))
	}
	return out
}

func runtimeOf(v *wire.Survey) string {
	if v.Running != "" {
		return "runs on PHP " + v.Running + " and needs " + v.Runtime
	}
	return "needs PHP " + v.Runtime
}

func (a *app) printAreas(v *wire.Survey) {
	areas := append([]wire.SurveyArea{}, v.Areas...)
	areas = append(areas, wire.SurveyArea{Area: "database", Bytes: v.Totals.DatabaseBytes})
	var most int64
	for _, x := range areas {
		most = max(most, x.Bytes)
	}
	var rows [][]string
	for _, x := range areas {
		rows = append(rows, []string{x.Area, size(x.Bytes), bar(x.Bytes, most), count(x.Files)})
	}
	table(a.out, []string{"area", ">size", "", ">files"}, rows)
}

func (a *app) printFolders(v *wire.Survey) {
	var rows [][]string
	for _, f := range v.Folders[:min(len(v.Folders), 12)] {
		rows = append(rows, []string{size(f.Bytes), bar(f.Bytes, v.Folders[0].Bytes), count(f.Files), f.Path})
	}
	fmt.Fprintln(a.out)
	table(a.out, []string{">size", "", ">files", "largest folders"}, rows)
}

func confirmAccount() cli.Flag {
	return &cli.BoolFlag{Name: "confirm-account", Usage: "take the account of its database though it may read other databases; for owners"}
}
