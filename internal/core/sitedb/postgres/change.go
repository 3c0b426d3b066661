package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// bytesOf returns which columns of a table hold bytes.
func (d *database) bytesOf(ctx context.Context, table string) (map[string]bool, error) {
	out := map[string]bool{}
	err := d.read(ctx, "list columns of "+table, "SELECT attname FROM pg_attribute WHERE attrelid = "+sqltext.Postgres.String(quote(table))+
		"::regclass AND atttypid = 'bytea'::regtype AND NOT attisdropped", func(row [][]byte) error {
		out[string(row[0])] = true
		return nil
	})
	return out, err
}

func literal(value string, bytes bool) string {
	if bytes {
		return string(sqltext.Postgres.AppendBinary(nil, []byte(value)))
	}
	return sqltext.Postgres.String(value)
}

func (d *database) change(ctx context.Context, doing, statement string) (rows int64, err error) {
	tag, err := d.pool.Exec(ctx, statement)
	return tag.RowsAffected(), d.server.explain(doing, err)
}

// SetValue implements DB.
func (d *database) SetValue(ctx context.Context, table, keyColumn, key, valueColumn, value string) error {
	bytes, err := d.bytesOf(ctx, table)
	if err != nil {
		return err
	}
	is, to := literal(key, bytes[keyColumn]), literal(value, bytes[valueColumn])
	doing := "change " + key + " in " + table
	n, err := d.change(ctx, doing, fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s = %s", quote(table), quote(valueColumn), to, quote(keyColumn),
		is))
	if err == nil && n == 0 {
		_, err = d.change(ctx, doing, fmt.Sprintf("INSERT INTO %s (%s, %s) VALUES (%s, %s)", quote(table), quote(keyColumn), quote(valueColumn),
			is, to))
	}
	return err
}

// Insert implements DB.
func (d *database) Insert(ctx context.Context, table string, values map[string]string) (id int64, err error) {
	bytes, err := d.bytesOf(ctx, table)
	if err != nil {
		return 0, err
	}
	columns := slices.Sorted(maps.Keys(values))
	literals := make([]string, len(columns))
	for i, c := range columns {
		literals[i] = literal(values[c], bytes[c])
	}
	counted := ""
	err = d.read(ctx, "list columns of "+table,
		fmt.Sprintf("SELECT attname FROM pg_attribute WHERE attrelid = %[1]s::regclass AND attnum > 0 AND NOT "+
			"attisdropped AND pg_get_serial_sequence(%[1]s, attname) IS NOT NULL ORDER BY attnum LIMIT 1", sqltext.Postgres.String(quote(table))),
		func(row [][]byte) error {
			counted = string(row[0])
			return nil
		})
	if err != nil {
		return 0, err
	}
	statement := fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(table), quoteAll(columns), strings.Join(literals, ","))
	if counted != "" && !slices.Contains(columns, counted) {
		statement += " RETURNING " + quote(counted)
	}
	err = d.read(ctx, "insert a row into "+table, statement, func(row [][]byte) error {
		id, err = strconv.ParseInt(string(row[0]), 10, 64)
		return err
	})
	return id, err
}

// SetColumn implements DB.
func (d *database) SetColumn(ctx context.Context, table, column, value string) error {
	bytes, err := d.bytesOf(ctx, table)
	if err != nil {
		return err
	}
	to := literal(value, bytes[column])
	_, err = d.change(ctx, "change "+column+" of "+table, fmt.Sprintf("UPDATE %s SET %[2]s = %[3]s WHERE %[2]s IS DISTINCT FROM %[3]s",
		quote(table),
		quote(column), to))
	return err
}

// DeleteLike implements DB.
func (d *database) DeleteLike(ctx context.Context, table, column, pattern string) error {
	like := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`, "*", "%").Replace(pattern)
	_, err := d.change(ctx, "delete rows of "+table, fmt.Sprintf("DELETE FROM %s WHERE %s::text LIKE %s", quote(table), quote(column),
		sqltext.Postgres.String(like)))
	return err
}

// Recount implements DB.
func (d *database) Recount(ctx context.Context, r sitedb.Recount) error {
	_, err := d.change(ctx, "count rows of "+r.Of,
		fmt.Sprintf("UPDATE %[1]s t SET %[2]s = (SELECT count(*) FROM %[3]s o WHERE o.%[4]s = t.%[5]s AND o.%[6]s = %[7]s)",
			quote(r.Table), quote(r.Column), quote(r.Of), quote(r.By), quote(r.Key), quote(r.Where), sqltext.Postgres.String(r.Is)))
	return err
}

// Empty implements DB.
func (d *database) Empty(ctx context.Context, table string) error {
	_, err := d.change(ctx, "empty "+table, "DELETE FROM "+quote(table))
	return err
}

// Redefine implements DB: programs belong to the role that owns the database, which another account of the site works as.
func (d *database) Redefine(context.Context, *sqltext.Program) error {
	return errors.New("programs of PostgreSQL belong to the database's owner and stay as they are")
}

// Take marks the database as that of an owner. Errors: sitedb.ErrExists.
func (d *database) Take(ctx context.Context, owner string) error {
	_, err := d.pool.Exec(ctx, "CREATE TABLE "+quote(sitedb.OwnerTable)+" ("+quote(owner)+" int)")
	var e *pgconn.PgError
	if errors.As(err, &e) && e.Code == "23505" { // two at once find each other in the catalogue
		return fmt.Errorf("take database %s: %w: %s", d.name, sitedb.ErrExists, e.Message)
	}
	return d.server.explain("take database "+d.name, err)
}

const ownerQuery = "SELECT attname FROM pg_attribute WHERE attrelid = to_regclass('" + sitedb.OwnerTable +
	"') AND attnum > 0 AND NOT attisdropped"

// Owner returns whose the database is; "" for nobody's.
func (d *database) Owner(ctx context.Context) (owner string, err error) {
	err = d.read(ctx, "read the owner of "+d.name, ownerQuery, func(row [][]byte) error {
		owner = string(row[0])
		return nil
	})
	return owner, err
}

// Release takes the mark away.
func (d *database) Release(ctx context.Context) error {
	_, err := d.change(ctx, "release database "+d.name, "DROP TABLE IF EXISTS "+quote(sitedb.OwnerTable))
	return err
}

// Clear drops everything in the database's schema at one moment, if it is an owner's.
func (d *database) Clear(ctx context.Context, owner string) error {
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		return d.server.explain("empty database "+d.name, err)
	}
	defer conn.Release()
	return d.server.explain("empty database "+d.name, pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '10s'; SELECT pg_advisory_xact_lock(hashtext('"+sitedb.OwnerTable+"'))"); err != nil {
			return err
		}
		is := ""
		if err := tx.QueryRow(ctx, ownerQuery).Scan(&is); err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		if is != owner {
			return nil
		}
		return clearAll(ctx, tx)
	}))
}

func clearAll(ctx context.Context, tx pgx.Tx) error {
	for _, list := range []string{
		"SELECT 'VIEW', quote_ident(viewname) FROM pg_views WHERE schemaname = current_schema()",
		"SELECT 'MATERIALIZED VIEW', quote_ident(matviewname) FROM pg_matviews WHERE schemaname = current_schema()",
		"SELECT 'TABLE', quote_ident(tablename) FROM pg_tables WHERE schemaname = current_schema()",
		"SELECT 'SEQUENCE', quote_ident(sequencename) FROM pg_sequences WHERE schemaname = current_schema()",
		"SELECT CASE p.prokind WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END, quote_ident(p.proname) || '(' || " +
			"pg_get_function_identity_arguments(p.oid) || ')' FROM pg_proc p WHERE " + here("p.pronamespace", "p.oid") +
			" AND p.prokind IN ('f', 'p')",
		"SELECT 'DOMAIN', quote_ident(typname) FROM pg_type t WHERE " + here("typnamespace", "t.oid") + " AND typtype = 'd'",
		"SELECT 'TYPE', quote_ident(typname) FROM pg_type t WHERE " + here("typnamespace", "t.oid") + " AND typtype = 'e'",
		"SELECT 'EXTENSION', quote_ident(extname) FROM pg_extension WHERE pg_has_role(extowner, 'MEMBER')",
	} {
		var drops []string
		err := texts(ctx, tx.Conn().PgConn(), list, func(row [][]byte) error {
			drops = append(drops, fmt.Sprintf("DROP %s IF EXISTS %s CASCADE", row[0], row[1]))
			return nil
		})
		for _, drop := range drops {
			if err == nil {
				_, err = tx.Exec(ctx, drop)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}
