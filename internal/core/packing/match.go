package packing

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/kind"
)

// Matcher is a compiled list. It may be used by several goroutines.
type Matcher struct {
	list     *List
	all      *List // the same, and, for a network, the rules about tables for those of each sub-site
	kind     *kind.Kind
	prefix   string
	globs    *globs
	suffixes map[string]string
}

// Compile prepares a list for a site of this kind whose tables have this prefix.
func (l *List) Compile(k *kind.Kind, prefix string) (*Matcher, error) {
	if err := l.Valid(); err != nil {
		return nil, err
	}
	m := &Matcher{list: l, all: l.ofSubs(k), kind: k, prefix: prefix, globs: compileGlobs(l.LeaveOut.Paths), suffixes: map[string]string{}}
	for _, e := range l.LeaveOut.Suffixes {
		m.suffixes[strings.ToLower(strings.TrimPrefix(e, "."))] = "suffix " + e
	}
	return m, nil
}

// ofSubs returns the list with rules for the tables of sub-sites beside those for the main one's.
func (l *List) ofSubs(k *kind.Kind) *List {
	if k == nil || len(k.Subs) == 0 {
		return l
	}
	all := *l
	names := func(of []string) (out []string) {
		for _, name := range of {
			out = append(out, k.OfSubs(name)...)
		}
		return out
	}
	rows := func(of []kind.Rows) (out []kind.Rows) {
		for _, r := range of {
			for _, r.Table = range k.OfSubs(r.Table) {
				out = append(out, r)
			}
		}
		return out
	}
	all.LeaveOut.Tables, all.Empty = names(l.LeaveOut.Tables), names(l.Empty)
	all.DropRows, all.KeepRows = rows(l.DropRows), rows(l.KeepRows)
	all.Blank.Columns = nil
	for _, c := range l.Blank.Columns {
		for _, c.Table = range k.OfSubs(c.Table) {
			all.Blank.Columns = append(all.Blank.Columns, c)
		}
	}
	return &all
}

// List returns the list.
func (m *Matcher) List() *List { return m.list }

// LeavesOut reports whether a path stays out, and by which rule.
func (m *Matcher) LeavesOut(p string, sizeBytes int64) (rule string, out bool) {
	if rule := m.globs.dir(folderOf(p)); rule != "" {
		return rule, true
	}
	return m.file(p, sizeBytes, false)
}

// Sweep returns a LeavesOut for many paths in order: what it finds of a folder it remembers for the next path.
// It is for one goroutine.
func (m *Matcher) Sweep() func(p string, sizeBytes int64) (rule string, out bool) {
	last, lastRule, lone := "", "", !m.globs.around[""]
	return func(p string, sizeBytes int64) (string, bool) {
		if dir := folderOf(p); dir != last {
			last, lastRule, lone = dir, m.globs.dir(dir), !m.globs.around[dir]
		}
		if lastRule != "" {
			return lastRule, true
		}
		return m.file(p, sizeBytes, lone)
	}
}

func (m *Matcher) file(p string, sizeBytes int64, lone bool) (rule string, out bool) {
	if m.all.Only == "database" {
		return "only: database", true
	}
	if max := m.all.LeaveOut.LargerThanByte; max > 0 && sizeBytes > max {
		return fmt.Sprintf("larger than %d bytes", max), true
	}
	if rule := m.globs.file(p, lone); rule != "" {
		return rule, true
	}
	if len(m.suffixes) > 0 {
		if rule := m.suffixes[strings.ToLower(strings.TrimPrefix(path.Ext(p), "."))]; rule != "" {
			return rule, true
		}
	}
	return "", false
}

// bare returns a table's name without the site's prefix, and whether it is one of the site's tables.
func (m *Matcher) bare(table string) (string, bool) { return strings.CutPrefix(table, m.prefix) }

// named reports whether one of the patterns matches a table's name without prefix, and which.
func named(patterns []string, bare string) (string, bool) {
	i := slices.IndexFunc(patterns, func(p string) bool { return p == bare || strings.ContainsAny(p, "*?") && Wild(p, bare) })
	if i < 0 {
		return "", false
	}
	return patterns[i], true
}

// LeavesOutTable reports whether a table stays out: named in the list, or not of this site's prefix.
func (m *Matcher) LeavesOutTable(table string) (rule string, out bool) {
	if m.all.Only == "files" {
		return "only: files", true
	}
	name, own := m.bare(table)
	if !own {
		return "another prefix than " + m.prefix, true
	}
	if p, ok := named(m.all.LeaveOut.Tables, name); ok {
		return "tables: " + p, true
	}
	return "", false
}

// Empties reports whether a table goes in without its rows.
func (m *Matcher) Empties(table string) bool {
	name, _ := m.bare(table)
	_, ok := named(m.all.Empty, name)
	return ok
}

// Wild reports whether s matches a pattern in which * stands for any text.
func Wild(pattern, s string) bool {
	if head, ok := strings.CutSuffix(pattern, "*"); ok && !strings.ContainsAny(head, "*?") {
		return strings.HasPrefix(s, head)
	}
	ok, _ := path.Match(pattern, strings.ReplaceAll(s, "/", "_"))
	return ok
}
