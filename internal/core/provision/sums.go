package provision

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// tableSums is what was sent to a table: how many rows, and the sum of the CRC-32 of all texts of a column. When all of
// it is loaded, the server is asked what it has. A text that was cut, or that came out as other characters, makes
// another sum.
type tableSums struct {
	table   archive.TableTotal
	release string
	columns []string // whose texts are summed
	left    atomic.Int64
	rows    atomic.Int64
	lenient bool // see sitedb.Into
	mu      sync.Mutex
	plain   []sitedb.Column // by the release's definitions
	sent    []string
	sums    map[string]uint64
}

func (mk *maker) newTableSums(ctx context.Context, tables []archive.TableTotal, defs []*sqltext.Definition) (map[string]*tableSums, error) {
	loader, err := mk.db.Loader(ctx)
	if err != nil {
		return nil, err
	}
	defer loader.Close()
	columns, err := loader.Summed(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]*tableSums{}
	for _, t := range tables {
		out[t.Name] = &tableSums{table: t, release: mk.plan.Release, columns: columns[mk.rename(t.Name)], sums: map[string]uint64{}}
	}
	for _, d := range defs {
		if s := out[d.Table]; s != nil {
			for _, c := range d.Columns {
				s.lenient = s.lenient || c.Type == "enum" || c.Type == "set"
				s.plain = append(s.plain, sitedb.Column{Name: c.Name, Type: c.Type, Generated: c.Generated})
			}
		}
	}
	return out, nil
}

// add counts what was sent, by column.
func (s *tableSums) add(columns []string, sums []uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sent = columns
	for i, c := range columns {
		s.sums[c] += sums[i]
	}
}

func (s *tableSums) short(rows int64) error {
	return fmt.Errorf("table %s took %d rows of %d; the archive may be damaged: verify release %s", s.table.Name, rows,
		s.table.Rows, s.release)
}

// verify compares rows and sums with those that the server has.
func (s *tableSums) verify(ctx context.Context, loader sitedb.Loader, name string) error {
	if n := s.rows.Load(); n != s.table.Rows {
		return s.short(n)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	// Columns that were not in the archive have what the server fills in.
	columns := slices.DeleteFunc(slices.Clone(s.columns), func(c string) bool { _, sent := s.sums[c]; return !sent })
	if len(columns) > 0 {
		sums, err := loader.Sums(ctx, name, columns, s.table.UTF8Only)
		if err != nil {
			return err
		}
		for i, c := range columns {
			if sums[i] != s.sums[c] {
				return s.changed(c, "cut or changed its text")
			}
		}
	}
	// What is no text is compared with what the source's server said of it.
	plain := slices.DeleteFunc(slices.Clone(s.plain), func(c sitedb.Column) bool {
		_, summed := s.table.Sums[c.Name]
		return !summed || !c.Plain() || !slices.Contains(s.sent, c.Name)
	})
	if len(plain) == 0 {
		return nil
	}
	sums, err := loader.PlainSums(ctx, name, plain)
	if err != nil {
		return err
	}
	for i, c := range plain {
		if sums[i] != s.table.Sums[c.Name] {
			return s.changed(c.Name, "has other values than the source's")
		}
	}
	return nil
}

func (s *tableSums) changed(column, how string) error {
	return fmt.Errorf("column %s of table %s does not hold what was loaded into it: the server %s; compare its version and character set "+
		"with those that release %s names", column, s.table.Name, how, s.release)
}
