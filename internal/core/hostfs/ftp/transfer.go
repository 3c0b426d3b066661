package ftp

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"syscall"
	"time"

	"nestseed/internal/core/hostfs"
)

// reading is a file on its way; its connection is given back when it ends.
type reading struct {
	t    *transport
	c    *control
	data net.Conn
	err  error
	done bool
}

func (r *reading) Read(p []byte) (int, error) {
	if r.done {
		return 0, r.err
	}
	n, err := r.data.Read(p)
	if err == nil {
		return n, nil
	}
	r.data.Close()
	if err == io.EOF {
		if _, _, told := r.c.answer(2); told != nil { // what came may not be all
			err = told
		}
	}
	r.done, r.err = true, err
	defer func() { <-r.t.readers }()
	if err == io.EOF {
		r.t.give(r.c, nil)
	} else {
		r.c.conn.Close()
		r.t.give(r.c, net.ErrClosed)
	}
	return n, err
}

// Close ends the connection of a file that was not read to its end: to cut it off in words takes longer than a new one.
func (r *reading) Close() error {
	if !r.done {
		r.done, r.err = true, net.ErrClosed
		r.data.Close()
		r.t.give(r.c, net.ErrClosed)
		<-r.t.readers
	}
	return nil
}

// Read reads a small file at once. A larger one keeps a connection until it is closed; there are always others for what is asked meanwhile.
func (t *transport) Read(ctx context.Context, name string, offset, size int64) (io.ReadCloser, error) {
	if size-offset <= small {
		var text []byte
		err := t.do(ctx, true, func(c *control) (err error) {
			text, err = c.retrieve(ctx, offset, 2*small, "RETR %s", name)
			return err
		})
		return io.NopCloser(bytes.NewReader(text)), err
	}
	select {
	case t.readers <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	for tried := 0; ; tried++ {
		c, err := t.take(ctx)
		if err != nil {
			<-t.readers
			return nil, err
		}
		data, err := c.data(ctx, offset, "RETR %s", name)
		if err == nil {
			return &reading{t: t, c: c, data: data}, nil
		}
		t.give(c, err)
		if !t.Lost(err) || tried == connections {
			<-t.readers
			return nil, err
		}
	}
}

func (t *transport) Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	list, err := t.within(ctx, path.Dir(name))
	if err != nil {
		return nil, err
	}
	if _, there := list[path.Base(name)]; there {
		return nil, fs.ErrExist
	}
	t.mu.Lock()
	fresh := t.fresh
	t.mu.Unlock()
	w := &writing{ctx: ctx, t: t, name: name, mode: mode}
	if fresh == 0 || fresh&^mode != 0 {
		// Its mode would let others read it: it gets the right one while it is empty.
		if err := t.send(ctx, name, 0, nil); err != nil {
			return nil, err
		}
		if fresh, err = t.modeOf(ctx, name); err != nil {
			return nil, err
		}
		until := mode | 0o200 // it is still written to
		if w.mode, err = 0, t.permit(ctx, name, fresh, until); until != mode {
			w.mode = mode
		}
	} else if fresh == mode {
		w.mode = 0
	}
	return w, err
}

// modeOf looks at a file that was just made, for what mode files have here.
func (t *transport) modeOf(ctx context.Context, name string) (fs.FileMode, error) {
	t.changed(name)
	e, err := t.Lstat(ctx, name)
	t.mu.Lock()
	t.fresh = e.Mode.Perm()
	t.mu.Unlock()
	return e.Mode.Perm(), err
}

func (t *transport) permit(ctx context.Context, name string, has, wants fs.FileMode) error {
	if has == wants {
		return nil
	}
	return t.Chmod(ctx, name, wants)
}

// writing is a file that is sent in segments.
type writing struct {
	ctx  context.Context
	t    *transport
	name string
	mode fs.FileMode // that it gets at the end; 0 when it has it
	at   int64
	buf  []byte
	sent bool
}

func (w *writing) Write(p []byte) (int, error) {
	w.buf = append(w.buf, p...)
	for len(w.buf) >= segment {
		if err := w.flush(segment); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

func (w *writing) flush(n int) error {
	if err := w.t.send(w.ctx, w.name, w.at, w.buf[:n]); err != nil {
		return fmt.Errorf("write %s from byte %d: %w", w.name, w.at, err)
	}
	w.at += int64(n)
	w.buf = append(w.buf[:0], w.buf[n:]...)
	w.sent = true
	return nil
}

func (w *writing) Close() error {
	if len(w.buf) > 0 || !w.sent {
		if err := w.flush(len(w.buf)); err != nil {
			return err
		}
	}
	if w.mode == 0 {
		return nil
	}
	return w.t.Chmod(w.ctx, w.name, w.mode)
}

// send writes content at a place of a file, which is the beginning or the end. It is the same when it is done twice.
func (t *transport) send(ctx context.Context, name string, offset int64, content []byte) error {
	defer t.note(name, func(e *hostfs.Entry) { e.SizeBytes, e.ModTime = offset+int64(len(content)), time.Now() })
	return t.do(ctx, true, func(c *control) error {
		data, err := c.data(ctx, offset, "STOR %s", name)
		if err != nil {
			return err
		}
		if _, err := io.Copy(data, bytes.NewReader(content)); err != nil {
			data.Close()
			c.conn.Close()
			return err
		}
		if err := finish(data); err != nil {
			return err
		}
		_, _, err = c.answer(2)
		return err
	})
}

// finish says that this is all, and waits for the other side to close: closing at once would cut off what it has sent unread, such as
// tickets of TLS (RFC 8446, section 4.6.1), and with that what is still on its way there.
func finish(data net.Conn) error {
	defer data.Close()
	if half, can := data.(*patient).Conn.(interface{ CloseWrite() error }); can {
		if err := half.CloseWrite(); err != nil {
			return err
		}
	}
	_, err := io.Copy(io.Discard, data)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) {
		return nil // it has closed; whether it has all is in its answer
	}
	return err
}
