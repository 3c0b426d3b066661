// Package ahead reads files of a far host before they are asked for, many at a time, as most of the time of each is waiting.
//
//	site, stop := ahead.Open(ctx, site, entries) // in the order in which they will be asked for
//	defer stop()
//
// Files of a host that is near are not read ahead: site comes back as it is.
package ahead

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"sync"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/parallel"
)

const (
	// LargestBytes is the largest file that is read ahead.
	LargestBytes = 1 << 20
	// heldBytes is how much is held of files that nobody has asked for yet.
	heldBytes = 32 << 20
)

// reader is an FS some of whose files are there before they are asked for.
type reader struct {
	hostfs.FS
	ctx context.Context

	mu    sync.Mutex
	wake  *sync.Cond
	files map[string]*file
	room  int64
	ended bool
}

type file struct {
	entry   hostfs.Entry
	begun   bool // somebody reads it
	done    bool
	taken   bool // it was asked for; from now on it is read anew
	content []byte
	after   hostfs.Entry // what it was like when it had been read
	err     error
}

// Open reads the regular files among entries ahead, of a host that is far. stop ends that.
func Open(ctx context.Context, fsys hostfs.FS, entries []hostfs.Entry) (_ hostfs.FS, stop func()) {
	if !hostfs.Far(fsys) {
		return fsys, func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	r := &reader{FS: fsys, ctx: ctx, files: map[string]*file{}, room: heldBytes}
	r.wake = sync.NewCond(&r.mu)
	var line []*file
	for _, e := range entries {
		if e.Mode.IsRegular() && e.SizeBytes <= LargestBytes {
			f := &file{entry: e}
			r.files[e.Path] = f
			line = append(line, f)
		}
	}
	var group sync.WaitGroup
	next := make(chan *file)
	for range hostfs.Transfers(fsys) {
		group.Go(func() {
			for f := range next {
				r.fetch(f)
			}
		})
	}
	group.Go(func() {
		defer close(next)
		for _, f := range line {
			if !r.claim(f) {
				continue
			}
			select {
			case next <- f:
			case <-ctx.Done():
				return
			}
		}
	})
	end := context.AfterFunc(ctx, func() {
		r.mu.Lock()
		r.ended = true
		r.mu.Unlock()
		r.wake.Broadcast()
	})
	return r, func() {
		cancel()
		end()
		r.mu.Lock()
		r.ended = true
		r.mu.Unlock()
		r.wake.Broadcast()
		group.Wait()
	}
}

// claim waits for room for a file, and reports whether it is still worth reading.
func (r *reader) claim(f *file) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for r.room < f.entry.SizeBytes && !f.taken && !r.ended {
		r.wake.Wait()
	}
	if f.taken || r.ended {
		return false
	}
	f.begun = true
	r.room -= f.entry.SizeBytes
	return true
}

func (r *reader) fetch(f *file) {
	content, after, err := r.read(f.entry)
	r.mu.Lock()
	f.content, f.after, f.err, f.done = content, after, err, true
	r.mu.Unlock()
	r.wake.Broadcast()
}

func (r *reader) read(e hostfs.Entry) (content []byte, after hostfs.Entry, err error) {
	defer parallel.Recover(&err)
	in, err := r.FS.Open(r.ctx, e.Path)
	if err != nil {
		return nil, after, err
	}
	defer in.Close()
	buf := bytes.NewBuffer(make([]byte, 0, e.SizeBytes+bytes.MinRead))
	// One that has grown is read on by whoever asks for it.
	if _, err := io.Copy(buf, io.LimitReader(in, 2*LargestBytes)); err != nil {
		return nil, after, err
	}
	after, err = r.FS.Stat(r.ctx, e.Path)
	return buf.Bytes(), after, err
}

// Open returns a file that was read ahead, once.
func (r *reader) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	r.mu.Lock()
	f := r.files[name]
	if f == nil || f.taken {
		r.mu.Unlock()
		return r.FS.Open(ctx, name)
	}
	f.taken = true
	r.wake.Broadcast()
	if !f.begun {
		r.mu.Unlock()
		return r.FS.Open(ctx, name)
	}
	for !f.done && !r.ended {
		r.wake.Wait()
	}
	content, after, err, done := f.content, f.after, f.err, f.done
	f.content = nil
	r.room += f.entry.SizeBytes
	r.mu.Unlock()
	r.wake.Broadcast()
	if !done {
		return nil, context.Cause(r.ctx)
	}
	if err != nil {
		return nil, err
	}
	if after.SizeBytes != int64(len(content)) {
		return r.FS.Open(ctx, name) // it changed
	}
	return &held{Reader: bytes.NewReader(content), after: after}, nil
}

// held is the content of a file, and what the file was like when it had been read.
type held struct {
	*bytes.Reader
	after hostfs.Entry
}

func (h *held) Close() error { return nil }

func (h *held) Stat() (fs.FileInfo, error) { return h.after.Info(), nil }
