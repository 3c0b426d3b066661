package postgres

import (
	"context"
	"encoding/hex"
	"hash/crc32"
	"io"

	"github.com/jackc/pgx/v5/pgxpool"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

type loader struct {
	db   *database
	conn *pgxpool.Conn
}

// Loader implements DB.
func (d *database) Loader(ctx context.Context) (sitedb.Loader, error) {
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		return nil, d.server.explain("open a connection to load "+d.name, err)
	}
	return &loader{d, conn}, nil
}

func (l *loader) Close() error {
	l.conn.Release()
	return nil
}

func (l *loader) exec(ctx context.Context, statements ...string) error {
	for _, stmt := range statements {
		if err := l.conn.Conn().PgConn().Exec(ctx, stmt).Close(); err != nil {
			return l.db.server.explain("change database "+l.db.name, err)
		}
	}
	return nil
}

// CreateTable implements Loader.
func (l *loader) CreateTable(ctx context.Context, d *sqltext.Definition, rename sitedb.Rename) error {
	return l.exec(ctx, d.Statements(rename)...)
}

// AddForeignKey implements Loader.
func (l *loader) AddForeignKey(ctx context.Context, f sqltext.ForeignKey, rename sitedb.Rename) error {
	return l.exec(ctx, f.Text(rename))
}

// CreateProgram implements Loader. What a function names may be made after it.
func (l *loader) CreateProgram(ctx context.Context, g *sqltext.Program, rename sitedb.Rename) error {
	return l.exec(ctx, "SET check_function_bodies = off", g.Text(rename))
}

// Load streams rows with COPY in its text format (PostgreSQL manual, "COPY", File Formats).
func (l *loader) Load(ctx context.Context, into sitedb.Into, rows sitedb.Rows) (int64, error) {
	bytes, err := l.db.bytesOf(ctx, into.Table)
	if err != nil {
		return 0, err
	}
	r := &copyReader{rows: rows, bytes: make([]bool, len(into.Columns))}
	for i, c := range into.Columns {
		r.bytes[i] = bytes[c]
	}
	tag, err := l.conn.Conn().PgConn().CopyFrom(ctx, r, "COPY "+quote(into.Table)+" ("+quoteAll(into.Columns)+") FROM STDIN")
	if r.err != nil && r.err != io.EOF {
		return 0, r.err // what was wrong with the rows, and not that no more came
	}
	return tag.RowsAffected(), l.db.server.explain("load rows into "+into.Table, err)
}

// copyReader writes rows as COPY reads them.
type copyReader struct {
	rows  sitedb.Rows
	bytes []bool
	buf   []byte
	at    int
	err   error
}

// copyEscapes maps a byte to the letter behind the backslash that COPY reads it from.
var copyEscapes = [256]byte{'\b': 'b', '\f': 'f', '\n': 'n', '\r': 'r', '\t': 't', '\v': 'v', '\\': '\\'}

func (r *copyReader) Read(p []byte) (int, error) {
	if r.at == len(r.buf) && r.err == nil {
		r.buf, r.at = r.buf[:0], 0
		for len(r.buf) < 64<<10 && r.err == nil {
			var row [][]byte
			if row, r.err = r.rows(); r.err == nil {
				r.add(row)
			}
		}
	}
	if r.at == len(r.buf) {
		return 0, r.err
	}
	n := copy(p, r.buf[r.at:])
	r.at += n
	return n, nil
}

func (r *copyReader) add(row [][]byte) {
	for i, cell := range row {
		if i > 0 {
			r.buf = append(r.buf, '\t')
		}
		switch {
		case cell == nil:
			r.buf = append(r.buf, `\N`...)
		case r.bytes[i]:
			r.buf = hex.AppendEncode(append(r.buf, `\\x`...), cell)
		default:
			r.buf = sqltext.AppendEscaped(r.buf, cell, &copyEscapes)
		}
	}
	r.buf = append(r.buf, '\n')
}

// Summed implements Loader: what the server keeps as it is given.
func (l *loader) Summed(ctx context.Context) (map[string][]string, error) {
	tables, err := l.db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, t := range tables {
		for _, c := range t.Columns {
			switch {
			case c.Generated || t.View:
			case c.Type == "text", c.Type == "varchar", c.Type == "bytea", c.Type == "json", c.Type == "enum", c.Type == "citext":
				out[t.Name] = append(out[t.Name], c.Name)
			}
		}
	}
	return out, nil
}

// Sums implements Loader.
func (l *loader) Sums(ctx context.Context, table string, columns []string, _ bool) ([]uint64, error) {
	sums := make([]uint64, len(columns))
	err := texts(ctx, l.conn.Conn().PgConn(), "SELECT "+quoteAll(columns)+" FROM "+quote(table), func(row [][]byte) error {
		for i, cell := range row {
			if cell != nil {
				sums[i] += uint64(crc32.ChecksumIEEE(cell))
			}
		}
		return nil
	})
	return sums, l.db.server.explain("sum the rows of "+table, err)
}

// PlainSums implements Loader.
func (l *loader) PlainSums(ctx context.Context, table string, columns []sitedb.Column) ([]uint64, error) {
	return plainSums(ctx, l.db, l.conn.Conn().PgConn(), table, columns)
}
