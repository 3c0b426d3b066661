package contents

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"path"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/optval"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sqltext"
)

// Comparison says how one archive differs from another, and why its size does.
type Comparison struct {
	From     string        `json:"from"`
	To       string        `json:"to"`
	Summary  string        `json:"summary"` // one sentence
	Causes   []Cause       `json:"causes"`  // of the difference in size, the greatest first; three at most
	Before   int64         `json:"before"`  // bytes of the archives
	After    int64         `json:"after"`
	Added    Tally         `json:"added"`
	Removed  Tally         `json:"removed"`
	Changed  Tally         `json:"changed"`
	Areas    []AreaDelta   `json:"areas"`
	Folders  []FolderDelta `json:"folders"`
	Files    []FileDelta   `json:"files"` // the largest differences first
	More     int           `json:"more"`  // files that differ and are not listed
	Tables   []TableDelta  `json:"tables"`
	Values   []ValueDelta  `json:"values"` // settings and options
	MoreVals int           `json:"more_values"`
}

// Tally counts files and their bytes.
type Tally struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"` // of the files as they are afterwards; of removed ones as they were
}

// Cause is a part of the difference in size. Packed is what it makes in the archive.
type Cause struct {
	Path     string `json:"path"`
	Sentence string `json:"sentence"`
	Packed   int64  `json:"packed"`
}

// AreaDelta is the difference in one area, in bytes of content and in the archive.
type AreaDelta struct {
	Area    string `json:"area"`
	Added   int64  `json:"added"`
	Removed int64  `json:"removed"`
	Changed int64  `json:"changed"`
	Bytes   int64  `json:"bytes"`
	Packed  int64  `json:"packed"`
}

// FolderDelta is the difference below a folder.
type FolderDelta struct {
	Path string `json:"path"`
	AreaDelta
}

// FileDelta is one file that differs.
type FileDelta struct {
	Path   string `json:"path"`
	Change string `json:"change" enum:"added,removed,changed"`
	Area   string `json:"area"`
	Before int64  `json:"before"`
	After  int64  `json:"after"`
	Packed int64  `json:"packed"` // difference in the archive
}

// TableDelta is the difference in one table, row by row where it has a primary key.
type TableDelta struct {
	Table   string `json:"table"`
	Change  string `json:"change" enum:"added,removed,changed"`
	Added   int64  `json:"added"` // rows
	Removed int64  `json:"removed"`
	Changed int64  `json:"changed"`
	Bytes   int64  `json:"bytes"`  // of SQL
	Packed  int64  `json:"packed"` // in the archive
	Note    string `json:"note,omitempty"`
}

// ValueDelta is a setting or option, or a value inside an option, that differs. Secrets are masked.
type ValueDelta struct {
	Where  string `json:"where"`
	Before string `json:"before"`
	After  string `json:"after"`
	Change string `json:"change" enum:"added,removed,changed"`
	Secret bool   `json:"secret,omitempty"`
}

const (
	listedFiles   = 2000
	listedValues  = 300
	listedFolders = 60
	folderDepth   = 4
	shownValue    = 160
	mostRows      = 4_000_000 // of a table that is compared row by row; 16 bytes each are held
	mask          = "••••••••"
)

// Compare says how b differs from a. Both are of the same kind.
func Compare(ctx context.Context, a, b *archive.Archive, k *kind.Kind, report progress.Reporter) (*Comparison, error) {
	return compareArchives(ctx, a, b, k, true, report)
}

// CompareSizes is Compare without a look at settings and single rows: what makes the difference in size.
func CompareSizes(ctx context.Context, a, b *archive.Archive, k *kind.Kind) (*Comparison, error) {
	return compareArchives(ctx, a, b, k, false, progress.Discard)
}

func compareArchives(ctx context.Context, a, b *archive.Archive, k *kind.Kind, deep bool, report progress.Reporter) (*Comparison, error) {
	c := &comparer{ctx: ctx, a: a, b: b, k: k, out: &Comparison{From: a.Manifest.Ref(), To: b.Manifest.Ref(), Areas: []AreaDelta{},
		Folders: []FolderDelta{}, Files: []FileDelta{}, Tables: []TableDelta{}, Values: []ValueDelta{}, Causes: []Cause{}},
		deep: deep, root: &deltaNode{}, areas: map[string]*AreaDelta{}, folders: map[string]*FolderDelta{}}
	var err error
	if c.sumsA, err = a.Sums(); err != nil {
		return nil, fmt.Errorf("%s: %w", a.Manifest.Ref(), err)
	}
	if c.sumsB, err = b.Sums(); err != nil {
		return nil, fmt.Errorf("%s: %w", b.Manifest.Ref(), err)
	}
	report.Step("Compare files", progress.Amount{})
	c.files()
	if deep {
		report.Step("Compare settings", progress.Amount{})
		if err := c.settings(); err != nil {
			return nil, err
		}
	}
	report.Step("Compare rows", progress.Amount{})
	if err := c.tables(); err != nil {
		return nil, err
	}
	c.finish()
	return c.out, nil
}

type comparer struct {
	ctx          context.Context
	a, b         *archive.Archive
	k            *kind.Kind
	sumsA, sumsB map[string]string
	deep         bool
	out          *Comparison
	root         *deltaNode
	areas        map[string]*AreaDelta
	folders      map[string]*FolderDelta
}

func (c *comparer) files() {
	for _, f := range c.b.Entries() {
		p, in := strings.CutPrefix(f.Name, archive.FilesDir)
		if !in || f.Mode().IsDir() {
			continue
		}
		old := c.a.Entry(f.Name)
		switch {
		case old == nil:
			c.file(FileDelta{Path: p, Change: "added", After: int64(f.UncompressedSize64), Packed: int64(f.CompressedSize64)})
		case old.UncompressedSize64 != f.UncompressedSize64 || old.CRC32 != f.CRC32 || c.sumsA[f.Name] != c.sumsB[f.Name] ||
			old.Mode().Type() != f.Mode().Type():
			c.file(FileDelta{Path: p, Change: "changed", Before: int64(old.UncompressedSize64), After: int64(f.UncompressedSize64),
				Packed: int64(f.CompressedSize64) - int64(old.CompressedSize64)})
		}
	}
	for _, f := range c.a.Entries() {
		if p, in := strings.CutPrefix(f.Name, archive.FilesDir); in && !f.Mode().IsDir() && c.b.Entry(f.Name) == nil {
			c.file(FileDelta{Path: p, Change: "removed", Before: int64(f.UncompressedSize64), Packed: -int64(f.CompressedSize64)})
		}
	}
}

func (c *comparer) file(d FileDelta) {
	d.Area = c.k.AreaOf(d.Path)
	c.out.Files = append(c.out.Files, d)
	area := c.areas[d.Area]
	if area == nil {
		area = &AreaDelta{Area: d.Area}
		c.areas[d.Area] = area
	}
	area.add(d)
	for dir := path.Dir(d.Path); dir != "."; dir = path.Dir(dir) {
		if strings.Count(dir, "/") >= folderDepth {
			continue
		}
		f := c.folders[dir]
		if f == nil {
			f = &FolderDelta{Path: dir, AreaDelta: AreaDelta{Area: d.Area}}
			c.folders[dir] = f
		}
		f.add(d)
	}
	t := map[string]*Tally{"added": &c.out.Added, "removed": &c.out.Removed, "changed": &c.out.Changed}[d.Change]
	t.Files++
	t.Bytes += d.After
	if d.Change == "removed" {
		t.Bytes += d.Before
	}
	c.root.put(d.Path, d.Packed, d.Change)
}

func (a *AreaDelta) add(d FileDelta) {
	a.Bytes += d.After - d.Before
	a.Packed += d.Packed
	switch d.Change {
	case "added":
		a.Added++
	case "removed":
		a.Removed++
	default:
		a.Changed++
	}
}

// settings compares the constants of the settings files.
func (c *comparer) settings() error {
	syntax := c.k.Settings.Syntax
	read := func(a *archive.Archive) (kind.Settings, error) {
		if a.Manifest.Settings == "" {
			return kind.ReadSettings(syntax, nil, "", nil)
		}
		text, err := a.Read(archive.FilesDir+a.Manifest.Settings, 1<<20)
		if errors.Is(err, archive.ErrNoEntry) {
			err = nil
		}
		if err != nil {
			return nil, err
		}
		return kind.ReadSettings(syntax, text, "", nil)
	}
	old, err := read(c.a)
	if err != nil {
		return err
	}
	fresh, err := read(c.b)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, name := range append(old.Names(), fresh.Names()...) {
		if seen[name] {
			continue
		}
		seen[name] = true
		before, whyBefore := old.Get(name)
		after, whyAfter := fresh.Get(name)
		if whyBefore != nil || whyAfter != nil {
			continue // computed by the program
		}
		c.value("setting "+name, name, before, after, old.Has(name), fresh.Has(name))
	}
	return nil
}

// value notes a value that differs. name decides whether it is secret.
func (c *comparer) value(where, name, before, after string, was, is bool) {
	if was == is && before == after {
		return
	}
	d := ValueDelta{Where: where, Before: shorten(before), After: shorten(after), Change: "changed"}
	if !was {
		d.Change = "added"
	} else if !is {
		d.Change = "removed"
	}
	if kind.SecretName(name) || slices.Contains(c.b.Manifest.List.Blank.Options, name) || slices.Contains(c.b.Manifest.List.Blank.Settings,
		name) {
		d.Secret = true
		if d.Before != "" {
			d.Before = mask
		}
		if d.After != "" {
			d.After = mask
		}
	}
	if len(c.out.Values) == listedValues {
		c.out.MoreVals++
		return
	}
	c.out.Values = append(c.out.Values, d)
}

func shorten(s string) string {
	s = strings.ToValidUTF8(s, "�")
	if len(s) <= shownValue {
		return s
	}
	cut := shownValue
	for cut > 0 && s[cut]&0xc0 == 0x80 {
		cut--
	}
	return s[:cut] + "…"
}

// options compares the rows of the table of options, value by value.
func (c *comparer) options() error {
	o := c.k.Options
	read := func(a *archive.Archive) (map[string]string, error) {
		out := map[string]string{}
		for _, t := range a.Manifest.Tables {
			if t.Name != a.Manifest.Origin.Prefix+o.Table {
				continue
			}
			err := a.EachRow(c.ctx, t, func(columns []string, row []sqltext.Literal) error {
				k, v := slices.Index(columns, o.Key), slices.Index(columns, o.Value)
				if k < 0 || v < 0 || len(row[v]) > 4<<20 {
					return nil
				}
				key, err := row[k].AppendValue(nil)
				if err != nil {
					return err
				}
				value, err := row[v].AppendValue(nil)
				out[string(key)] = string(value)
				return err
			})
			if err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	old, err := read(c.a)
	if err != nil {
		return err
	}
	fresh, err := read(c.b)
	if err != nil {
		return err
	}
	names := map[string]bool{}
	for n := range old {
		names[n] = true
	}
	for n := range fresh {
		names[n] = true
	}
	for _, name := range sortedKeys(names) {
		if c.forgotten(name) {
			continue
		}
		before, was := old[name]
		after, is := fresh[name]
		if was && is {
			if before != after {
				c.inside(name, before, after)
			}
			continue
		}
		c.value("option "+name, name, before, after, was, is)
	}
	return nil
}

// forgotten reports whether an option is one that the CMS rebuilds by itself.
func (c *comparer) forgotten(name string) bool {
	return slices.ContainsFunc(c.k.Forget, func(r kind.Rows) bool {
		return r.Table == c.k.Options.Table && r.Column == c.k.Options.Key &&
			slices.ContainsFunc(r.Values, func(v string) bool { return packing.Wild(v, name) })
	})
}

// inside compares an option value by value where it holds several.
func (c *comparer) inside(name, before, after string) {
	flat := func(s string) map[string]string {
		out := map[string]string{}
		optval.Each([]byte(s), func(path []string, v string) {
			if len(out) < 20_000 {
				out[strings.Join(path, " › ")] = v
			}
		})
		return out
	}
	x, y := flat(before), flat(after)
	paths := map[string]bool{}
	for p := range x {
		paths[p] = true
	}
	for p := range y {
		paths[p] = true
	}
	for _, p := range sortedKeys(paths) {
		old, was := x[p]
		fresh, is := y[p]
		where, last := "option "+name, name
		if p != "" {
			where += " › " + p
			last = p
			if i := strings.LastIndex(p, " › "); i >= 0 {
				last = p[i+len(" › "):]
			}
			if kind.SecretName(name) {
				last = name
			}
		}
		c.value(where, last, old, fresh, was, is)
	}
}

func sortedKeys(m map[string]bool) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func (c *comparer) tables() error {
	old := map[string]archive.TableTotal{}
	for _, t := range c.a.Manifest.Tables {
		old[c.bare(c.a, t.Name)] = t
	}
	var keys map[string][]string
	if c.deep {
		var err error
		if keys, err = primaryKeys(c.b); err != nil {
			return err
		}
	}
	for _, t := range c.b.Manifest.Tables {
		was, there := old[c.bare(c.b, t.Name)]
		delete(old, c.bare(c.b, t.Name))
		d := TableDelta{Table: t.Name, Bytes: t.Bytes - was.Bytes, Packed: c.packed(c.b, t) - c.packed(c.a, was), Change: "changed"}
		switch {
		case !there:
			d.Change, d.Added = "added", t.Rows
		case c.sameRows(was, t):
			continue
		case !c.deep:
			d.Added, d.Removed = max(0, t.Rows-was.Rows), max(0, was.Rows-t.Rows)
		default:
			if err := c.rows(was, t, keys[t.Name], &d); err != nil {
				return err
			}
			if t.Name == c.b.Manifest.Origin.Prefix+c.k.Options.Table {
				if err := c.options(); err != nil {
					return err
				}
			}
		}
		c.table(d)
	}
	for _, name := range sortedKeys(keysOf(old)) {
		t := old[name]
		c.table(TableDelta{Table: t.Name, Change: "removed", Removed: t.Rows, Bytes: -t.Bytes, Packed: -c.packed(c.a, t)})
	}
	return nil
}

func keysOf[V any](m map[string]V) map[string]bool {
	out := map[string]bool{}
	for k := range m {
		out[k] = true
	}
	return out
}

func (c *comparer) bare(a *archive.Archive, table string) string {
	return strings.TrimPrefix(table, a.Manifest.Origin.Prefix)
}

func (c *comparer) table(d TableDelta) {
	c.out.Tables = append(c.out.Tables, d)
	area := c.areas["database"]
	if area == nil {
		area = &AreaDelta{Area: "database"}
		c.areas["database"] = area
	}
	area.Bytes += d.Bytes
	area.Packed += d.Packed
	switch d.Change {
	case "added":
		area.Added++
	case "removed":
		area.Removed++
	default:
		area.Changed++
	}
	c.root.put("database/"+d.Table, d.Packed, d.Change)
}

func (c *comparer) packed(a *archive.Archive, t archive.TableTotal) (n int64) {
	for _, name := range a.Rows(t) {
		if f := a.Entry(name); f != nil {
			n += int64(f.CompressedSize64)
		}
	}
	return n
}

// sameRows reports whether the entries of two tables have the same sums.
func (c *comparer) sameRows(x, y archive.TableTotal) bool {
	if x.Entries != y.Entries || x.Name != y.Name {
		return false
	}
	for _, name := range c.b.Rows(y) {
		if s := c.sumsB[name]; s == "" || s != c.sumsA[name] {
			return false
		}
	}
	return true
}

// primaryKeys reads the keys of all tables from the archive's definitions.
func primaryKeys(a *archive.Archive) (map[string][]string, error) {
	d, err := a.Definitions()
	if err != nil {
		return nil, err
	}
	keys := map[string][]string{}
	for _, t := range d.Tables {
		keys[t.Table] = t.PrimaryKey
	}
	return keys, nil
}

// rowMark is a row as far as comparing needs it: its key and a hash of all of it.
type rowMark struct{ key, hash uint64 }

// rows compares two tables by primary key; without one, as bags of rows.
func (c *comparer) rows(was, is archive.TableTotal, key []string, d *TableDelta) error {
	if was.Rows > mostRows || is.Rows > mostRows {
		d.Added, d.Removed = max(0, is.Rows-was.Rows), max(0, was.Rows-is.Rows)
		d.Note = "too many rows to compare one by one; the numbers are differences"
		return nil
	}
	seed := maphash.MakeSeed()
	x, columnsX, err := c.marks(c.a, was, key, seed)
	if err != nil {
		return err
	}
	y, columnsY, err := c.marks(c.b, is, key, seed)
	if err != nil {
		return err
	}
	if !slices.Equal(columnsX, columnsY) && was.Rows > 0 && is.Rows > 0 {
		d.Note = "its columns are not the same"
	}
	if len(key) == 0 {
		d.Note = "it has no primary key, so changed rows count as removed and added"
	}
	i, j := 0, 0
	for i < len(x) || j < len(y) {
		switch {
		case j == len(y) || i < len(x) && x[i].key < y[j].key:
			d.Removed++
			i++
		case i == len(x) || y[j].key < x[i].key:
			d.Added++
			j++
		default:
			if x[i].hash != y[j].hash {
				d.Changed++
			}
			i, j = i+1, j+1
		}
	}
	return nil
}

// marks reads a table and returns its rows' marks in order of their keys.
func (c *comparer) marks(a *archive.Archive, t archive.TableTotal, key []string,
	seed maphash.Seed) (out []rowMark, columns []string, err error) {
	out = make([]rowMark, 0, min(t.Rows, mostRows))
	var at []int
	var h maphash.Hash
	h.SetSeed(seed)
	err = a.EachRow(c.ctx, t, func(cols []string, row []sqltext.Literal) error {
		if columns == nil {
			columns = cols
			for _, k := range key {
				if i := slices.Index(cols, k); i >= 0 {
					at = append(at, i)
				}
			}
		}
		h.Reset()
		for _, l := range row {
			h.Write(l)
			h.WriteByte(0)
		}
		m := rowMark{hash: h.Sum64()}
		m.key = m.hash
		if len(at) == 1 {
			if n, err := strconv.ParseUint(string(row[at[0]]), 10, 64); err == nil {
				m.key = n
				out = append(out, m)
				return nil
			}
		}
		if len(at) > 0 {
			h.Reset()
			for _, i := range at {
				h.Write(row[i])
				h.WriteByte(0)
			}
			m.key = h.Sum64()
		}
		out = append(out, m)
		return nil
	})
	slices.SortFunc(out, func(a, b rowMark) int {
		return cmp.Or(cmp.Compare(a.key, b.key), cmp.Compare(a.hash, b.hash))
	})
	return out, columns, err
}

func (c *comparer) finish() {
	magnitude := func(n int64) int64 { return max(n, -n) }
	for _, a := range c.areas {
		c.out.Areas = append(c.out.Areas, *a)
	}
	slices.SortFunc(c.out.Areas, func(a, b AreaDelta) int {
		return cmp.Or(cmp.Compare(magnitude(b.Packed), magnitude(a.Packed)), cmp.Compare(a.Area, b.Area))
	})
	for _, f := range c.folders {
		c.out.Folders = append(c.out.Folders, *f)
	}
	slices.SortFunc(c.out.Folders, func(a, b FolderDelta) int {
		return cmp.Or(cmp.Compare(magnitude(b.Packed), magnitude(a.Packed)), cmp.Compare(a.Path, b.Path))
	})
	c.out.Folders = c.out.Folders[:min(len(c.out.Folders), listedFolders)]
	slices.SortFunc(c.out.Files, func(a, b FileDelta) int {
		return cmp.Or(cmp.Compare(magnitude(b.Packed), magnitude(a.Packed)), cmp.Compare(a.Path, b.Path))
	})
	if n := len(c.out.Files); n > listedFiles {
		c.out.Files, c.out.More = c.out.Files[:listedFiles], n-listedFiles
	}
	slices.SortFunc(c.out.Tables, func(a, b TableDelta) int {
		return cmp.Or(cmp.Compare(magnitude(b.Packed), magnitude(a.Packed)), cmp.Compare(a.Table, b.Table))
	})
	c.out.Causes = c.root.causes(3)
}

// Explain fills in the sizes of the archives and the sentence, which need what only the caller knows.
func (c *Comparison) Explain(before, after int64) {
	c.Before, c.After = before, after
	if c.Added.Files+c.Removed.Files+c.Changed.Files == 0 && len(c.Tables) == 0 {
		c.Summary = fmt.Sprintf("%s and %s hold the same files and rows", c.From, c.To)
		return
	}
	size := "is as large as"
	if d := after - before; d > 0 {
		size = "is " + progress.SizeText(d) + " larger than"
	} else if d < 0 {
		size = "is " + progress.SizeText(-d) + " smaller than"
	}
	var why []string
	for _, x := range c.Causes {
		why = append(why, x.Sentence)
	}
	c.Summary = fmt.Sprintf("%s %s %s", c.To, size, c.From)
	if len(why) > 0 {
		c.Summary += ": " + strings.Join(why, "; ")
	}
}

// deltaNode is a folder or file in the tree of differences.
type deltaNode struct {
	name     string
	path     string
	weight   int64 // sum of the differences' magnitudes
	packed   int64 // sum of the differences
	counts   map[string]int64
	children map[string]*deltaNode
}

func (n *deltaNode) put(p string, packed int64, change string) {
	at := n
	for rest := p; ; {
		at.weight += max(packed, -packed)
		at.packed += packed
		if at.counts == nil {
			at.counts = map[string]int64{}
		}
		at.counts[change]++
		if rest == "" {
			return
		}
		name, deeper, _ := strings.Cut(rest, "/")
		if at.children == nil {
			at.children = map[string]*deltaNode{}
		}
		next := at.children[name]
		if next == nil {
			next = &deltaNode{name: name, path: path.Join(at.path, name)}
			at.children[name] = next
		}
		at, rest = next, deeper
	}
}

// causes finds the places that explain most of the difference: it goes down the tree while one child has most
// of the weight, takes what it stands on, and begins again without it.
func (n *deltaNode) causes(most int) []Cause {
	out := []Cause{}
	total := n.weight
	for len(out) < most && n.weight*50 >= total && n.weight > 0 {
		chain := []*deltaNode{n}
		at := n
		for {
			var heaviest *deltaNode
			for _, c := range at.children {
				if heaviest == nil || c.weight > heaviest.weight || c.weight == heaviest.weight && c.name < heaviest.name {
					heaviest = c
				}
			}
			if heaviest == nil || heaviest.weight == 0 || at != n && heaviest.weight*10 < at.weight*6 {
				break
			}
			at = heaviest
			chain = append(chain, at)
		}
		if at == n {
			break
		}
		out = append(out, Cause{at.path, at.sentence(), at.packed})
		weight, packed := at.weight, at.packed
		for _, c := range chain {
			c.weight -= weight
			c.packed -= packed
		}
		at.children = nil
	}
	return out
}

func (n *deltaNode) sentence() string {
	sign := "+"
	if n.packed < 0 {
		sign = "−"
	}
	amount := sign + progress.SizeText(max(n.packed, -n.packed))
	if table, is := strings.CutPrefix(n.path, "database/"); is {
		for change := range n.counts {
			if change == "changed" {
				return fmt.Sprintf("%s by rows of table %s", amount, table)
			}
			return fmt.Sprintf("%s by table %s, which was %s", amount, table, change)
		}
	}
	if len(n.children) == 0 {
		for change := range n.counts {
			return fmt.Sprintf("%s by %s, which was %s", amount, n.path, change)
		}
	}
	var parts []string
	for _, change := range []string{"added", "removed", "changed"} {
		if c := n.counts[change]; c > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c, change))
		}
	}
	what := "files in "
	if n.path == "database" {
		return fmt.Sprintf("%s by the database (tables: %s)", amount, strings.Join(parts, ", "))
	}
	return fmt.Sprintf("%s by %s%s (%s)", amount, what, n.path, strings.Join(parts, ", "))
}
