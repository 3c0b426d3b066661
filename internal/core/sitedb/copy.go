package sitedb

import (
	"context"
	"fmt"
	"io"
	"slices"

	"nestseed/internal/core/parallel"
)

const (
	copyRows  = 256
	copyBytes = 512 << 10
)

// RowEdit returns, for the columns of a table, what is done with each row: it may put other values in the row, and reports whether
// the row is taken.
type RowEdit = func(columns []string) func(row [][]byte) bool

// EachRow calls each with columns of every row of a table of whatever can be read. The row is valid during the call.
func EachRow(ctx context.Context, db Reader, table string, columns []string, each func(row [][]byte) error) error {
	tables, err := db.Tables(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(tables, func(t Table) bool { return t.Name == table })
	if at < 0 {
		return fmt.Errorf("there is no table %s", table)
	}
	places, out := make([]int, len(columns)), make([][]byte, len(columns))
	for i, c := range columns {
		if places[i] = slices.Index(tables[at].Stored(), c); places[i] < 0 {
			return fmt.Errorf("table %s has no column %s", table, c)
		}
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	return snap.Rows(ctx, &tables[at], func(row [][]byte) error {
		for i, p := range places {
			out[i] = row[p]
		}
		return each(out)
	})
}

// CopyRows loads the rows of a table of a snapshot into a table that has the same columns, or some of them, and returns how
// many there were. The two may be on different servers, and have different accounts. edit
// may be nil.
func CopyRows(ctx context.Context, from Snapshot, t *Table, to Loader, into *Table, edit RowEdit) (int64, error) {
	few := Table{Name: t.Name, PrimaryKey: t.PrimaryKey}
	kept := into.Stored()
	utf8Only := true
	for _, c := range t.Columns {
		if !c.Generated && slices.Contains(kept, c.Name) {
			few.Columns = append(few.Columns, c)
			utf8Only = utf8Only && c.UTF8()
		}
	}
	for _, c := range into.Columns {
		utf8Only = utf8Only && c.UTF8()
	}
	if len(few.Columns) == 0 {
		return 0, fmt.Errorf("copy table %s to %s: the two have no columns in common", t.Name, into.Name)
	}
	take := func([][]byte) bool { return true }
	if edit != nil {
		take = edit(few.Stored())
	}
	blocks, spare := make(chan *block), make(chan *block, 2)
	for range cap(spare) {
		spare <- &block{bytes: make([]byte, 0, 4<<10)} // never nil: an empty text is not NULL
	}
	var n int64
	group, ctx := parallel.WithContext(ctx)
	group.Go(func() error {
		defer close(blocks)
		return readBlocks(ctx, from, &few, take, blocks, spare)
	})
	group.Go(func() (err error) {
		size := int64(0)
		if t.Rows > 0 {
			size = t.DataBytes / t.Rows
		}
		// What stands in the one may stand in the other, also where a server would not take it today.
		lenient := slices.ContainsFunc(into.Columns, func(c Column) bool { return c.Type == "enum" || c.Type == "set" })
		n, err = to.Load(ctx, Into{Table: into.Name, Columns: few.Stored(), UTF8Only: utf8Only, RowBytes: size, Lenient: lenient},
			rowsOf(ctx, blocks, spare))
		return err
	})
	return n, group.Wait()
}

// block is some rows, with the memory that they lie in.
type block struct {
	cells [][]byte
	bytes []byte
	width int
}

func (b *block) add(row [][]byte) {
	b.width = len(row)
	for _, cell := range row {
		if cell == nil {
			b.cells = append(b.cells, nil)
			continue
		}
		at := len(b.bytes)
		b.bytes = append(b.bytes, cell...)
		b.cells = append(b.cells, b.bytes[at:len(b.bytes):len(b.bytes)])
	}
}

// readBlocks hands over the rows of a table, many at a time.
func readBlocks(ctx context.Context, from Snapshot, t *Table, take func([][]byte) bool, blocks chan<- *block, spare <-chan *block) error {
	var b *block
	give := func() error {
		select {
		case blocks <- b:
			b = nil
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	err := from.Rows(ctx, t, func(row [][]byte) error {
		if !take(row) {
			return nil
		}
		if b == nil {
			select {
			case b = <-spare:
				b.cells, b.bytes = b.cells[:0], b.bytes[:0]
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if b.add(row); len(b.cells) < copyRows*len(row) && len(b.bytes) < copyBytes {
			return nil
		}
		return give()
	})
	if err == nil && b != nil {
		err = give()
	}
	return err
}

// rowsOf returns the rows of blocks one by one. A block is spare when the first row of the next is asked for.
func rowsOf(ctx context.Context, blocks <-chan *block, spare chan<- *block) Rows {
	var b *block
	at := 0
	return func() ([][]byte, error) {
		if b != nil && at == len(b.cells) {
			spare <- b
			b = nil
		}
		if b == nil {
			select {
			case next, more := <-blocks:
				if !more {
					return nil, io.EOF
				}
				b, at = next, 0
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		at += b.width
		return b.cells[at-b.width : at], nil
	}
}
