package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"sync"

	"nestseed/internal/core/archive"
)

// remote reads an archive in the service by ranges. It reads ahead a little, since a directory and small
// files are read in small pieces.
type remote struct {
	ctx  context.Context
	c    *Client
	path string
	etag string

	mu   sync.Mutex
	at   int64
	held []byte
}

const readAhead = 256 << 10

// OpenArchive opens a release's archive where it is: only what is read is fetched.
func (c *Client) OpenArchive(ctx context.Context, ref string) (*archive.Archive, error) {
	path := "/releases/" + seg(ref) + "/archive"
	res, err := c.send(ctx, http.MethodHead, path, nil, nil)
	if err != nil {
		return nil, err
	}
	res.Body.Close()
	return archive.Open(&remote{ctx: ctx, c: c, path: path, etag: res.Header.Get("ETag")}, res.ContentLength)
}

// ReadAt implements io.ReaderAt.
func (r *remote) ReadAt(p []byte, off int64) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if off < r.at || off+int64(len(p)) > r.at+int64(len(r.held)) {
		if err := r.fetch(off, max(len(p), readAhead)); err != nil {
			return 0, err
		}
	}
	n := copy(p, r.held[min(off-r.at, int64(len(r.held))):])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (r *remote) fetch(off int64, n int) error {
	h := http.Header{"Range": {fmt.Sprintf("bytes=%d-%d", off, off+int64(n)-1)}, "If-Range": {r.etag}}
	res, err := r.c.send(r.ctx, http.MethodGet, r.path, nil, h)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusPartialContent {
		return fmt.Errorf("the archive changed while it was read, or the service does not answer ranges (%s)", res.Status)
	}
	r.held, err = io.ReadAll(res.Body)
	r.at = off
	return err
}

// Download copies a release's archive from an offset on, and returns its entity tag and whole size.
func (c *Client) Download(ctx context.Context, ref string, from int64, to io.Writer) (sizeBytes int64, etag string, err error) {
	h := http.Header{}
	if from > 0 {
		h.Set("Range", fmt.Sprintf("bytes=%d-", from))
	}
	res, err := c.send(ctx, http.MethodGet, "/releases/"+seg(ref)+"/archive", nil, h)
	if err != nil {
		return 0, "", err
	}
	defer res.Body.Close()
	n, err := io.Copy(to, res.Body)
	return from + n, res.Header.Get("ETag"), err
}
