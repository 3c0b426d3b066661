package provision

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// rowsUnit is a run of entries of rows that are loaded one after the other; a long table has several, for several
// connections.
type rowsUnit struct {
	table   archive.TableTotal
	entries []string
}

// unitBytes is about how many bytes of rows one statement loads.
const unitBytes = 64 << 20

// unitsOf cuts a table into units.
func unitsOf(a *archive.Archive, t archive.TableTotal) (units []rowsUnit) {
	entries := a.Rows(t)
	n := int(max(1, (t.Bytes+unitBytes-1)/unitBytes))
	size := (len(entries) + n - 1) / n
	for part := range slices.Chunk(entries, max(1, size)) {
		units = append(units, rowsUnit{t, part})
	}
	return units
}

// loadRows makes the tables, loads their rows side by side, and then adds keys, views and triggers.
func (mk *maker) loadRows(ctx context.Context) error {
	if err := mk.script(ctx, archive.SchemaName); err != nil {
		return err
	}
	tables := slices.Clone(mk.req.Archive.Manifest.Tables)
	slices.SortStableFunc(tables, func(a, b archive.TableTotal) int { return int(b.Bytes - a.Bytes) })
	sums, err := mk.newTableSums(ctx, tables)
	if err != nil {
		return err
	}
	units := make(chan rowsUnit)
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		defer close(units)
		for _, t := range tables {
			all := unitsOf(mk.req.Archive, t)
			if len(all) == 0 && t.Rows > 0 {
				return sums[t.Name].short(0)
			}
			sums[t.Name].left.Store(int64(len(all)))
			for _, u := range all {
				select {
				case units <- u:
				case <-gctx.Done():
					return gctx.Err()
				}
			}
		}
		return nil
	})
	for range max(2, runtime.GOMAXPROCS(0)) {
		group.Go(func() error {
			loader, err := mk.db.Loader(gctx)
			if err != nil {
				return err
			}
			defer loader.Close()
			for u := range units {
				s := sums[u.table.Name]
				n, err := mk.loadUnit(gctx, loader, u, s)
				if err != nil {
					return err
				}
				s.rows.Add(n)
				if s.left.Add(-1) == 0 {
					if err := s.verify(gctx, loader, mk.rename(u.table.Name)); err != nil {
						return err
					}
				}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for _, t := range tables {
		mk.result.Rows += t.Rows
	}
	return mk.script(ctx, archive.AfterName)
}

// rename gives a table its name on the new site.
func (mk *maker) rename(name string) string {
	if bare, own := strings.CutPrefix(name, mk.plan.OldPrefix); own {
		return mk.plan.Prefix + bare
	}
	return name
}

// script runs schema.sql or after.sql with table names changed.
func (mk *maker) script(ctx context.Context, name string) error {
	text, err := mk.req.Archive.Schema(name)
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, t := range mk.req.Archive.Manifest.Tables {
		known[t.Name] = true
	}
	loader, err := mk.db.Loader(ctx)
	if err != nil {
		return err
	}
	defer loader.Close()
	sc := sqltext.NewScanner(bytes.NewReader(text), 16<<20)
	for sc.Scan() {
		stmt := sc.Statement()
		if err := allowed(stmt); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		out := sqltext.RenameTables(nil, stmt, func(id string) string {
			if known[id] || name == archive.AfterName && strings.HasPrefix(id, mk.plan.OldPrefix) {
				return mk.rename(id)
			}
			return id
		})
		if err := loader.Exec(ctx, string(out)); err != nil {
			return err
		}
	}
	return sc.Err()
}

// allowed refuses what has no place in a release's definitions: an archive may have been changed by anyone.
func allowed(stmt []byte) error {
	head := strings.ToUpper(string(stmt[:min(len(stmt), 64)]))
	for _, ok := range []string{"SET NAMES ", "SET SESSION ", "CREATE TABLE ", "ALTER TABLE ", "CREATE VIEW ", "CREATE ALGORITHM", "CREATE TRIGGER ", "CREATE FUNCTION ", "CREATE PROCEDURE ", "CREATE SQL SECURITY"} {
		if strings.HasPrefix(head, ok) {
			return nil
		}
	}
	return fmt.Errorf("statement %q is refused; only definitions of tables, views, triggers and routines belong there", stmt[:min(len(stmt), 40)])
}

// loadUnit streams rows out of the archive, through the rewriter, into the server.
func (mk *maker) loadUnit(ctx context.Context, loader sitedb.Loader, u rowsUnit, sums *tableSums) (int64, error) {
	r := mk.req.Archive.Joined(u.entries)
	defer r.Close()
	sc := sqltext.NewScanner(r, archive.MaxStatementBytes)
	if !sc.Scan() {
		return 0, sc.Err()
	}
	first, err := sqltext.ParseInsert(sc.Statement())
	if err != nil {
		return 0, fmt.Errorf("%s: %w", u.entries[0], err)
	}
	if first.Table != u.table.Name || len(first.Columns) == 0 {
		return 0, fmt.Errorf("%s: %w: rows of %q where %q should be", u.entries[0], archive.ErrDamaged, first.Table, u.table.Name)
	}
	pr, pw := io.Pipe()
	rows := &rowFeeder{mk: mk, worker: mk.rewriter.Worker(), out: bufio.NewWriterSize(pw, 256<<10), unit: u, columns: first.Columns}
	rows.worker.Where = u.table.Name
	rows.prefixed = mk.prefixedColumns(u.table.Name, first.Columns)
	rows.summed = make([]bool, len(first.Columns))
	for i, c := range first.Columns {
		rows.summed[i] = slices.Contains(sums.columns, c)
	}
	rows.sums = make([]uint64, len(first.Columns))
	defer mk.merge(rows.worker)
	done := make(chan struct{})
	go func() {
		defer close(done)
		pw.CloseWithError(rows.feed(sc))
	}()
	n, err := loader.Load(ctx, mk.rename(u.table.Name), first.Columns, u.table.Wide, pr)
	pr.CloseWithError(err)
	<-done
	sums.add(first.Columns, rows.sums)
	return n, err
}

// prefixedColumns returns, by index, the names that follow the table prefix in a column.
func (mk *maker) prefixedColumns(table string, columns []string) map[int][]string {
	if mk.plan.Prefix == mk.plan.OldPrefix {
		return nil
	}
	out := map[int][]string{}
	for _, p := range mk.req.Kind.Prefixed {
		if i := slices.Index(columns, p.Column); i >= 0 && mk.plan.OldPrefix+p.Table == table {
			out[i] = p.Values
		}
	}
	return out
}

// rowFeeder turns INSERT statements into the fields that bulk loading reads.
type rowFeeder struct {
	mk       *maker
	worker   *rewrite.Worker
	out      *bufio.Writer
	unit     rowsUnit
	columns  []string
	prefixed map[int][]string
	summed   []bool   // by column: its texts are summed
	sums     []uint64 // of CRC-32
	line     []byte
	plain    []byte
	fresh    []byte
}

// feed begins with the statement that the scanner stands on.
func (f *rowFeeder) feed(sc *sqltext.Scanner) error {
	var row []sqltext.Literal
	for more := true; more; more = sc.Scan() {
		ins, err := sqltext.ParseInsert(sc.Statement())
		if err != nil {
			return err
		}
		if !slices.Equal(ins.Columns, f.columns) {
			return fmt.Errorf("%s: %w: the columns change between statements", f.unit.entries[0], archive.ErrDamaged)
		}
		f.worker.Begin(ins.Rows)
		var n int64
		for ; ins.Next(&row); n++ {
			if len(row) != len(f.columns) {
				return fmt.Errorf("%s: %w: a row has %d values for %d columns", f.unit.entries[0], archive.ErrDamaged, len(row), len(f.columns))
			}
			if err := f.row(row); err != nil {
				return err
			}
		}
		if ins.Err() != nil {
			return ins.Err()
		}
		f.mk.report.Add(progress.Amount{Rows: n, Bytes: int64(len(sc.Statement()))})
	}
	if sc.Err() != nil {
		return sc.Err()
	}
	return f.out.Flush()
}

func (f *rowFeeder) row(row []sqltext.Literal) (err error) {
	line := f.line[:0]
	for i, lit := range row {
		if i > 0 {
			line = append(line, '\t')
		}
		body, quoted := lit.Quoted()
		if names, prefixed := f.prefixed[i]; quoted && prefixed {
			f.plain = sqltext.AppendUnescaped(f.plain[:0], body)
			f.fresh = f.mk.reprefix(f.worker.Value(f.fresh[:0], f.plain), names)
			line = sitedb.AppendField(line, f.fresh)
			f.sum(i, f.fresh)
			continue
		}
		if quoted && f.worker.Touches(body) {
			if out, changed := f.worker.Literal(append(f.fresh[:0], '\''), body); changed {
				f.fresh = append(out, '\'')
				lit = f.fresh
			}
		}
		if line, err = f.literal(line, i, lit); err != nil {
			return err
		}
	}
	f.line = append(line, '\n')
	_, err = f.out.Write(f.line)
	return err
}

// literal appends a literal as a field, and sums its value.
func (f *rowFeeder) literal(line []byte, column int, lit sqltext.Literal) (_ []byte, err error) {
	if f.summed[column] && !lit.IsNull() {
		if body, quoted := lit.Quoted(); quoted && bytes.IndexByte(body, '\\') < 0 && bytes.IndexByte(body, '\'') < 0 {
			f.sum(column, body)
		} else if f.plain, err = lit.AppendValue(f.plain[:0]); err != nil {
			return line, err
		} else {
			f.sum(column, f.plain)
		}
	}
	return sitedb.AppendLiteralField(line, lit)
}

func (f *rowFeeder) sum(column int, value []byte) {
	if f.summed[column] {
		f.sums[column] += uint64(crc32.ChecksumIEEE(value))
	}
}

// reprefix changes a value that is the old table prefix and one of the names.
func (mk *maker) reprefix(value []byte, names []string) []byte {
	bare, own := strings.CutPrefix(string(value), mk.plan.OldPrefix)
	if own && slices.ContainsFunc(names, func(n string) bool { return packing.Wild(n, bare) }) {
		return []byte(mk.plan.Prefix + bare)
	}
	return value
}
