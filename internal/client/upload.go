package client

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"time"
)

// Upload sends a file by the tus protocol (resumable uploads 1.0) and returns its number. What breaks is taken up
// where it ended, also by a later call for the same file: which uploads were begun is kept in the user's cache
// folder. each, unless nil, is told how many bytes the service has.
func (c *Client) Upload(ctx context.Context, file string, each func(sent, of int64)) (id string, err error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() {
		return "", fmt.Errorf("%s is not a file", file)
	}
	if each == nil {
		each = func(int64, int64) {}
	}
	begun := c.begun(file, info)
	id = begun.get()
	at := int64(-1)
	if id != "" {
		at, err = c.offset(ctx, id)
		if err != nil && !gone(err) {
			return "", err
		}
		if err != nil {
			at = -1 // it was imported or swept since
		}
	}
	if at < 0 {
		if id, err = c.create(ctx, filepath.Base(file), info.Size()); err != nil {
			return "", err
		}
		begun.set(id)
		at = 0
	}
	for failures := 0; at < info.Size(); {
		each(at, info.Size())
		n, err := c.patch(ctx, id, f, at, info.Size())
		if err == nil {
			at, failures = n, 0
			continue
		}
		var p *Problem
		if errors.As(err, &p) && (p.Status < 500 && p.Status != http.StatusConflict && p.Status != http.StatusLocked ||
			p.Status == http.StatusInsufficientStorage) {
			return "", err
		}
		if failures++; failures > 6 || ctx.Err() != nil {
			return "", fmt.Errorf("%w; what was sent is kept, and the same command goes on from there", errors.Join(ctx.Err(), err))
		}
		select {
		case <-time.After(time.Duration(failures) * 300 * time.Millisecond):
		case <-ctx.Done():
			return "", ctx.Err()
		}
		if now, err := c.offset(ctx, id); err == nil {
			at = now
		} else if gone(err) {
			return "", err
		}
	}
	each(at, info.Size())
	begun.set("")
	return id, nil
}

func gone(err error) bool {
	var p *Problem
	return errors.As(err, &p) && (p.Status == http.StatusNotFound || p.Status == http.StatusGone)
}

// uploadPiece is how much is sent in one request: after a break no more than this is sent again.
const uploadPiece = 64 << 20

func tusHeader(more ...string) http.Header {
	h := http.Header{"Tus-Resumable": {"1.0.0"}, "Content-Type": {"application/offset+octet-stream"}}
	for i := 0; i < len(more); i += 2 {
		h.Set(more[i], more[i+1])
	}
	return h
}

func (c *Client) create(ctx context.Context, name string, size int64) (string, error) {
	res, err := c.send(ctx, http.MethodPost, "/uploads/", nil, tusHeader("Upload-Length", strconv.FormatInt(size, 10), "Upload-Metadata",
		"filename "+base64.StdEncoding.EncodeToString([]byte(name))))
	if err != nil {
		return "", err
	}
	res.Body.Close()
	return path.Base(res.Header.Get("Location")), nil
}

func (c *Client) offset(ctx context.Context, id string) (int64, error) {
	res, err := c.send(ctx, http.MethodHead, "/uploads/"+seg(id), nil, tusHeader())
	if err != nil {
		return 0, err
	}
	res.Body.Close()
	return strconv.ParseInt(res.Header.Get("Upload-Offset"), 10, 64)
}

func (c *Client) patch(ctx context.Context, id string, f io.ReaderAt, at, size int64) (int64, error) {
	body := io.NewSectionReader(f, at, min(uploadPiece, size-at))
	res, err := c.send(ctx, http.MethodPatch, "/uploads/"+seg(id), body, tusHeader("Upload-Offset", strconv.FormatInt(at, 10)))
	if err != nil {
		return 0, err
	}
	res.Body.Close()
	return strconv.ParseInt(res.Header.Get("Upload-Offset"), 10, 64)
}

// begunUpload remembers the number of an upload of one file to one service.
type begunUpload struct{ file, key string }

func (c *Client) begun(file string, info os.FileInfo) begunUpload {
	dir, err := os.UserCacheDir()
	abs, absErr := filepath.Abs(file)
	if err != nil || absErr != nil {
		return begunUpload{}
	}
	return begunUpload{filepath.Join(dir, "nestseed", "uploads.json"), fmt.Sprintf("%s %s %d %d", c.server, abs, info.Size(),
		info.ModTime().UnixNano())}
}

func (b begunUpload) all() map[string]string {
	all := map[string]string{}
	if text, err := os.ReadFile(b.file); err == nil {
		json.NewDecoder(bytes.NewReader(text)).Decode(&all)
	}
	return all
}

func (b begunUpload) get() string {
	if b.file == "" {
		return ""
	}
	return b.all()[b.key]
}

// set remembers or, with "", forgets. That it cannot be kept is no reason not to upload.
func (b begunUpload) set(id string) {
	if b.file == "" {
		return
	}
	all := b.all()
	if all[b.key] = id; id == "" {
		delete(all, b.key)
	}
	text, err := json.Marshal(all)
	if err == nil && os.MkdirAll(filepath.Dir(b.file), 0o700) == nil {
		os.WriteFile(b.file, text, 0o600)
	}
}
