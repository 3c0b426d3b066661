package check

import (
	"bytes"
	"testing"

	"nestseed/internal/core/rewrite"
)

// BenchmarkSearch looks for an old address under the domain that the new one is under, too, in a text that names the new one in every line.
func BenchmarkSearch(b *testing.B) {
	t := newTraces(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://riverbend-base.preview.loomladder.example", New: "http://alder-valley.preview.loomladder.example"}},
		Paths: []rewrite.Pair{{Old: "/srv/www/riverbend-base", New: "/srv/www/alder-valley"}}})
	line := []byte("<a href=\"https://alder-valley.preview.loomladder.example/lessons/violin/\">Violin lessons for beginners</a> and more words\n")
	text := bytes.Repeat(line, 1<<20/len(line))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		t.in(text, func(f found) { b.Fatal(f) })
	}
}
