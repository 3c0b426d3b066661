package postgres

import (
	"context"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// texts runs a query and calls each with every row as the server writes it; columns of bytes are what they mean. A row is valid
// during the call.
func texts(ctx context.Context, c *pgconn.PgConn, query string, each func(row [][]byte) error) error {
	results := c.Exec(ctx, query)
	var failed error
	for results.NextResult() {
		r := results.ResultReader()
		var bytes []int
		for i, f := range r.FieldDescriptions() {
			if f.DataTypeOID == pgtype.ByteaOID {
				bytes = append(bytes, i)
			}
		}
		for r.NextRow() {
			row := r.Values()
			for _, i := range bytes {
				if row[i] != nil {
					n, err := hex.Decode(row[i], row[i][2:]) // \x…
					if err != nil {
						return err
					}
					row[i] = row[i][:n]
				}
			}
			if failed == nil {
				failed = each(row)
			}
			if failed != nil {
				break
			}
		}
		if failed != nil {
			break
		}
	}
	if failed != nil { // what is still to come is not waited for
		c.Close(context.WithoutCancel(ctx))
		return failed
	}
	return results.Close()
}

// read is texts on a connection of the pool.
func (d *database) read(ctx context.Context, doing, query string, each func(row [][]byte) error) error {
	conn, err := d.pool.Acquire(ctx)
	if err == nil {
		defer conn.Release()
		err = texts(ctx, conn.Conn().PgConn(), query, each)
	}
	return d.server.explain(doing, err)
}

func (d *database) Lookup(ctx context.Context, table, keyColumn, key, valueColumn string) (value string, found bool, err error) {
	query := fmt.Sprintf("SELECT %s FROM %s WHERE %s = %s LIMIT 1", quote(valueColumn), quote(table), quote(keyColumn),
		sqltext.Postgres.String(key))
	err = d.read(ctx, "read "+key+" from "+table, query, func(row [][]byte) error {
		value, found = string(row[0]), true
		return nil
	})
	return value, found, err
}

func (d *database) Select(ctx context.Context, table string, columns []string, where string, values []string,
	each func(row [][]byte) error) error {
	query := "SELECT " + quoteAll(columns) + " FROM " + quote(table)
	if len(values) > 0 {
		literals := make([]string, len(values))
		for i, v := range values {
			literals[i] = sqltext.Postgres.String(v)
		}
		query += " WHERE " + quote(where) + " IN (" + strings.Join(literals, ",") + ")"
	}
	return d.read(ctx, "read rows of "+table, query, each)
}

func quoteAll(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = quote(n)
	}
	return strings.Join(quoted, ",")
}

const tablesQuery = `SELECT c.relname, c.relkind IN ('v', 'm'), c.reltuples::bigint, pg_table_size(c.oid), pg_indexes_size(c.oid)
	FROM pg_class c WHERE c.relnamespace = quote_ident(current_schema())::regnamespace
	AND c.relkind IN ('r', 'p', 'v', 'm') AND NOT c.relispartition
	ORDER BY c.relname COLLATE "C"`

const columnsQuery = `SELECT c.relname, a.attname, CASE WHEN t.typtype = 'e' THEN 'enum' WHEN t.typtype = 'c' THEN 'composite'
		WHEN t.typtype = 'r' AND t.typnamespace <> 'pg_catalog'::regnamespace THEN 'range'
		WHEN t.typtype = 'd' THEN format_type(t.typbasetype, t.typtypmod)
		WHEN t.typcategory = 'A' THEN 'array' ELSE format_type(a.atttypid, a.atttypmod) END, a.attgenerated <> '',
	EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary AND a.attnum = ANY (i.indkey)),
	COALESCE((SELECT array_position(i.indkey::int2[], a.attnum) + 1 FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary), 0)
	FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_type t ON t.oid = a.atttypid
	WHERE c.relnamespace = quote_ident(current_schema())::regnamespace
	AND c.relkind IN ('r', 'p', 'v', 'm') AND a.attnum > 0 AND NOT a.attisdropped
	ORDER BY c.relname COLLATE "C", a.attnum`

func (d *database) Tables(ctx context.Context) (tables []sitedb.Table, err error) {
	byName := map[string]int{}
	err = d.read(ctx, "list tables of "+d.name, tablesQuery, func(row [][]byte) error {
		t := sitedb.Table{Name: string(row[0]), View: string(row[1]) == "t"}
		t.Rows, _ = strconv.ParseInt(string(row[2]), 10, 64)
		t.DataBytes, _ = strconv.ParseInt(string(row[3]), 10, 64)
		t.IndexBytes, _ = strconv.ParseInt(string(row[4]), 10, 64)
		byName[t.Name] = len(tables)
		tables = append(tables, t)
		return nil
	})
	if err != nil {
		return nil, err
	}
	places := map[string]map[int]string{}
	err = d.read(ctx, "list columns of "+d.name, columnsQuery, func(row [][]byte) error {
		t := &tables[byName[string(row[0])]]
		c := sitedb.Column{Name: string(row[1]), Generated: string(row[3]) == "t"}
		c.Type = typeOf(string(row[2]))
		c.Binary = c.Type == "bytea"
		switch c.Type {
		case "smallint", "int", "bigint", "decimal", "float", "double":
			c.Numeric = true
		}
		t.Columns = append(t.Columns, c)
		if place, _ := strconv.Atoi(string(row[5])); place > 0 {
			if places[t.Name] == nil {
				places[t.Name] = map[int]string{}
			}
			places[t.Name][place] = c.Name
		}
		return nil
	})
	for i := range tables {
		of := places[tables[i].Name]
		for place := 0; place < 40; place++ { // index keys have at most 32 columns
			if name, there := of[place]; there {
				tables[i].PrimaryKey = append(tables[i].PrimaryKey, name)
			}
		}
	}
	if err == nil {
		err = d.countFew(ctx, tables)
	}
	return sitedb.WithoutOwner(tables), err
}

// countFew counts the rows of tables that the server has not looked at yet, and of small ones, of which it knows no more than that.
func (d *database) countFew(ctx context.Context, tables []sitedb.Table) error {
	const few = 1 << 20
	for i := range tables {
		t := &tables[i]
		if t.View || t.Rows > 0 && t.DataBytes > few {
			continue
		}
		err := d.read(ctx, "count rows of "+t.Name, "SELECT count(*) FROM "+quote(t.Name), func(row [][]byte) (err error) {
			t.Rows, err = strconv.ParseInt(string(row[0]), 10, 64)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// typeOf returns what this program calls a type of the server's; other types are called what they are called there.
func typeOf(declared string) string {
	d, err := sqltext.Postgres.ParseDefinition([]byte("CREATE TABLE t (c " + declared + ")"))
	if err != nil {
		return declared
	}
	return d.Columns[0].Type
}

type snapshot struct {
	db   *database
	conn *pgxpool.Conn
	tx   pgx.Tx

	made *programs // once they are read
}

// Snapshot opens a consistent read (PostgreSQL manual, 13.2.2 "Repeatable Read Isolation Level").
func (d *database) Snapshot(ctx context.Context) (sitedb.Snapshot, error) {
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		return nil, d.server.explain("open a snapshot of "+d.name, err)
	}
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		conn.Release()
		return nil, d.server.explain("open a snapshot of "+d.name, err)
	}
	return &snapshot{db: d, conn: conn, tx: tx}, nil
}

func (s *snapshot) Close() error {
	err := s.tx.Rollback(context.Background())
	if s.conn.Conn().IsClosed() { // a reading was stopped, and the transaction has ended with its connection
		err = nil
	}
	s.conn.Release()
	return err
}

func (s *snapshot) texts(ctx context.Context, doing, query string, each func(row [][]byte) error) error {
	return s.db.server.explain(doing, texts(ctx, s.conn.Conn().PgConn(), query, each))
}

// Rows implements Snapshot.
func (s *snapshot) Rows(ctx context.Context, t *sitedb.Table, each func(row [][]byte) error) error {
	query := "SELECT " + quoteAll(t.Stored()) + " FROM " + quote(t.Name)
	if len(t.PrimaryKey) > 0 {
		query += " ORDER BY " + quoteAll(t.PrimaryKey)
	}
	return s.texts(ctx, "read rows of "+t.Name, query, each)
}

// PlainSums implements Snapshot.
func (s *snapshot) PlainSums(ctx context.Context, table string, columns []sitedb.Column) ([]uint64, error) {
	return plainSums(ctx, s.db, s.conn.Conn().PgConn(), table, columns)
}

// plainSums lets the server combine whole numbers, and adds up the rest from what it writes.
func plainSums(ctx context.Context, db *database, conn *pgconn.PgConn, table string, columns []sitedb.Column) ([]uint64, error) {
	if len(columns) == 0 {
		return nil, nil
	}
	sums := make([]uint64, len(columns))
	var whole, rest []int
	for i, c := range columns {
		if c.Whole() {
			whole = append(whole, i)
		} else {
			rest = append(rest, i)
		}
	}
	var err error
	if len(whole) > 0 {
		parts := make([]string, len(whole))
		for i, at := range whole {
			parts[i] = "COALESCE(bit_xor(" + quote(columns[at].Name) + "::bigint), 0)"
		}
		err = texts(ctx, conn, "SELECT "+strings.Join(parts, ",")+" FROM "+quote(table), func(row [][]byte) error {
			for i, at := range whole {
				n, err := strconv.ParseInt(string(row[i]), 10, 64)
				if sums[at] = uint64(n); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err == nil && len(rest) > 0 {
		names := make([]string, len(rest))
		for i, at := range rest {
			names[i] = columns[at].Name
		}
		err = texts(ctx, conn, "SELECT "+quoteAll(names)+" FROM "+quote(table), func(row [][]byte) error {
			for i, at := range rest {
				if row[i] != nil {
					sums[at] += uint64(crc32.ChecksumIEEE(row[i]))
				}
			}
			return nil
		})
	}
	return sums, db.server.explain("sum the rows of "+table, err)
}

const definitionQuery = `SELECT a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attgenerated <> '', a.attidentity,
	COALESCE(pg_get_expr(ad.adbin, ad.adrelid), ''), COALESCE(pg_get_serial_sequence(%[1]s, a.attname), ''),
	CASE WHEN co.collname <> 'default' AND a.attcollation <> t.typcollation THEN co.collname ELSE '' END
	FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef ad ON ad.adrelid = a.attrelid AND ad.adnum = a.attnum
	LEFT JOIN pg_collation co ON co.oid = a.attcollation
	WHERE a.attrelid = %[1]s::regclass AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`

const constraintsQuery = `SELECT conname, pg_get_constraintdef(oid), contype FROM pg_constraint WHERE conrelid = %s::regclass
	AND contype IN ('p', 'u', 'c', 'f', 'x') ORDER BY contype = 'f', conname`

const indexesQuery = `SELECT pg_get_indexdef(i.indexrelid) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE i.indrelid = %s::regclass
	AND NOT EXISTS (SELECT FROM pg_constraint WHERE conindid = i.indexrelid AND contype IN ('p', 'u', 'x')) ORDER BY c.relname`

// Definition implements Snapshot. What the catalogues say is put together as a statement, and that is parsed like one from outside.
func (s *snapshot) Definition(ctx context.Context, t *sitedb.Table) (*sqltext.Definition, error) {
	doing := "read the definition of " + t.Name
	name := sqltext.Postgres.String(quote(t.Name))
	var lines []string
	counters := map[string]string{}
	err := s.texts(ctx, doing, fmt.Sprintf(definitionQuery, name), func(row [][]byte) error {
		line, sequence := columnLine(row)
		if sequence != "" {
			counters[string(row[0])] = sequence
		}
		lines = append(lines, line)
		return nil
	})
	if err != nil {
		return nil, err
	}
	err = s.texts(ctx, doing, fmt.Sprintf(constraintsQuery, name), func(row [][]byte) error {
		lines = append(lines, "CONSTRAINT "+quote(string(row[0]))+" "+unqualified(string(row[1])))
		return nil
	})
	if err != nil {
		return nil, err
	}
	made, err := s.first(ctx)
	if err != nil {
		return nil, err
	}
	d, err := sqltext.Postgres.ParseDefinition([]byte("CREATE TABLE "+quote(t.Name)+" ("+strings.Join(lines, ", ")+")"), made...)
	if err != nil {
		return nil, fmt.Errorf("%w; leave the table out with the packing list", err)
	}
	var indexes []string
	err = s.texts(ctx, doing, fmt.Sprintf(indexesQuery, name), func(row [][]byte) error {
		indexes = append(indexes, string(row[0]))
		return nil
	})
	for _, i := range indexes {
		if err == nil {
			err = d.AddIndex([]byte(i))
		}
	}
	for column, sequence := range counters {
		if err == nil {
			err = s.texts(ctx, doing, "SELECT last_value + is_called::int FROM "+sequence, func(row [][]byte) error {
				d.SetCounter(column, string(row[0]))
				return nil
			})
		}
	}
	return d, err
}

// unqualified drops the schema that all tables of a site are in.
func unqualified(definition string) string {
	return strings.ReplaceAll(definition, " REFERENCES "+ownSchema+".", " REFERENCES ")
}

// columnLine is the definition of a column, and the sequence that its numbers come from.
func columnLine(row [][]byte) (line, sequence string) {
	column, declared, fallback := string(row[0]), string(row[1]), string(row[5])
	sequence = string(row[6])
	serial := map[string]string{"smallint": "smallserial", "integer": "serial", "bigint": "bigserial"}[declared]
	if sequence != "" && strings.HasPrefix(fallback, "nextval(") && serial != "" {
		declared, fallback = serial, ""
	} else if strings.HasPrefix(fallback, "nextval(") { // of a sequence that stands alone
		sequence = ""
	}
	line = quote(column) + " " + declared
	if collation := string(row[7]); collation != "" {
		line += " COLLATE " + quote(collation)
	}
	switch {
	case string(row[3]) == "t":
		line += " GENERATED ALWAYS AS (" + fallback + ") STORED"
	case fallback != "":
		line += " DEFAULT " + fallback
	}
	if string(row[2]) == "t" {
		line += " NOT NULL"
	}
	if len(row[4]) > 0 && row[4][0] != 0 {
		// By default, also where the source has ALWAYS: rows bring their numbers.
		line += " GENERATED BY DEFAULT AS IDENTITY"
	}
	return line, sequence
}

func (d *database) Code(ctx context.Context) (out []sitedb.Code, err error) {
	for _, sort := range programSorts {
		if sort.first {
			continue
		}
		err = d.read(ctx, "list views and routines of "+d.name, sort.list, func(row [][]byte) error {
			out = append(out, sitedb.Code{What: sort.what, Name: string(row[0]), Definer: string(row[1])})
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// rowBytes is an expression for the bytes of a row's columns.
func rowBytes(alias string, t *sitedb.Table) string {
	var parts []string
	for _, c := range t.Stored() {
		parts = append(parts, "COALESCE(pg_column_size("+alias+"."+quote(c)+"),0)")
	}
	if len(parts) == 0 {
		return "0"
	}
	return strings.Join(parts, "+")
}

func (d *database) Groups(ctx context.Context, t *sitedb.Table, column string, limit int) ([]sitedb.Group, error) {
	return d.groups(ctx, t.Name, fmt.Sprintf("SELECT COALESCE(r.%s::text,''), count(*), sum(%s) FROM %s r GROUP BY 1 ORDER BY 3 DESC, "+
		"1 LIMIT %d",
		quote(column), rowBytes("r", t), quote(t.Name), limit))
}

func (d *database) RelatedGroups(ctx context.Context, t *sitedb.Table, column string, to *sitedb.Table, key, by string) ([]sitedb.Group,
	error) {
	return d.groups(ctx, t.Name, fmt.Sprintf("SELECT COALESCE(p.%s::text,''), count(*), sum(%s) FROM %s r JOIN %s p ON p.%s::text = "+
		"r.%s::text GROUP BY 1 "+
		"ORDER BY 3 DESC, 1", quote(by), rowBytes("r", t), quote(t.Name), quote(to.Name), quote(key), quote(column)))
}

func (d *database) groups(ctx context.Context, table, query string) (out []sitedb.Group, err error) {
	err = d.read(ctx, "count rows of "+table, query, func(row [][]byte) error {
		g := sitedb.Group{Value: string(row[0])}
		g.Rows, _ = strconv.ParseInt(string(row[1]), 10, 64)
		g.Bytes, _ = strconv.ParseInt(string(row[2]), 10, 64)
		out = append(out, g)
		return nil
	})
	return out, err
}
