package provision

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"

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
	units := make(chan rowsUnit)
	loaded := make([]atomic.Int64, len(tables))
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		defer close(units)
		for _, t := range tables {
			for _, u := range unitsOf(mk.req.Archive, t) {
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
				n, err := mk.loadUnit(gctx, loader, u)
				if err != nil {
					return err
				}
				loaded[slices.IndexFunc(tables, func(t archive.TableTotal) bool { return t.Name == u.table.Name })].Add(n)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for i, t := range tables {
		if n := loaded[i].Load(); n != t.Rows {
			return fmt.Errorf("table %s took %d rows of %d; the archive may be damaged: run nestseed release verify %s", t.Name, n, t.Rows, mk.plan.Release)
		}
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
func (mk *maker) loadUnit(ctx context.Context, loader sitedb.Loader, u rowsUnit) (int64, error) {
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
	defer mk.merge(rows.worker)
	done := make(chan struct{})
	go func() {
		defer close(done)
		pw.CloseWithError(rows.feed(sc))
	}()
	n, err := loader.Load(ctx, mk.rename(u.table.Name), first.Columns, u.table.Wide, pr)
	pr.CloseWithError(err)
	<-done
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
		dirty := f.mk.rewriter.Has(ins.Rows)
		var n int64
		for ; ins.Next(&row); n++ {
			if len(row) != len(f.columns) {
				return fmt.Errorf("%s: %w: a row has %d values for %d columns", f.unit.entries[0], archive.ErrDamaged, len(row), len(f.columns))
			}
			if err := f.row(row, dirty); err != nil {
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

func (f *rowFeeder) row(row []sqltext.Literal, dirty bool) (err error) {
	line := f.line[:0]
	for i, lit := range row {
		if i > 0 {
			line = append(line, '\t')
		}
		names, prefixed := f.prefixed[i]
		body, quoted := lit.Quoted()
		if !quoted || !prefixed && !(dirty && f.mk.rewriter.Has(body)) {
			if line, err = sitedb.AppendLiteralField(line, lit); err != nil {
				return err
			}
			continue
		}
		if !prefixed {
			if out, ok := f.worker.Escaped(append(f.fresh[:0], '\''), body); ok {
				f.fresh = append(out, '\'')
				if line, err = sitedb.AppendLiteralField(line, f.fresh); err != nil {
					return err
				}
				continue
			}
		}
		f.plain = sqltext.AppendUnescaped(f.plain[:0], body)
		f.fresh = f.worker.Value(f.fresh[:0], f.plain)
		if prefixed {
			f.fresh = f.mk.reprefix(f.fresh, names)
		}
		line = sitedb.AppendField(line, f.fresh)
	}
	f.line = append(line, '\n')
	_, err = f.out.Write(f.line)
	return err
}

// reprefix changes a value that is the old table prefix and one of the names.
func (mk *maker) reprefix(value []byte, names []string) []byte {
	bare, own := strings.CutPrefix(string(value), mk.plan.OldPrefix)
	if own && slices.ContainsFunc(names, func(n string) bool { return packing.Wild(n, bare) }) {
		return []byte(mk.plan.Prefix + bare)
	}
	return value
}
