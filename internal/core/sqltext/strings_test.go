package sqltext

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Each string of a statement is found, with all that stands between its quotes, and nothing else is.
func TestStringsOfAStatementAreFoundOneAfterTheOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var stmt []byte
		var want []string
		for range rapid.IntRange(0, 6).Draw(t, "parts") {
			stmt = append(stmt, rapid.SampledFrom([]string{"INSERT INTO `t` VALUES (", "1,", "NULL,", "0xFF,", " ", ")", "\n"}).Draw(t,
				"between")...)
			if rapid.Bool().Draw(t, "string") {
				value := []byte(rapid.SampledFrom([]string{"", "it's", `a\b`, "x\ny", `"`, "Grüße", "''", `\'`, "),('"}).Draw(t, "value"))
				stmt = AppendString(stmt, value)
				want = append(want, string(value))
			}
		}
		stmt = append(stmt, " ;"...)
		var got []string
		var marks Marks
		marks.Of(stmt)
		for pos := 0; ; {
			begin, end, resume := marks.NextString(pos)
			if begin < 0 {
				require.Equal(t, len(stmt), resume)
				break
			}
			require.Equal(t, end+1, resume)
			require.Equal(t, byte('\''), stmt[begin-1])
			require.Equal(t, byte('\''), stmt[end])
			got = append(got, string(AppendUnescaped([]byte{}, stmt[begin:end])))
			pos = end + 1
		}
		require.Equal(t, want, got, "%s", stmt)
	})
	for sql, want := range map[string][3]int{
		"VALUES ('not closed":            {-1, -1, 8},
		`VALUES ('ends in an escape\'`:   {-1, -1, 8},
		"/* it's */ \"it's\" `it's` 'x'": {26, 27, 28},
		"-- it's\n'x'":                   {9, 10, 11},
		"5-3, '' # don't":                {6, 6, 7},
		"1 -- don't":                     {-1, -1, 2},
		"1, 2 /":                         {-1, -1, 5},
	} {
		var marks Marks
		marks.Of([]byte(sql))
		begin, end, resume := marks.NextString(0)
		require.Equal(t, want, [3]int{begin, end, resume}, sql)
	}
}

// What text between quotes means is counted and skipped as it is taken apart.
func TestEscapesAreCountedAsTheyAreTakenApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		body := []byte(strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"a", "bc", "''", `\'`, `\\`, `\n`, `\%`, `\_`, "é", `\"`, `"`, "%",
			strings.Repeat("-", 90)}), 0, 12).Draw(t, "pieces"), ""))
		plain := AppendUnescaped(nil, body)
		require.Equal(t, len(plain), Meant(body), "%s", body)
		var marks Marks
		marks.Of(body)
		for n := range len(plain) + 2 {
			pos := marks.Skip(0, n)
			if pos < 0 || pos > len(body) {
				require.True(t, n > len(plain) || plain[n-1] == '\\', "%s at %d", body, n)
				continue
			}
			require.Equal(t, string(plain[:n]), string(AppendUnescaped(nil, body[:pos])), "%s at %d", body, n)
		}
	})
}

// Marks are made the same way on every processor, and of whatever was looked at last.
func TestMarksAreWhereQuotesAndBackslashesAre(t *testing.T) {
	var marks Marks
	rapid.Check(t, func(t *rapid.T) {
		sql := []byte(strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"'", `\`, "a", `"`, strings.Repeat("x", 63), "\xff"}), 0,
			40).Draw(t, "pieces"), ""))
		marks.Of(sql)
		any, quote := make(bitset, len(marks.any)), make(bitset, len(marks.quote))
		setMarksPlain(any, quote, append(bytes.Clone(sql), make([]byte, 64)...))
		require.Equal(t, any, marks.any)
		require.Equal(t, quote, marks.quote)
		end := rapid.IntRange(0, len(sql)).Draw(t, "end")
		for pos := range len(sql) + 1 {
			want := len(sql)
			if i := bytes.IndexAny(sql[pos:], `'\`); i >= 0 {
				want = pos + i
			}
			require.Equal(t, want, marks.Next(pos, len(sql)))
			require.Equal(t, min(want, end), marks.Next(pos, end))
		}
	})
}

func TestLiteralsThatAreNoneAreErrors(t *testing.T) {
	for _, text := range []string{"", "x", "0x", "0xG1", "b'2'", "_binary", "_latin1 ", "1 OR 1=1", "NOW()", "@a", "`a`"} {
		_, err := Literal(text).AppendValue(nil)
		require.Error(t, err, "%q", text)
	}
	for text, want := range map[string]string{"'it''s'": "it's", `'\0\n\Z'`: "\x00\n\x1a", "0x6869": "hi", "x'6869'": "hi",
		"b'01101000'": "h", "_binary 'a'": "a", "-1.5": "-1.5", "1e10": "1e10"} {
		got, err := Literal(text).AppendValue(nil)
		require.NoError(t, err, text)
		require.True(t, bytes.Equal([]byte(want), got), "%s is %q", text, got)
	}
}
