package sqlite

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

func (d *database) exec(ctx context.Context, doing, statement string, args ...any) (sql.Result, error) {
	d.mu.Lock()
	d.changed = true
	d.mu.Unlock()
	res, err := d.pool.ExecContext(ctx, statement, args...)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	return res, nil
}

// bound is a value as it is given to SQLite: text, unless it cannot be one.
func bound(v []byte) any {
	if v == nil {
		return nil
	}
	if !utf8.Valid(v) || bytes.IndexByte(v, 0) >= 0 {
		return v
	}
	return string(v)
}

// SetValue implements DB.
func (d *database) SetValue(ctx context.Context, table, keyColumn, key, valueColumn, value string) error {
	doing := "change " + key + " in " + table
	res, err := d.exec(ctx, doing, fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s = ?", quote(table), quote(valueColumn), quote(keyColumn)),
		bound([]byte(value)), key)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return err
	}
	_, err = d.exec(ctx, doing, fmt.Sprintf("INSERT INTO %s (%s, %s) VALUES (?, ?)", quote(table), quote(keyColumn), quote(valueColumn)), key,
		bound([]byte(value)))
	return err
}

// Insert implements DB.
func (d *database) Insert(ctx context.Context, table string, values map[string]string) (int64, error) {
	columns := slices.Sorted(maps.Keys(values))
	args := make([]any, len(columns))
	for i, c := range columns {
		args[i] = bound([]byte(values[c]))
	}
	res, err := d.exec(ctx, "insert a row into "+table, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(table), quoteAll(columns),
		strings.TrimSuffix(strings.Repeat("?,", len(columns)), ",")), args...)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// SetColumn implements DB.
func (d *database) SetColumn(ctx context.Context, table, column, value string) error {
	_, err := d.exec(ctx, "change "+column+" of "+table, fmt.Sprintf("UPDATE %s SET %[2]s = ?1 WHERE %[2]s IS NOT ?1", quote(table),
		quote(column)), value)
	return err
}

// DeleteLike implements DB.
func (d *database) DeleteLike(ctx context.Context, table, column, pattern string) error {
	glob := strings.NewReplacer("[", "[[]", "?", "[?]").Replace(pattern)
	_, err := d.exec(ctx, "delete rows of "+table, fmt.Sprintf("DELETE FROM %s WHERE %s GLOB ?", quote(table), quote(column)), glob)
	return err
}

// Recount implements DB.
func (d *database) Recount(ctx context.Context, r sitedb.Recount) error {
	_, err := d.exec(ctx, "count rows of "+r.Of,
		fmt.Sprintf("UPDATE %[1]s SET %[2]s = (SELECT count(*) FROM %[3]s o WHERE o.%[4]s = %[1]s.%[5]s AND o.%[6]s = ?)",
			quote(r.Table), quote(r.Column), quote(r.Of), quote(r.By), quote(r.Key), quote(r.Where)), r.Is)
	return err
}

// Empty implements DB.
func (d *database) Empty(ctx context.Context, table string) error {
	_, err := d.exec(ctx, "empty "+table, "DELETE FROM "+quote(table))
	return err
}

// Redefine implements DB.
func (d *database) Redefine(context.Context, *sqltext.Program) error {
	return errors.New("programs of SQLite run as whoever asks, and stay as they are")
}

// Loader implements DB.
func (d *database) Loader(context.Context) (sitedb.Loader, error) { return &loader{d}, nil }

type loader struct{ db *database }

func (l *loader) Close() error { return nil }

// CreateTable implements Loader.
func (l *loader) CreateTable(ctx context.Context, d *sqltext.Definition, rename sitedb.Rename) error {
	for _, stmt := range d.Statements(rename) {
		if _, err := l.db.exec(ctx, "make table "+d.Table, stmt); err != nil {
			return err
		}
	}
	return nil
}

// AddForeignKey implements Loader: those of SQLite are in the definitions of tables.
func (l *loader) AddForeignKey(context.Context, sqltext.ForeignKey, sitedb.Rename) error {
	return errors.New("foreign keys of SQLite are made with their tables")
}

// CreateProgram implements Loader.
func (l *loader) CreateProgram(ctx context.Context, g *sqltext.Program, rename sitedb.Rename) error {
	_, err := l.db.exec(ctx, "make the "+g.String(), g.Text(rename))
	return err
}

// loading lets one load at a time: SQLite has one writer.
func (l *loader) Load(ctx context.Context, into sitedb.Into, rows sitedb.Rows) (n int64, err error) {
	l.db.mu.Lock()
	defer l.db.mu.Unlock()
	l.db.changed = true
	doing := "load rows into " + into.Table
	tx, err := l.db.pool.BeginTx(ctx, nil)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", doing, err)
	}
	defer tx.Rollback()
	st, err := tx.PrepareContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(into.Table), quoteAll(into.Columns),
		strings.TrimSuffix(strings.Repeat("?,", len(into.Columns)), ",")))
	if err != nil {
		return 0, fmt.Errorf("%s: %w", doing, err)
	}
	args := make([]any, len(into.Columns))
	for {
		row, err := rows()
		if err == io.EOF {
			return n, tx.Commit()
		}
		if err != nil {
			return 0, err
		}
		for i, cell := range row {
			args[i] = bound(cell)
		}
		if _, err := st.ExecContext(ctx, args...); err != nil {
			return 0, fmt.Errorf("%s: %w", doing, err)
		}
		n++
	}
}

// Summed implements Loader: texts are kept as they are given, in columns that make nothing of them.
func (l *loader) Summed(ctx context.Context) (map[string][]string, error) {
	tables, err := l.db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, t := range tables {
		for _, c := range t.Columns {
			if !t.View && !c.Generated && (c.Type == "text" || c.Type == "blob") {
				out[t.Name] = append(out[t.Name], c.Name)
			}
		}
	}
	return out, nil
}

// Sums implements Loader.
func (l *loader) Sums(ctx context.Context, table string, columns []string, _ bool) ([]uint64, error) {
	sums := make([]uint64, len(columns))
	return sums, rows(ctx, l.db.pool, "sum the rows of "+table, "SELECT "+values(columns)+" FROM "+quote(table), func(row [][]byte) error {
		for i, cell := range row {
			if cell != nil {
				sums[i] += uint64(crc32.ChecksumIEEE(cell))
			}
		}
		return nil
	})
}

// PlainSums implements Loader.
func (l *loader) PlainSums(ctx context.Context, table string, columns []sitedb.Column) ([]uint64, error) {
	return plainSums(ctx, l.db.pool, table, columns)
}
