package sitedb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"nestseed/internal/core/sqltext"
)

type mysqlSnapshot struct {
	db   *mysqlDB
	conn *sql.Conn
}

// Snapshot opens a consistent read (MariaDB manual, "START TRANSACTION … WITH CONSISTENT SNAPSHOT"): it
// needs no lock and no right but SELECT. Tables of engines without transactions are read as they are then.
func (d *mysqlDB) Snapshot(ctx context.Context) (Snapshot, error) {
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
	return &mysqlSnapshot{d, conn}, nil
}

func (s *mysqlSnapshot) Close() error {
	// The connection has session settings and an open transaction: it must not go back to the pool.
	s.conn.Raw(func(any) error { return driver.ErrBadConn })
	return s.conn.Close()
}

func (s *mysqlSnapshot) Schema(ctx context.Context, t *Table) (string, []string, error) {
	create, err := s.showCreate(ctx, "TABLE", t.Name, 1)
	if err != nil {
		return "", nil, err
	}
	kept, constraints := withoutForeignKeys(create)
	for i, c := range constraints {
		constraints[i] = "ALTER TABLE " + sqltext.Quote(t.Name) + " ADD " + c
	}
	return kept, constraints, nil
}

// withoutForeignKeys takes the foreign keys out of a definition; the server prints each on a line of its own.
func withoutForeignKeys(create string) (kept string, constraints []string) {
	lines := strings.Split(create, "\n")
	out := lines[:0]
	for _, line := range lines {
		text := strings.TrimSuffix(strings.TrimSpace(line), ",")
		switch {
		case strings.HasPrefix(text, "CONSTRAINT ") && strings.Contains(text, " FOREIGN KEY "):
			constraints = append(constraints, text)
			continue
		case strings.HasPrefix(line, ")") && len(constraints) > 0 && len(out) > 0:
			out[len(out)-1] = strings.TrimSuffix(out[len(out)-1], ",")
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n"), constraints
}

// showCreate returns one column of SHOW CREATE …; which one differs by the sort of object.
func (s *mysqlSnapshot) showCreate(ctx context.Context, sort, name string, column int) (string, error) {
	rows, err := s.conn.QueryContext(ctx, "SHOW CREATE "+sort+" "+sqltext.Quote(name))
	if err != nil {
		return "", s.db.server.explain("read the definition of "+name, err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return "", err
	}
	cells := make([]sql.NullString, len(names))
	into := make([]any, len(names))
	for i := range cells {
		into[i] = &cells[i]
	}
	if !rows.Next() {
		return "", fmt.Errorf("the definition of %s is not there", name)
	}
	if err := rows.Scan(into...); err != nil {
		return "", err
	}
	if !cells[column].Valid {
		return "", fmt.Errorf("read the definition of %s: %w", name, ErrDenied)
	}
	return cells[column].String, rows.Close()
}

var definer = regexp.MustCompile("(?i) DEFINER=`(?:[^`]|``)*`@`(?:[^`]|``)*`")
var viewSchema = regexp.MustCompile("(?i) SQL SECURITY DEFINER| ALGORITHM=UNDEFINED")

func (s *mysqlSnapshot) Objects(ctx context.Context, tables []Table) ([]string, error) {
	var out []string
	for _, t := range tables {
		if !t.View {
			continue
		}
		create, err := s.showCreate(ctx, "VIEW", t.Name, 1)
		if err != nil {
			return nil, err
		}
		create = viewSchema.ReplaceAllString(definer.ReplaceAllString(create, ""), "")
		out = append(out, strings.ReplaceAll(create, sqltext.Quote(s.db.name)+".", ""))
	}
	for _, sort := range []struct{ name, query string }{
		{"TRIGGER", "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? ORDER BY TRIGGER_NAME"},
		{"FUNCTION", "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ROUTINE_TYPE = 'FUNCTION' ORDER BY 1"},
		{"PROCEDURE", "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ROUTINE_TYPE = 'PROCEDURE' ORDER BY 1"},
	} {
		names, err := s.names(ctx, sort.query)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			create, err := s.showCreate(ctx, sort.name, name, 2)
			if err != nil {
				return nil, err
			}
			out = append(out, definer.ReplaceAllString(create, ""))
		}
	}
	return out, nil
}

func (s *mysqlSnapshot) names(ctx context.Context, query string) ([]string, error) {
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

// Rows reads through the driver itself: database/sql converts every cell, which costs more than all
// the rest of a build's work on rows.
func (s *mysqlSnapshot) Rows(ctx context.Context, t *Table, each func(row [][]byte) error) error {
	var q strings.Builder
	q.WriteString("SELECT ")
	for i, name := range t.Stored() {
		if i > 0 {
			q.WriteByte(',')
		}
		q.WriteString(sqltext.Quote(name))
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
