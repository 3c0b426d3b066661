package mysql

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strings"

	"nestseed/internal/core/parallel"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

const (
	batchRows  = 256
	batchBytes = 128 << 10 // about what a statement has; the driver keeps buffers of twice that
	// batchMost is where a batch ends early, when rows are much longer than they are on average.
	batchMost = 512 << 10
)

// batch is the values of some rows, one row after the other, as a statement sends them.
type batch struct {
	values []driver.NamedValue
	rows   int
	bytes  []byte // what the values lie in
}

func (b *batch) reset() {
	if cap(b.bytes) > 2*batchMost { // a very long row was in it
		b.bytes = make([]byte, 0, batchBytes)
	}
	b.values, b.bytes, b.rows = b.values[:0], b.bytes[:0], 0
}

func (b *batch) add(row [][]byte) {
	for _, value := range row {
		arg := driver.NamedValue{Ordinal: len(b.values) + 1}
		if value != nil {
			at := len(b.bytes)
			b.bytes = append(b.bytes, value...)
			arg.Value = b.bytes[at:len(b.bytes):len(b.bytes)]
		}
		b.values = append(b.values, arg)
	}
	b.rows++
}

// each returns the rows again.
func (b *batch) each() sitedb.Rows {
	row, at := make([][]byte, len(b.values)/b.rows), 0
	return func() ([][]byte, error) {
		if at == len(b.values) {
			return nil, io.EOF
		}
		for i := range row {
			row[i], _ = b.values[at+i].Value.([]byte)
		}
		at += len(row)
		return row, nil
	}
}

// insert sends rows as prepared statements of many rows, in one transaction. While one is on its way the next is made.
func (l *loader) insert(ctx context.Context, into sitedb.Into, rows sitedb.Rows) (n int64, err error) {
	in := &inserter{l: l, into: into, head: "INSERT INTO " + sqltext.Quote(into.Table) + " (" + quoteAll(into.Columns) + ") VALUES ",
		statements: map[int]driver.Stmt{}}
	defer in.close()
	if err := l.exec(ctx, "START TRANSACTION"); err != nil {
		return 0, err
	}
	most := int(min(batchRows, max(1, batchBytes/max(1, into.RowBytes)), 65535/int64(len(into.Columns))))
	full, empty := make(chan *batch), make(chan *batch, 2)
	for range cap(empty) {
		empty <- &batch{bytes: make([]byte, 0, batchBytes)}
	}
	group, inner := parallel.WithContext(ctx)
	group.Go(func() error {
		defer close(full)
		return fill(inner, rows, most, full, empty)
	})
	group.Go(func() error {
		for b := range full {
			if err := in.send(inner, b); err != nil {
				return err
			}
			n += int64(b.rows)
			empty <- b
		}
		return nil
	})
	if err := group.Wait(); err != nil {
		l.Close() // and with the connection goes what was sent
		return 0, err
	}
	return n, errors.Join(l.exec(ctx, "COMMIT"), in.setNames(ctx, "utf8mb4"))
}

// fill makes batches of rows.
func fill(ctx context.Context, rows sitedb.Rows, most int, full chan<- *batch, empty <-chan *batch) error {
	for {
		var b *batch
		select {
		case b = <-empty:
		case <-ctx.Done():
			return ctx.Err()
		}
		b.reset()
		var err error
		for b.rows < most && len(b.bytes) < batchMost && err == nil {
			var row [][]byte
			if row, err = rows(); err == nil {
				b.add(row)
			}
		}
		if err != nil && err != io.EOF {
			return err
		}
		if b.rows > 0 {
			select {
			case full <- b:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if err == io.EOF {
			return nil
		}
	}
}

// inserter keeps the statements of a table, by how many rows they take.
type inserter struct {
	l          *loader
	into       sitedb.Into
	head       string
	statements map[int]driver.Stmt
	names      string // character set that the server is told values are in
}

// keptStatements is how many are kept; most batches are of one size.
const keptStatements = 4

// send sends a batch: what is longer than the server takes in one piece, with LOAD DATA.
func (in *inserter) send(ctx context.Context, b *batch) error {
	l := in.l
	if int64(len(b.bytes)) > l.packet/2 {
		_, err := l.stream(ctx, in.into, b.each())
		if errors.Is(err, errForbidden) {
			return fmt.Errorf("table %s has a row of %d bytes, which is too long for a statement of this server, and LOAD DATA is forbidden "+
				"there: raise max_allowed_packet (%d) or allow local_infile", in.into.Table, len(b.bytes), l.packet)
		}
		return err
	}
	st, err := in.statement(ctx, b.rows)
	if err == nil {
		err = l.conn.Raw(func(any) error {
			_, err := st.(driver.StmtExecContext).ExecContext(ctx, b.values)
			return err
		})
	}
	return l.db.server.explain("insert rows into "+in.into.Table, err)
}

// statement returns the statement for so many rows. It is prepared in the connection's own character set, that of names,
// and run in that of the values.
func (in *inserter) statement(ctx context.Context, rows int) (driver.Stmt, error) {
	if st := in.statements[rows]; st != nil {
		return st, nil
	}
	if len(in.statements) == keptStatements {
		in.close()
	}
	if err := in.setNames(ctx, "utf8mb4"); err != nil {
		return nil, err
	}
	row := "(" + strings.TrimSuffix(strings.Repeat("?,", len(in.into.Columns)), ",") + "),"
	text := in.head + strings.TrimSuffix(strings.Repeat(row, rows), ",")
	err := in.l.conn.Raw(func(conn any) (err error) {
		in.statements[rows], err = conn.(driver.ConnPrepareContext).PrepareContext(ctx, text)
		return err
	})
	if err == nil && in.into.UTF8Only {
		err = in.setNames(ctx, "binary")
	}
	return in.statements[rows], err
}

func (in *inserter) setNames(ctx context.Context, charset string) error {
	if in.names == charset {
		return nil
	}
	in.names = charset
	_, err := in.l.conn.ExecContext(ctx, "SET NAMES "+charset)
	return err
}

// close gives the statements back.
func (in *inserter) close() {
	in.l.conn.Raw(func(any) error {
		for _, st := range in.statements {
			if st != nil {
				st.Close()
			}
		}
		return nil
	})
	clear(in.statements)
}
