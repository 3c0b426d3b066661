package build

import (
	"bytes"
	"context"
	"fmt"
	"hash/crc32"
	"slices"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/buffers"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// Rows are cut into pieces, each an entry with one INSERT. Where a piece ends is decided by the rows themselves and not
// by how many came before, so that after a change the pieces that follow are soon the same again: a release shares
// them with the one before. Small pieces are also summed many at a time, and packed and loaded side by side.
const (
	leastPiece = 256 << 10
	meanBeyond = 384 << 10 // how far beyond the least a piece goes, on average
	mostPiece  = 1 << 20   // unless a single row is longer
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// endsPiece reports whether a piece that has its least length ends with this row: by chance, the greater the longer the
// row is, and always the same for the same row.
func endsPiece(row []byte) bool {
	return uint64(crc32.Checksum(row, castagnoli)) < uint64(len(row))<<32/meanBeyond
}

// database adds schema, rows and what comes after them.
func (b *builder) database(ctx context.Context) error {
	if b.snapshot == nil {
		return nil
	}
	var schema, after bytes.Buffer
	b.dialect = sqltext.DialectOf(b.m.Database.Engine)
	fmt.Fprintf(&schema, "-- %s: tables of %s, without rows\n%s\n", b.m.Ref(), b.m.Source, b.dialect.Head())
	programs, err := b.programs(ctx)
	if err != nil {
		return err
	}
	first, later := sqltext.Apart(programs)
	schema.WriteString(b.dialect.Script(first))
	for i := range b.tables {
		t := &b.tables[i]
		if t.View {
			continue
		}
		d, err := b.snapshot.Definition(ctx, t)
		if err != nil {
			return err
		}
		if b.match.Empties(t.Name) {
			d.ResetCounter()
		}
		for _, n := range d.Notes {
			b.note("%s", n)
		}
		schema.WriteString(d.Text(nil) + ";\n\n")
		for _, c := range d.Constraints {
			after.WriteString(c.Text(nil) + ";\n")
		}
	}
	if err := b.text(b.w.Database, archive.SchemaName, schema.String()); err != nil {
		return err
	}
	if err := b.scanRows(ctx); err != nil {
		return err
	}
	for i := range b.tables {
		if !b.tables[i].View {
			if err := b.rows(ctx, &b.tables[i]); err != nil {
				return err
			}
		}
	}
	after.WriteString(b.dialect.Tail() + b.dialect.Script(later))
	return b.text(b.w.Database, archive.AfterName, after.String())
}

// programs reads what is neither a table nor rows, and notes what is left out of it.
func (b *builder) programs(ctx context.Context) ([]*sqltext.Program, error) {
	programs, left, err := b.snapshot.Programs(ctx, b.tables)
	for _, l := range left {
		b.note("%s is left out: %s", l.What, l.Reason)
		b.mu.Lock()
		if len(b.m.Without) < mostWithout {
			b.m.Without = append(b.m.Without, fmt.Sprintf("%.80s: %.200s", l.What, l.Reason))
		}
		b.mu.Unlock()
	}
	return programs, err
}

// rows adds a table's rows as INSERT statements, in entries of bounded size.
func (b *builder) rows(ctx context.Context, t *sitedb.Table) error {
	total := archive.TableTotal{Name: t.Name, UTF8Only: utf8Only(t)}
	defer func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.m.Tables = append(b.m.Tables, total)
		b.m.Totals.Tables++
		b.m.Totals.Rows += total.Rows
		b.m.Totals.SQLByte += total.Bytes
		b.addArea("database", 0, total.Bytes)
	}()
	if b.match.Empties(t.Name) {
		if t.Rows > 0 {
			b.blank("rows of table "+t.Name, t.Rows)
		}
		return nil
	}
	w := &rowWriter{b: b, t: t, total: &total, editor: b.match.Editor(t, b.dropped), weight: newWeight(t)}
	w.head = "INSERT INTO " + b.dialect.Quote(t.Name) + " ("
	for i, name := range t.Stored() {
		w.head += []string{"", ","}[min(i, 1)] + b.dialect.Quote(name)
	}
	w.head += ") VALUES\n"
	for _, c := range t.Columns {
		if !c.Generated {
			w.numeric = append(w.numeric, c.Numeric)
			w.binary = append(w.binary, c.Binary)
			w.names = append(w.names, c.Name)
		}
	}
	w.sumOwn()
	if err := b.snapshot.Rows(ctx, t, w.row); err != nil {
		return err
	}
	if err := w.close(); err != nil {
		return err
	}
	if err := w.sums(ctx); err != nil {
		return err
	}
	if w.editor != nil {
		for what, n := range w.editor.Blanked {
			b.blank(what, n)
		}
		for what, err := range w.editor.Missed {
			b.note("value %s could not be blanked: %v", what, err)
		}
		if w.editor.Dropped > 0 {
			b.mu.Lock()
			b.leftOut["rows of "+t.Name] = &archive.LeftOut{Rule: "rows of " + t.Name, Rows: w.editor.Dropped}
			b.mu.Unlock()
		}
	}
	return nil
}

// utf8Only reports whether every text column is UTF-8 (or bytes), so that its rows need no conversion.
func utf8Only(t *sitedb.Table) bool {
	return !slices.ContainsFunc(t.Columns, func(c sitedb.Column) bool { return !c.UTF8() })
}

// rowWriter turns rows into statements and statements into entries.
type rowWriter struct {
	b       *builder
	t       *sitedb.Table
	total   *archive.TableTotal
	editor  *packing.RowEditor
	head    string
	numeric []bool
	binary  []bool
	names   []string
	stmt    []byte
	inStmt  int64
	weight  weight
	own     map[int]uint64 // sums of what was read, by place of the column
}

// sumOwn says of which columns the values that are packed are summed: where rows are left out or changed, nobody else could. Numbers
// are not among them, as servers may write zeros before them.
func (w *rowWriter) sumOwn() {
	if w.editor == nil || w.b.in.Elsewhere {
		return
	}
	w.own = map[int]uint64{}
	stored := 0
	for _, c := range w.t.Columns {
		if c.Generated {
			continue
		}
		if c.Timely() {
			w.own[stored] = 0
		}
		stored++
	}
}

// sums notes the sums of the table's plain columns: as the source's server adds them up, by which reading is tested too, or, where
// the packing list changes the table, of what was packed.
func (w *rowWriter) sums(ctx context.Context) error {
	out := map[string]uint64{}
	for i, sum := range w.own {
		out[w.names[i]] = sum
	}
	if w.editor == nil && w.total.Rows > 0 {
		var plain []sitedb.Column
		for _, c := range w.t.Columns {
			if c.Plain() {
				plain = append(plain, c)
			}
		}
		sums, err := w.b.snapshot.PlainSums(ctx, w.t.Name, plain)
		if err != nil {
			return err
		}
		for i := range sums {
			out[plain[i].Name] = sums[i]
		}
	}
	if len(out) > 0 {
		w.total.Sums = out
	}
	return nil
}

// weight says how much of the expected bytes a row stands for. What the server says of a table's size and rows
// is an estimate; with it a table that is done has counted for exactly what was expected of it.
type weight struct {
	bytes, rows, done int64
	seen              int64
}

func newWeight(t *sitedb.Table) weight { return weight{bytes: t.DataBytes, rows: max(1, t.Rows)} }

// of returns the bytes that so many more rows stand for.
func (w *weight) of(rows int64) int64 {
	w.seen += rows
	at := min(w.bytes, w.bytes*min(w.seen, w.rows)/w.rows)
	n := at - w.done
	w.done = at
	return n
}

func (w *weight) rest() int64 { return w.bytes - w.done }

// scanRows finds the rows that stay out with what they belong to.
func (b *builder) scanRows(ctx context.Context) error {
	for _, scan := range b.match.Scans(b.tables, b.dropped) {
		i := slices.IndexFunc(b.tables, func(t sitedb.Table) bool { return t.Name == b.m.Origin.Prefix+scan.Table })
		few := b.tables[i]
		few.Columns = nil
		for _, c := range b.tables[i].Columns {
			if slices.Contains(scan.Columns, c.Name) {
				few.Columns = append(few.Columns, c)
			}
		}
		for again := true; again; {
			again = false
			err := b.snapshot.Rows(ctx, &few, func(row [][]byte) error {
				again = scan.Row(row) && scan.Again || again
				return nil
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *rowWriter) row(row [][]byte) error {
	if w.editor != nil && !w.editor.Edit(row) {
		return nil
	}
	at := w.add(row)
	name, found := w.b.holdsSecret(w.stmt[at:])
	for i := 0; i < len(row) && !found; i++ {
		if w.binary[i] { // which stands there in figures
			name, found = w.b.holdsSecret(row[i])
		}
	}
	if found {
		w.blankSecret(row, name)
		w.stmt = w.stmt[:at]
		w.appendRow(row)
	}
	if len(w.stmt) > mostPiece-2 && w.inStmt > 0 {
		// The row begins the next piece.
		w.stmt = w.stmt[:at-len(between)]
		if err := w.flush(); err != nil {
			return err
		}
		at = w.add(row)
	}
	w.inStmt++
	for i := range w.own {
		if row[i] != nil {
			w.own[i] += uint64(crc32.ChecksumIEEE(row[i]))
		}
	}
	if len(w.stmt) >= leastPiece && endsPiece(w.stmt[at:]) {
		return w.flush()
	}
	return nil
}

const between = ",\n"

// add puts a row into the piece and returns where it begins.
func (w *rowWriter) add(row [][]byte) int {
	if w.inStmt == 0 {
		w.stmt = append(buffers.Take(mostPiece)[:0], w.head...)
	} else {
		w.stmt = append(w.stmt, between...)
	}
	at := len(w.stmt)
	w.appendRow(row)
	return at
}

func (w *rowWriter) appendRow(row [][]byte) {
	dst := append(w.stmt, '(')
	for i, cell := range row {
		if i > 0 {
			dst = append(dst, ',')
		}
		switch {
		case cell == nil:
			dst = append(dst, "NULL"...)
		case w.numeric[i] && sqltext.IsNumber(cell):
			dst = append(dst, cell...)
		case w.binary[i]:
			dst = w.b.dialect.AppendBinary(dst, cell)
		default:
			dst = w.b.dialect.AppendText(dst, cell)
		}
	}
	w.stmt = append(dst, ')')
}

// blankSecret empties the cells of a row that hold a secret of the settings file.
func (w *rowWriter) blankSecret(row [][]byte, name string) {
	for i, cell := range row {
		if _, found := w.b.holdsSecret(cell); found {
			row[i] = []byte{}
			w.b.blank(fmt.Sprintf("value in %s.%s that held the source's %s", w.t.Name, w.names[i], name), 1)
		}
	}
}

// flush adds the piece to the archive.
func (w *rowWriter) flush() error {
	if w.inStmt == 0 {
		return nil
	}
	raw := append(w.stmt, ";\n"...)
	h := archive.Header(archive.RowsName(w.t.Name, w.total.Entries), 0o644, w.b.m.Made)
	w.total.Entries++
	w.total.Bytes += int64(len(raw))
	w.total.Rows += w.inStmt
	w.b.report.Add(progress.Amount{Rows: w.inStmt, Bytes: w.weight.of(w.inStmt)})
	w.stmt, w.inStmt = nil, 0
	return w.b.w.Database.Piece(h, raw, w.b.reuse, w.b.countCopiedRows)
}

func (w *rowWriter) close() error {
	defer func() { w.b.report.Add(progress.Amount{Bytes: w.weight.rest()}) }()
	return w.flush()
}
