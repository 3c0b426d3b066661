package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

func (d *database) change(ctx context.Context, statement string, args ...any) (lastID, rows int64, err error) {
	res, err := d.pool.ExecContext(ctx, statement, args...)
	if err != nil {
		return 0, 0, d.server.explain("change database "+d.name, err)
	}
	lastID, _ = res.LastInsertId()
	rows, _ = res.RowsAffected()
	return lastID, rows, nil
}

// SetValue implements DB.
func (d *database) SetValue(ctx context.Context, table, keyColumn, key, valueColumn, value string) error {
	_, found, err := d.Lookup(ctx, table, keyColumn, key, valueColumn)
	if err != nil {
		return err
	}
	stmt := "UPDATE %s SET %s = ? WHERE %s = ?"
	if !found {
		stmt = "INSERT INTO %s (%s, %s) VALUES (?, ?)"
	}
	_, _, err = d.change(ctx, fmt.Sprintf(stmt, sqltext.Quote(table), sqltext.Quote(valueColumn), sqltext.Quote(keyColumn)), value, key)
	return err
}

// Insert implements DB.
func (d *database) Insert(ctx context.Context, table string, values map[string]string) (int64, error) {
	var columns []string
	var args []any
	for column := range values {
		columns = append(columns, column)
	}
	slices.Sort(columns)
	for _, column := range columns {
		args = append(args, values[column])
	}
	marks := strings.TrimSuffix(strings.Repeat("?,", len(columns)), ",")
	id, _, err := d.change(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", sqltext.Quote(table), quoteAll(columns), marks), args...)
	return id, err
}

// SetColumn implements DB. Most rows may have the value already: an index on the column tells, and no row is looked at.
func (d *database) SetColumn(ctx context.Context, table, column, value string) error {
	_, _, err := d.change(ctx, fmt.Sprintf("UPDATE %s SET %[2]s = ? WHERE %[2]s <> ? OR %[2]s IS NULL", sqltext.Quote(table),
		sqltext.Quote(column)), value, value)
	return err
}

// DeleteLike implements DB.
func (d *database) DeleteLike(ctx context.Context, table, column, pattern string) error {
	like := strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`, "*", "%").Replace(pattern)
	_, _, err := d.change(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s LIKE ?", sqltext.Quote(table), sqltext.Quote(column)), like)
	return err
}

// Recount implements DB.
func (d *database) Recount(ctx context.Context, r sitedb.Recount) error {
	_, _, err := d.change(ctx, fmt.Sprintf("UPDATE %s p SET p.%s = (SELECT COUNT(*) FROM %s c WHERE c.%s = p.%s AND c.%s = ?)",
		sqltext.Quote(r.Table), sqltext.Quote(r.Column),
		sqltext.Quote(r.Of), sqltext.Quote(r.By), sqltext.Quote(r.Key), sqltext.Quote(r.Where)), r.Is)
	return err
}

// Empty implements DB.
func (d *database) Empty(ctx context.Context, table string) error {
	_, _, err := d.change(ctx, "DELETE FROM "+sqltext.Quote(table))
	return err
}

// Redefine implements DB. MariaDB replaces a program at one moment; MySQL knows that of views only, so there is a moment
// without the trigger or routine.
func (d *database) Redefine(ctx context.Context, g *sqltext.Program) error {
	text := g.Text(nil)
	if _, _, err := d.change(ctx, strings.Replace(text, "CREATE ", "CREATE OR REPLACE ", 1)); err == nil {
		return nil
	}
	if _, _, err := d.change(ctx, "DROP "+strings.ToUpper(g.Type)+" IF EXISTS "+sqltext.Quote(g.Name)); err != nil {
		return err
	}
	_, _, err := d.change(ctx, text)
	return err
}

// Take marks the database as that of an owner. Errors: sitedb.ErrExists.
func (d *database) Take(ctx context.Context, owner string) error {
	_, _, err := d.change(ctx, "CREATE TABLE "+sqltext.Quote(sitedb.OwnerTable)+" ("+sqltext.Quote(owner)+" int)")
	return err
}

const ownerQuery = "SELECT column_name FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = '" +
	sitedb.OwnerTable + "'"

// Owner returns whose the database is; "" for nobody's.
func (d *database) Owner(ctx context.Context) (owner string, err error) {
	err = d.pool.QueryRowContext(ctx, ownerQuery).Scan(&owner)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return owner, d.server.explain("read the owner of "+d.name, err)
}

// Release takes the mark away.
func (d *database) Release(ctx context.Context) error {
	_, _, err := d.change(ctx, "DROP TABLE IF EXISTS "+sqltext.Quote(sitedb.OwnerTable))
	return err
}

// Clear drops everything in the database, if it is an owner's. One does so at a time, and the mark goes last: what was cut off is still
// the owner's.
func (d *database) Clear(ctx context.Context, owner string) error {
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return d.server.explain("empty database "+d.name, err)
	}
	defer conn.Close()
	return d.server.explain("empty database "+d.name, clearAll(ctx, conn, owner))
}

func clearAll(ctx context.Context, conn *sql.Conn, owner string) error {
	const lock = "CONCAT('nestseed ', LEFT(MD5(DATABASE()), 32))"
	var got sql.NullInt64
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK("+lock+", 10)").Scan(&got); err != nil {
		return err
	}
	if got.Int64 != 1 {
		return errors.New("somebody else is emptying it")
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "DO RELEASE_LOCK("+lock+")")
	is := ""
	if err := conn.QueryRowContext(ctx, ownerQuery).Scan(&is); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if is != owner {
		return nil
	}
	if _, err := conn.ExecContext(ctx, "SET foreign_key_checks = 0"); err != nil {
		return err
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "SET foreign_key_checks = 1")
	for _, of := range [][2]string{
		{"VIEW", "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'VIEW'"},
		{"TABLE", "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type <> 'VIEW' AND " +
			"table_name <> '" + sitedb.OwnerTable + "'"},
		{"FUNCTION", "SELECT routine_name FROM information_schema.routines WHERE routine_schema = DATABASE() AND routine_type = 'FUNCTION'"},
		{"PROCEDURE", "SELECT routine_name FROM information_schema.routines WHERE routine_schema = DATABASE() AND routine_type = 'PROCEDURE'"},
		{"EVENT", "SELECT event_name FROM information_schema.events WHERE event_schema = DATABASE()"},
		{"TABLE", "SELECT '" + sitedb.OwnerTable + "'"},
	} {
		var names []string
		rows, err := conn.QueryContext(ctx, of[1])
		if err != nil {
			return err
		}
		for rows.Next() {
			var name string
			if err := rows.Scan(&name); err != nil {
				rows.Close()
				return err
			}
			names = append(names, name)
		}
		if err := rows.Close(); err != nil {
			return err
		}
		for _, name := range names {
			if _, err := conn.ExecContext(ctx, "DROP "+of[0]+" IF EXISTS "+sqltext.Quote(name)); err != nil {
				return err
			}
		}
	}
	return nil
}
