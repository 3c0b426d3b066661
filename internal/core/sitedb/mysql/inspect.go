package mysql

import (
	"context"
	"database/sql/driver"
	"fmt"
	"strings"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// rowBytes is an expression for the bytes of a row's columns.
func rowBytes(alias string, t *sitedb.Table) string {
	var parts []string
	for _, c := range t.Stored() {
		parts = append(parts, "COALESCE(LENGTH("+alias+"."+sqltext.Quote(c)+"),0)")
	}
	if len(parts) == 0 {
		return "0"
	}
	return strings.Join(parts, "+")
}

func (d *database) Groups(ctx context.Context, t *sitedb.Table, column string, limit int) ([]sitedb.Group, error) {
	q := fmt.Sprintf("SELECT COALESCE(r.%s,''), COUNT(*), SUM(%s) AS bytes FROM %s r GROUP BY 1 ORDER BY bytes DESC, 1 LIMIT %d",
		sqltext.Quote(column), rowBytes("r", t), sqltext.Quote(t.Name), limit)
	return d.groups(ctx, t.Name, q)
}

func (d *database) RelatedGroups(ctx context.Context, t *sitedb.Table, column string, to *sitedb.Table, key,
	by string) ([]sitedb.Group, error) {
	q := fmt.Sprintf("SELECT COALESCE(p.%s,''), COUNT(*), SUM(%s) AS bytes FROM %s r JOIN %s p ON p.%s = r.%s GROUP BY 1 ORDER BY "+
		"bytes DESC, 1",
		sqltext.Quote(by), rowBytes("r", t), sqltext.Quote(t.Name), sqltext.Quote(to.Name), sqltext.Quote(key), sqltext.Quote(column))
	return d.groups(ctx, t.Name, q)
}

func (d *database) groups(ctx context.Context, table, query string) ([]sitedb.Group, error) {
	rows, err := d.pool.QueryContext(ctx, query)
	if err != nil {
		return nil, d.server.explain("count rows of "+table, err)
	}
	defer rows.Close()
	var out []sitedb.Group
	for rows.Next() {
		var g sitedb.Group
		if err := rows.Scan(&g.Value, &g.Rows, &g.Bytes); err != nil {
			return nil, err
		}
		out = append(out, g)
	}
	return out, d.server.explain("count rows of "+table, rows.Err())
}

func (d *database) Select(ctx context.Context, table string, columns []string, where string, values []string,
	each func(row [][]byte) error) error {
	var q strings.Builder
	q.WriteString("SELECT " + quoteAll(columns) + " FROM " + sqltext.Quote(table))
	for i, v := range values {
		q.WriteString([]string{" WHERE " + sqltext.Quote(where) + " IN (", ","}[min(i, 1)] + sqltext.String(v))
	}
	if len(values) > 0 {
		q.WriteByte(')')
	}
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return d.server.explain("read rows of "+table, err)
	}
	defer conn.Close()
	err = conn.Raw(func(dc any) error {
		rows, err := dc.(driver.QueryerContext).QueryContext(ctx, q.String(), nil)
		if err != nil {
			return err
		}
		defer rows.Close()
		return eachRow(rows, each)
	})
	return d.server.explain("read rows of "+table, err)
}

func (d *database) Code(ctx context.Context) ([]sitedb.Code, error) {
	rows, err := d.pool.QueryContext(ctx, `SELECT 'view', TABLE_NAME, DEFINER FROM information_schema.VIEWS WHERE TABLE_SCHEMA = ?
		UNION ALL SELECT 'trigger', TRIGGER_NAME, DEFINER FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ?
		UNION ALL SELECT LOWER(ROUTINE_TYPE), ROUTINE_NAME, DEFINER FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ?
		UNION ALL SELECT 'event', EVENT_NAME, DEFINER FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ? ORDER BY 1,
			2`, d.name, d.name, d.name, d.name)
	if err != nil {
		return nil, d.server.explain("list views and routines of "+d.name, err)
	}
	defer rows.Close()
	var out []sitedb.Code
	for rows.Next() {
		var c sitedb.Code
		if err := rows.Scan(&c.What, &c.Name, &c.Definer); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, rows.Err()
}
