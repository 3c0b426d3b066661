package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/wire"
)

func (a *app) releaseCompare(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	if file := c.String("file"); file != "" {
		d, err := svc.CompareFile(ctx, args[0], args[1], file)
		if err != nil {
			return err
		}
		return a.print(c, d, func() { a.printTextDelta(d) })
	}
	in := wire.NewComparison{From: args[0], To: args[1]}
	if args[1] == "source" {
		in.To, in.ToSource = "", true
	}
	run, err := svc.CompareReleases(ctx, in)
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var d wire.Comparison
	if err := json.Unmarshal(ended.Result, &d); err != nil {
		return err
	}
	return a.print(c, d, func() { a.printComparison(d) })
}

// signed writes a difference of bytes.
func signed(n int64) string {
	if n < 0 {
		return "-" + size(-n)
	}
	return "+" + size(n)
}

const shownDifferences = 20

func (a *app) printComparison(d wire.Comparison) {
	fmt.Fprintln(a.out, d.Summary)
	fmt.Fprintf(a.out, "archive %s -> %s; %s added, %s removed, %s changed; rows of %s differ\n", size(d.Before), size(d.After),
		several(d.Added.Files, "file"), count(d.Removed.Files), count(d.Changed.Files), several(int64(len(d.Tables)), "table"))
	if len(d.Areas) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		most := int64(1)
		for _, x := range d.Areas {
			most = max(most, x.Packed, -x.Packed)
		}
		for _, x := range d.Areas {
			rows = append(rows, []string{x.Area, signed(x.Packed), bar(max(x.Packed, -x.Packed), most), signed(x.Bytes), count(x.Added),
				count(x.Removed), count(x.Changed)})
		}
		table(a.out, []string{"area", ">in the archive", "", ">content", ">added", ">removed", ">changed"}, rows)
	}
	if len(d.Files) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, f := range d.Files[:min(len(d.Files), shownDifferences)] {
			rows = append(rows, []string{signed(f.Packed), f.Change, f.Path})
		}
		table(a.out, []string{">in the archive", "", "files"}, rows)
		if n := len(d.Files) - shownDifferences + d.More; n > 0 {
			fmt.Fprintf(a.out, "and %s more; see --json\n", count(int64(n)))
		}
	}
	if len(d.Tables) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, t := range d.Tables {
			rows = append(rows, []string{t.Table, t.Change, count(t.Added), count(t.Removed), count(t.Changed), signed(t.Bytes), t.Note})
		}
		table(a.out, []string{"table", "", ">rows added", ">removed", ">changed", ">SQL", ""}, rows)
	}
	if len(d.Values) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, v := range d.Values[:min(len(d.Values), shownDifferences)] {
			rows = append(rows, []string{v.Where, v.Change, oneLine(v.Before), oneLine(v.After)})
		}
		table(a.out, []string{"setting", "", "was", "is"}, rows)
		if n := len(d.Values) - shownDifferences + d.MoreVals; n > 0 {
			fmt.Fprintf(a.out, "and %s more; see --json\n", count(int64(n)))
		}
	}
}

func (a *app) printTextDelta(d wire.TextDelta) {
	if len(d.Places) == 0 {
		fmt.Fprintf(a.out, "%s is the same in both\n", d.Path)
		return
	}
	fmt.Fprintf(a.out, "%s: %s added, %s removed\n", d.Path, several(int64(d.Added), "line"), count(int64(d.Removed)))
	for _, p := range d.Places {
		fmt.Fprintf(a.out, "\nline %d, now %d\n", p.Before, p.After)
		for _, l := range p.Lines {
			fmt.Fprintf(a.out, "%s %s\n", map[string]string{"same": " ", "added": "+", "removed": "-"}[l.Change], l.Text)
		}
	}
}

// oneLine shortens a value so that it fits a table.
func oneLine(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > 40 {
		return string(r[:39]) + "…"
	}
	return s
}
