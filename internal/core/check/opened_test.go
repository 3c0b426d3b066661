package check

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/base64"
	"encoding/hex"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatIsInsidePackedValuesIsSearched(t *testing.T) {
	const text = `{"was":"http://base.localhost/lessons","and":"what is taught there, to whom, and when"}`
	var z bytes.Buffer
	w := zlib.NewWriter(&z)
	w.Write([]byte(text))
	require.NoError(t, w.Close())
	packed := map[string][]byte{"zlib": z.Bytes(), "bytes as digits": []byte(`\x` + hex.EncodeToString(z.Bytes())),
		"base64": []byte(base64.StdEncoding.EncodeToString(z.Bytes())), "base64 for addresses": []byte(base64.RawURLEncoding.EncodeToString(z.Bytes())),
		"base64 twice": []byte(base64.StdEncoding.EncodeToString([]byte(base64.StdEncoding.EncodeToString(z.Bytes()))))}
	if php, err := exec.LookPath("php"); err == nil {
		for _, f := range []string{"gzcompress", "gzencode", "gzdeflate"} {
			out, err := exec.Command(php, "-r", "echo "+f+"($argv[1], 9);", "--", text).Output()
			require.NoError(t, err)
			packed["PHP's "+f] = out
		}
	}
	found := func(v []byte) (n int, large bool) {
		tr := newTraces(toAlder)
		large = open(v, 0, func(inside []byte) { tr.in(inside, func(found) { n++ }) })
		return n, large
	}
	for name, v := range packed {
		n, large := found(v)
		require.Equal(t, 1, n, name)
		require.False(t, large, name)
	}
	for _, v := range []string{"", "x", "42", text, "eJw", "\x78\x9cnot compressed at all", strings.Repeat("A", 4000), "\x1f\x8b\x08 nor this one, as it is"} {
		n, large := found([]byte(v))
		require.Zero(t, n, v)
		require.False(t, large)
	}
	var much bytes.Buffer
	g := gzip.NewWriter(&much)
	for range mostOpened/1024 + 1 {
		g.Write(make([]byte, 1024))
	}
	require.NoError(t, g.Close())
	_, large := found(much.Bytes())
	require.True(t, large, "it is told and not passed over")
}
