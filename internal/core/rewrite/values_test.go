package rewrite

import (
	"encoding/json"
	"fmt"
	"testing"

	"nestseed/internal/core/sqltext"

	"github.com/stretchr/testify/require"
)

// Texts and what becomes of them, written from the definitions of the formats and not from what the program does. The site at
// http://base.example/wp and http://base.example, with or without www., becomes https://alder.example:8443.
func TestValuesBecomeWhatTheirFormatsSay(t *testing.T) {
	const to = "https://alder.example:8443"
	r, err := New(Rules{Addresses: []Pair{{"http://base.example", to}, {"http://base.example/wp", to}, {"http://www.base.example", to},
		{"http://www.base.example/wp", to}}, Paths: []Pair{{"/srv/www/base", "/srv/www/alder"}}})
	require.NoError(t, err)
	serialised := func(s string) string { return fmt.Sprintf(`s:%d:"%s";`, len(s), s) }
	inJSON := func(s string) string {
		text, err := json.Marshal(s)
		require.NoError(t, err)
		return string(text)
	}
	same := func(s string) [2]string { return [2]string{s, s} }
	for i, x := range [][2]string{
		// RFC 3986: scheme, host, folder
		{"http://base.example", to}, {"https://base.example", to}, {"HTTP://BASE.example", to}, {"http://base.example/", to + "/"},
		{"http://base.example/wp", to}, {"http://base.example/wp/", to + "/"}, {"http://base.example/wp/wp-admin/a.php?b=c#d", to +
			"/wp-admin/a.php?b=c#d"},
		{"http://base.example/wpx/a", to + "/wpx/a"}, {"http://base.example/lessons/wp", to + "/lessons/wp"},
		{"//base.example/a.js", "//alder.example:8443/a.js"},
		{"//base.example/wp/a.js", "//alder.example:8443/a.js"}, {"http://base.example:80/a", to + "/a"}, {"https://base.example:443", to},
		same("http://base.example:8080/a"), same("ftp://base.example/a"), same("http://base.example.net/a"), same("http://mybase.example/a"),
		// the host with www., which is a longer name and one of the site's
		{"http://www.base.example", to}, {"https://www.base.example/wp/a", to + "/a"}, {"www.base.example", "alder.example:8443"},
		{"//www.base.example/x", "//alder.example:8443/x"}, same("http://shop.base.example/"), same("http://www.www.base.example/"),
		// whatever stands before a scheme
		{"1http://base.example/a", "1" + to + "/a"}, {"siehehttp://base.example", "siehe" + to}, {`\u00e9http://base.example`, `\u00e9` + to},
		{"éhttp://base.example", "é" + to}, {"_http://base.example", "_" + to}, {"http://base.example/ahttp://base.example/b", to + "/a" + to +
			"/b"},
		{"url=http://base.example", "url=" + to}, {"(http://base.example)", "(" + to + ")"}, {"view-source:http://base.example", "view-source:" +
			to},
		// JSON (RFC 8259 section 7): a slash may be escaped, or be a number; and JSON in JSON
		{`{"u":"http:\/\/base.example\/wp\/a"}`, `{"u":"https:\/\/alder.example:8443\/a"}`},
		{`"http:\\\/\\\/base.example\\\/a"`, `"https:\\\/\\\/alder.example:8443\\\/a"`},
		{`http:\\/\\/base.example\\/wp`, `https:\\/\\/alder.example:8443`}, {`"http:\u002f\u002fbase.example\u002fa"`,
			`"https:\u002f\u002falder.example:8443\u002fa"`},
		{`"http:\u002F\u002Fbase.example\u002Fwp\u002Fa"`, `"https:\u002F\u002Falder.example:8443\u002Fa"`},
		{`\u0022http://base.example\u0022`, `\u0022` + to + `\u0022`},
		{`"\/\/base.example\/a"`, `"\/\/alder.example:8443\/a"`},
		// percent-encoding (RFC 3986 section 2.1), once and twice
		{"?u=http%3A%2F%2Fbase.example%2Fwp%2Fa", "?u=https%3A%2F%2Falder.example%3A8443%2Fa"},
		{"?u=http%3a%2f%2fbase.example%2fa", "?u=https%3a%2f%2falder.example%3a8443%2fa"},
		{"?u=http%253A%252F%252Fbase.example", "?u=https%253A%252F%252Falder.example%253A8443"},
		{"?u=http:%2F%2Fbase.example", "?u=https:%2F%2Falder.example:8443"},
		{"?host=base.example%3A80", "?host=alder.example%3A8443"}, {"?x=%22base.example%22", "?x=%22alder.example:8443%22"},
		// references of characters (HTML, 13.1.4)
		{"http:&#x2F;&#x2F;base.example&#x2F;a", "https:&#x2F;&#x2F;alder.example:8443&#x2F;a"}, {"http:&#x2f;&#x2f;base.example&#x2f;wp",
			"https:&#x2f;&#x2f;alder.example:8443"},
		{"http:&#47;&#47;base.example&#47;", "https:&#47;&#47;alder.example:8443&#47;"},
		{"http&#x3A;&#x2F;&#x2F;base.example", "https&#x3A;&#x2F;&#x2F;alder.example&#x3A;8443"},
		{"&quot;http://base.example&quot;", "&quot;" + to + "&quot;"}, {"http://base.example/?a=1&amp;b=2", to + "/?a=1&amp;b=2"},
		// quoted-printable (RFC 2045 section 6.7)
		{"http=3A=2F=2Fbase.example=2Fa", "https=3A=2F=2Falder.example=3A8443=2Fa"},
		// a bare host (RFC 1123), in text and where it is no name of its own
		{"write to base.example today", "write to alder.example:8443 today"}, {"base.example.", "alder.example:8443."},
		{"base.example,", "alder.example:8443,"},
		{"<b>base.example</b>", "<b>alder.example:8443</b>"}, {"Domain=.base.example;", "Domain=.alder.example:8443;"},
		same("office@base.example"),
		same("uploads/base.example.jpg"), same("/sites/base.example/a"), same("base.example.net"), same("database.example"),
		same("base.example-old"),
		// HTML, CSS, Markdown, feeds, srcset
		{`<a href="http://base.example/wp/">x</a>`, `<a href="` + to + `/">x</a>`},
		{`<img srcset="http://base.example/a.jpg 1x, http://base.example/b.jpg 2x">`, `<img srcset="` + to + `/a.jpg 1x, ` + to + `/b.jpg 2x">`},
		{"url(http://base.example/a.png)", "url(" + to + "/a.png)"}, {"[x](http://base.example/a)", "[x](" + to + "/a)"},
		{"<link>http://base.example</link>", "<link>" + to + "</link>"},
		{"RewriteRule ^ http://base.example%{REQUEST_URI} [R]", "RewriteRule ^ " + to + "%{REQUEST_URI} [R]"},
		{"mailto:office@base.example?body=http://base.example", "mailto:office@base.example?body=" + to},
		// folders on disk
		{"/srv/www/base/wp-content", "/srv/www/alder/wp-content"}, {`"\/srv\/www\/base\/a"`, `"\/srv\/www\/alder\/a"`}, same("/srv/www/base2/a"),
		same("/srv/www/baseline"), same("my/srv/www/base"),
		{"include '/srv/www/base';", "include '/srv/www/alder';"}, {"%2Fsrv%2Fwww%2Fbase%2Fa", "%2Fsrv%2Fwww%2Falder%2Fa"},
		// PHP's serialised values: lengths are of bytes
		{serialised("http://base.example/wp/a"), serialised(to + "/a")}, {serialised("é http://base.example"), serialised("é " + to)},
		{`a:2:{i:0;` + serialised("http://base.example") + `s:1:"k";` + serialised("none") + `}`, `a:2:{i:0;` + serialised(to) + `s:1:"k";` +
			serialised("none") + `}`},
		{`O:8:"stdClass":1:{s:1:"u";` + serialised("http://base.example/wp") + `}`, `O:8:"stdClass":1:{s:1:"u";` + serialised(to) + `}`},
		{serialised(serialised("http://base.example")), serialised(serialised(to))}, {serialised(`{"u":"http:\/\/base.example"}`),
			serialised(`{"u":"https:\/\/alder.example:8443"}`)},
		{`a:1:{` + serialised("http://base.example") + `b:1;}`, `a:1:{` + serialised(to) + `b:1;}`}, same(`b:1;`), same(serialised("nothing")),
		same(`i:5;`),
		// serialised values in JSON, and JSON in those: lengths are of what the escapes stand for
		{`{"v":` + inJSON(serialised("http://base.example/é")) + `}`, `{"v":` + inJSON(serialised(to+"/é")) + `}`},
		{`{"v":"s:19:\"http:\/\/base.example\";"}`, `{"v":"s:26:\"https:\/\/alder.example:8443\";"}`},
		{`{"v":"s:22:\"http://base.example/\u00e9\";"}`, `{"v":"s:29:\"https://alder.example:8443/\u00e9\";"}`},
		{`[` + inJSON(`a:1:{i:0;`+serialised(`{"v":`+inJSON(serialised("http://base.example"))+`}`)+`}`) + `,"http://base.example"]`,
			`[` + inJSON(`a:1:{i:0;`+serialised(`{"v":`+inJSON(serialised(to))+`}`)+`}`) + `,"` + to + `"]`},
		{serialised(`{"v":` + inJSON(serialised("http://base.example")) + `}`), serialised(`{"v":` + inJSON(serialised(to)) + `}`)},
		same(`{"v":` + inJSON(serialised("http://other.example")) + `}`),
		{`{"v":` + inJSON(`{"w":`+inJSON(serialised("http://base.example"))+`}`) + `}`,
			`{"v":` + inJSON(`{"w":`+inJSON(serialised(to))+`}`) + `}`},
		// what follows a value, and what only begins like one (PHP manual, unserialize)
		{serialised("http://base.example") + "\n", serialised(to) + "\n"}, {serialised("http://base.example") + " \t\r\n", serialised(to) +
			" \t\r\n"},
		{`s:5:"not one, http://base.example`, `s:5:"not one, ` + to}, {`a:1:{is a shape, see http://base.example/a`, `a:1:{is a shape, see ` +
			to + `/a`},
		// broken, and no worse than before: PHP reads neither
		{`s:99:"http://base.example";`, `s:99:"` + to + `";`}, {`a:1:{s:3:"x";http://base.example}`, `a:1:{s:3:"x";` + to + `}`},
		{`a:1:{i:0;` + serialised("http://base.example"), `a:1:{i:0;` + serialised(to)},
		{serialised(serialised("http://base.example") + "\n"), serialised(serialised(to) + "\n")},
	} {
		require.Equal(t, x[1], string(r.Worker().Value(nil, []byte(x[0]))), "%d: %s", i, x[0])
		literal := sqltext.AppendText(nil, []byte(x[0])) // and as it stands in SQL
		w := r.Worker()
		w.Begin(literal)
		out, changed := w.Literal(nil, literal[1:len(literal)-1])
		if !changed {
			out = literal[1 : len(literal)-1]
		}
		require.Equal(t, string(sqltext.AppendText(nil, []byte(x[1]))), "'"+string(out)+"'", "in SQL, %d: %s", i, x[0])
	}
}

func TestSeveralAddressesAtAHostAreToldApart(t *testing.T) {
	r, err := New(Rules{Addresses: []Pair{{"http://base.example", "https://a.example"}, {"http://base.example/wp", "https://b.example/cms"},
		{"http://base.example/wp/deep", "https://c.example"}, {"http://base.example:8080", "https://d.example"}}})
	require.NoError(t, err)
	for in, want := range map[string]string{
		"http://base.example/x": "https://a.example/x", "http://base.example/wp/x": "https://b.example/cms/x",
		"http://base.example/wp/deep/x": "https://c.example/x",
		"http://base.example/wp/deeper": "https://b.example/cms/deeper", "http://base.example:8080/wp": "https://d.example/wp",
		"http://base.example:81": "http://base.example:81",
	} {
		require.Equal(t, want, string(r.Worker().Text(nil, []byte(in))), in)
		literal := []byte("'" + in + "'")
		w := r.Worker()
		w.Begin(literal)
		out, _ := w.Literal(nil, literal[1:len(literal)-1])
		if len(out) == 0 {
			out = literal[1 : len(literal)-1]
		}
		require.Equal(t, want, string(out), "in SQL: %s", in)
	}
}
