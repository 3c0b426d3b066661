package contents_test

import (
	"fmt"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/filelist"
)

func ExampleNew() {
	index := filelist.Encode([]filelist.Entry{
		{Path: "files/uploads/harp.jpg", Bytes: 900, Mode: 0o644}, {Path: "files/uploads/lute.jpg", Bytes: 300, Mode: 0o644},
	})
	listing, err := contents.New(index, &archive.Manifest{}).Children("", 10)
	fmt.Println(err)
	for _, n := range listing.Nodes {
		fmt.Println(n.Path, n.Files, n.Bytes)
	}
	// Output:
	// <nil>
	// uploads 2 1200
}
