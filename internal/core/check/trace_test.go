package check

import (
	"bytes"
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/rewrite"
)

func TestTracesAreFoundInAnySpelling(t *testing.T) {
	rules := rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.music.example:8080", New: "https://alder.example"},
		{Old: "http://schools.example/base", New: "http://schools.example/alder"}, {Old: "http://one.example:81", New: "http://one.example:82"}},
		Paths: []rewrite.Pair{{Old: "/srv/www/base", New: "/srv/www/base-alder"}}}
	traces := newTraces(rules)
	utf16 := func(s string) string { return "\xff\xfe" + strings.Join(strings.Split(s, ""), "\x00") + "\x00" }
	for text, want := range map[string]string{
		"http://base.music.example:8080/a": "", "x1HTTP://BASE.Music.Example:8080": "", "//base.music.example:8080": "",
		`http:\/\/base.music.example:8080\/`: "", `"http:\u002f\u002fbase\u002emusic.example\u003a8080"`: "",
		"http%3A%2F%2Fbase.music.example%3A8080": "", "http%253A%252F%252Fbase%252Emusic.example%253A8080": "",
		"http:&#47;&#x2F;base.music&#46;example:8080": "", "http://base=2Emusic.exam=\r\nple:8080": "", "http://ba\\x73e.music.example:8080": "",
		utf16("see http://base.music.example:8080/"): anEncoding, "www.base.music.example:8080": "", "s:9:\"base.music.example:8080\"": "",
		"info@base.music.example": aMailAddress, "database.music.example": aLongerName, "base.music.example.org": aLongerName,
		"base.music.examples": aLongerName, "shop.base.music.example:8080": aLongerName, "http://base.music.example:9090/": aOtherPort,
		"http://base.music.example/": aOtherPort, "/sites/base.music.example:8080/a": aFolderName, "Domain=.base.music.example:8080;": "", "http://schools.example/base/x": "", "http://schools.example/basement": aLongerName,
		"http://one.example:81/x": "", "/srv/www/base/wp-content": "", `\/srv\/www\/base\/x`: "", "/srv/www/basement": aLongerName,
	} {
		var got []found
		traces.in([]byte(text), func(f found) { got = append(got, f) })
		require.Len(t, got, 1, "%q", text)
		require.Equal(t, want, got[0].stays, "%q", text)
	}
	for _, text := range []string{"https://alder.example/base", "http://schools.example/alder", "http://schools.example/", "http://one.example:82",
		"/srv/www/base-alder/x", "music.example", "base music example", ""} {
		traces.in([]byte(text), func(f found) { t.Errorf("%q: %v", text, f) })
	}
	for shift := range 3 {
		code := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("x", shift) + "http://base.music.example:8080/"))
		n := 0
		traces.in([]byte("v="+code), func(found) { n++ })
		require.Equal(t, 1, n, code)
	}
}

func TestANewAddressThatHoldsTheOldNameIsNotATrace(t *testing.T) {
	traces := newTraces(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://music.example", New: "http://alder.music.example"}}})
	traces.in([]byte("http://alder.music.example/ and info@alder.music.example"), func(f found) { t.Errorf("%v", f) })
	n := 0
	traces.in([]byte("http://music.example/"), func(f found) { n++ })
	require.Equal(t, 1, n)
}

func TestPiecesOfAFileOverlap(t *testing.T) {
	traces := newTraces(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.example", New: "http://alder.example"}}})
	for _, at := range []int{100, 4090, 4096, 5000, 8000} {
		text := append(bytes.Repeat([]byte("x "), at/2), "http://base.example/"...)
		found := 0
		require.NoError(t, inPieces(bytes.NewReader(append(text, bytes.Repeat([]byte(" y"), 5000)...)), make([]byte, 4096), func(piece []byte) {
			traces.in(piece, foundIn(&found))
		}))
		require.NotZero(t, found, at)
	}
}

func foundIn(n *int) func(found) { return func(found) { *n++ } }

func TestSerialisedValuesAreJudgedAsPHPWould(t *testing.T) {
	for _, v := range []string{`a:0:{}`, `a:1:{i:0;s:3:"abc";}`, `a:2:{s:1:"x";i:-5;s:1:"y";d:1.5;}`, `s:4:"\xc3\xa9a\"";`, `O:8:"stdClass":1:{s:1:"a";N;}`,
		`C:3:"Set":4:{1,2;}`, `a:1:{i:0;R:1;}`, `b:1;`, "a:0:{}\n", `a:1:{i:0;a:1:{i:0;E:3:"A:b";}}`} {
		v = strings.ReplaceAll(strings.ReplaceAll(v, `\xc3`, "\xc3"), `\xa9`, "\xa9")
		v = strings.ReplaceAll(v, `\"`, `"`)
		require.True(t, looksSerialised([]byte(v)), v)
		require.True(t, canUnserialise([]byte(v)), v)
	}
	for _, v := range []string{`a:1:{i:0;s:4:"abc";}`, `a:2:{i:0;i:1;}`, `s:3:"abcd";`, `a:1:{i:0;i:1;}x;`, `O:8:"stdClass":1:{i:0;}`, `a:1:{N;i:1;}`,
		`C:3:"Set":9:{1,2;}`} {
		require.True(t, looksSerialised([]byte(v)), v)
		require.False(t, canUnserialise([]byte(v)), v)
	}
	for _, v := range []string{"", "a", "a:b", "hello", "s:x:\"\";", "i:1; and more;", `{"a":1}`} {
		require.False(t, looksSerialised([]byte(v)), v)
	}
}
