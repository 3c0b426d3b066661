package rewrite

import (
	"encoding/base64"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/phpval"
)

func worker(t *testing.T, mend bool) *Worker {
	t.Helper()
	r, err := New(Rules{Addresses: []Pair{{Old: "http://base.localhost", New: "https://alder-valley.example"}}, Mend: mend})
	require.NoError(t, err)
	return r.Worker()
}

// What stands in each line was written by hand from PHP's format: the length of a string counts the bytes that it means.
func TestStringsOfSerialisedValuesInTextsKeepTheirLengthsRight(t *testing.T) {
	for src, want := range map[string]string{
		`$d = unserialize( 'a:1:{s:3:"url";s:21:"http://base.localhost";}' );`:           `$d = unserialize( 'a:1:{s:3:"url";s:28:"https://alder-valley.example";}' );`,
		`"a:1:{s:3:\"url\";s:23:\"http://base.localhost/x\";}" at http://base.localhost`: `"a:1:{s:3:\"url\";s:30:\"https://alder-valley.example/x\";}" at https://alder-valley.example`,
		`'s:26:"it\'s http://base.localhost";'`:                                          `'s:33:"it\'s https://alder-valley.example";'`,
		`x s:4:"é a"; s:24:"é http://base.localhost"; y`:                                 `x s:4:"é a"; s:31:"é https://alder-valley.example"; y`,
		`s:39:"a:1:{i:0;s:21:"http://base.localhost";}"; http://base.localhost`:          `s:46:"a:1:{i:0;s:28:"https://alder-valley.example";}"; https://alder-valley.example`,
		`at 10:"http://base.localhost"`:                                                  `at 10:"https://alder-valley.example"`,
		`s:5:"http://base.localhost";`:                                                   `s:5:"https://alder-valley.example";`,
		`[x v="s:21:"http://base.localhost";"]`:                                          `[x v="s:28:"https://alder-valley.example";"]`,
	} {
		src, want := strings.ReplaceAll(src, "s:4:\"é a", "s:4:\"é a"), want
		require.Equal(t, want, string(worker(t, false).Value(nil, []byte(src))), src)
	}
}

func TestBrokenValuesAreReplacedAndMendedWhenAsked(t *testing.T) {
	const broken = `a:2:{s:3:"url";s:99:"http://base.localhost/a";s:4:"home";s:21:"http://base.localhost";}`
	w := worker(t, false)
	w.Where = "options"
	out := string(w.Value(nil, []byte(broken)))
	require.Equal(t, `a:2:{s:3:"url";s:99:"https://alder-valley.example/a";s:4:"home";s:28:"https://alder-valley.example";}`, out)
	require.Equal(t, int64(1), w.Tally().Broken)
	require.Zero(t, w.Tally().Mended)
	require.Contains(t, w.Tally().BrokenAt[0], "options: a:2:{")

	w = worker(t, true)
	out = string(w.Value(nil, []byte(broken)))
	require.Equal(t, `a:2:{s:3:"url";s:30:"https://alder-valley.example/a";s:4:"home";s:28:"https://alder-valley.example";}`, out)
	require.True(t, phpval.Valid([]byte(out)))
	require.Equal(t, int64(1), w.Tally().Mended)
	require.Equal(t, `a:1:{i:0;s:3:"abc";}`, string(w.Value(nil, []byte(`a:1:{i:0;s:7:"abc";}`))), "also without an address in it")
	cut := `a:2:{i:0;s:21:"http://base.localhost";i:1;s:40:"cut of`
	require.Equal(t, cut, string(w.Value(nil, []byte(cut))[:0])+cut, "what has no end stays broken")
}

func TestValuesInBase64AreRewrittenWhereTheyCanBeWrittenBack(t *testing.T) {
	code := base64.StdEncoding.EncodeToString
	for src, want := range map[string]string{
		`a:1:{s:1:"u";s:21:"http://base.localhost";}`: `a:1:{s:1:"u";s:28:"https://alder-valley.example";}`,
		`{"u":"http:\/\/base.localhost"}`:             `{"u":"https:\/\/alder-valley.example"}`,
	} {
		require.Equal(t, code([]byte(want)), string(worker(t, false).Value(nil, []byte(code([]byte(src))))), src)
	}
	for _, src := range []string{code([]byte(`a:1:{s:1:"u";s:9:"http://base.localhost";}`)), code([]byte("http://base.localhost/")), "YTox",
		"YTox!!!!YToxYToxYToxYTox"} {
		require.Equal(t, src, string(worker(t, false).Value(nil, []byte(src))))
	}
}

func TestTextInUTF16IsRewritten(t *testing.T) {
	wide := func(s string, big bool) string {
		out := "\xff\xfe"
		if big {
			out = "\xfe\xff"
		}
		for _, u := range utf16.Encode([]rune(s)) {
			low, high := string([]byte{byte(u)}), string([]byte{byte(u >> 8)})
			if big {
				low, high = high, low
			}
			out += low + high
		}
		return out
	}
	half := map[bool]string{false: "\x00\xd8", true: "\xd8\x00"} // of a pair
	for _, big := range []bool{false, true} {
		src := wide("é 𝄞 http://base.localhost/x\r\n", big)
		require.Equal(t, wide("é 𝄞 https://alder-valley.example/x\r\n", big), string(worker(t, false).Wide(nil, []byte(src))))
		for _, other := range []string{wide("nothing", big), src + "x", src + half[big]} {
			require.Equal(t, other, string(worker(t, false).Wide(nil, []byte(other))))
		}
	}
}

func TestATextOfManyLongClaimsIsReadInTime(t *testing.T) {
	for _, claim := range []string{`s:900000:"`, `s:900000:\"`, `s:9:"`} {
		src := "http://base.localhost " + strings.Repeat(claim, 300_000)
		for _, mend := range []bool{false, true} {
			out, _ := worker(t, mend).embedded(nil, []byte(src), mend)
			require.True(t, strings.HasPrefix(string(out), "https://alder-valley.example"))
		}
	}
}

func FuzzEmbedded(f *testing.F) {
	f.Add([]byte(`s:21:"http://base.localhost";s:9:\"http://base.localhost\";`), true)
	f.Fuzz(func(t *testing.T, src []byte, mend bool) {
		worker(t, mend).Value(nil, src)
		if text, err := json.Marshal(string(src)); err == nil {
			worker(t, mend).Value(nil, text)
		}
	})
}
