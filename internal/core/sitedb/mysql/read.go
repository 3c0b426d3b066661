package mysql

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

type snapshot struct {
	db   *database
	conn *sql.Conn
}

// Snapshot opens a consistent read (MariaDB manual, "START TRANSACTION … WITH CONSISTENT SNAPSHOT"): it
// needs no lock and no right but SELECT. Tables of engines without transactions are read as they are then.
func (d *database) Snapshot(ctx context.Context) (sitedb.Snapshot, error) {
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, d.server.explain("open a snapshot of "+d.name, err)
	}
	for _, stmt := range []string{
		"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ",
		"SET SESSION time_zone = '+00:00', SESSION net_write_timeout = 600, SESSION sql_quote_show_create = 1",
		"START TRANSACTION WITH CONSISTENT SNAPSHOT",
	} {
		if _, err := conn.ExecContext(ctx, stmt); err != nil {
			conn.Close()
			return nil, d.server.explain("open a snapshot of "+d.name, err)
		}
	}
	return &snapshot{d, conn}, nil
}

func (s *snapshot) Close() error {
	// The connection has session settings and an open transaction: it must not go back to the pool.
	s.conn.Raw(func(any) error { return driver.ErrBadConn })
	if err := s.conn.Close(); !errors.Is(err, sql.ErrConnDone) { // the line above has closed it
		return err
	}
	return nil
}

// Definition implements Snapshot.
func (s *snapshot) Definition(ctx context.Context, t *sitedb.Table) (*sqltext.Definition, error) {
	create, _, err := s.showCreate(ctx, "TABLE", t.Name, "Create Table")
	if err != nil {
		return nil, err
	}
	d, err := sqltext.ParseDefinition(sqltext.Resolve([]byte(create)))
	if err != nil {
		return nil, fmt.Errorf("%w; leave the table out with the packing list", err)
	}
	return d, nil
}

// showCreate returns a column of SHOW CREATE …, and the mode in which the text is to be read, where there is one.
func (s *snapshot) showCreate(ctx context.Context, what, name, column string) (text, mode string, err error) {
	rows, err := s.conn.QueryContext(ctx, "SHOW CREATE "+what+" "+sqltext.Quote(name))
	if err != nil {
		return "", "", s.db.server.explain("read the definition of "+name, err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return "", "", err
	}
	cells := make([]sql.NullString, len(names))
	into := make([]any, len(names))
	for i := range cells {
		into[i] = &cells[i]
	}
	if !rows.Next() {
		return "", "", fmt.Errorf("the definition of %s is not there", name)
	}
	if err := rows.Scan(into...); err != nil {
		return "", "", err
	}
	for i, n := range names {
		switch {
		case strings.EqualFold(n, column) && !cells[i].Valid:
			return "", "", fmt.Errorf("read the definition of %s: %w", name, sitedb.ErrDenied)
		case strings.EqualFold(n, column):
			text = cells[i].String
		case n == "sql_mode":
			mode = cells[i].String
		}
	}
	return text, mode, rows.Close()
}

// programTypes are the sorts of programs, with what lists them and in which column SHOW CREATE tells them.
var programTypes = []struct{ kind, column, list string }{
	{"FUNCTION", "Create Function",
		"SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ROUTINE_TYPE = 'FUNCTION' ORDER BY 1"},
	{"PROCEDURE", "Create Procedure",
		"SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ROUTINE_TYPE = 'PROCEDURE' ORDER BY 1"},
	{"VIEW", "Create View", "SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA = ? ORDER BY 1"},
	{"TRIGGER", "SQL Original Statement", "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? ORDER BY 1"},
	{"EVENT", "", "SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ? ORDER BY 1"},
}

// otherModes are modes of the server in which text means something else than this package reads.
var otherModes = []string{"ANSI_QUOTES", "NO_BACKSLASH_ESCAPES", "PIPES_AS_CONCAT", "ORACLE", "HIGH_NOT_PRECEDENCE", "IGNORE_SPACE"}

// Programs implements Snapshot. A program is left out when it cannot be read or is not understood to its end.
func (s *snapshot) Programs(ctx context.Context, tables []sitedb.Table) (out []*sqltext.Program, left []sitedb.LeftOut, err error) {
	for _, sort := range programTypes {
		names, err := s.names(ctx, sort.list)
		if err != nil {
			return nil, nil, err
		}
		for _, name := range names {
			if sort.kind == "VIEW" && !slices.ContainsFunc(tables, func(t sitedb.Table) bool { return t.Name == name }) {
				continue // the packing list leaves it out
			}
			g, err := s.program(ctx, sort.kind, sort.column, name, out)
			switch {
			case ctx.Err() != nil:
				return nil, nil, ctx.Err()
			case err != nil:
				left = append(left, sitedb.LeftOut{What: strings.ToLower(sort.kind) + " " + name, Reason: err.Error()})
			default:
				out = append(out, g)
			}
		}
	}
	return sqltext.SortPrograms(out), left, nil
}

func (s *snapshot) program(ctx context.Context, kind, column, name string, made []*sqltext.Program) (*sqltext.Program, error) {
	if kind == "EVENT" {
		return nil, errors.New("events run by themselves; create it again on the site where it is wanted")
	}
	text, mode, err := s.showCreate(ctx, kind, name, column)
	if err != nil {
		return nil, err
	}
	for _, m := range otherModes {
		if slices.Contains(strings.Split(mode, ","), m) {
			return nil, fmt.Errorf("it was made in the mode %s, in which text is read otherwise; create it again in the source without", m)
		}
	}
	return sqltext.MySQL.ParseProgram(sqltext.Resolve([]byte(text)), s.db.name, made)
}

func (s *snapshot) names(ctx context.Context, query string) ([]string, error) {
	rows, err := s.conn.QueryContext(ctx, query, s.db.name)
	if err != nil {
		return nil, s.db.server.explain("list objects of "+s.db.name, err)
	}
	defer rows.Close()
	var names []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		names = append(names, n)
	}
	return names, rows.Err()
}

// PlainSums implements Snapshot.
func (s *snapshot) PlainSums(ctx context.Context, table string, columns []sitedb.Column) ([]uint64, error) {
	return plainSums(ctx, s.db, s.conn, table, columns)
}

// plainSums asks for sums of values as the server has them: CRC32 of MariaDB and MySQL is that of ISO 3309.
func plainSums(ctx context.Context, db *database, conn *sql.Conn, table string, columns []sitedb.Column) ([]uint64, error) {
	if len(columns) == 0 {
		return nil, nil
	}
	sums, into := make([]uint64, len(columns)), make([]any, len(columns))
	var query strings.Builder
	for i, c := range columns {
		into[i] = &sums[i]
		sum := "COALESCE(SUM(CRC32(CAST(" + sqltext.Quote(c.Name) + " AS CHAR))),0)"
		if c.Whole() { // a fraction of the server's time
			sum = "BIT_XOR(" + sqltext.Quote(c.Name) + ")"
		}
		query.WriteString([]string{"SELECT ", ", "}[min(i, 1)] + sum)
	}
	err := conn.QueryRowContext(ctx, query.String()+" FROM "+sqltext.Quote(table)).Scan(into...)
	return sums, db.server.explain("sum the rows of "+table, err)
}

// Rows reads through the driver itself: database/sql converts every cell, which costs more than all
// the rest of a build's work on rows.
func (s *snapshot) Rows(ctx context.Context, t *sitedb.Table, each func(row [][]byte) error) error {
	var q strings.Builder
	q.WriteString("SELECT ")
	sep := ""
	for _, c := range t.Columns {
		if c.Generated {
			continue
		}
		name := sqltext.Quote(c.Name)
		if c.Type == "year" { // as text 0000 is the year 0, and 0 is the year 2000
			name = "CAST(" + name + " AS CHAR)"
		}
		q.WriteString(sep + name)
		sep = ","
	}
	q.WriteString(" FROM " + sqltext.Quote(t.Name))
	for i, name := range t.PrimaryKey {
		q.WriteString([]string{" ORDER BY ", ","}[min(i, 1)] + sqltext.Quote(name))
	}
	err := s.conn.Raw(func(dc any) error {
		rows, err := dc.(driver.QueryerContext).QueryContext(ctx, q.String(), nil)
		if err != nil {
			return err
		}
		defer rows.Close()
		return eachRow(rows, each)
	})
	return s.db.server.explain("read rows of "+t.Name, err)
}

func eachRow(rows driver.Rows, each func(row [][]byte) error) error {
	n := len(rows.Columns())
	cells, row := make([]driver.Value, n), make([][]byte, n)
	numbers := make([][]byte, n) // scratch for cells that the driver hands out as numbers
	for {
		if err := rows.Next(cells); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		for i, c := range cells {
			switch v := c.(type) {
			case nil:
				row[i] = nil
			case []byte:
				if row[i] = v; v == nil {
					row[i] = []byte{}
				}
			case int64:
				numbers[i] = strconv.AppendInt(numbers[i][:0], v, 10)
				row[i] = numbers[i]
			case uint64:
				numbers[i] = strconv.AppendUint(numbers[i][:0], v, 10)
				row[i] = numbers[i]
			case float32:
				numbers[i] = strconv.AppendFloat(numbers[i][:0], float64(v), 'g', -1, 32)
				row[i] = numbers[i]
			case float64:
				numbers[i] = strconv.AppendFloat(numbers[i][:0], v, 'g', -1, 64)
				row[i] = numbers[i]
			default:
				row[i] = fmt.Append(numbers[i][:0], v)
			}
		}
		if err := each(row); err != nil {
			return err
		}
	}
}
