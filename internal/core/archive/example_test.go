package archive_test

import (
	"bytes"
	"fmt"
	"io"

	"nestseed/internal/core/archive"
)

// named is a volume that is written.
type named struct {
	bytes.Buffer
	to   map[string][]byte
	name string
}

func (n *named) Close() error {
	n.to[n.name] = n.Bytes()
	return nil
}

func ExampleNewCutter() {
	volumes := map[string][]byte{}
	cutter := archive.NewCutter("base-1.zip", archive.MinVolumeBytes, func(name string) (io.WriteCloser, error) {
		return &named{to: volumes, name: name}, nil
	})
	whole := bytes.Repeat([]byte("do re mi "), 20_000)
	_, err := cutter.Write(whole)
	fmt.Println(err, cutter.Close())
	var pieces []archive.Piece
	for name, b := range volumes {
		pieces = append(pieces, archive.Piece{Name: name, R: bytes.NewReader(b), SizeBytes: int64(len(b))})
	}
	joined, err := archive.Join(pieces)
	fmt.Println(joined.Name, joined.SizeBytes == int64(len(whole)), err)
	// Output:
	// <nil> <nil>
	// base-1.zip true <nil>
}
