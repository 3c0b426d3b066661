package sftp

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"nestseed/internal/core/hostfs"
)

// bulk is one stream of files that the host unpacks with its own tar (POSIX.1-2001, pax): no file is waited for.
type bulk struct {
	f       *FS
	ctx     context.Context
	session *ssh.Session
	out     io.WriteCloser
	said    bytes.Buffer
	stop    func() bool
	fresh   bool // nothing was in the folder, so that no link can be on the way to a file

	mu  sync.Mutex
	w   *tar.Writer
	err error
}

// Bulk sends a stream where the host allows commands and has a tar, and files one by one where not.
func (f *FS) Bulk(ctx context.Context) (hostfs.Bulk, error) {
	if !f.t.commands(ctx) {
		return f.FS.Bulk(ctx)
	}
	l, err := f.t.get(ctx)
	if err != nil {
		return nil, err
	}
	root, err := f.Place(ctx)
	if err != nil {
		return nil, err
	}
	session, err := l.ssh.NewSession()
	if err != nil {
		return f.FS.Bulk(ctx)
	}
	there, err := f.t.List(ctx, root)
	if err != nil {
		session.Close()
		return nil, err
	}
	b := &bulk{f: f, ctx: ctx, session: session, fresh: len(there) == 0}
	if b.out, err = session.StdinPipe(); err != nil {
		session.Close()
		return nil, err
	}
	session.Stderr = &limited{Buffer: &b.said}
	// -p: modes as they are sent; -o: owned by this account; -k: what is there already is an error and not written over.
	if err := session.Start("exec tar -x -p -o -k -f - -C " + quote(root)); err != nil {
		session.Close()
		return f.FS.Bulk(ctx)
	}
	b.w = tar.NewWriter(b.out)
	b.stop = context.AfterFunc(ctx, func() { session.Close() }) //nolint:errcheck // it ends the stream, which is met
	return b, nil
}

// quote makes one word of a text for a POSIX shell (XCU 2.2.2).
func quote(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

// limited keeps the beginning of what a program complains about.
type limited struct{ *bytes.Buffer }

func (l *limited) Write(p []byte) (int, error) {
	if room := 2048 - l.Len(); room > 0 {
		l.Buffer.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

func (b *bulk) Put(name string, mode fs.FileMode, modified time.Time, content []byte) error {
	if err := b.ctx.Err(); err != nil {
		return err
	}
	if !b.fresh {
		if err := b.f.MakeParents(b.ctx, path.Dir(name)); err != nil {
			return err
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.err != nil {
		return b.err
	}
	h := &tar.Header{Typeflag: tar.TypeReg, Name: "./" + path.Clean(name), Mode: int64(mode.Perm()), Size: int64(len(content)),
		ModTime: modified.Truncate(time.Second)}
	if b.err = b.w.WriteHeader(h); b.err == nil {
		_, b.err = b.w.Write(content)
	}
	return b.err
}

func (b *bulk) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	defer b.session.Close()
	defer b.stop()
	err := errors.Join(b.err, b.w.Close(), b.out.Close())
	if waited := b.session.Wait(); waited != nil || err != nil {
		return errors.Join(b.ctx.Err(), fmt.Errorf("the host could not unpack what was sent (%s): %w", strings.TrimSpace(b.said.String()),
			errors.Join(waited, err)))
	}
	return nil
}

// commands finds out once whether the account may run commands and there is a tar that does what is asked of it.
func (t *transport) commands(ctx context.Context) bool {
	t.mu.Lock()
	known, no := t.asked, t.noShell
	t.mu.Unlock()
	if known || no {
		return !no
	}
	l, err := t.get(ctx)
	if err != nil {
		return false
	}
	can := false
	if session, err := l.ssh.NewSession(); err == nil {
		timer := time.AfterFunc(patience, func() { session.Close() }) //nolint:errcheck // a shell that asks something is none
		said, err := session.Output("printf 'nest' && tar --version >/dev/null && printf 'seed'")
		timer.Stop()
		session.Close()
		can = err == nil && string(said) == "nestseed"
	}
	t.mu.Lock()
	t.asked, t.noShell = true, !can
	t.mu.Unlock()
	return can
}
