package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"hash/crc32"
	"math"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

func quote(name string) string { return sqltext.SQLite.Quote(name) }

func quoteAll(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = quote(n)
	}
	return strings.Join(quoted, ",")
}

// values is a list of columns as they are stored: the driver would make times of those whose declared type says so.
func values(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = "ifnull(" + quote(n) + ",NULL)"
	}
	return strings.Join(out, ",")
}

type queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// rows runs a query and calls each with every row as text. A row is valid during the call.
func rows(ctx context.Context, q queryer, doing, query string, each func(row [][]byte) error, args ...any) error {
	found, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	defer found.Close()
	names, err := found.Columns()
	if err != nil {
		return err
	}
	cells, into := make([]any, len(names)), make([]any, len(names))
	for i := range cells {
		into[i] = &cells[i]
	}
	row := make([][]byte, len(names))
	for found.Next() {
		if err := found.Scan(into...); err != nil {
			return fmt.Errorf("%s: %w", doing, err)
		}
		for i, c := range cells {
			row[i] = textOf(c)
		}
		if err := each(row); err != nil {
			return err
		}
	}
	if err := found.Err(); err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	return nil
}

// textOf is a value as SQLite writes it.
func textOf(v any) []byte {
	switch v := v.(type) {
	case nil:
		return nil
	case int64:
		return strconv.AppendInt(nil, v, 10)
	case float64:
		if v == math.Trunc(v) && math.Abs(v) < 1e15 {
			return strconv.AppendFloat(nil, v, 'f', 1, 64)
		}
		return strconv.AppendFloat(nil, v, 'g', -1, 64)
	case string:
		return []byte(v)
	case []byte:
		if v == nil {
			return []byte{}
		}
		return v
	}
	return fmt.Append(nil, v)
}

func (d *database) Tables(ctx context.Context) (tables []sitedb.Table, err error) {
	err = rows(ctx, d.pool, "list tables of "+d.name,
		"SELECT name, type FROM sqlite_master WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' "+
			"AND (sql IS NULL OR sql NOT LIKE 'CREATE VIRTUAL%') ORDER BY name", func(row [][]byte) error {
			tables = append(tables, sitedb.Table{Name: string(row[0]), View: string(row[1]) == "view"})
			return nil
		})
	for i := range tables {
		if err == nil {
			err = d.fill(ctx, &tables[i])
		}
	}
	slices.SortFunc(tables, func(a, b sitedb.Table) int { return strings.Compare(a.Name, b.Name) })
	return tables, err
}

// fill finds out columns, key and size of a table.
func (d *database) fill(ctx context.Context, t *sitedb.Table) error {
	keys := map[string]string{}
	// hidden is 2 or 3 for columns that are computed (SQLite documentation, "PRAGMA table_xinfo").
	err := rows(ctx, d.pool, "list columns of "+t.Name, "SELECT name, type, pk, hidden FROM pragma_table_xinfo(?)", func(row [][]byte) error {
		c := sitedb.Column{Name: string(row[0]), Type: sqltext.LiteAffinity(string(row[1])), Generated: string(row[3]) == "2" ||
			string(row[3]) == "3"}
		c.Numeric = c.Type == "bigint" || c.Type == "double" || c.Type == "number"
		t.Columns = append(t.Columns, c)
		if string(row[2]) != "0" {
			keys[string(row[2])] = c.Name
		}
		return nil
	}, t.Name)
	if err != nil || t.View {
		return err
	}
	for n := 1; keys[strconv.Itoa(n)] != ""; n++ {
		t.PrimaryKey = append(t.PrimaryKey, keys[strconv.Itoa(n)])
	}
	sizes := make([]string, 0, len(t.Columns))
	for _, c := range t.Stored() {
		sizes = append(sizes, "ifnull(length(CAST("+quote(c)+" AS BLOB)),0)")
	}
	return rows(ctx, d.pool, "count rows of "+t.Name, "SELECT count(*), ifnull(sum("+strings.Join(append(sizes, "0"), "+")+"),0) FROM "+
		quote(t.Name),
		func(row [][]byte) (err error) {
			if t.Rows, err = strconv.ParseInt(string(row[0]), 10, 64); err == nil {
				t.DataBytes, err = strconv.ParseInt(string(row[1]), 10, 64)
			}
			return err
		})
}

// NoTable implements sitedb.TableProver.
func (d *database) NoTable(ctx context.Context, name string) (other bool, err error) {
	err = rows(ctx, d.pool, "look at the table "+name, "SELECT type <> 'table' OR sql LIKE 'CREATE VIRTUAL%' FROM sqlite_master WHERE "+
		"name = ? COLLATE NOCASE "+
		"AND type IN ('table', 'view')", func(row [][]byte) error {
		other = other || string(row[0]) == "1"
		return nil
	}, name)
	return other, err
}

func (d *database) Lookup(ctx context.Context, table, keyColumn, key, valueColumn string) (value string, found bool, err error) {
	query := fmt.Sprintf("SELECT %s FROM %s WHERE %s = ? LIMIT 1", values([]string{valueColumn}), quote(table), quote(keyColumn))
	err = rows(ctx, d.pool, "read "+key+" from "+table, query, func(row [][]byte) error {
		value, found = string(row[0]), true
		return nil
	}, key)
	return value, found, err
}

func (d *database) Select(ctx context.Context, table string, columns []string, where string, is []string,
	each func(row [][]byte) error) error {
	query := "SELECT " + values(columns) + " FROM " + quote(table)
	args := make([]any, len(is))
	for i, v := range is {
		args[i] = v
	}
	if len(is) > 0 {
		query += " WHERE " + quote(where) + " IN (" + strings.TrimSuffix(strings.Repeat("?,", len(is)), ",") + ")"
	}
	return rows(ctx, d.pool, "read rows of "+table, query, each, args...)
}

func (d *database) Groups(ctx context.Context, t *sitedb.Table, column string, limit int) ([]sitedb.Group, error) {
	return d.groups(ctx, t.Name, fmt.Sprintf("SELECT ifnull(r.%s,''), count(*), sum(%s) FROM %s r GROUP BY 1 ORDER BY 3 DESC, 1 LIMIT %d",
		quote(column),
		rowBytes("r", t), quote(t.Name), limit))
}

func (d *database) RelatedGroups(ctx context.Context, t *sitedb.Table, column string, to *sitedb.Table, key, by string) ([]sitedb.Group,
	error) {
	return d.groups(ctx, t.Name, fmt.Sprintf("SELECT ifnull(p.%s,''), count(*), sum(%s) FROM %s r JOIN %s p ON p.%s = r.%s GROUP BY 1 "+
		"ORDER BY 3 DESC, 1",
		quote(by), rowBytes("r", t), quote(t.Name), quote(to.Name), quote(key), quote(column)))
}

func rowBytes(alias string, t *sitedb.Table) string {
	parts := []string{"0"}
	for _, c := range t.Stored() {
		parts = append(parts, "ifnull(length(CAST("+alias+"."+quote(c)+" AS BLOB)),0)")
	}
	return strings.Join(parts, "+")
}

func (d *database) groups(ctx context.Context, table, query string) (out []sitedb.Group, err error) {
	err = rows(ctx, d.pool, "count rows of "+table, query, func(row [][]byte) error {
		g := sitedb.Group{Value: string(row[0])}
		g.Rows, _ = strconv.ParseInt(string(row[1]), 10, 64)
		g.Bytes, _ = strconv.ParseInt(string(row[2]), 10, 64)
		out = append(out, g)
		return nil
	})
	return out, err
}

const programsQuery = "SELECT type, name, sql FROM sqlite_master WHERE type IN ('view', 'trigger') UNION ALL " +
	"SELECT 'virtual table', name, sql FROM sqlite_master " +
	"WHERE type = 'table' AND sql LIKE 'CREATE VIRTUAL%' ORDER BY 1, 2"

func (d *database) Code(ctx context.Context) (out []sitedb.Code, err error) {
	err = rows(ctx, d.pool, "list views of "+d.name, programsQuery, func(row [][]byte) error {
		out = append(out, sitedb.Code{What: string(row[0]), Name: string(row[1])})
		return nil
	})
	return out, err
}

type snapshot struct {
	db *database
	tx *sql.Tx
}

// Snapshot opens a transaction that reads (SQLite documentation, "Isolation In SQLite"). The database here is a copy of one moment.
func (d *database) Snapshot(ctx context.Context) (sitedb.Snapshot, error) {
	tx, err := d.pool.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return nil, err
	}
	var n int
	if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master").Scan(&n); err != nil { // from here on it stays as it is
		tx.Rollback()
		return nil, err
	}
	return &snapshot{d, tx}, nil
}

func (s *snapshot) Close() error { return s.tx.Rollback() }

// Rows implements Snapshot.
func (s *snapshot) Rows(ctx context.Context, t *sitedb.Table, each func(row [][]byte) error) error {
	query := "SELECT " + values(t.Stored()) + " FROM " + quote(t.Name)
	if len(t.PrimaryKey) > 0 {
		query += " ORDER BY " + quoteAll(t.PrimaryKey)
	}
	return rows(ctx, s.tx, "read rows of "+t.Name, query, each)
}

// PlainSums implements Snapshot.
func (s *snapshot) PlainSums(ctx context.Context, table string, columns []sitedb.Column) ([]uint64, error) {
	return plainSums(ctx, s.tx, table, columns)
}

// plainSums combines whole numbers, and adds up the rest, from a reading of its own.
func plainSums(ctx context.Context, q queryer, table string, columns []sitedb.Column) ([]uint64, error) {
	if len(columns) == 0 {
		return nil, nil
	}
	sums := make([]uint64, len(columns))
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
	}
	return sums, rows(ctx, q, "sum the rows of "+table, "SELECT "+values(names)+" FROM "+quote(table), func(row [][]byte) error {
		for i, cell := range row {
			n, err := strconv.ParseInt(string(cell), 10, 64)
			switch {
			case cell == nil:
			case columns[i].Whole() && err == nil:
				sums[i] ^= uint64(n)
			default: // a column takes what its type does not say
				sums[i] ^= uint64(crc32.ChecksumIEEE(cell))
			}
		}
		return nil
	})
}

// Definition implements Snapshot.
func (s *snapshot) Definition(ctx context.Context, t *sitedb.Table) (d *sqltext.Definition, err error) {
	var indexes []string
	err = rows(ctx, s.tx, "read the definition of "+t.Name,
		"SELECT type, sql FROM sqlite_master WHERE tbl_name = ? AND sql IS NOT NULL AND type IN ('table', "+
			"'index') ORDER BY type = 'index', name", func(row [][]byte) (err error) {
			if string(row[0]) == "table" {
				d, err = sqltext.SQLite.ParseDefinition(row[1])
			} else {
				indexes = append(indexes, string(row[1]))
			}
			return err
		}, t.Name)
	if err == nil && d == nil {
		err = fmt.Errorf("the definition of %s is not there", t.Name)
	}
	for _, i := range indexes {
		if err == nil {
			err = d.AddIndex([]byte(i))
		}
	}
	if err != nil {
		return nil, fmt.Errorf("%w; leave the table out with the packing list", err)
	}
	return d, nil
}

// Programs implements Snapshot. A program is left out when it is not understood to its end.
func (s *snapshot) Programs(ctx context.Context, tables []sitedb.Table) (out []*sqltext.Program, left []sitedb.LeftOut, err error) {
	err = rows(ctx, s.tx, "list objects of "+s.db.name, programsQuery, func(row [][]byte) error {
		what, name := string(row[0]), string(row[1])
		if what == "view" && !slices.ContainsFunc(tables, func(t sitedb.Table) bool { return t.Name == name }) {
			return nil // the packing list leaves it out
		}
		g, err := sqltext.SQLite.ParseProgram(row[2], "", nil)
		if err != nil {
			left = append(left, sitedb.LeftOut{What: what + " " + name, Reason: err.Error()})
			return nil
		}
		out = append(out, g)
		return nil
	})
	return sqltext.SortPrograms(out), left, err
}
