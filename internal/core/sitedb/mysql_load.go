package sitedb

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"github.com/go-sql-driver/mysql"

	"nestseed/internal/core/sqltext"
)

type mysqlLoader struct {
	db   *mysqlDB
	conn *sql.Conn
	slow bool // the server refuses bulk loading; rows go in as INSERT statements
}

// Loader turns off the check of foreign keys, which a consistent snapshot has passed already, and which would ask
// for tables in an order. That of unique keys stays on: without it MariaDB from 10.6 sorts whole indexes of an empty
// table before it writes them, which took twice the processor time of adding rows as they come (measured with
// 10.11, 50 MB of posts with four indexes). They are settings of this connection, which is thrown away on Close.
func (d *mysqlDB) Loader(ctx context.Context) (Loader, error) {
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, d.server.explain("open a connection to load "+d.name, err)
	}
	_, err = conn.ExecContext(ctx, "SET SESSION foreign_key_checks=0, SESSION sql_mode='NO_AUTO_VALUE_ON_ZERO', SESSION time_zone='+00:00'")
	if err != nil {
		conn.Close()
		return nil, d.server.explain("prepare to load "+d.name, err)
	}
	return &mysqlLoader{db: d, conn: conn}, nil
}

func (l *mysqlLoader) Close() error {
	l.conn.Raw(func(any) error { return driver.ErrBadConn })
	return l.conn.Close()
}

func (l *mysqlLoader) Exec(ctx context.Context, statement string) error {
	_, err := l.conn.ExecContext(ctx, statement)
	return l.db.server.explain("change database "+l.db.name, err)
}

var streams atomic.Int64

// Load streams rows with LOAD DATA LOCAL INFILE. wide says that all text columns are UTF-8, so that
// the server need not convert; the bytes are then taken as they are.
func (l *mysqlLoader) Load(ctx context.Context, table string, columns []string, wide bool, rows io.Reader) (int64, error) {
	in := bufio.NewReaderSize(rows, 64<<10)
	if _, err := in.Peek(1); err == io.EOF {
		return 0, nil
	}
	if l.slow {
		return l.insert(ctx, table, columns, in)
	}
	name := fmt.Sprintf("rows-%d", streams.Add(1))
	mysql.RegisterReaderHandler(name, func() io.Reader { return in })
	defer mysql.DeregisterReaderHandler(name)
	charset := "utf8mb4"
	if wide {
		charset = "binary"
	}
	res, err := l.conn.ExecContext(ctx, fmt.Sprintf(
		`LOAD DATA LOCAL INFILE 'Reader::%s' INTO TABLE %s CHARACTER SET %s FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' (%s)`,
		name, sqltext.Quote(table), charset, quoteAll(columns)))
	var refused *mysql.MySQLError
	if errors.As(err, &refused) && (refused.Number == 1148 || refused.Number == 3948 || refused.Number == 4166) {
		l.slow = true // refused before a byte was asked for
		return l.insert(ctx, table, columns, in)
	}
	if err != nil {
		return 0, l.db.server.explain("load rows into "+table, err)
	}
	return res.RowsAffected()
}

// Summed returns the columns of variable length: what is put into them comes back byte for byte, or was cut.
func (l *mysqlLoader) Summed(ctx context.Context) (map[string][]string, error) {
	rows, err := l.conn.QueryContext(ctx, `SELECT table_name, column_name FROM information_schema.columns
		WHERE table_schema = ? AND data_type IN ('varchar','varbinary','tinytext','text','mediumtext','longtext','tinyblob','blob','mediumblob','longblob')`, l.db.name)
	if err != nil {
		return nil, l.db.server.explain("look at the columns of "+l.db.name, err)
	}
	defer rows.Close()
	out := map[string][]string{}
	for rows.Next() {
		var table, column string
		if err := rows.Scan(&table, &column); err != nil {
			return nil, err
		}
		out[table] = append(out[table], column)
	}
	return out, rows.Err()
}

// Sums implements Loader. CRC32 of MariaDB and MySQL is that of ISO 3309, as hash/crc32.IEEE.
func (l *mysqlLoader) Sums(ctx context.Context, table string, columns []string, wide bool) ([]uint64, error) {
	sums, into := make([]uint64, len(columns)), make([]any, len(columns))
	var query strings.Builder
	for i, c := range columns {
		into[i] = &sums[i]
		text := sqltext.Quote(c)
		if !wide {
			text = "IF(CHARSET(" + text + ")='binary'," + text + ",CAST(CONVERT(" + text + " USING utf8mb4) AS BINARY))"
		}
		query.WriteString([]string{"SELECT ", ", "}[min(i, 1)] + "COALESCE(SUM(CRC32(" + text + ")),0)")
	}
	err := l.conn.QueryRowContext(ctx, query.String()+" FROM "+sqltext.Quote(table)).Scan(into...)
	return sums, l.db.server.explain("sum the rows of "+table, err)
}

func quoteAll(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = sqltext.Quote(n)
	}
	return strings.Join(quoted, ",")
}

// insert is the way in where bulk loading is forbidden: the same rows as INSERT statements of about 1 MiB.
func (l *mysqlLoader) insert(ctx context.Context, table string, columns []string, in *bufio.Reader) (n int64, err error) {
	head := "INSERT INTO " + sqltext.Quote(table) + " (" + quoteAll(columns) + ") VALUES "
	stmt := []byte(head)
	flush := func() error {
		if len(stmt) == len(head) {
			return nil
		}
		_, err := l.conn.ExecContext(ctx, string(stmt[:len(stmt)-1]))
		stmt = stmt[:len(head)]
		return l.db.server.explain("insert rows into "+table, err)
	}
	var line []byte
	for {
		part, readErr := in.ReadSlice('\n')
		line = append(line, part...)
		if readErr == bufio.ErrBufferFull {
			continue
		}
		if readErr != nil && readErr != io.EOF {
			return n, readErr
		}
		if len(line) > 0 {
			stmt = appendTuple(stmt, bytes.TrimSuffix(line, []byte("\n")))
			n++
		}
		line = line[:0]
		if readErr == io.EOF {
			return n, flush()
		}
		if len(stmt) > 1<<20 {
			if err := flush(); err != nil {
				return n, err
			}
		}
	}
}

func appendTuple(stmt, line []byte) []byte {
	stmt = append(stmt, '(')
	for i, field := range bytes.Split(line, []byte("\t")) {
		if i > 0 {
			stmt = append(stmt, ',')
		}
		if string(field) == `\N` {
			stmt = append(stmt, "NULL"...)
			continue
		}
		stmt = sqltext.AppendText(stmt, appendFieldValue(nil, field))
	}
	return append(stmt, "),"...)
}

// appendFieldValue appends what a field means; quotes are nothing special in it.
func appendFieldValue(dst, field []byte) []byte {
	for {
		i := bytes.IndexByte(field, '\\')
		if i < 0 || i+1 == len(field) {
			return append(dst, field...)
		}
		dst = sqltext.AppendUnescaped(append(dst, field[:i]...), field[i:i+2])
		field = field[i+2:]
	}
}

// fieldEscapes are the bytes that must not stand bare in a tab-separated field (MariaDB manual, "LOAD DATA INFILE").
var fieldEscapes = [256]byte{0: '0', '\n': 'n', '\r': 'r', '\t': 't', '\\': '\\', 0x1a: 'Z'}

// AppendField appends a value as a field of a row for Load; nil is NULL. Fields are separated by tabs and
// rows end with a line feed, which the caller appends.
func AppendField(dst, value []byte) []byte {
	if value == nil {
		return append(dst, `\N`...)
	}
	return sqltext.AppendEscaped(dst, value, &fieldEscapes)
}

// AppendLiteralField appends an SQL literal as a field. Both forms escape alike, so most literals are
// copied as they stand.
func AppendLiteralField(dst []byte, lit sqltext.Literal) ([]byte, error) {
	if lit.IsNull() {
		return append(dst, `\N`...), nil
	}
	body, quoted := lit.Quoted()
	if quoted && bytes.IndexByte(body, '\t') < 0 && bytes.IndexByte(body, '\n') < 0 && plainEscapes(body) && (bytes.IndexByte(body, '\'') < 0 || !bytes.Contains(body, []byte("''"))) {
		return append(dst, body...), nil
	}
	value, err := lit.AppendValue([]byte{})
	if err != nil {
		return dst, err
	}
	return AppendField(dst, value), nil
}

// plainEscapes reports whether every escape in the text means the same to LOAD DATA.
func plainEscapes(body []byte) bool {
	for i := bytes.IndexByte(body, '\\'); i >= 0 && i+1 < len(body); {
		switch body[i+1] {
		case '0', 'n', 'r', 'Z', '\\', '\'', '"':
		default:
			return false
		}
		next := bytes.IndexByte(body[i+2:], '\\')
		if next < 0 {
			return true
		}
		i += 2 + next
	}
	return true
}
