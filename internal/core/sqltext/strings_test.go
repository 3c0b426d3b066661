package sqltext

import (
	"bytes"
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
			stmt = append(stmt, rapid.SampledFrom([]string{"INSERT INTO `t` VALUES (", "1,", "NULL,", "0xFF,", " ", ")", "\n"}).Draw(t, "between")...)
			if rapid.Bool().Draw(t, "string") {
				value := []byte(rapid.SampledFrom([]string{"", "it's", `a\b`, "x\ny", `"`, "Grüße", "''", `\'`, "),('"}).Draw(t, "value"))
				stmt = AppendString(stmt, value)
				want = append(want, string(value))
			}
		}
		stmt = append(stmt, " ;"...)
		var got []string
		for pos := 0; ; {
			begin, end := NextString(stmt, pos)
			if begin < 0 {
				break
			}
			require.Equal(t, byte('\''), stmt[begin-1])
			require.Equal(t, byte('\''), stmt[end])
			got = append(got, string(AppendUnescaped([]byte{}, stmt[begin:end])))
			pos = end + 1
		}
		require.Equal(t, want, got, "%s", stmt)
	})
	begin, end := NextString([]byte("VALUES ('not closed"), 0)
	require.Equal(t, []int{-1, -1}, []int{begin, end})
	begin, end = NextString([]byte(`VALUES ('ends in an escape\'`), 0)
	require.Equal(t, []int{-1, -1}, []int{begin, end})
}

func TestLiteralsThatAreNoneAreErrors(t *testing.T) {
	for _, text := range []string{"", "x", "0x", "0xG1", "b'2'", "_binary", "_latin1 ", "1 OR 1=1", "NOW()", "@a", "`a`"} {
		_, err := Literal(text).AppendValue(nil)
		require.Error(t, err, "%q", text)
	}
	for text, want := range map[string]string{"'it''s'": "it's", `'\0\n\Z'`: "\x00\n\x1a", "0x6869": "hi", "x'6869'": "hi", "b'01101000'": "h", "_binary 'a'": "a", "-1.5": "-1.5", "1e10": "1e10"} {
		got, err := Literal(text).AppendValue(nil)
		require.NoError(t, err, text)
		require.True(t, bytes.Equal([]byte(want), got), "%s is %q", text, got)
	}
}
