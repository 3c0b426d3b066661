package packing

import (
	"bytes"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/optval"
	"nestseed/internal/core/sitedb"
)

// Dropped says which rows stay out, by the keys that other rows point at: table without prefix and column.
type Dropped map[kind.Column]*Keys

// Keys is a set of key values. Whole numbers, which nearly all keys are, take a bit each.
type Keys struct {
	pages map[uint64]*[16]uint64 // 1024 numbers a page
	texts map[string]bool
	n     int64
}

// NewKeys returns an empty set.
func NewKeys() *Keys { return &Keys{pages: map[uint64]*[16]uint64{}, texts: map[string]bool{}} }

func number(key []byte) (uint64, bool) {
	if len(key) == 0 || len(key) > 19 || key[0] == '0' && len(key) > 1 {
		return 0, false
	}
	n, err := strconv.ParseUint(string(key), 10, 64)
	return n, err == nil
}

// Add puts a key into the set and reports whether it was new.
func (k *Keys) Add(key []byte) bool {
	if key == nil || k.Has(key) {
		return false
	}
	k.n++
	n, ok := number(key)
	if !ok {
		k.texts[string(key)] = true
		return true
	}
	page := k.pages[n>>10]
	if page == nil {
		page = new([16]uint64)
		k.pages[n>>10] = page
	}
	page[n>>6&15] |= 1 << (n & 63)
	return true
}

// Has reports whether a key is in the set.
func (k *Keys) Has(key []byte) bool {
	if k == nil || key == nil {
		return false
	}
	n, ok := number(key)
	if !ok {
		return k.texts[string(key)]
	}
	page := k.pages[n>>10]
	return page != nil && page[n>>6&15]&(1<<(n&63)) != 0
}

// Len returns how many keys there are.
func (k *Keys) Len() int64 {
	n := int64(len(k.texts))
	for _, p := range k.pages {
		for _, w := range p {
			n += int64(bits.OnesCount64(w))
		}
	}
	return n
}

// Scan is a pass over a table whose rows decide about others. See Scans.
type Scan struct {
	Table   string   // without prefix
	Columns []string // that the pass has to read
	Again   bool     // the table relates to itself: repeat until Row finds no more
	rules   *rowRules
	keys    []scanKey
}

type scanKey struct {
	at  int
	set *Keys
}

// Scans returns the passes that are needed, in order, before rows are packed, so that rows which belong to
// dropped ones are dropped too. Each fills dropped; tables that are not in the source are passed over.
func (m *Matcher) Scans(tables []sitedb.Table, dropped Dropped) []*Scan {
	byName := map[string]*sitedb.Table{}
	for i := range tables {
		if name, own := m.bare(tables[i].Name); own && !tables[i].View && !m.Empties(tables[i].Name) {
			if _, out := m.LeavesOutTable(tables[i].Name); !out {
				byName[name] = &tables[i]
			}
		}
	}
	decided := map[string]bool{} // tables some of whose rows are dropped
	for _, r := range slices.Concat(m.all.DropRows, m.all.KeepRows) {
		decided[r.Table] = byName[r.Table] != nil
	}
	for grown := true; grown; {
		grown = false
		for _, rel := range m.kind.Relations {
			if decided[rel.To.Table] && byName[rel.Table] != nil && !decided[rel.Table] {
				decided[rel.Table], grown = true, true
			}
		}
	}
	var out []*Scan
	for _, name := range m.parentsFirst(byName) {
		var keys []string
		for _, rel := range m.kind.Relations {
			if decided[name] && rel.To.Table == name && byName[rel.Table] != nil && !slices.Contains(keys, rel.To.Column) {
				keys = append(keys, rel.To.Column)
			}
		}
		if len(keys) > 0 {
			out = append(out, m.scan(name, byName[name], keys, dropped))
		}
	}
	return out
}

// parentsFirst orders tables so that those others belong to come before them.
func (m *Matcher) parentsFirst(byName map[string]*sitedb.Table) []string {
	var order []string
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		if seen[name] || byName[name] == nil {
			return
		}
		seen[name] = true
		for _, rel := range m.kind.Relations {
			if rel.Table == name {
				visit(rel.To.Table)
			}
		}
		order = append(order, name)
	}
	for _, rel := range m.kind.Relations {
		visit(rel.To.Table)
	}
	return order
}

func (m *Matcher) scan(name string, t *sitedb.Table, keys []string, dropped Dropped) *Scan {
	s := &Scan{Table: name}
	for _, key := range keys {
		if dropped[kind.Column{Table: name, Column: key}] == nil {
			dropped[kind.Column{Table: name, Column: key}] = NewKeys()
		}
	}
	// The columns are those the rules look at and the keys, in the order of the table.
	needed := map[string]bool{}
	for _, k := range keys {
		needed[k] = true
	}
	for _, r := range slices.Concat(m.all.DropRows, m.all.KeepRows) {
		if r.Table == name {
			needed[r.Column] = true
		}
	}
	for _, rel := range m.kind.Relations {
		if rel.Table == name {
			needed[rel.Column] = true
			s.Again = s.Again || rel.To.Table == name
		}
	}
	at := map[string]int{}
	for _, c := range t.Stored() {
		if needed[c] {
			at[c] = len(s.Columns)
			s.Columns = append(s.Columns, c)
		}
	}
	s.rules = m.rules(name, at, dropped)
	for _, k := range keys {
		if i, ok := at[k]; ok {
			s.keys = append(s.keys, scanKey{i, dropped[kind.Column{Table: name, Column: k}]})
		}
	}
	return s
}

// Row looks at a row and reports whether it made the set of dropped rows larger.
func (s *Scan) Row(row [][]byte) (found bool) {
	if s.rules == nil || !s.rules.drops(row) {
		return false
	}
	for _, k := range s.keys {
		found = k.set.Add(row[k.at]) || found
	}
	return found
}

// rowRules decide whether a row stays out.
type rowRules struct {
	drop    []match
	keep    []match
	parents []parent
}

type parent struct {
	column int
	set    *Keys
}

// rules returns the rules for a table, or nil when all its rows go in. at says where columns are.
func (m *Matcher) rules(name string, at map[string]int, dropped Dropped) *rowRules {
	r := &rowRules{}
	for _, d := range m.all.DropRows {
		if i, ok := at[d.Column]; ok && d.Table == name {
			r.drop = append(r.drop, newMatch(i, d.Values))
		}
	}
	for _, k := range m.all.KeepRows {
		if i, ok := at[k.Column]; ok && k.Table == name {
			r.keep = append(r.keep, newMatch(i, k.Values))
		}
	}
	for _, rel := range m.kind.Relations {
		if i, ok := at[rel.Column]; ok && rel.Table == name && dropped[rel.To] != nil {
			r.parents = append(r.parents, parent{i, dropped[rel.To]})
		}
	}
	if len(r.drop)+len(r.keep)+len(r.parents) == 0 {
		return nil
	}
	return r
}

func (r *rowRules) drops(row [][]byte) bool {
	for _, d := range r.drop {
		if d.fits(row[d.column]) {
			return true
		}
	}
	for _, k := range r.keep {
		if !k.fits(row[k.column]) {
			return true
		}
	}
	for _, p := range r.parents {
		if p.set.Has(row[p.column]) {
			return true
		}
	}
	return false
}

// RowEditor edits the rows of one table. It is for one goroutine.
type RowEditor struct {
	rules   *rowRules
	blanks  map[string]bool     // keys of options
	inside  map[string][]Inside // values inside options, by key
	key     int
	value   int
	cells   []cellEdit
	Dropped int64            // rows that stayed out
	Blanked map[string]int64 // how often, by what
	Missed  map[string]error // values inside options that could not be reached
}

type match struct {
	column   int
	exact    map[string]bool
	patterns []string
}

type cellEdit struct {
	column int
	where  int    // column that tells the rows; -1 for all rows
	is     string // value that it has there
	to     []byte
	also   map[int][]byte
	name   string
}

// Editor returns the editor for a table, or nil when its rows go in as they are. dropped is what scans found.
func (m *Matcher) Editor(t *sitedb.Table, dropped Dropped) *RowEditor {
	name, _ := m.bare(t.Name)
	at := map[string]int{}
	for i, c := range t.Stored() {
		at[c] = i
	}
	e := &RowEditor{Blanked: map[string]int64{}, Missed: map[string]error{}, rules: m.rules(name, at, dropped)}
	if o := m.kind.Options; m.kind.IsOptions(name) && len(m.all.Blank.Options)+len(m.all.Blank.Values) > 0 {
		key, okKey := at[o.Key]
		value, okValue := at[o.Value]
		if okKey && okValue {
			e.key, e.value, e.blanks, e.inside = key, value, map[string]bool{}, map[string][]Inside{}
			for _, opt := range m.all.Blank.Options {
				e.blanks[opt] = true
			}
			for _, v := range m.all.Blank.Values {
				e.inside[v.Option] = append(e.inside[v.Option], v)
			}
		}
	}
	for _, c := range m.all.Blank.Columns {
		i, ok := at[c.Column]
		if !ok || c.Table != name {
			continue
		}
		edit := cellEdit{column: i, where: -1, to: []byte(c.To), also: map[int][]byte{}, name: "column " + c.Table + "." + c.Column}
		for col, v := range c.Also {
			if j, ok := at[col]; ok {
				edit.also[j] = []byte(v)
			}
		}
		e.cells = append(e.cells, edit)
	}
	m.blankSecrets(e, name, at)
	if e.rules == nil && e.blanks == nil && len(e.cells) == 0 {
		return nil
	}
	return e
}

// blankSecrets lets the editor empty what the source has in the places of fields that are secret: each site gets its own.
func (m *Matcher) blankSecrets(e *RowEditor, table string, at map[string]int) {
	o := m.kind.Options
	for _, f := range m.all.Fields {
		if !f.Secret {
			continue
		}
		for _, t := range f.To {
			key, okKey := at[o.Key]
			value, okValue := at[o.Value]
			switch {
			case t.Option != "" && m.kind.IsOptions(table) && okKey && okValue:
				if e.blanks == nil {
					e.key, e.value, e.blanks, e.inside = key, value, map[string]bool{}, map[string][]Inside{}
				}
				if len(t.Path) == 0 {
					e.blanks[t.Option] = true
				} else {
					e.inside[t.Option] = append(e.inside[t.Option], Inside{t.Option, t.Path})
				}
			case t.Cell != nil && t.Cell.Table == table:
				column, okColumn := at[t.Cell.Column]
				where, okWhere := at[t.Cell.Where]
				if okColumn && okWhere {
					e.cells = append(e.cells, cellEdit{column: column, where: where, is: t.Cell.Is, name: t.String()})
				}
			}
		}
	}
}

// SecretSettings returns the settings that fields which are secret have in the settings file.
func (l *List) SecretSettings() (names []string) {
	for _, f := range l.Fields {
		for _, t := range f.To {
			if f.Secret && t.Setting != "" {
				names = append(names, t.Setting)
			}
		}
	}
	return names
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

// Edit changes a row in place and reports whether it goes in.
func (e *RowEditor) Edit(row [][]byte) (keep bool) {
	if e.rules != nil && e.rules.drops(row) {
		e.Dropped++
		return false
	}
	if e.blanks != nil && len(row[e.value]) > 0 {
		e.blank(row)
	}
	for _, c := range e.cells {
		if row[c.column] == nil || bytes.Equal(row[c.column], c.to) || c.where >= 0 && string(row[c.where]) != c.is {
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

// blank empties an option, or values inside it.
func (e *RowEditor) blank(row [][]byte) {
	key := string(row[e.key])
	if e.blanks[key] {
		e.Blanked["option "+key]++
		row[e.value] = []byte{}
		return
	}
	for _, v := range e.inside[key] {
		old, err := optval.Lookup(row[e.value], v.Path...)
		if err == nil && old == "" {
			continue
		}
		fresh, setErr := optval.Set(row[e.value], "", v.Path...)
		if err != nil || setErr != nil {
			e.Missed[v.String()] = err
			continue
		}
		row[e.value] = fresh
		e.Blanked["value "+v.String()]++
	}
}
