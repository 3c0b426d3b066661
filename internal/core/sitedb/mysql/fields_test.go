package mysql

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// field reads a field of a tab-separated row as LOAD DATA does it (MariaDB manual, "LOAD DATA INFILE", ESCAPED BY).
func field(t require.TestingT, raw []byte) []byte {
	if string(raw) == `\N` {
		return nil
	}
	out := []byte{}
	for i := 0; i < len(raw); i++ {
		require.NotContains(t, "\t\n", string(raw[i:i+1]), "it would end the field")
		if raw[i] != '\\' {
			out = append(out, raw[i])
			continue
		}
		i++
		require.Less(t, i, len(raw), "an escape of nothing")
		switch c := raw[i]; c {
		case '0':
			out = append(out, 0)
		case 'n':
			out = append(out, '\n')
		case 'r':
			out = append(out, '\r')
		case 't':
			out = append(out, '\t')
		case 'b':
			out = append(out, '\b')
		case 'Z':
			out = append(out, 0x1a)
		default:
			out = append(out, c)
		}
	}
	return out
}

// values are what columns hold, and what is easily spoilt on the way most of all.
func values(t *rapid.T) []byte {
	parts := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "Grüße", "\t", "\n", "\r", "\x00", "\x1a", "\\", "'", `"`, `\N`, "''", "\\'",
		"\b", "\xff", `a:1:{s:1:"x";}`, "%_"}), 0, 8).Draw(t, "parts")
	out := []byte{}
	for _, p := range parts {
		out = append(out, p...)
	}
	return out
}

// lines reads what LOAD DATA is given.
func lines(t require.TestingT, text []byte) (rows [][][]byte) {
	for line := range bytes.Lines(text) {
		var row [][]byte
		for _, raw := range bytes.Split(bytes.TrimSuffix(line, []byte("\n")), []byte("\t")) {
			row = append(row, field(t, raw))
		}
		rows = append(rows, row)
	}
	return rows
}

// given returns rows one after the other, each in the same memory, and then an error.
func given(rows [][][]byte, end error) sitedb.Rows {
	var row [][]byte
	var text []byte
	return func() ([][]byte, error) {
		for i := range text {
			text[i] = '!' // what is kept of a row must have been copied
		}
		if len(rows) == 0 {
			return nil, end
		}
		row, text = row[:0], make([]byte, 0, 64)
		for _, value := range rows[0] {
			if value == nil {
				row = append(row, nil)
				continue
			}
			at := len(text)
			text = append(text, value...)
			row = append(row, text[at:len(text):len(text)])
		}
		rows = rows[1:]
		return row, nil
	}
}

func someRows(t *rapid.T) [][][]byte {
	columns := rapid.IntRange(1, 5).Draw(t, "columns")
	return rapid.SliceOfN(rapid.Custom(func(t *rapid.T) [][]byte {
		row := make([][]byte, columns)
		for i := range row {
			if rapid.IntRange(0, 4).Draw(t, "null") > 0 {
				row[i] = values(t)
			}
		}
		return row
	}), 0, 40).Draw(t, "rows")
}

func TestRowsAreReadByLoadDataAsTheyWere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := someRows(t)
		text, err := io.ReadAll(iotest.OneByteReader(&fieldReader{rows: given(rows, io.EOF)}))
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf("%q", rows), fmt.Sprintf("%q", lines(t, text)))
	})
	_, err := io.ReadAll(&fieldReader{rows: given([][][]byte{{[]byte("harp")}}, sqltext.ErrSyntax)})
	require.ErrorIs(t, err, sqltext.ErrSyntax)
}

// Batches hold all rows in order, none of them too many, and give them again; and an error ends them.
func TestRowsGoIntoBatches(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows, most := someRows(t), rapid.IntRange(1, 9).Draw(t, "most")
		full, empty := make(chan *batch), make(chan *batch, 2)
		empty <- &batch{bytes: []byte{}}
		empty <- &batch{bytes: []byte{}}
		ended := make(chan error, 1)
		go func() {
			ended <- fill(context.Background(), given(rows, io.EOF), most, full, empty)
			close(full)
		}()
		var got [][][]byte
		for b := range full {
			require.LessOrEqual(t, b.rows, most)
			require.Len(t, b.values, b.rows*len(rows[0]))
			again := b.each()
			for range b.rows {
				row, err := again()
				require.NoError(t, err)
				copied := make([][]byte, len(row))
				for i, value := range row {
					copied[i] = bytes.Clone(value)
				}
				got = append(got, copied)
			}
			_, err := again()
			require.Equal(t, io.EOF, err)
			empty <- b
		}
		require.NoError(t, <-ended)
		require.Equal(t, fmt.Sprintf("%q", rows), fmt.Sprintf("%q", got))
	})
	empty := make(chan *batch, 1)
	empty <- &batch{bytes: []byte{}}
	require.ErrorIs(t, fill(context.Background(), given(nil, sqltext.ErrSyntax), 3, nil, empty), sqltext.ErrSyntax)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.ErrorIs(t, fill(ctx, nil, 3, nil, nil), context.Canceled)

	long := &batch{bytes: make([]byte, 0, 3*batchMost)}
	long.reset()
	require.Equal(t, batchBytes, cap(long.bytes), "a long row is not kept for ever")
}
