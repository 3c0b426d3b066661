package contents

import (
	"cmp"
	"hash/maphash"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/sqltext"
)

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
