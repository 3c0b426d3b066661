package packing

import (
	"bytes"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
)

// Matcher is a compiled list. It may be used by several goroutines.
type Matcher struct {
	list   *List
	kind   *kind.Kind
	prefix string
	exact  map[string]bool // patterns without any wildcard
	globs  []string
}

// Compile prepares a list for a site of this kind whose tables have this prefix.
func (l *List) Compile(k *kind.Kind, prefix string) (*Matcher, error) {
	if err := l.Valid(); err != nil {
		return nil, err
	}
	m := &Matcher{list: l, kind: k, prefix: prefix, exact: map[string]bool{}}
	for _, p := range l.LeaveOut.Paths {
		p = strings.TrimSuffix(p, "/")
		if strings.ContainsAny(p, `*?[{\`) {
			m.globs = append(m.globs, p)
		} else {
			m.exact[p] = true
			m.globs = append(m.globs, p+"/**")
		}
	}
	return m, nil
}

// List returns the list.
func (m *Matcher) List() *List { return m.list }

// LeavesOut reports whether a path stays out, and by which rule.
func (m *Matcher) LeavesOut(p string, sizeBytes int64) (rule string, out bool) {
	if m.list.Only == "database" {
		return "only: database", true
	}
	if max := m.list.LeaveOut.LargerThanByte; max > 0 && sizeBytes > max {
		return fmt.Sprintf("larger than %d bytes", max), true
	}
	if m.exact[p] {
		return p, true
	}
	for _, g := range m.globs {
		// The literal end of a **/name/** or **/*.ext pattern is a cheap way to say no.
		if tail := strings.TrimPrefix(g, "**/*"); tail != g && !strings.ContainsAny(tail, `*?[{\/`) {
			if strings.HasSuffix(p, tail) {
				return g, true
			}
			continue
		}
		if doublestar.MatchUnvalidated(g, p) {
			return g, true
		}
	}
	return "", false
}

// bare returns a table's name without the site's prefix, and whether it is one of the site's tables.
func (m *Matcher) bare(table string) (string, bool) { return strings.CutPrefix(table, m.prefix) }

// LeavesOutTable reports whether a table stays out: named in the list, or not of this site's prefix.
func (m *Matcher) LeavesOutTable(table string) (rule string, out bool) {
	if m.list.Only == "files" {
		return "only: files", true
	}
	name, own := m.bare(table)
	if !own {
		return "another prefix than " + m.prefix, true
	}
	if slices.Contains(m.list.LeaveOut.Tables, name) {
		return "tables: " + name, true
	}
	return "", false
}

// Empties reports whether a table goes in without its rows.
func (m *Matcher) Empties(table string) bool {
	name, _ := m.bare(table)
	return slices.Contains(m.list.Empty, name)
}

// RowEditor edits the rows of one table. It is for one goroutine.
type RowEditor struct {
	drops   []match
	blanks  map[string]bool // keys of options
	key     int
	value   int
	cells   []cellEdit
	Dropped int64            // rows that stayed out
	Blanked map[string]int64 // how often, by what
}

type match struct {
	column   int
	exact    map[string]bool
	patterns []string
}

type cellEdit struct {
	column int
	to     []byte
	also   map[int][]byte
	name   string
}

// Editor returns the editor for a table, or nil when its rows go in as they are.
func (m *Matcher) Editor(t *sitedb.Table) *RowEditor {
	name, _ := m.bare(t.Name)
	at := map[string]int{}
	for i, c := range t.Stored() {
		at[c] = i
	}
	e := &RowEditor{Blanked: map[string]int64{}}
	for _, d := range m.list.DropRows {
		if i, ok := at[d.Column]; ok && d.Table == name {
			e.drops = append(e.drops, newMatch(i, d.Values))
		}
	}
	if o := m.kind.Options; o.Table == name && len(m.list.Blank.Options) > 0 {
		key, okKey := at[o.Key]
		value, okValue := at[o.Value]
		if okKey && okValue {
			e.key, e.value, e.blanks = key, value, map[string]bool{}
			for _, opt := range m.list.Blank.Options {
				e.blanks[opt] = true
			}
		}
	}
	for _, c := range m.list.Blank.Columns {
		i, ok := at[c.Column]
		if !ok || c.Table != name {
			continue
		}
		edit := cellEdit{column: i, to: []byte(c.To), also: map[int][]byte{}, name: "column " + c.Table + "." + c.Column}
		for col, v := range c.Also {
			if j, ok := at[col]; ok {
				edit.also[j] = []byte(v)
			}
		}
		e.cells = append(e.cells, edit)
	}
	if len(e.drops) == 0 && e.blanks == nil && len(e.cells) == 0 {
		return nil
	}
	return e
}

func newMatch(column int, values []string) match {
	m := match{column: column, exact: map[string]bool{}}
	for _, v := range values {
		if strings.ContainsAny(v, "*?") {
			m.patterns = append(m.patterns, v)
		} else {
			m.exact[v] = true
		}
	}
	return m
}

func (m match) fits(cell []byte) bool {
	return m.exact[string(cell)] || slices.ContainsFunc(m.patterns, func(p string) bool { return Wild(p, string(cell)) })
}

// Wild reports whether s matches a pattern in which * stands for any text.
func Wild(pattern, s string) bool {
	if head, ok := strings.CutSuffix(pattern, "*"); ok && !strings.ContainsAny(head, "*?") {
		return strings.HasPrefix(s, head)
	}
	ok, _ := path.Match(pattern, strings.ReplaceAll(s, "/", "_"))
	return ok
}

// Edit changes a row in place and reports whether it goes in.
func (e *RowEditor) Edit(row [][]byte) (keep bool) {
	for _, d := range e.drops {
		if d.fits(row[d.column]) {
			e.Dropped++
			return false
		}
	}
	if e.blanks != nil && e.blanks[string(row[e.key])] && len(row[e.value]) > 0 {
		e.Blanked["option "+string(row[e.key])]++
		row[e.value] = []byte{}
	}
	for _, c := range e.cells {
		if row[c.column] == nil || bytes.Equal(row[c.column], c.to) {
			continue
		}
		row[c.column] = c.to
		for i, v := range c.also {
			row[i] = v
		}
		e.Blanked[c.name]++
	}
	return true
}

// Problem is a rule that does nothing or says two things.
type Problem struct {
	Rule string `json:"rule"`
	Why  string `json:"why"`
}

// Check compares a list with the paths and tables there are, and names rules that match nothing.
func (m *Matcher) Check(paths func(yield func(path string, sizeBytes int64) bool), tables []string) []Problem {
	unused := map[string]bool{}
	for _, p := range m.list.LeaveOut.Paths {
		unused[strings.TrimSuffix(p, "/")] = true
	}
	for p, size := range paths {
		if rule, out := m.LeavesOut(p, size); out {
			delete(unused, rule)
			delete(unused, strings.TrimSuffix(rule, "/**"))
		}
	}
	var out []Problem
	for _, p := range slices.Sorted(maps.Keys(unused)) {
		out = append(out, Problem{"leave-out: " + p, "matches nothing in the source"})
	}
	for _, t := range slices.Concat(m.list.Empty, m.list.LeaveOut.Tables) {
		if !slices.Contains(tables, m.prefix+t) {
			out = append(out, Problem{"table " + t, "is not in the source's database"})
		}
		if slices.Contains(m.list.Empty, t) && slices.Contains(m.list.LeaveOut.Tables, t) {
			out = append(out, Problem{"table " + t, "is both emptied and left out"})
		}
	}
	return out
}
