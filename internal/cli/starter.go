package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func (a *app) starter() *cli.Command {
	create := verb("create", "NAME", "create a starter: a named line of packages for reuse", []cli.Flag{
		&cli.StringFlag{Name: "from", Required: true, Usage: "the source it is built from"},
		&cli.StringFlag{Name: "list", Value: "starter", Usage: "stock packing list: starter or whole-site"},
		&cli.StringFlag{Name: "fields", Usage: "YAML file of further fields", TakesFile: true},
		&cli.StringFlag{Name: "tasks", Usage: "YAML file of launch tasks: what a person must still do on each new site", TakesFile: true},
	}, func(ctx context.Context, c *cli.Command, args []string) error {
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		in := wire.NewStarter{Name: args[0], Source: c.String("from"), List: c.String("list")}
		if f := c.String("fields"); f != "" {
			if in.Fields, err = readYAML[wire.Field](f); err != nil {
				return err
			}
		}
		if f := c.String("tasks"); f != "" {
			if in.Tasks, err = readYAML[wire.ListedTask](f); err != nil {
				return err
			}
		}
		t, err := svc.CreateStarter(ctx, in)
		if err != nil {
			return err
		}
		return a.print(c, t, func() {
			fmt.Fprintf(a.out, "starter %s created from source %s; build its first release with: nestseed release build %s\n", t.Name, t.Source,
				t.Name)
		})
	})
	set := asking(a, "set", "NAME", "change what a starter is built from", []cli.Flag{
		&cli.StringFlag{Name: "from", Required: true, Usage: "the source it is built from"},
	}, func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Starter, error) {
		return svc.ChangeStarter(ctx, args[0], wire.ChangedStarter{Source: c.String("from")})
	}, func(t wire.Starter) { fmt.Fprintf(a.out, "starter %s is built from source %s\n", t.Name, t.Source) })
	return noun("starter", "a source with its packing list, and its releases", create, set,
		listing(a, "list starters", (*client.Client).Starters, []string{"starter", "source", "kind", ">releases", "newest"},
			func(t wire.Starter) []string {
				newest := "-"
				if t.Newest > 0 {
					newest = fmt.Sprintf("%s@%d", t.Name, t.Newest)
				}
				return []string{t.Name, t.Source, t.Kind, fmt.Sprint(t.Releases), newest}
			}),
		verb("show", "NAME", "show a starter and its releases", nil, func(ctx context.Context, c *cli.Command, args []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			t, err := svc.Starter(ctx, args[0])
			if err != nil {
				return err
			}
			releases, err := svc.Releases(ctx, args[0])
			if err != nil {
				return err
			}
			return a.print(c, t, func() {
				from := "source " + t.Source
				if t.Source == "" {
					from = "releases that were imported"
				}
				fmt.Fprintf(a.out, "%s: a %s starter from %s; %s\n\n", t.Name, t.Kind, from, retention(t.Retention))
				a.printReleases(releases)
			})
		}),
		asking(a, "retain", "NAME", "say which archives are kept; those that sites were made from always are", []cli.Flag{
			&cli.IntFlag{Name: "last", Usage: "keep the last N; 0 with --weeks 0 keeps all"},
			&cli.IntFlag{Name: "weeks", Usage: "and one a week for N weeks"},
		}, func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Starter, error) {
			return svc.SetRetention(ctx, args[0], wire.Retention{Last: int(c.Int("last")), Weeks: int(c.Int("weeks"))})
		}, func(t wire.Starter) { fmt.Fprintf(a.out, "%s: %s\n", t.Name, retention(t.Retention)) }),
		a.remove("starters", "starter"))
}

// retention says a rule for archives in words.
func retention(r wire.Retention) string {
	if r.Last == 0 && r.Weeks == 0 {
		return "all archives are kept"
	}
	s := "the last archive is kept"
	if r.Last > 1 {
		s = fmt.Sprintf("the last %d archives are kept", r.Last)
	}
	if r.Weeks > 0 {
		s += ", and one a week for " + []string{"one week", fmt.Sprintf("%d weeks", r.Weeks)}[min(r.Weeks-1, 1)]
	}
	return s + ", and those that sites were made from"
}

// readYAML reads a file that holds a list.
func readYAML[T any](file string) ([]T, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var out []T
	if err := yaml.UnmarshalWithOptions(text, &out, yaml.Strict()); err != nil {
		return nil, usage("%s: %v", file, err)
	}
	return out, nil
}

func (a *app) packing() *cli.Command {
	edit := func(name, words, about string, flags []cli.Flag, change func(c *cli.Command, words []string) wire.ListEdit) *cli.Command {
		return asking(a, name, words, about, flags,
			func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Packing, error) {
				return svc.EditPacking(ctx, args[0], change(c, args[1:]))
			}, a.printTotals)
	}
	rows := func(w []string) []wire.RowRule { return []wire.RowRule{{Table: w[0], Column: w[1], Values: w[2:]}} }
	show := func(ctx context.Context, _ *cli.Command, svc *client.Client, args []string) (wire.Packing, error) {
		return svc.Packing(ctx, args[0])
	}
	return noun("packing", "what goes into a starter's releases",
		asking(a, "show", "STARTER", "print a packing list", nil, show, func(p wire.Packing) { a.document(p.Text) }),
		asking(a, "set", "STARTER FILE", "replace a packing list; FILE may be - for standard input", nil,
			func(ctx context.Context, _ *cli.Command, svc *client.Client, args []string) (wire.Packing, error) {
				text, err := a.readFile(args[1])
				if err != nil {
					return wire.Packing{}, err
				}
				return svc.SetPacking(ctx, args[0], string(text))
			}, a.printTotals),
		edit("leave-out", "STARTER PATTERN…", "leave files out; with --table tables, with --suffix files by the suffix of their names",
			[]cli.Flag{
				&cli.BoolFlag{Name: "table", Usage: "the patterns are names of tables, without prefix"},
				&cli.BoolFlag{Name: "suffix", Aliases: []string{"ending"},
					Usage: "the patterns are suffixes, like mp4"},
			}, func(c *cli.Command, w []string) wire.ListEdit {
				switch {
				case c.Bool("table"):
					return wire.ListEdit{LeaveOutTables: w}
				case c.Bool("suffix"):
					return wire.ListEdit{Suffixes: w}
				}
				return wire.ListEdit{LeaveOut: w}
			}),
		edit("put-back", "STARTER PATTERN…", "put back what was left out, emptied or blanked", nil,
			func(_ *cli.Command, w []string) wire.ListEdit { return wire.ListEdit{PutBack: w} }),
		edit("empty", "STARTER TABLE…", "take tables without their rows", nil,
			func(_ *cli.Command, w []string) wire.ListEdit { return wire.ListEdit{Empty: w} }),
		edit("drop-rows", "STARTER TABLE COLUMN VALUE…", "leave rows out by the value of a column, and what belongs to them", nil,
			func(_ *cli.Command, w []string) wire.ListEdit {
				return wire.ListEdit{DropRows: rows(w)}
			}),
		edit("keep-rows", "STARTER TABLE COLUMN VALUE…", "of a table take only rows with these values, and what belongs to them", nil,
			func(_ *cli.Command, w []string) wire.ListEdit {
				return wire.ListEdit{KeepRows: rows(w)}
			}),
		edit("blank", "STARTER OPTION…", "empty options, or values inside them, written 'option › key › key'",
			[]cli.Flag{&cli.BoolFlag{Name: "setting", Usage: "they are settings of the settings file"}},
			func(c *cli.Command, w []string) wire.ListEdit {
				if c.Bool("setting") {
					return wire.ListEdit{BlankSettings: w}
				}
				var e wire.ListEdit
				for _, o := range w {
					if parts := strings.Split(o, " › "); len(parts) > 1 {
						e.BlankValues = append(e.BlankValues, wire.Inside{Option: parts[0], Path: parts[1:]})
					} else {
						e.BlankOptions = append(e.BlankOptions, o)
					}
				}
				return e
			}),
		asking(a, "check", "STARTER", "say what a packing list would take, and which rules do nothing", nil, show, func(p wire.Packing) {
			a.printTotals(p)
			for _, r := range p.Problems {
				fmt.Fprintf(a.out, "note: %s: %s\n", r.Rule, r.Why)
			}
		}))
}

func (a *app) printTotals(p wire.Packing) {
	if !p.Surveyed {
		fmt.Fprintln(a.out, "the source was not surveyed yet, so there are no totals; run: nestseed source survey")
		return
	}
	fmt.Fprintf(a.out, "goes in:  %s files, %s; about %s rows, %s\n", count(p.In.Files), size(p.In.Bytes), count(p.In.Rows), size(p.In.Data))
	fmt.Fprintf(a.out, "stays out: %s files, %s; about %s rows, %s\n", count(p.Out.Files), size(p.Out.Bytes), count(p.Out.Rows),
		size(p.Out.Data))
	var rows [][]string
	rules := slices.SortedFunc(maps.Keys(p.Saved), func(x, y string) int {
		if d := p.Saved[y].Bytes + p.Saved[y].Data - p.Saved[x].Bytes - p.Saved[x].Data; d != 0 {
			return int(max(-1, min(1, d)))
		}
		return strings.Compare(x, y)
	})
	for _, rule := range rules {
		s := p.Saved[rule]
		if s.Bytes+s.Data+s.Files+s.Rows == 0 {
			continue
		}
		rows = append(rows, []string{size(s.Bytes + s.Data), count(s.Files), rule})
	}
	table(a.out, []string{">saves", ">files", "rule"}, rows)
}
