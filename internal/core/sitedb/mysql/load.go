package mysql

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"github.com/go-sql-driver/mysql"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

type loader struct {
	db     *database
	conn   *sql.Conn
	typed  bool  // the server forbids LOAD DATA
	packet int64 // the longest that the server takes (max_allowed_packet)
	mode   string
}

// Loader turns off the check of foreign keys, which a consistent snapshot has passed already, and which would ask
// for tables in an order. That of unique keys stays on: without it MariaDB from 10.6 sorts whole indexes of an empty
// table before it writes them, which took twice the processor time of adding rows as they come (measured with
// 10.11, 50 MB of posts with four indexes). They are settings of this connection, which is thrown away on Close.
func (d *database) Loader(ctx context.Context) (sitedb.Loader, error) {
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, d.server.explain("open a connection to load "+d.name, err)
	}
	_, err = conn.ExecContext(ctx, "SET SESSION foreign_key_checks=0, SESSION sql_mode='"+lenient+"', SESSION time_zone='+00:00'")
	if err != nil {
		conn.Close()
		return nil, d.server.explain("prepare to load "+d.name, err)
	}
	l := &loader{db: d, conn: conn, mode: lenient}
	if err := conn.QueryRowContext(ctx, "SELECT @@SESSION.max_allowed_packet").Scan(&l.packet); err != nil {
		conn.Close()
		return nil, d.server.explain("prepare to load "+d.name, err)
	}
	return l, nil
}

func (l *loader) Close() error {
	l.conn.Raw(func(any) error { return driver.ErrBadConn })
	return l.conn.Close()
}

func (l *loader) exec(ctx context.Context, statement string) error {
	_, err := l.conn.ExecContext(ctx, statement)
	return l.db.server.explain("change database "+l.db.name, err)
}

// CreateTable implements Loader.
func (l *loader) CreateTable(ctx context.Context, d *sqltext.Definition, rename sitedb.Rename) error {
	return l.exec(ctx, d.Text(rename))
}

// AddForeignKey implements Loader.
func (l *loader) AddForeignKey(ctx context.Context, f sqltext.ForeignKey, rename sitedb.Rename) error {
	return l.exec(ctx, f.Text(rename))
}

// CreateProgram implements Loader.
func (l *loader) CreateProgram(ctx context.Context, g *sqltext.Program, rename sitedb.Rename) error {
	return l.exec(ctx, g.Text(rename))
}

// Modes of a session: tables are made as any server has made them, and rows are loaded strictly. Dates that no calendar has are
// values too.
const (
	lenient = "NO_AUTO_VALUE_ON_ZERO"
	strict  = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,STRICT_ALL_TABLES"
)

func (l *loader) setMode(ctx context.Context, mode string) error {
	if l.mode == mode {
		return nil
	}
	l.mode = mode
	return l.exec(ctx, "SET SESSION sql_mode='"+mode+"'")
}

// Load streams short rows with LOAD DATA, and sends long ones as typed statements: the server takes fields of text apart
// byte by byte, and the values of statements whole. Where LOAD DATA is forbidden, all rows are sent so.
func (l *loader) Load(ctx context.Context, into sitedb.Into, rows sitedb.Rows) (int64, error) {
	mode := strict
	if into.Lenient {
		mode = lenient
	}
	if err := l.setMode(ctx, mode); err != nil {
		return 0, err
	}
	if l.typed || into.RowBytes >= typedFrom*int64(len(into.Columns)) {
		return l.insert(ctx, into, rows)
	}
	n, err := l.stream(ctx, into, rows)
	if errors.Is(err, errForbidden) {
		l.typed = true // no row was asked for yet
		return l.insert(ctx, into, rows)
	}
	return n, err
}

// typedFrom is how many bytes the values of a row have on average from which on typed statements are the faster way.
// Measured with MariaDB 10.11: with 60 and with 100 bytes a value they take three quarters of the server's time, with 5
// bytes a quarter more.
const typedFrom = 40

// errForbidden says that the server does not allow LOAD DATA LOCAL.
var errForbidden = errors.New("bulk loading is forbidden")

var streams atomic.Int64

// stream sends rows with LOAD DATA LOCAL INFILE. Errors: errForbidden, before any row was asked for.
func (l *loader) stream(ctx context.Context, into sitedb.Into, rows sitedb.Rows) (int64, error) {
	name := fmt.Sprintf("rows-%d", streams.Add(1))
	mysql.RegisterReaderHandler(name, func() io.Reader { return &fieldReader{rows: rows} })
	defer mysql.DeregisterReaderHandler(name)
	charset := "utf8mb4"
	if into.UTF8Only {
		charset = "binary"
	}
	res, err := l.conn.ExecContext(ctx, fmt.Sprintf(
		`LOAD DATA LOCAL INFILE 'Reader::%s' INTO TABLE %s CHARACTER SET %s FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n'
			(%s)`,
		name, sqltext.Quote(into.Table), charset, quoteAll(into.Columns)))
	var refused *mysql.MySQLError
	if errors.As(err, &refused) && (refused.Number == 1148 || refused.Number == 3948 || refused.Number == 4166) {
		return 0, fmt.Errorf("%w: %w", errForbidden, err)
	}
	if err != nil {
		return 0, l.db.server.explain("load rows into "+into.Table, err)
	}
	if !into.Lenient {
		if err := l.warnings(ctx, into.Table); err != nil {
			return 0, err
		}
	}
	return res.RowsAffected()
}

// ErrChanged says that a server would not keep a value as it was given.
var ErrChanged = errors.New("the server would change a value")

// warnings is the first warning about the rows that were loaded. LOAD DATA LOCAL makes warnings of what would be errors, as the
// client cannot be stopped (MariaDB manual, "LOAD DATA INFILE").
func (l *loader) warnings(ctx context.Context, table string) error {
	var level, message string
	var code int
	err := l.conn.QueryRowContext(ctx, "SHOW WARNINGS LIMIT 1").Scan(&level, &code, &message)
	if errors.Is(err, sql.ErrNoRows) || err == nil && level == "Note" {
		return nil
	}
	if err != nil {
		return l.db.server.explain("load rows into "+table, err)
	}
	return fmt.Errorf("table %s: %w: %s (%d)", table, ErrChanged, message, code)
}

// fieldReader writes rows as LOAD DATA reads them.
type fieldReader struct {
	rows sitedb.Rows
	text []byte
	read int
	err  error
}

func (r *fieldReader) Read(p []byte) (int, error) {
	if r.read == len(r.text) {
		r.text, r.read = r.text[:0], 0
		for len(r.text) < 64<<10 && r.err == nil {
			var row [][]byte
			if row, r.err = r.rows(); r.err == nil {
				r.text = appendLine(r.text, row)
			}
		}
		if len(r.text) == 0 {
			return 0, r.err
		}
	}
	n := copy(p, r.text[r.read:])
	r.read += n
	return n, nil
}

// Summed returns the columns of text and bytes: what is put into them comes back byte for byte, or was changed.
func (l *loader) Summed(ctx context.Context) (map[string][]string, error) {
	rows, err := l.conn.QueryContext(ctx, `SELECT table_name, column_name FROM information_schema.columns
		WHERE table_schema = ? AND data_type IN
			('char','binary','enum','set','varchar','varbinary','tinytext','text','mediumtext','longtext','tinyblob','blob','mediumblob','longblob')`, l.db.name)
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
func (l *loader) Sums(ctx context.Context, table string, columns []string, utf8Only bool) ([]uint64, error) {
	sums, into := make([]uint64, len(columns)), make([]any, len(columns))
	var query strings.Builder
	for i, c := range columns {
		into[i] = &sums[i]
		text := sqltext.Quote(c)
		if !utf8Only {
			text = "IF(CHARSET(" + text + ")='binary'," + text + ",CAST(CONVERT(" + text + " USING utf8mb4) AS BINARY))"
		}
		query.WriteString([]string{"SELECT ", ", "}[min(i, 1)] + "COALESCE(SUM(CRC32(" + text + ")),0)")
	}
	err := l.conn.QueryRowContext(ctx, query.String()+" FROM "+sqltext.Quote(table)).Scan(into...)
	return sums, l.db.server.explain("sum the rows of "+table, err)
}

// PlainSums implements Loader.
func (l *loader) PlainSums(ctx context.Context, table string, columns []sitedb.Column) ([]uint64, error) {
	return plainSums(ctx, l.db, l.conn, table, columns)
}

func quoteAll(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = sqltext.Quote(n)
	}
	return strings.Join(quoted, ",")
}

// fieldEscapes are the bytes that must not stand bare in a tab-separated field (MariaDB manual, "LOAD DATA INFILE").
var fieldEscapes = [256]byte{0: '0', '\n': 'n', '\r': 'r', '\t': 't', '\\': '\\', 0x1a: 'Z'}

// appendLine appends a row as LOAD DATA reads it: fields with tabs between them, and a line feed.
func appendLine(dst []byte, row [][]byte) []byte {
	for i, value := range row {
		if i > 0 {
			dst = append(dst, '\t')
		}
		if value == nil {
			dst = append(dst, `\N`...)
		} else {
			dst = sqltext.AppendEscaped(dst, value, &fieldEscapes)
		}
	}
	return append(dst, '\n')
}
