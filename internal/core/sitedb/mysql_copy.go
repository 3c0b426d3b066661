package sitedb

import (
	"context"
	"database/sql/driver"
	"fmt"

	"nestseed/internal/core/sqltext"
)

func (s *mysqlServer) CopyTable(ctx context.Context, fromDatabase, fromTable, toDatabase, toTable string) (int64, error) {
	doing := fmt.Sprintf("copy table %s to %s", fromTable, toTable)
	rows, err := s.pool.QueryContext(ctx, `SELECT a.COLUMN_NAME FROM information_schema.COLUMNS a JOIN information_schema.COLUMNS b ON b.COLUMN_NAME = a.COLUMN_NAME
		WHERE a.TABLE_SCHEMA = ? AND a.TABLE_NAME = ? AND b.TABLE_SCHEMA = ? AND b.TABLE_NAME = ? AND a.EXTRA NOT LIKE '%GENERATED%' AND b.EXTRA NOT LIKE '%GENERATED%' ORDER BY b.ORDINAL_POSITION`,
		fromDatabase, fromTable, toDatabase, toTable)
	if err != nil {
		return 0, s.explain(doing, err)
	}
	defer rows.Close()
	var columns []string
	for rows.Next() {
		var c string
		if err := rows.Scan(&c); err != nil {
			return 0, err
		}
		columns = append(columns, c)
	}
	if err := rows.Err(); err != nil {
		return 0, s.explain(doing, err)
	}
	if len(columns) == 0 {
		return 0, fmt.Errorf("%s: the two have no columns in common", doing)
	}
	conn, err := s.pool.Conn(ctx)
	if err != nil {
		return 0, s.explain(doing, err)
	}
	// The connection has session settings: it must not go back to the pool.
	defer func() {
		conn.Raw(func(any) error { return driver.ErrBadConn })
		conn.Close()
	}()
	from, to := sqltext.Quote(fromDatabase)+"."+sqltext.Quote(fromTable), sqltext.Quote(toDatabase)+"."+sqltext.Quote(toTable)
	for _, stmt := range []string{"SET SESSION foreign_key_checks = 0, SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO'", "DELETE FROM " + to} {
		if _, err := conn.ExecContext(ctx, stmt); err != nil {
			return 0, s.explain(doing, err)
		}
	}
	res, err := conn.ExecContext(ctx, "INSERT INTO "+to+" ("+quoteAll(columns)+") SELECT "+quoteAll(columns)+" FROM "+from)
	if err != nil {
		return 0, s.explain(doing, err)
	}
	return res.RowsAffected()
}
