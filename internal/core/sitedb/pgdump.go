package sitedb

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/sqltext"
)

// pgHead is in the first lines of what PostgreSQL's dump program writes as text, pgCustom in front of its other formats.
const (
	pgHead   = "PostgreSQL database dump"
	pgCustom = "PGDMP"
)

// pgReader reads a dump of PostgreSQL line by line (PostgreSQL manual, "pg_dump", format plain). Its tables are parsed and written again
// from what was parsed, its rows are read as values; programs are named and left away.
type pgReader struct {
	d         *Dump
	in        *bufio.Reader
	at        int64             // of the next line
	whole     bool              // its last line was there
	sequences map[string]string // tables and columns that sequences belong to, as table.column
}

// mostStatement bounds a statement, and a line of rows.
const mostStatement = 192 << 20

func (d *Dump) readPostgres(ctx context.Context, seen func(int64)) error {
	d.pg = true
	d.version.Engine, d.version.Charset = "PostgreSQL", "UTF8"
	r := &pgReader{d: d, sequences: map[string]string{},
		in: bufio.NewReaderSize(&countingReader{ctx, io.NewSectionReader(d.r, 0, d.size), seen}, 1<<20)}
	var stmt []byte
	for {
		begin := r.at
		line, err := r.line()
		if err == io.EOF && len(bytes.TrimSpace(stmt)) > 0 {
			return fmt.Errorf("%w: the dump ends in the middle of a statement; it is cut off", ErrRefused)
		}
		if err == io.EOF && !r.whole {
			return fmt.Errorf("%w: the dump does not end as the dump program ends one; it is cut off", ErrRefused)
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if len(stmt) == 0 && r.apart(line) {
			continue
		}
		if stmt = append(append(stmt, line...), '\n'); len(stmt) > mostStatement {
			return fmt.Errorf("%w: a statement before byte %d is too long", ErrRefused, begin)
		}
		if !complete(stmt) {
			continue
		}
		if err := r.statement(bytes.TrimSuffix(bytes.TrimSpace(stmt), []byte(";"))); err != nil {
			return fmt.Errorf("the dump, before byte %d: %w", begin, err)
		}
		stmt = stmt[:0]
	}
}

// line returns the next line without its end.
func (r *pgReader) line() ([]byte, error) {
	var whole []byte
	for {
		part, err := r.in.ReadSlice('\n')
		r.at += int64(len(part))
		whole = append(whole, part...)
		switch {
		case err == bufio.ErrBufferFull && len(whole) <= mostStatement:
			continue
		case err == bufio.ErrBufferFull:
			return nil, fmt.Errorf("%w: a line is longer than %d bytes", ErrRefused, mostStatement)
		case err == io.EOF && len(whole) == 0:
			return nil, io.EOF
		case err != nil && err != io.EOF:
			return nil, err
		}
		return bytes.TrimRight(whole, "\r\n"), nil
	}
}

var pgVersion = regexp.MustCompile(`^-- Dumped from database version (\d+(?:\.\d+)*)`)

// apart reports whether a line between statements is no part of one: empty, a comment, or for the client.
func (r *pgReader) apart(line []byte) bool {
	if m := pgVersion.FindSubmatch(line); m != nil {
		r.d.version.Number = string(m[1])
	}
	r.whole = r.whole || bytes.HasPrefix(line, []byte("-- "+pgHead+" complete"))
	return len(line) == 0 || bytes.HasPrefix(line, []byte("--")) || line[0] == '\\'
}

// complete reports whether a statement ends where the text does: outside strings, of which there are three sorts.
func complete(stmt []byte) bool {
	text := bytes.TrimRight(stmt, " \t\r\n")
	if len(text) == 0 || text[len(text)-1] != ';' {
		return false
	}
	for i := 0; i < len(text); i++ {
		var end []byte
		switch c := text[i]; {
		case c == '\'' || c == '"':
			end = text[i : i+1]
		case c == '$':
			tag := dollar.Find(text[i:])
			if tag == nil {
				continue
			}
			end = tag
		default:
			continue
		}
		n := bytes.Index(text[i+len(end):], end)
		if n < 0 {
			return false
		}
		i += len(end) + n + len(end) - 1
	}
	return true
}

var dollar = regexp.MustCompile(`^\$(?:[A-Za-z_]\w*)?\$`)

// Statements of the dump program that matter, with what is quoted taken apart.
const (
	pgColumn = `("(?:[^"]|"")+"|[\w$]+)`
	pgName   = `(?:"?public"?\.)?` + pgColumn
)

var (
	pgSequence = regexp.MustCompile(`(?s)^ALTER SEQUENCE ` + pgName + ` OWNED BY ` + pgName + `\.` + pgColumn + `$`)
	pgDefault  = regexp.MustCompile(`(?s)^ALTER TABLE (?:ONLY )?` + pgName + ` ALTER COLUMN ` + pgColumn +
		` SET DEFAULT nextval\('` + pgName + `'::regclass\)$`)
	pgIdentity = regexp.MustCompile(`(?s)^ALTER TABLE (?:ONLY )?` + pgName + ` ALTER COLUMN ` + pgColumn +
		` ADD GENERATED (?:BY DEFAULT|ALWAYS) AS IDENTITY`)
	pgNamed   = regexp.MustCompile(`SEQUENCE NAME ` + pgName)
	pgAdd     = regexp.MustCompile(`(?s)^ALTER TABLE (?:ONLY )?` + pgName + `\s+ADD (CONSTRAINT .*)$`)
	pgCounter = regexp.MustCompile(`^SELECT pg_catalog\.setval\('` + pgName + `', (\d+), (true|false)\)$`)
	pgCopy    = regexp.MustCompile(`(?s)^COPY ` + pgName + ` \((.*)\) FROM stdin$`)
	pgProgram = regexp.MustCompile(`(?i)^CREATE (?:OR REPLACE )?(?:CONSTRAINT )?(VIEW|MATERIALIZED VIEW|FUNCTION|PROCEDURE|TRIGGER|TYPE|DOMAIN|SEQUENCE|EXTENSION|AGGREGATE|RULE) ` +
		`(?:IF NOT EXISTS )?(?:"?public"?\.)?([^\s(;]+)`)
)

func pgUnquote(name string) string {
	if inner, quoted := strings.CutPrefix(name, `"`); quoted {
		return strings.ReplaceAll(strings.TrimSuffix(inner, `"`), `""`, `"`)
	}
	return strings.ToLower(name)
}

// passedOver are statements that change nothing here: of a session, of rights, of comments.
var passedOver = []string{"SET ", "SELECT pg_catalog.set_config(", "GRANT ", "REVOKE ", "COMMENT ON ", "CREATE SCHEMA ", "ALTER SCHEMA ",
	"ALTER DEFAULT PRIVILEGES", "ALTER EXTENSION ", "DROP ", "BEGIN", "COMMIT", "ALTER FUNCTION ", "ALTER PROCEDURE ", "ALTER AGGREGATE ",
	"ALTER VIEW ",
	"ALTER MATERIALIZED VIEW ", "ALTER TYPE ", "ALTER DOMAIN ",
	"ALTER SEQUENCE ", "REFRESH "}

func (r *pgReader) statement(stmt []byte) error {
	text := string(stmt[:min(len(stmt), 64<<10)])
	switch {
	case strings.HasPrefix(text, "COPY "):
		return r.copied(text)
	case strings.HasPrefix(text, "INSERT INTO "):
		return r.inserted(stmt)
	case strings.HasPrefix(text, "CREATE TABLE "), strings.HasPrefix(text, "CREATE UNLOGGED TABLE "):
		return r.table(bytes.Replace(stmt, []byte("UNLOGGED "), nil, 1))
	case strings.HasPrefix(text, "CREATE INDEX "), strings.HasPrefix(text, "CREATE UNIQUE INDEX "):
		return r.index(stmt)
	case pgSequence.MatchString(text):
		m := pgSequence.FindStringSubmatch(text)
		r.owns(pgUnquote(m[1]), pgUnquote(m[2])+"."+pgUnquote(m[3]))
		return nil
	case pgDefault.MatchString(text):
		m := pgDefault.FindStringSubmatch(text)
		return r.change(pgUnquote(m[1]), func(t *dumpTable) error { return t.def.SetSerial(pgUnquote(m[2]), pgUnquote(m[3])) })
	case pgIdentity.MatchString(text):
		m := pgIdentity.FindStringSubmatch(text)
		if s := pgNamed.FindStringSubmatch(text); s != nil {
			r.owns(pgUnquote(s[1]), pgUnquote(m[1])+"."+pgUnquote(m[2]))
		}
		return r.change(pgUnquote(m[1]), func(t *dumpTable) error { return t.def.SetIdentity(pgUnquote(m[2])) })
	case pgAdd.MatchString(text):
		m := pgAdd.FindStringSubmatch(text)
		return r.change(pgUnquote(m[1]), func(t *dumpTable) error { return t.def.AddConstraint([]byte(m[2])) })
	case pgCounter.MatchString(text):
		return r.counter(pgCounter.FindStringSubmatch(text))
	case strings.HasPrefix(text, "ALTER TABLE ") && (strings.Contains(text, " OWNER TO ") || strings.Contains(text, " DROP ")):
		return nil
	case pgProgram.MatchString(text):
		m := pgProgram.FindStringSubmatch(text)
		r.program(stmt, strings.ToLower(m[1])+" "+pgUnquote(m[2]))
		return nil
	case slices.ContainsFunc(passedOver, func(p string) bool { return strings.HasPrefix(text, p) }):
		return nil
	}
	return fmt.Errorf("%w: the statement %.60q; tables and rows are taken over, nothing is run", ErrRefused, text)
}

// program notes a program that does nothing by itself, and names any other. A sequence that turns out to belong to a column is
// forgotten again.
func (r *pgReader) program(stmt []byte, named string) {
	g, err := sqltext.Postgres.ParseProgram(stmt, "", r.d.programs)
	if err != nil || !g.Passive() {
		r.d.objects = append(r.d.objects, named)
		return
	}
	r.d.programs = append(r.d.programs, g)
}

// owns notes that a sequence belongs to a column.
func (r *pgReader) owns(sequence, column string) {
	r.sequences[sequence] = column
	r.d.programs = slices.DeleteFunc(r.d.programs, func(g *sqltext.Program) bool { return g.Type == "sequence" && g.Name == sequence })
}

func (r *pgReader) table(stmt []byte) error {
	def, err := sqltext.Postgres.ParseDefinition(stmt, r.d.programs...)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if r.d.tables[def.Table] != nil {
		return fmt.Errorf("%w: the dump makes table %s twice", ErrRefused, def.Table)
	}
	r.d.tables[def.Table] = &dumpTable{def: def}
	return nil
}

func (r *pgReader) index(stmt []byte) error {
	for _, t := range r.d.tables {
		if err := t.def.AddIndex(stmt); err == nil {
			return nil
		}
	}
	r.d.note("an index was left out, as it is of no table that was taken over, or not understood: %.100s", stmt)
	return nil
}

func (r *pgReader) change(table string, do func(*dumpTable) error) error {
	t := r.d.tables[table]
	if t == nil {
		return fmt.Errorf("%w: a statement about table %q, which the dump does not make", ErrRefused, table)
	}
	if err := do(t); err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return nil
}

// counter takes over where the numbers of a column go on: m is sequence, value, and whether that was given already.
func (r *pgReader) counter(m []string) error {
	n, err := strconv.ParseInt(m[2], 10, 64)
	if err != nil {
		return fmt.Errorf("%w: the number %s of a sequence", ErrRefused, m[2])
	}
	sequence, given := pgUnquote(m[1]), m[3] == "true"
	table, column, owned := strings.Cut(r.sequences[sequence], ".")
	if !owned {
		for _, g := range r.d.programs {
			if g.Type == "sequence" && g.Name == sequence {
				g.SetNumber(n, given)
			}
		}
		return nil
	}
	if given {
		n++
	}
	return r.change(table, func(t *dumpTable) error {
		t.def.SetCounter(column, strconv.FormatInt(n, 10))
		return nil
	})
}

// copied notes where the rows of a COPY are.
func (r *pgReader) copied(text string) error {
	m := pgCopy.FindStringSubmatch(text)
	if m == nil {
		return fmt.Errorf("%w: the statement %.60q; rows are read where they stand in the dump", ErrRefused, text)
	}
	name := pgUnquote(m[1])
	t := r.d.tables[name]
	if t == nil {
		return fmt.Errorf("%w: rows of table %s, which the dump does not make", ErrRefused, name)
	}
	at := rowRange{from: r.at, delimiter: pgCopied}
	for _, column := range strings.Split(m[2], ", ") {
		at.columns = append(at.columns, pgUnquote(column))
	}
	for {
		at.to = r.at
		line, err := r.line()
		if err == io.EOF {
			return fmt.Errorf("%w: the dump ends in the rows of table %s; it is cut off", ErrRefused, name)
		}
		if err != nil {
			return err
		}
		if string(line) == `\.` {
			break
		}
		t.rows++
	}
	t.bytes += at.to - at.from
	t.ranges = append(t.ranges, at)
	return nil
}

// What rows of a range are written as, in the place of a delimiter.
const (
	pgCopied   = "COPY"
	pgInserted = "INSERT"
)

// inserted notes where an INSERT is.
func (r *pgReader) inserted(stmt []byte) error {
	ins, err := sqltext.Postgres.ParseInsert(unqualify(stmt))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	t := r.d.tables[ins.Table]
	if t == nil {
		return fmt.Errorf("%w: rows of table %s, which the dump does not make", ErrRefused, ins.Table)
	}
	var row []sqltext.Literal
	for ins.Next(&row) {
		t.rows++
	}
	if ins.Err() != nil {
		return fmt.Errorf("%w: %w", ErrRefused, ins.Err())
	}
	t.bytes += int64(len(stmt))
	t.ranges = append(t.ranges, rowRange{from: r.at - int64(len(stmt)) - 2, to: r.at, delimiter: pgInserted, columns: ins.Columns})
	return nil
}

// unqualify drops the schema in front of a table that rows are inserted into.
func unqualify(stmt []byte) []byte {
	for _, schema := range []string{"INSERT INTO public.", `INSERT INTO "public".`} {
		if rest, is := bytes.CutPrefix(stmt, []byte(schema)); is {
			return append([]byte("INSERT INTO "), rest...)
		}
	}
	return stmt
}

// pgRows calls each with the rows of a range, with the columns of t.
func (d *Dump) pgRows(ctx context.Context, src *dumpTable, at rowRange, t *Table, each func(row [][]byte) error) error {
	given := at.columns
	if len(given) == 0 {
		for _, c := range src.def.Columns {
			given = append(given, c.Name)
		}
	}
	var places []int
	var binary []bool
	for _, c := range t.Columns {
		if !c.Generated {
			places = append(places, slices.Index(given, c.Name))
			binary = append(binary, c.Binary)
		}
	}
	out := make([][]byte, len(places))
	give := func(row [][]byte) error {
		for i, p := range places {
			if out[i] = nil; p >= 0 && p < len(row) {
				out[i] = row[p]
			}
			if hexed, is := bytes.CutPrefix(out[i], []byte(`\x`)); is && binary[i] {
				decoded := make([]byte, hex.DecodedLen(len(hexed)))
				if _, err := hex.Decode(decoded, hexed); err != nil {
					return fmt.Errorf("%w: a value of bytes is not one: %w", ErrRefused, err)
				}
				out[i] = decoded
			}
		}
		return each(out)
	}
	r := &countingReader{ctx, io.NewSectionReader(d.r, at.from, at.to-at.from), nil}
	if at.delimiter == pgInserted {
		return insertedRows(r, give)
	}
	in := &pgReader{d: d, in: bufio.NewReaderSize(r, 1<<20)}
	var row [][]byte
	for {
		line, err := in.line()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		row = row[:0]
		for field := range bytes.SplitSeq(line, []byte("\t")) {
			row = append(row, uncopied(field))
		}
		if err := give(row); err != nil {
			return err
		}
	}
}

func insertedRows(r io.Reader, each func(row [][]byte) error) error {
	stmt, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	ins, err := sqltext.Postgres.ParseInsert(unqualify(bytes.TrimSuffix(bytes.TrimSpace(stmt), []byte(";"))))
	if err != nil {
		return err
	}
	ins.Texts = true
	var lits []sqltext.Literal
	var row [][]byte
	for ins.Next(&lits) {
		row = row[:0]
		for _, l := range lits {
			var value []byte
			if !l.IsNull() && !bytes.EqualFold(l, []byte("DEFAULT")) { // of a column that is computed
				if value, err = l.AppendValue([]byte{}); err != nil {
					return err
				}
			}
			row = append(row, value)
		}
		if err := each(row); err != nil {
			return err
		}
	}
	return ins.Err()
}

// uncopied returns what a field of COPY's text format means (PostgreSQL manual, "COPY", Text Format).
func uncopied(field []byte) []byte {
	if string(field) == `\N` {
		return nil
	}
	if bytes.IndexByte(field, '\\') < 0 {
		return append([]byte{}, field...)
	}
	out := make([]byte, 0, len(field))
	for i := 0; i < len(field); i++ {
		if field[i] != '\\' || i+1 == len(field) {
			out = append(out, field[i])
			continue
		}
		i++
		if at := strings.IndexByte("bfnrtv", field[i]); at >= 0 {
			out = append(out, "\b\f\n\r\t\v"[at])
		} else {
			out = append(out, field[i])
		}
	}
	return out
}

// errCustom says what to do with a dump in a format that only PostgreSQL's programs read.
var errCustom = errors.New("this is a dump of PostgreSQL in its custom format; write it as text with pg_restore -f dump.sql FILE, or " +
	"dump with --format=plain")
