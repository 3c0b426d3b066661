package provision

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/phpval"
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
	defs, err := mk.definitions()
	if err != nil {
		return err
	}
	if err := mk.createTables(ctx, defs); err != nil {
		return err
	}
	tables := slices.Clone(mk.req.Archive.Manifest.Tables)
	slices.SortStableFunc(tables, func(a, b archive.TableTotal) int { return int(b.Bytes - a.Bytes) })
	sums, err := mk.newTableSums(ctx, tables, defs.Tables)
	if err != nil {
		return err
	}
	units := make(chan rowsUnit)
	group, gctx := parallel.WithContext(ctx)
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
	return mk.finishTables(ctx, defs)
}

// rename gives a table, view, trigger or constraint its name on the new site.
func (mk *maker) rename(name string) string {
	if bare, own := strings.CutPrefix(name, mk.plan.OldPrefix); own {
		return mk.plan.Prefix + bare
	}
	return name
}

// definitions are the release's, read from the archive and parsed to their last token, with the strings in them rewritten.
func (mk *maker) definitions() (*sqltext.Definitions, error) {
	d, err := mk.req.Archive.Definitions()
	if err != nil {
		return nil, err
	}
	made := map[string]bool{}
	for _, t := range d.Tables {
		made[t.Table] = true
	}
	for _, t := range mk.req.Archive.Manifest.Tables {
		if !made[t.Name] {
			return nil, fmt.Errorf("%w: the release names the table %s and does not define it", archive.ErrDamaged, t.Name)
		}
	}
	w := mk.rewriter.Worker()
	rewrite := func(s string) string { return string(w.Value(nil, []byte(s))) }
	for _, t := range d.Tables {
		t.MapStrings(rewrite)
	}
	for _, g := range d.Programs {
		g.MapStrings(rewrite)
	}
	return d, nil
}

// createTables makes the tables under their names on the new site.
func (mk *maker) createTables(ctx context.Context, d *sqltext.Definitions) error {
	loader, err := mk.db.Loader(ctx)
	if err != nil {
		return err
	}
	defer loader.Close()
	first, _ := sqltext.Apart(sqltext.SortPrograms(d.Programs))
	if err := createPrograms(ctx, loader, first, mk.rename); err != nil {
		return err
	}
	for _, t := range d.Tables {
		if err := loader.CreateTable(ctx, t, mk.rename); err != nil {
			return err
		}
	}
	return nil
}

func createPrograms(ctx context.Context, loader sitedb.Loader, programs []*sqltext.Program, rename sitedb.Rename) error {
	for _, g := range programs {
		if err := loader.CreateProgram(ctx, g, rename); err != nil {
			return fmt.Errorf("%s: %w", g, err)
		}
	}
	return nil
}

// finishTables makes what belongs behind the rows: foreign keys, views, triggers and routines.
func (mk *maker) finishTables(ctx context.Context, d *sqltext.Definitions) error {
	loader, err := mk.db.Loader(ctx)
	if err != nil {
		return err
	}
	defer loader.Close()
	for _, f := range d.Foreign {
		if err := loader.AddForeignKey(ctx, f, mk.rename); err != nil {
			return err
		}
	}
	_, later := sqltext.Apart(sqltext.SortPrograms(d.Programs))
	return createPrograms(ctx, loader, later, mk.rename)
}

// loadUnit sends rows out of the archive, through the rewriter, to the server.
func (mk *maker) loadUnit(ctx context.Context, loader sitedb.Loader, u rowsUnit, sums *tableSums) (int64, error) {
	r := mk.req.Archive.Joined(u.entries)
	defer r.Close()
	rows := &rowFeeder{mk: mk, worker: mk.rewriter.Worker(), sc: mk.req.Archive.Dialect().NewScanner(r, archive.MaxStatementBytes), unit: u,
		dialect: mk.req.Archive.Dialect()}
	rows.worker.Where = u.table.Name
	if err := rows.statement(); err != nil {
		if err == io.EOF {
			return 0, nil
		}
		return 0, err
	}
	if rows.ins.Table != u.table.Name || len(rows.ins.Columns) == 0 {
		return 0, fmt.Errorf("%s: %w: rows of %q where %q should be", u.entries[0], archive.ErrDamaged, rows.ins.Table, u.table.Name)
	}
	rows.begin(sums.columns)
	defer mk.merge(rows.worker)
	into := sitedb.Into{Table: mk.rename(u.table.Name), Columns: rows.columns, UTF8Only: u.table.UTF8Only,
		RowBytes: u.table.Bytes / max(1, u.table.Rows), Lenient: sums.lenient}
	n, err := loader.Load(ctx, into, rows.next)
	sums.add(rows.columns, rows.sums)
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

// rowFeeder turns INSERT statements into rows of values.
type rowFeeder struct {
	mk       *maker
	worker   *rewrite.Worker
	dialect  *sqltext.Dialect
	sc       *sqltext.Scanner
	unit     rowsUnit
	ins      *sqltext.Insert
	read     int64 // rows of the statement
	columns  []string
	prefixed map[int][]string
	summed   []bool   // by column: its texts are summed
	sums     []uint64 // of CRC-32
	row      []sqltext.Literal
	values   [][]byte
	text     []byte // where values of the row lie that do not lie in the statement
	fresh    []byte
}

// statement goes on to the next statement. Errors: io.EOF after the last.
func (f *rowFeeder) statement() (err error) {
	if !f.sc.Scan() {
		return cmp.Or(f.sc.Err(), io.EOF)
	}
	if f.ins, err = f.dialect.ParseInsert(f.sc.Statement()); err != nil {
		return fmt.Errorf("%s: %w", f.unit.entries[0], err)
	}
	if f.columns != nil && !slices.Equal(f.ins.Columns, f.columns) {
		return fmt.Errorf("%s: %w: the columns change between statements", f.unit.entries[0], archive.ErrDamaged)
	}
	f.worker.Begin(f.ins.Rows)
	return nil
}

// begin prepares for the columns of the first statement.
func (f *rowFeeder) begin(summed []string) {
	f.columns = f.ins.Columns
	f.prefixed = f.mk.prefixedColumns(f.unit.table.Name, f.columns)
	f.summed, f.sums, f.values = make([]bool, len(f.columns)), make([]uint64, len(f.columns)), make([][]byte, len(f.columns))
	f.text = make([]byte, 0, 4<<10) // never nil: an empty text is not NULL
	for i, c := range f.columns {
		f.summed[i] = slices.Contains(summed, c)
	}
}

// next returns the next row, as sitedb.Rows.
func (f *rowFeeder) next() ([][]byte, error) {
	for !f.ins.Next(&f.row) {
		if f.ins.Err() != nil {
			return nil, f.ins.Err()
		}
		f.mk.report.Add(progress.Amount{Rows: f.read, Bytes: int64(len(f.sc.Statement()))})
		f.read = 0
		if err := f.statement(); err != nil {
			return nil, err
		}
	}
	f.read++
	if len(f.row) != len(f.columns) {
		return nil, fmt.Errorf("%s: %w: a row has %d values for %d columns", f.unit.entries[0], archive.ErrDamaged, len(f.row), len(f.columns))
	}
	f.text = f.text[:0]
	for i, lit := range f.row {
		var err error
		if f.values[i], err = f.value(i, lit); err != nil {
			return nil, err
		}
		if f.summed[i] && f.values[i] != nil {
			f.sums[i] += uint64(crc32.ChecksumIEEE(f.values[i]))
		}
	}
	return f.values, nil
}

// value returns what a column's literal means on the new site.
func (f *rowFeeder) value(column int, lit sqltext.Literal) ([]byte, error) {
	if lit.IsNull() {
		return nil, nil
	}
	body, quoted := lit.Quoted()
	if names, prefixed := f.prefixed[column]; quoted && prefixed {
		f.fresh = sqltext.AppendUnescaped(f.fresh[:0], body)
		at := len(f.text)
		f.text = append(f.text, f.mk.reprefix(f.worker.Value(nil, f.fresh), names)...)
		return f.text[at:len(f.text):len(f.text)], nil
	}
	if quoted && (!f.ins.InPlace(column) || rewrite.Packs(body) || f.mk.plan.Rules.Mend && phpval.LooksQuoted(body)) {
		at := len(f.text)
		f.text = f.worker.Value(f.text, sqltext.AppendUnescaped(nil, body))
		return f.text[at:len(f.text):len(f.text)], nil
	}
	if quoted && f.worker.Touches(body) {
		if out, changed := f.worker.Literal(append(f.fresh[:0], '\''), body); changed {
			f.fresh = append(out, '\'')
			return f.keep(f.fresh)
		}
	}
	if quoted && bytes.IndexByte(body, '\\') < 0 && bytes.IndexByte(body, '\'') < 0 {
		return body, nil
	}
	kept, err := f.keep(lit)
	if err != nil || quoted || !rewrite.Packs(kept) {
		return kept, err
	}
	at := len(f.text) // of bytes that are written as hexadecimal digits
	f.text = f.worker.Value(f.text, kept)
	return f.text[at:len(f.text):len(f.text)], nil
}

// keep takes a literal apart, into the text of the row.
func (f *rowFeeder) keep(lit sqltext.Literal) (_ []byte, err error) {
	at := len(f.text)
	f.text, err = lit.AppendValue(f.text)
	return f.text[at:len(f.text):len(f.text)], err
}

// reprefix changes a value that is the old table prefix and one of the names.
func (mk *maker) reprefix(value []byte, names []string) []byte {
	bare, own := strings.CutPrefix(string(value), mk.plan.OldPrefix)
	if own && slices.ContainsFunc(names, func(n string) bool { return packing.Wild(n, bare) }) {
		return []byte(mk.plan.Prefix + bare)
	}
	return value
}
