package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"nestseed/internal/core/archive"
	"nestseed/internal/wire"
)

// OpenArchive opens a release's archive where it is: only what is read is fetched.
func (c *Client) OpenArchive(ctx context.Context, ref string) (*archive.Archive, error) {
	path := "/releases/" + seg(ref) + "/archive"
	res, err := c.send(ctx, http.MethodHead, path, nil, nil)
	if err != nil {
		return nil, err
	}
	res.Body.Close()
	etag, size := res.Header.Get("ETag"), res.ContentLength
	return archive.Open(&archive.Ranges{SizeBytes: size, Fetch: func(p []byte, off int64) error {
		h := http.Header{"Range": {fmt.Sprintf("bytes=%d-%d", off, off+int64(len(p))-1)}, "If-Range": {etag}}
		res, err := c.send(ctx, http.MethodGet, path, nil, h)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if res.StatusCode != http.StatusPartialContent {
			return fmt.Errorf("the archive changed while it was read, or the service does not answer ranges (%s)", res.Status)
		}
		_, err = io.ReadFull(res.Body, p)
		return err
	}}, size)
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

// Sealed copies a release's archive encrypted in the format of age. It cannot be taken up again: each time it is
// encrypted again.
func (c *Client) Sealed(ctx context.Context, ref string, seal wire.Seal, to io.Writer) (int64, error) {
	text, err := json.Marshal(seal)
	if err != nil {
		return 0, err
	}
	res, err := c.send(ctx, http.MethodPost, "/releases/"+seg(ref)+"/sealed", bytes.NewReader(text), nil)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	return io.Copy(to, res.Body)
}
