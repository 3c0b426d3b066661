package archive

import (
	"fmt"
	"testing"

	"nestseed/internal/core/filelist"
)

func BenchmarkContents(b *testing.B) {
	var in []filelist.Entry
	for i := range 203_000 {
		in = append(in, filelist.Entry{Path: fmt.Sprintf("files/wp-content/uploads/%03d/%02d/score-%06d.%s", i/1000, i/20%50, i, []string{"jpg", "txt", "pdf"}[i%3]), Bytes: int64(i), Packed: 12, Modified: 1_790_000_000 + int64(i/1000), Mode: 0o644, Area: "media"})
	}
	filelist.Sort(in)
	packed := filelist.Encode(in)
	b.ReportMetric(float64(len(packed)), "packedbytes")
	b.ReportAllocs()
	for b.Loop() {
		if _, err := NewContents(packed, &Manifest{}).Children("", 1000); err != nil {
			b.Fatal(err)
		}
	}
}
