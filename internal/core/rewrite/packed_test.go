package rewrite

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"encoding/base64"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Applications keep histories, caches and settings compressed.
func TestValuesInsidePackedOnesAreRewrittenAndPackedAgain(t *testing.T) {
	r, err := New(Rules{Addresses: []Pair{{Old: "http://base.localhost", New: "https://alder-valley.example"}}})
	require.NoError(t, err)
	into := func(w io.WriteCloser, out *bytes.Buffer, text string) string {
		_, err := io.WriteString(w, text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return out.String()
	}
	forms := map[string]struct {
		pack func(string) string
		open func(string) io.Reader
	}{
		"zlib": {func(s string) string { var b bytes.Buffer; return into(zlib.NewWriter(&b), &b, s) }, func(s string) io.Reader {
			z, err := zlib.NewReader(strings.NewReader(s))
			require.NoError(t, err)
			return z
		}},
		"gzip": {func(s string) string {
			var b bytes.Buffer
			w := gzip.NewWriter(&b)
			w.Name, w.ModTime = "history", time.Unix(1_700_000_000, 0)
			return into(w, &b, s)
		}, func(s string) io.Reader {
			z, err := gzip.NewReader(strings.NewReader(s))
			require.NoError(t, err)
			require.Equal(t, "history", z.Name)
			require.EqualValues(t, 1_700_000_000, z.ModTime.Unix())
			return z
		}},
		"deflate": {func(s string) string {
			var b bytes.Buffer
			w, err := flate.NewWriter(&b, 9)
			require.NoError(t, err)
			return into(w, &b, s)
		}, func(s string) io.Reader { return flate.NewReader(strings.NewReader(s)) }},
	}
	texts := map[string]string{
		"see http://base.localhost/lessons and what we teach there":    "see https://alder-valley.example/lessons and what we teach there",
		`a:1:{s:3:"url";s:24:"http://base.localhost/a/";}`:             `a:1:{s:3:"url";s:31:"https://alder-valley.example/a/";}`,
		`{"page":"http:\/\/base.localhost\/teachers","title":"Names"}`: `{"page":"https:\/\/alder-valley.example\/teachers","title":"Names"}`,
	}
	for name, form := range forms {
		for was, is := range texts {
			value := func(packed string) string {
				w := r.Worker()
				out := w.Value([]byte("before"), []byte(packed))
				require.True(t, bytes.HasPrefix(out, []byte("before")))
				require.EqualValues(t, 1, w.Tally().Packed, "%s of %s", name, was)
				require.EqualValues(t, 1, w.Tally().Values)
				return string(out[len("before"):])
			}
			inside, err := io.ReadAll(form.open(value(form.pack(was))))
			require.NoError(t, err)
			require.Equal(t, is, string(inside), name)
			if name == "deflate" && base64.StdEncoding.EncodedLen(len(form.pack(was))) < 64 {
				continue // nothing tells it from a word
			}
			encoded, err := base64.StdEncoding.DecodeString(value(base64.StdEncoding.EncodeToString([]byte(form.pack(was)))))
			require.NoError(t, err)
			inside, err = io.ReadAll(form.open(string(encoded)))
			require.NoError(t, err)
			require.Equal(t, is, string(inside), "base64 of "+name)
		}
		for _, same := range []string{form.pack("nothing of it is ours"), form.pack("http://base.localhost/x")[:12], form.pack("http://base.localhost/x") + "more",
			form.pack("\xff\xfe http://base.localhost/x")} {
			w := r.Worker()
			require.Equal(t, same, string(w.Value(nil, []byte(same))), name)
			require.Zero(t, w.Tally().Packed)
		}
	}

	large := forms["gzip"].pack(strings.Repeat("x", openedBytes+1))
	w := r.Worker()
	require.Equal(t, large, string(w.Value(nil, []byte(large))))
	require.EqualValues(t, 1, w.Tally().Unopened)
}
