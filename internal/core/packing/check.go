package packing

import (
	"fmt"
	"slices"
	"strings"

	"nestseed/internal/core/kind"
)

// Problem is a rule that does nothing or says two things.
type Problem struct {
	Rule string `json:"rule"`
	Why  string `json:"why"`
}

// Check compares a list with the paths and tables there are. It names rules that match nothing, and rules
// that contradict each other or make each other needless. used are the rules that are known to leave a path
// out, as totalling a survey finds them; nil when that is not known yet.
func (m *Matcher) Check(paths func(yield func(path string, sizeBytes int64) bool), tables []string, used map[string]bool) []Problem {
	c := &checker{m: m, l: m.list, tables: tables}
	c.paths(paths, used)
	c.tableRules()
	c.rowRules()
	c.fields()
	return c.out
}

type checker struct {
	m      *Matcher
	l      *List
	tables []string
	out    []Problem
}

func (c *checker) add(rule, why string, args ...any) {
	c.out = append(c.out, Problem{rule, fmt.Sprintf(why, args...)})
}

// paths looks for rules that decided nothing: others always came first, or nothing is there that they match.
func (c *checker) paths(paths func(yield func(string, int64) bool), used map[string]bool) {
	rest := *c.l
	rest.Only, rest.LeaveOut.LargerThanByte = "", 0
	if used == nil {
		used = map[string]bool{}
		sweep := c.m.Sweep()
		for p, size := range paths {
			if rule, out := sweep(p, size); out && !used[rule] {
				used[rule] = true
			}
		}
	}
	for _, name := range c.m.settingsNames() {
		if rule, out := c.m.LeavesOut(name, 1); out && c.l.Only != "database" {
			c.add("leave-out: "+rule, "leaves out the settings file %s, without which no site can be made; take the rule away, its secrets are "+
				"blanked anyway", name)
		}
	}
	idle := func(name string) bool { return used[name] }
	for {
		rest.LeaveOut.Paths = slices.DeleteFunc(trimmed(rest.LeaveOut.Paths), idle)
		rest.LeaveOut.Suffixes = slices.DeleteFunc(slices.Clone(rest.LeaveOut.Suffixes), func(e string) bool { return idle("suffix " + e) })
		if len(rest.LeaveOut.Paths)+len(rest.LeaveOut.Suffixes) == 0 {
			return
		}
		again, err := rest.Compile(c.m.kind, c.m.prefix)
		if err != nil {
			return
		}
		found := false
		sweep := again.Sweep()
		for p, size := range paths {
			if rule, out := sweep(p, size); out && !used[rule] {
				by, _ := c.m.LeavesOut(p, size)
				c.add("leave-out: "+rule, "is needless: %s leaves out all of it already", by)
				used[rule], found = true, true
			}
		}
		if !found {
			break
		}
	}
	for _, p := range slices.Sorted(slices.Values(rest.LeaveOut.Paths)) {
		c.add("leave-out: "+p, "matches nothing in the source")
	}
	for _, e := range rest.LeaveOut.Suffixes {
		c.add("leave-out: suffix "+e, "matches nothing in the source")
	}
}

func trimmed(patterns []string) []string {
	out := make([]string, len(patterns))
	for i, p := range patterns {
		out[i] = strings.TrimSuffix(p, "/")
	}
	return out
}

func (m *Matcher) settingsNames() []string {
	if m.kind == nil {
		return nil
	}
	return m.kind.Settings.Files
}

func (c *checker) has(table string) bool {
	return slices.ContainsFunc(c.tables, func(t string) bool {
		bare, own := c.m.bare(t)
		_, ok := named([]string{table}, bare)
		return own && ok
	})
}

func (c *checker) tableRules() {
	for _, t := range c.l.Empty {
		if _, both := named(c.l.LeaveOut.Tables, t); both {
			c.add("table "+t, "is both emptied and left out")
		} else if !c.has(t) {
			c.add("table "+t, "is not in the source's database")
		}
	}
	for _, t := range c.l.LeaveOut.Tables {
		if !c.has(t) {
			c.add("table "+t, "is not in the source's database")
		}
		if t == c.m.kind.Options.Table {
			c.add("table "+t, "is where the site's settings are; without it no site can be made")
		}
	}
	if c.l.Only == "files" && len(c.l.Empty)+len(c.l.DropRows)+len(c.l.KeepRows)+len(c.l.LeaveOut.Tables)+len(c.l.Blank.Options) > 0 {
		c.add("only: files", "contradicts the rules for tables, rows and options, which then do nothing")
	}
	if c.l.Only == "database" && len(c.l.LeaveOut.Paths) > 0 {
		c.add("only: database", "contradicts the rules for files, which then do nothing")
	}
}

func (c *checker) rowRules() {
	for _, r := range slices.Concat(c.l.KeepRows, c.l.DropRows) {
		rule := "rows of " + r.Table + " by " + r.Column
		switch _, emptied := named(c.l.Empty, r.Table); {
		case emptied:
			c.add(rule, "does nothing: the table is emptied")
		case !c.has(r.Table):
			c.add(rule, "the table is not in the source's database")
		}
	}
	for _, k := range c.l.KeepRows {
		for _, d := range c.l.DropRows {
			if k.Table != d.Table || k.Column != d.Column {
				continue
			}
			for _, v := range k.Values {
				if slices.Contains(d.Values, v) {
					c.add("rows of "+k.Table+" by "+k.Column, "%q is both kept and dropped; dropping wins", v)
				}
			}
		}
	}
	for _, rel := range c.m.kind.Relations {
		if _, emptied := named(c.l.Empty, rel.To.Table); !emptied || rel.Table == rel.To.Table || !c.has(rel.Table) {
			continue
		}
		_, same := named(c.l.Empty, rel.Table)
		_, out := named(c.l.LeaveOut.Tables, rel.Table)
		if !same && !out && rel.Table != "term_relationships" {
			c.add("table "+rel.Table, "keeps rows that belong to rows of %s, which is emptied; empty it too", rel.To.Table)
		}
	}
}

func (c *checker) fields() {
	for _, f := range c.l.Fields {
		for _, t := range f.To {
			if c.m.kind.Own(t.Place()) {
				c.add("field "+f.Key, "goes to %s, which each site has its own of", t)
			}
			if t.Option != "" && c.optionDropped(t.Option) {
				c.add("field "+f.Key, "goes to option %s, which drop-rows leaves out", t.Option)
			}
			if t.Cell != nil {
				if _, emptied := named(c.l.Empty, t.Cell.Table); emptied || !c.has(t.Cell.Table) {
					c.add("field "+f.Key, "goes to a cell of table %s, which has no rows in the release", t.Cell.Table)
				}
			}
		}
		if f.Type != "" && !slices.Contains(fieldTypes, f.Type) {
			c.add("field "+f.Key, "there is no type %q; there are %s", f.Type, strings.Join(fieldTypes, ", "))
		}
		if f.Default != "" && f.Check(f.Default) != nil {
			c.add("field "+f.Key, "its default %q %v", f.Default, f.Check(f.Default))
		}
	}
}

func (c *checker) optionDropped(option string) bool {
	o := c.m.kind.Options
	return slices.ContainsFunc(c.l.DropRows, func(r kind.Rows) bool {
		return r.Table == o.Table && r.Column == o.Key &&
			slices.ContainsFunc(r.Values, func(v string) bool { return v == option || strings.ContainsAny(v, "*?") && Wild(v, option) })
	})
}
