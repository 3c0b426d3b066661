package check

import (
	"bytes"
	"context"
	"io"
	"sync"

	"nestseed/internal/core/parallel"
	"nestseed/internal/core/rewrite"
)

// Placed are files that a release has just placed on a site as they are in it, by path, with their sizes in bytes: what was sent to a
// far host a moment ago is not fetched from there again.
type Placed map[string]int64

// PlacedFile is a file of a release.
type PlacedFile struct {
	Path      string
	SizeBytes int64
	Open      func() (io.ReadCloser, error)
}

// NotNaming returns those of a release's files that do not name what rules replace, which were placed as they are. They are searched as the
// files of a site are.
func NotNaming(ctx context.Context, files []PlacedFile, rules rewrite.Rules) (Placed, error) {
	traces, out := newTraces(rules), Placed{}
	var mu sync.Mutex
	group, ctx := parallel.WithContext(ctx)
	group.SetLimit(readers)
	for _, f := range files {
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			r, err := f.Open()
			if err != nil {
				return err
			}
			defer r.Close()
			named, err := traces.inReader(r)
			if err != nil || named {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			out[f.Path] = f.SizeBytes
			return nil
		})
	}
	return out, group.Wait()
}

// inReader reports whether there is a trace in what is read, if it looks like text.
func (t *traces) inReader(r io.Reader) (named bool, err error) {
	buf := make([]byte, 256<<10)
	n, err := io.ReadFull(r, buf[:8<<10])
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return false, err
	}
	if !looksLikeText(buf[:n]) {
		return false, nil
	}
	err = inPieces(io.MultiReader(bytes.NewReader(bytes.Clone(buf[:n])), r), buf, func(piece []byte) {
		t.in(piece, func(found) { named = true })
	})
	return named, err
}
