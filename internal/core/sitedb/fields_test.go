package sitedb

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

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
	parts := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "Grüße", "\t", "\n", "\r", "\x00", "\x1a", "\\", "'", `"`, `\N`, "''", "\\'", "\b", "\xff", `a:1:{s:1:"x";}`, "%_"}), 0, 8).Draw(t, "parts")
	out := []byte{}
	for _, p := range parts {
		out = append(out, p...)
	}
	return out
}

func TestAFieldIsReadAsTheValueItWas(t *testing.T) {
	require.Equal(t, `\N`, string(AppendField(nil, nil)))
	require.Empty(t, AppendField(nil, []byte{}), "an empty text is not NULL")
	rapid.Check(t, func(t *rapid.T) {
		value := values(t)
		require.Equal(t, value, field(t, AppendField(nil, value)))

		// From the literal that an archive has of it, however it is written there.
		for _, literal := range [][]byte{sqltext.AppendText(nil, value), sqltext.AppendString(nil, value), fmt.Appendf(nil, "0x%X", value)} {
			if len(value) == 0 && literal[0] == '0' {
				continue // 0x alone is no literal
			}
			line, err := AppendLiteralField(nil, literal)
			require.NoError(t, err)
			require.Equal(t, value, field(t, line), "%s became %q", literal, line)
		}
	})
	line, err := AppendLiteralField(nil, sqltext.Literal("NULL"))
	require.NoError(t, err)
	require.Equal(t, `\N`, string(line))
	line, err = AppendLiteralField(nil, sqltext.Literal("-12.5e3"))
	require.NoError(t, err)
	require.Equal(t, "-12.5e3", string(line))
	_, err = AppendLiteralField(nil, sqltext.Literal("SLEEP(9)"))
	require.Error(t, err, "what is no literal is not run")
}

// Where bulk loading is forbidden, the same rows go in as INSERT statements: they must say the same.
func TestARowSaysTheSameAsAStatement(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		row := make([][]byte, rapid.IntRange(1, 5).Draw(t, "columns"))
		var line []byte
		for i := range row {
			if rapid.IntRange(0, 4).Draw(t, "null") > 0 {
				row[i] = values(t)
			}
			if i > 0 {
				line = append(line, '\t')
			}
			line = AppendField(line, row[i])
		}
		stmt := []byte("INSERT INTO `t` (")
		for i := range row {
			stmt = fmt.Appendf(stmt, "%s`c%d`", []string{"", ","}[min(i, 1)], i)
		}
		stmt = bytes.TrimSuffix(appendTuple(append(stmt, ") VALUES "...), line), []byte(","))
		ins, err := sqltext.ParseInsert(stmt)
		require.NoError(t, err, "%s", stmt)
		var got []sqltext.Literal
		require.True(t, ins.Next(&got), "%s: %v", stmt, ins.Err())
		require.Len(t, got, len(row))
		for i, l := range got {
			if row[i] == nil {
				require.True(t, l.IsNull())
				continue
			}
			value, err := l.AppendValue([]byte{})
			require.NoError(t, err)
			require.Equal(t, row[i], value, "%s", stmt)
		}
		require.False(t, ins.Next(&got))
		require.NoError(t, ins.Err())
	})
}
