package sitedb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"

	"nestseed/internal/core/sqltext"
)

// ErrRefused says that a script from outside holds what is not taken over; the sentence says what and where.
var ErrRefused = errors.New("refused")

// Dump is a database that is there as an SQL script only: what the dump programs of MariaDB, MySQL and PostgreSQL write.
// The script is never run. Its tables are parsed and written again from what was parsed, its rows are read as literals; what is
// neither and not known to be harmless is refused.
type Dump struct {
	r        io.ReaderAt
	size     int64
	tables   map[string]*dumpTable
	names    []string
	objects  []string
	programs []*sqltext.Program // that are taken over
	version  Version
	notes    []string
	lookup   map[string]map[string]string
	pg       bool // it is of PostgreSQL
}

type dumpTable struct {
	def    *sqltext.Definition
	ranges []rowRange
	rows   int64
	bytes  int64
}

// rowRange is where in the script the rows of one INSERT are.
type rowRange struct {
	from, to  int64
	delimiter string
	columns   []string
	charset   string
}

// OpenDump reads through a script once and remembers where the rows are. seen, unless nil, is told how many
// bytes were read. Errors: ErrRefused; sqltext.ErrSyntax.
func OpenDump(ctx context.Context, r io.ReaderAt, sizeBytes int64, seen func(n int64)) (*Dump, error) {
	d := &Dump{r: r, size: sizeBytes, tables: map[string]*dumpTable{}, version: Version{Engine: "MariaDB", Number: "unknown",
		Charset: "utf8mb4"}, lookup: map[string]map[string]string{}}
	p := &dumpReader{d: d, charset: "utf8mb4", names: "utf8mb4",
		s: sqltext.NewScript(&countingReader{ctx, io.NewSectionReader(r, 0, sizeBytes), seen})}
	postgres, err := p.head()
	if err == nil && postgres {
		err = d.readPostgres(ctx, seen)
	}
	if err != nil {
		return nil, err
	}
	if postgres {
		return d, d.finish()
	}
	for p.s.Next() {
		at := p.s.Offset()
		var err error
		if ins := p.s.Insertion(); ins != nil {
			err = p.rows(ins)
		} else {
			err = p.statement(p.s.Statement())
		}
		if err != nil {
			return nil, fmt.Errorf("the dump, before byte %d: %w", at, err)
		}
	}
	if err := p.s.Err(); err != nil {
		return nil, fmt.Errorf("the dump: %w", err)
	}
	return d, d.finish()
}

// finish sorts what was found.
func (d *Dump) finish() error {
	if len(d.tables) == 0 {
		return fmt.Errorf("%w: the dump holds no tables", ErrRefused)
	}
	for name := range d.tables {
		d.names = append(d.names, name)
	}
	slices.Sort(d.names)
	if len(d.objects) > 0 {
		d.note("views, triggers, routines and events of the dump are programs and were not taken over: %s",
			strings.Join(d.objects[:min(len(d.objects), 8)], ", "))
	}
	return nil
}

// countingReader ends with its context and tells how much was read.
type countingReader struct {
	ctx  context.Context
	r    io.Reader
	seen func(int64)
}

func (c *countingReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := c.r.Read(p)
	if c.seen != nil && n > 0 {
		c.seen(int64(n))
	}
	return n, err
}

func (d *Dump) note(format string, args ...any) {
	if sentence := fmt.Sprintf(format, args...); !slices.Contains(d.notes, sentence) {
		d.notes = append(d.notes, sentence)
	}
}

// Notes returns what was left away or changed, as sentences.
func (d *Dump) Notes() []string { return d.notes }

// dumpReader reads a script statement by statement.
type dumpReader struct {
	d       *Dump
	s       *sqltext.Script
	charset string
	names   string // of the last SET NAMES
	inside  string // the database that was chosen with USE
}

// head reads what dump programs say of the server in their first lines.
// It reports whether it was PostgreSQL's.
func (p *dumpReader) head() (postgres bool, err error) {
	buf := make([]byte, min(4096, p.d.size))
	if _, err := p.d.r.ReadAt(buf, 0); err != nil && !errors.Is(err, io.EOF) {
		return false, fmt.Errorf("read the dump: %w", err)
	}
	text := string(buf)
	if strings.HasPrefix(text, pgCustom) {
		return false, fmt.Errorf("%w: %w", ErrRefused, errCustom)
	}
	for _, mark := range []string{"Server version", "Server-Version:", "Server version:", "Serverversion:"} {
		_, after, found := strings.Cut(text, mark)
		if !found {
			continue
		}
		line, _, _ := strings.Cut(strings.TrimLeft(after, "\t :"), "\n")
		if strings.Contains(line, "MariaDB") {
			p.d.version.Engine = "MariaDB"
		} else {
			p.d.version.Engine = "MySQL"
		}
		end := strings.IndexFunc(line, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
		if end < 0 {
			end = len(line)
		}
		if end > 0 {
			p.d.version.Number = line[:end]
		}
		break
	}
	return strings.Contains(text, pgHead), nil
}

func (p *dumpReader) rows(ins *sqltext.Insertion) error {
	t := p.d.tables[ins.Table]
	if t == nil {
		return fmt.Errorf("%w: rows of table %s, which the dump does not make", ErrRefused, ins.Table)
	}
	r := rowRange{from: p.s.Offset(), delimiter: p.s.Delimiter(), columns: ins.Columns, charset: p.charset}
	t.rows += p.s.Skip()
	r.to = p.s.Offset()
	t.bytes += r.to - r.from
	t.ranges = append(t.ranges, r)
	return nil
}

// harmlessStatements are passed over: they matter to a server that loads the script, and change nothing here.
var harmlessStatements = []string{"LOCK TABLES", "UNLOCK TABLES", "START TRANSACTION", "BEGIN", "COMMIT", "DROP VIEW", "DROP TRIGGER",
	"DROP PROCEDURE", "DROP FUNCTION", "DROP EVENT", "ANALYZE TABLE", "FLUSH TABLES"}

func (p *dumpReader) statement(stmt []byte) error {
	text := string(stmt[:min(len(stmt), 512)])
	upper := strings.ToUpper(strings.Join(strings.Fields(text), " "))
	starts := func(words string) bool {
		return strings.HasPrefix(upper, words) && (len(upper) == len(words) || !isWord(upper[len(words)]))
	}
	switch {
	case upper == "":
		return nil
	case starts("CREATE TABLE"), starts("CREATE TEMPORARY TABLE"):
		return p.createTable(stmt)
	case starts("DROP TABLE"), starts("DROP TEMPORARY TABLE"):
		return p.dropTable(stmt)
	case starts("ALTER TABLE"):
		return p.alterTable(stmt)
	case starts("CREATE INDEX"), starts("CREATE UNIQUE INDEX"), starts("CREATE FULLTEXT INDEX"):
		return p.createIndex(stmt)
	case starts("USE"), starts("CREATE DATABASE"), starts("CREATE SCHEMA"), starts("DROP DATABASE"), starts("DROP SCHEMA"),
		starts("ALTER DATABASE"):
		return p.aboutDatabase(stmt, upper)
	case starts("SET"):
		return p.set(stmt)
	case starts("DELETE FROM"):
		return fmt.Errorf("%w: %.60q", ErrRefused, text)
	case slices.ContainsFunc(harmlessStatements, starts):
		return nil
	}
	if strings.HasPrefix(upper, "CREATE ") || strings.HasPrefix(upper, "ALTER ") {
		head := upper[:min(len(upper), 300)]
		for _, sort := range []string{" VIEW ", " TRIGGER ", " FUNCTION ", " PROCEDURE ", " EVENT ", " SEQUENCE ", " PACKAGE "} {
			if i := strings.Index(head, sort); i > 0 && !strings.Contains(head[:i], "USER") {
				name, _, _ := strings.Cut(strings.TrimSpace(head[i+len(sort):]), " ")
				p.d.objects = append(p.d.objects, strings.ToLower(strings.TrimSpace(sort))+" "+strings.ToLower(strings.Trim(name, "`(")))
				return nil
			}
		}
	}
	return fmt.Errorf("%w: the statement %.60q; tables and rows are taken over, nothing is run", ErrRefused, text)
}

func isWord(c byte) bool { return c >= 'A' && c <= 'Z' || c == '_' || c >= '0' && c <= '9' }

func (p *dumpReader) createTable(stmt []byte) error {
	def, err := sqltext.ParseDefinition(stmt)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if old := p.d.tables[def.Table]; old != nil && old.rows > 0 {
		return fmt.Errorf("%w: the dump makes table %s twice", ErrRefused, def.Table)
	}
	for _, n := range def.Notes {
		p.d.note("%s", n)
	}
	p.d.tables[def.Table] = &dumpTable{def: def}
	return nil
}

// dropTable forgets tables: dump programs put a table in the place of a view first, and take it away again.
func (p *dumpReader) dropTable(stmt []byte) error {
	_, names, err := sqltext.ParseDrop(stmt)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	for _, name := range names {
		delete(p.d.tables, name)
	}
	return nil
}

// aboutDatabase reads a statement that makes, drops, changes or chooses a database. A dump may do so with the one database
// that it is of; none of it is ever done.
func (p *dumpReader) aboutDatabase(stmt []byte, upper string) error {
	fields := strings.Fields(upper)
	rest := string(stmt)
	for _, w := range []string{fields[0], "DATABASE", "SCHEMA", "IF", "NOT", "EXISTS"} {
		if t := strings.TrimSpace(rest); len(t) > len(w) && strings.EqualFold(t[:len(w)], w) && !isWord(strings.ToUpper(t)[len(w)]) {
			rest = t[len(w):]
		}
	}
	name := strings.TrimSpace(rest)
	if cut := strings.IndexAny(name, " \t\r\n;"); cut > 0 && name[0] != '`' {
		name = name[:cut]
	} else if len(name) > 0 && name[0] == '`' {
		if end := strings.IndexByte(name[1:], '`'); end > 0 {
			name = name[1 : end+1]
		}
	}
	if name = strings.ToLower(strings.Trim(name, "`")); name == "" {
		return fmt.Errorf("%w: %.60q", ErrRefused, stmt)
	}
	if slices.Contains(systemDatabases, name) {
		return fmt.Errorf("%w: %.60q is about a database of the server's own", ErrRefused, stmt)
	}
	if p.inside != "" && p.inside != name {
		return fmt.Errorf("%w: the dump is about more than one database (%s and %s); dump the site's alone", ErrRefused, p.inside, name)
	}
	p.inside = name
	return nil
}

var systemDatabases = []string{"mysql", "information_schema", "performance_schema", "sys"}

func (p *dumpReader) alterTable(stmt []byte) error {
	name, clauses, err := sqltext.AlterTable(stmt)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return p.alter(stmt, name, clauses)
}

func (p *dumpReader) createIndex(stmt []byte) error {
	name, clause, err := sqltext.CreateIndex(stmt)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return p.alter(stmt, name, clause)
}

// alter changes the definition of a table that the dump has made.
func (p *dumpReader) alter(stmt []byte, name string, clauses []byte) error {
	t := p.d.tables[name]
	if t == nil {
		return fmt.Errorf("%w: %.60q is about table %q, which the dump does not make", ErrRefused, stmt[:min(60, len(stmt))], name)
	}
	if err := t.def.Alter(clauses); err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return nil
}

// set understands the settings that change how the rest of the script is read, and passes over those of a session.
func (p *dumpReader) set(stmt []byte) error {
	settings, err := sqltext.ParseSettings(stmt)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	for _, s := range settings {
		switch {
		case s.Global && s.Name != "gtid_purged", slices.Contains([]string{"password", "role", "default"}, s.Name):
			return fmt.Errorf("%w: the statement %.60q", ErrRefused, stmt)
		case s.Name == "names", s.Name == "character set", s.Name == "character_set_client":
			if err := p.setCharset(s); err != nil {
				return err
			}
		case strings.Contains(strings.ToUpper(s.Value), "NO_BACKSLASH_ESCAPES"):
			return fmt.Errorf("%w: the dump was written with NO_BACKSLASH_ESCAPES; dump again without that mode", ErrRefused)
		}
	}
	return nil
}

func (p *dumpReader) setCharset(s sqltext.Setting) error {
	set := strings.ToLower(s.Value)
	if strings.HasPrefix(set, "@") || set == "default" {
		p.charset = p.names // put back to what it was before
		return nil
	}
	if _, err := decoderOf(set); err != nil {
		return err
	}
	if p.charset = set; s.Name == "names" {
		p.names = set
	}
	return nil
}

// decoderOf returns what turns a character set of the server into UTF-8, or nil where bytes stay as they are.
func decoderOf(set string) (*encoding.Decoder, error) {
	switch set {
	case "", "utf8", "utf8mb3", "utf8mb4", "binary", "ascii":
		return nil, nil
	}
	if e := encodings[set]; e != nil {
		return e.NewDecoder(), nil
	}
	return nil, fmt.Errorf("%w: the character set %s is not understood in a dump; dump again with --default-character-set=utf8mb4",
		ErrRefused, set)
}

// encodings are the character sets of MariaDB and MySQL in which a quote or backslash is always that character.
// What the servers call latin1 is Windows-1252 (MariaDB manual, "Supported Character Sets and Collations").
var encodings = map[string]encoding.Encoding{
	"latin1": charmap.Windows1252, "latin2": charmap.ISO8859_2, "latin5": charmap.ISO8859_9, "latin7": charmap.ISO8859_13,
	"greek": charmap.ISO8859_7, "hebrew": charmap.ISO8859_8,
	"cp1250": charmap.Windows1250, "cp1251": charmap.Windows1251, "cp1256": charmap.Windows1256, "cp1257": charmap.Windows1257,
	"cp850": charmap.CodePage850, "cp852": charmap.CodePage852,
	"cp866": charmap.CodePage866, "koi8r": charmap.KOI8R, "koi8u": charmap.KOI8U, "macroman": charmap.Macintosh, "ujis": japanese.EUCJP,
	"eucjpms": japanese.EUCJP, "euckr": korean.EUCKR,
}

// Close implements Reader.
func (d *Dump) Close() error { return nil }

// Version implements Reader: it is that of the server the dump was written by, as far as it says so.
func (d *Dump) Version(context.Context) (Version, error) { return d.version, nil }

// Tables implements Reader.
func (d *Dump) Tables(context.Context) ([]Table, error) {
	var out []Table
	for _, name := range d.names {
		t := d.tables[name]
		table := Table{Name: name, Rows: t.rows, DataBytes: t.bytes, Engine: t.def.Engine, Collation: t.def.Charset, PrimaryKey: t.def.PrimaryKey}
		for _, c := range t.def.Columns {
			column := Column{Name: c.Name, Type: c.Type, Charset: c.Charset, Numeric: c.Numeric(), Generated: c.Generated}
			if d.pg {
				column.Binary = c.Type == "bytea"
				column.Numeric = column.Whole() || slices.Contains([]string{"decimal", "float", "double"}, c.Type)
			}
			table.Columns = append(table.Columns, column)
		}
		out = append(out, table)
	}
	return out, nil
}

// Lookup implements Reader. The first look at a table reads it whole and remembers its short values.
func (d *Dump) Lookup(ctx context.Context, table, keyColumn, key, valueColumn string) (string, bool, error) {
	at := table + "\x00" + keyColumn + "\x00" + valueColumn
	if d.lookup[at] == nil {
		values, err := d.column(ctx, table, keyColumn, valueColumn)
		if err != nil {
			return "", false, err
		}
		d.lookup[at] = values
	}
	v, found := d.lookup[at][key]
	return v, found, nil
}

const (
	longValue  = 1 << 20 // values that are not remembered
	manyValues = 200_000
)

func (d *Dump) column(ctx context.Context, table, keyColumn, valueColumn string) (map[string]string, error) {
	out := map[string]string{}
	t := d.tables[table]
	if t == nil {
		return out, nil
	}
	info := Table{Name: table}
	for _, c := range t.def.Columns {
		if c.Name == keyColumn || c.Name == valueColumn {
			info.Columns = append(info.Columns, Column{Name: c.Name, Charset: c.Charset, Binary: d.pg && c.Type == "bytea"})
		}
	}
	if len(info.Columns) != 2 {
		return out, nil
	}
	k, v := 0, 1
	if info.Columns[0].Name == valueColumn {
		k, v = 1, 0
	}
	return out, d.Rows(ctx, &info, func(row [][]byte) error {
		if _, there := out[string(row[k])]; !there && len(row[v]) <= longValue && len(out) < manyValues {
			out[string(row[k])] = string(row[v])
		}
		return nil
	})
}

// Snapshot implements Reader: a script does not change.
func (d *Dump) Snapshot(context.Context) (Snapshot, error) { return d, nil }

// Definition implements Snapshot.
func (d *Dump) Definition(_ context.Context, t *Table) (*sqltext.Definition, error) {
	return d.tables[t.Name].def, nil
}

// PlainSums implements Snapshot: a dump tells no sums.
func (d *Dump) PlainSums(context.Context, string, []Column) ([]uint64, error) { return nil, nil }

// Programs implements Snapshot: of a dump from outside only what does nothing by itself is taken over.
func (d *Dump) Programs(context.Context, []Table) ([]*sqltext.Program, []LeftOut, error) {
	return sqltext.SortPrograms(d.programs), nil, nil
}

// Rows implements Snapshot, in the order of the script.
func (d *Dump) Rows(ctx context.Context, t *Table, each func(row [][]byte) error) error {
	src := d.tables[t.Name]
	read := d.rowsOf
	if d.pg {
		read = d.pgRows
	}
	for _, r := range src.ranges {
		if err := read(ctx, src, r, t, each); err != nil {
			return fmt.Errorf("rows of %s in the dump: %w", t.Name, err)
		}
	}
	return nil
}

func (d *Dump) rowsOf(ctx context.Context, src *dumpTable, r rowRange, t *Table, each func(row [][]byte) error) error {
	s := sqltext.NewRows(&countingReader{ctx, io.NewSectionReader(d.r, r.from, r.to-r.from), nil}, r.delimiter)
	given := r.columns
	var cells *dumpCells
	var lits []sqltext.Literal
	for s.Row(&lits) {
		if cells == nil {
			if len(given) == 0 {
				given = src.given(len(lits))
			}
			var err error
			if cells, err = newDumpCells(given, t, r.charset); err != nil {
				return err
			}
		}
		if len(lits) != len(given) {
			return fmt.Errorf("%w: a row has %d values for %d columns", ErrRefused, len(lits), len(given))
		}
		row, err := cells.row(lits)
		if err != nil {
			return err
		}
		if err := each(row); err != nil {
			return err
		}
	}
	return s.Err()
}

// given returns the columns that rows of so many values have when a statement does not name them. Some programs
// write values for generated columns too.
func (t *dumpTable) given(values int) (names []string) {
	for _, c := range t.def.Columns {
		if !c.Generated && !c.Invisible || values == len(t.def.Columns) {
			names = append(names, c.Name)
		}
	}
	return names
}

// dumpCells turns the literals of a row into the cells that a table's columns have.
type dumpCells struct {
	at      []int               // for each wanted column, where its literal is
	decode  []*encoding.Decoder // for text that is not UTF-8
	text    []bool
	row1    [][]byte
	scratch [][]byte
}

func newDumpCells(given []string, t *Table, charset string) (*dumpCells, error) {
	c := &dumpCells{}
	for _, want := range t.Columns {
		if want.Generated {
			continue
		}
		at := slices.IndexFunc(given, func(n string) bool { return strings.EqualFold(n, want.Name) })
		if at < 0 {
			return nil, fmt.Errorf("%w: an INSERT gives no value for column %s", ErrRefused, want.Name)
		}
		dec, err := decoderOf(charset)
		if err != nil {
			return nil, err
		}
		if want.Charset == "" || want.Charset == "binary" {
			dec = nil
		}
		c.at = append(c.at, at)
		c.decode = append(c.decode, dec)
		c.text = append(c.text, want.Charset != "")
	}
	c.row1, c.scratch = make([][]byte, len(c.at)), make([][]byte, len(c.at))
	return c, nil
}

func (c *dumpCells) row(lits []sqltext.Literal) ([][]byte, error) {
	for i, at := range c.at {
		l := lits[at]
		if l.IsNull() {
			c.row1[i] = nil
			continue
		}
		out, err := l.AppendValue(c.scratch[i][:0])
		if err != nil {
			return nil, err
		}
		dec := c.decode[i]
		if l[0] == '_' {
			if dec, err = decoderOf(strings.ToLower(l.Charset())); err != nil {
				return nil, err
			}
			if !c.text[i] {
				dec = nil
			}
		}
		if dec != nil {
			if out, err = dec.Bytes(out); err != nil {
				return nil, fmt.Errorf("%w: text that is not in the character set the dump says: %v", ErrRefused, err)
			}
		}
		if out == nil {
			out = []byte{}
		}
		c.scratch[i], c.row1[i] = out, out
	}
	return c.row1, nil
}
