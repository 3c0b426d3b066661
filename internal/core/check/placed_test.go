package check

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/rewrite"
)

func TestFilesOfAReleaseThatNameItsSourceAreReadOnTheSite(t *testing.T) {
	long := strings.Repeat("word ", 200_000)
	var files []PlacedFile
	for name, text := range map[string]string{"a.css": "url(http://base.localhost/x)", "b.css": "body{}", "c.jpg": "\x00http://base.localhost/",
		"end.txt": long + `http:\/\/base.localhost\/`, "clean.txt": long} {
		files = append(files, PlacedFile{name, int64(len(text)), func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }})
	}
	placed, err := NotNaming(t.Context(), files, rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "http://alder.example"}}})
	require.NoError(t, err)
	require.Equal(t, Placed{"b.css": 6, "c.jpg": 23, "clean.txt": int64(len(long))}, placed)

	require.True(t, is(placed, hostfs.Entry{Path: "b.css", SizeBytes: 6}))
	require.False(t, is(placed, hostfs.Entry{Path: "b.css", SizeBytes: 7}), "it was changed")
	require.False(t, is(placed, hostfs.Entry{Path: "d.css", SizeBytes: 6}), "it was found besides")
	require.False(t, is(nil, hostfs.Entry{Path: "b.css", SizeBytes: 6}))
}

func TestAsManyRequestsAtATimeAsAreAnsweredSooner(t *testing.T) {
	p := pace{limit: firstPace}
	for _, rate := range []float64{10, 19, 36} { // a host with many processors
		p.learn(rate)
	}
	require.Equal(t, 16, p.limit)
	p.learn(37)
	require.Equal(t, 8, p.limit, "more did not help")
	p = pace{limit: firstPace}
	for range 5 { // a host with one
		p.learn(10)
	}
	require.Equal(t, firstPace, p.limit)
}
