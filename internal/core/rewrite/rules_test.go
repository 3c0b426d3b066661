package rewrite

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/phpval"
)

// moved rewrites one text from an address to another.
func moved(t *testing.T, old, fresh, text string) string {
	t.Helper()
	r, err := New(Rules{Addresses: []Pair{{old, fresh}}})
	require.NoError(t, err)
	return string(r.Worker().Text(nil, []byte(text)))
}

func TestSitesMoveBetweenSchemesPortsHostsAndFolders(t *testing.T) {
	for _, c := range []struct{ what, old, fresh, in, want string }{
		{"to https", "http://base.example", "https://base.example", `<a href="http://base.example/a">http://base.example</a> //base.example/b`,
			`<a href="https://base.example/a">https://base.example</a> //base.example/b`},
		{"to https, what is https stays", "http://base.example", "https://alder.example", `https://base.example/x`, `https://alder.example/x`},
		{"to www", "https://base.example", "https://www.alder.example", `see base.example, https://base.example/`,
			`see www.alder.example, https://www.alder.example/`},
		{"from www", "https://www.base.example", "https://alder.example", `https://www.base.example/ and https://base.example/`,
			`https://alder.example/ and https://base.example/`},
		{"to a port", "http://base.example", "http://alder.localhost:8480", `http://base.example/?a=1#b`, `http://alder.localhost:8480/?a=1#b`},
		{"from a port", "http://base.localhost:8480", "https://alder.example", `http://base.localhost:8480|http://base.localhost:8480/a`,
			`https://alder.example|https://alder.example/a`},
		{"into a folder", "https://base.example", "https://alder.example/blog", `https://base.example/2026/ //base.example`,
			`https://alder.example/blog/2026/ //alder.example/blog`},
		{"out of a folder", "https://base.example/blog", "https://alder.example", `https://base.example/blog/2026/ https://base.example/shop/`,
			`https://alder.example/2026/ https://base.example/shop/`},
		{"a trailing slash is no part of it", "https://base.example/", "https://alder.example/",
			`https://base.example https://base.example/ https://base.example/a/`,
			`https://alder.example https://alder.example/ https://alder.example/a/`},
		{"escaped slashes in a folder", "https://base.example/blog", "https://alder.example/news", `{"u":"https:\/\/base.example\/blog\/a"}`,
			`{"u":"https:\/\/alder.example\/news\/a"}`},
		{"mail stays", "https://base.example", "https://alder.example", `office@base.example mailto:office@base.example?subject=base.example`,
			`office@base.example mailto:office@base.example?subject=alder.example`},
		{"a longer host stays", "https://base.example", "https://alder.example",
			`https://base.example.org https://my-base.example https://sub.base.example`,
			`https://base.example.org https://my-base.example https://sub.base.example`},
		{"a name in any case", "https://base.example", "https://alder.example",
			`Base.example is ours: HTTPS://BASE.EXAMPLE/A, "http:\/\/Base.example\/b". Office@Base.example, Base.examples`,
			`alder.example is ours: https://alder.example/A, "https:\/\/alder.example\/b". Office@Base.example, Base.examples`},
		{"base64 is not opened", "https://base.example", "https://alder.example", `aHR0cHM6Ly9iYXNlLmV4YW1wbGU=`, `aHR0cHM6Ly9iYXNlLmV4YW1wbGU=`},
	} {
		require.Equal(t, c.want, moved(t, c.old, c.fresh, c.in), c.what)
	}
}

func TestMailAddressesChangeOnlyWhenAsked(t *testing.T) {
	for _, c := range []struct{ old, fresh, in, asked string }{
		{"https://base.example", "https://alder.example", "office@base.example, mailto:Head.Teacher@Base.Example?subject=x",
			"office@alder.example, mailto:Head.Teacher@alder.example?subject=x"},
		{"https://www.base.example", "https://www.alder.example/music", "office@base.example www@www.base.example",
			"office@alder.example www@alder.example"},
		{"http://base.localhost:8480", "https://alder.example", `{"to":"office@base.localhost"}, office%40base.localhost`,
			`{"to":"office@alder.example"}, office%40alder.example`},
		{"https://base.example", "https://alder.example",
			"office@mail.base.example office@base.example.org @base.example https://user@base.example:99/ " +
				"base.example@post.example", "office@mail.base.example office@base.example.org @base.example https://user@base.example:99/ " +
				"base.example@post.example"},
	} {
		rules := Rules{Addresses: []Pair{{Old: c.old, New: c.fresh}}}
		r, err := New(rules)
		require.NoError(t, err)
		require.Equal(t, c.in, string(r.Worker().Text(nil, []byte(c.in))), "they stay")
		rules.Mail = true
		r, err = New(rules)
		require.NoError(t, err)
		w := r.Worker()
		require.Equal(t, c.asked, string(w.Text(nil, []byte(c.in))))
		n, _ := r.Leftovers([]byte(c.asked))
		require.Zero(t, n)
		if c.asked == c.in {
			continue
		}
		require.Equal(t, int64(2), w.Tally().Forms["mail address"])
		value := phpval.AppendString([]byte("a:1:{i:0;"), c.in)
		out := w.Value(nil, append(value, '}'))
		require.True(t, phpval.Valid(out))
		require.Contains(t, string(out), c.asked)
	}
}

func TestAddressesThatCannotBeOneAreRefused(t *testing.T) {
	for _, bad := range []string{"", "base.example", "ftp://base.example", "http://", "http://base.example/?a=1", "http://base.example/#x",
		"http://user:pw@base.example", "http://base example", "//base.example"} {
		_, err := ParseAddress(bad)
		require.Error(t, err, bad)
		_, err = New(Rules{Addresses: []Pair{{bad, "http://alder.example"}}})
		require.Error(t, err, bad)
	}
	u, err := ParseAddress("https://Alder.example:8443/blog/")
	require.NoError(t, err)
	require.Equal(t, "/blog", strings.TrimSuffix(u.Path, "/"))
}

func TestLeftoversAreFoundWhereRewritingWouldHaveReplaced(t *testing.T) {
	r, err := New(Rules{Addresses: []Pair{{"http://base.localhost:8480", "https://alder.example"}},
		Paths: []Pair{{"/srv/www/base", "/srv/www/alder"}}})
	require.NoError(t, err)
	for text, want := range map[string]int{
		"nothing": 0, "http://base.localhost:8480/a " +
			"http:\\/\\/base.localhost:8480": 2, "/srv/www/base/wp-content": 1, "office@base.localhost:8480": 0,
		"http://base.localhost:8480.example": 1, "http://base.localhost:84801": 0, "https://alder.example": 0,
	} {
		n, first := r.Leftovers([]byte(text))
		require.Equal(t, want, n, text)
		if n > 0 {
			require.NotEmpty(t, first)
		}
		require.Equal(t, want > 0, string(r.Worker().Text(nil, []byte(text))) != text, text)
	}
}

func TestTheFirstOfEachDisguiseAreShown(t *testing.T) {
	r, err := New(Rules{Addresses: []Pair{{"http://base.localhost", "https://alder.example"}}})
	require.NoError(t, err)
	all := Tally{}
	for _, where := range []string{"options", "posts"} {
		w := r.Worker()
		w.Where = where
		for range 5 {
			w.Text(nil, []byte(`see http://base.localhost/a or {"u":"http:\/\/base.localhost\/b"}`))
		}
		require.Len(t, w.Tally().Samples, 2*samplesEach)
		all.Merge(w.Tally())
	}
	require.Len(t, all.Samples, 2*samplesEach)
	forms := map[string]int{}
	for _, s := range all.Samples {
		forms[s.Form]++
		require.Contains(t, s.Before, "base.localhost")
		require.Contains(t, s.After, "alder.example")
	}
	require.Equal(t, map[string]int{"plain": samplesEach, "escaped slashes": samplesEach}, forms)
	require.Equal(t, int64(20), all.Replaced)
	silent := r.Worker()
	silent.Text(nil, []byte("http://base.localhost"))
	require.Empty(t, silent.Tally().Samples, "without a place there is nothing to show")
}

func TestRewritingTwiceIsRewritingOnce(t *testing.T) {
	r, err := New(Rules{Addresses: []Pair{{"http://base.localhost", "https://alder.example/site"}},
		Paths: []Pair{{"/srv/www/base", "/srv/www/alder"}}})
	require.NoError(t, err)
	piece := rapid.SampledFrom([]string{"http://base.localhost", `http:\/\/base.localhost\/a`, "base.localhost", "//base.localhost/",
		"http%3A%2F%2Fbase.localhost", "/srv/www/base", " ", "\"", "é", "x", ".", "@", "{", "}"})
	rapid.Check(t, func(t *rapid.T) {
		text := []byte(strings.Join(rapid.SliceOfN(piece, 0, 12).Draw(t, "pieces"), ""))
		once := r.Worker().Value(nil, text)
		again := r.Worker()
		if twice := again.Value(nil, once); string(twice) != string(once) {
			t.Fatalf("%q became %q and then %q", text, once, twice)
		}
		if n, _ := r.Leftovers(once); n > 0 {
			t.Fatalf("%q became %q, in which %d are left", text, once, n)
		}
	})
}

func TestSerialisedValuesStayReadableWhateverStandsInThem(t *testing.T) {
	r, err := New(Rules{Addresses: []Pair{{"http://base.localhost", "https://alder-valley-music-school.example"}}})
	require.NoError(t, err)
	piece := rapid.SampledFrom([]string{"http://base.localhost", "Grüße", "\"", ";", "}", "{", `s:3:"a";`, "\n", "\\",
		"http:\\/\\/base.localhost"})
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(piece, 0, 6).Draw(t, "pieces"), "")
		value := phpval.AppendString([]byte("a:2:{s:3:\"one\";"), text)
		value = append(value, `s:3:"two";`...)
		value = append(phpval.AppendString(value, string(phpval.AppendString(nil, text))), '}')
		out := r.Worker().Value(nil, value)
		if !phpval.Valid(out) {
			t.Fatalf("%q became %q", value, out)
		}
		one, err := phpval.Lookup(out, "one")
		if err != nil {
			t.Fatal(err)
		}
		two, err := phpval.Lookup(out, "two")
		if err != nil {
			t.Fatal(err)
		}
		inner, err := phpval.Lookup([]byte(two))
		if err != nil || inner != one {
			t.Fatalf("%q: within a value within it stands %q: %v", one, inner, err)
		}
	})
}

func TestEachSiteOfALargeNetworkGoesToItsOwnPlace(t *testing.T) {
	rules := Rules{Addresses: []Pair{{Old: "http://alder.example", New: "http://brook.example"}}}
	in, want := "http://alder.example/", "http://brook.example/"
	for i := range 60 {
		label := fmt.Sprintf("branch-%d", i)
		rules.Addresses = append(rules.Addresses, Pair{Old: "http://" + label + ".alder.example", New: "http://" + label + ".brook.example"})
		in += fmt.Sprintf(" http://%s.alder.example/a %s.alder.example", label, label)
		want += fmt.Sprintf(" http://%s.brook.example/a %s.brook.example", label, label)
	}
	in, want = in+" other.alder.example", want+" other.alder.example"
	r, err := New(rules)
	require.NoError(t, err)
	require.Equal(t, want, string(r.Worker().Text(nil, []byte(in))))
	_, err = New(Rules{Addresses: slices.Repeat(rules.Addresses[1:], 1), Paths: slices.Repeat([]Pair{{Old: "/srv/www", New: "/srv/new"}}, 2000)})
	require.ErrorContains(t, err, "more than can be replaced at once")
}
