// Package ftp reaches files over FTP with TLS (RFC 959, RFC 4217), as most hosting offers it at least.
//
//	ftps://USER@HOST[:PORT]/folder[?seen=FOLDER]
//
// TLS begins with AUTH TLS, data goes over passive connections, and a certificate that nobody vouches for is fixed from the first time
// on. ftp:// is without TLS, and for this machine only.
//
// The protocol cannot make links, does not follow those that are there, tells times to the minute with many servers, and has
// no way to tell a file that was there from one that was made this moment: do not let two programs change one folder.
//
// It is a client of our own: the known ones tell no modes of files and cannot change them, and a site's settings must not be readable
// for everybody.
package ftp

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/textproto"
	"net/url"
	"path"
	"strings"
	"sync"
	"syscall"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/remote"
)

func init() {
	hostfs.Register("ftps", hostfs.Protocol{Title: "FTP with TLS (explicit, AUTH TLS)",
		Example: "one over FTP with TLS like ftps://user@host/folder",
		Open:    open})
	hostfs.Register("ftp", hostfs.Protocol{Title: "FTP", Open: open})
}

const (
	connections = 6       // at most: servers allow few per account
	small       = 1 << 20 // a file of this size is read at once
	segment     = 4 << 20 // how much of a file is sent at a time, and sent again when the line broke
	listBytes   = 64 << 20
	lease       = time.Second / 2 // how long it is believed that a folder holds what it held
	stale       = 20 * time.Second
)

// transport is a few connections for commands, each used for one thing at a time.
type transport struct {
	login *login
	root  string

	slots   chan struct{} // one for each connection that may be open
	readers chan struct{} // and for each that may be kept by a file that is read
	mu      sync.Mutex
	idle    []*control
	lists   map[string]listing
	// changes counts what was changed in a folder: a list that was asked for before is not kept.
	changes map[string]int
	fresh   fs.FileMode // the mode of files as the other side makes them; 0 until one was made
}

type listing struct {
	entries map[string]hostfs.Entry
	at      time.Time
}

func open(ctx context.Context, u *url.URL, a hostfs.Access) (hostfs.FS, error) {
	options, err := hostfs.Options(u, "seen")
	if err != nil {
		return nil, err
	}
	l, err := loginOf(u, a)
	if err != nil {
		return nil, err
	}
	t := &transport{login: l, slots: make(chan struct{}, connections), readers: make(chan struct{}, connections-2),
		lists: map[string]listing{}, changes: map[string]int{}}
	err = t.do(ctx, true, func(c *control) error {
		if _, _, err := c.cmd(250, "CWD %s", path.Clean(u.Path)); err != nil {
			return fmt.Errorf("folder %s of the host: %w", u.Path, err)
		}
		_, said, err := c.cmd(257, "PWD")
		t.root = quoted(said)
		if err == nil && !path.IsAbs(t.root) {
			err = fmt.Errorf("the host answers PWD with %q", said)
		}
		return err
	})
	if err != nil {
		return nil, errors.Join(err, t.Close())
	}
	return remote.New(t, t.root, options.Get("seen")), nil
}

// quoted reads the name in an answer to PWD, in which a quote is written twice (RFC 959, appendix II).
func quoted(said string) string {
	_, rest, _ := strings.Cut(said, `"`)
	var name strings.Builder
	for i := 0; i < len(rest); i++ {
		if rest[i] == '"' {
			if i+1 == len(rest) || rest[i+1] != '"' {
				break
			}
			i++
		}
		name.WriteByte(rest[i])
	}
	return path.Clean(name.String())
}

// take returns a connection that nobody uses, and opens one where there may be more.
func (t *transport) take(ctx context.Context) (*control, error) {
	for {
		select {
		case t.slots <- struct{}{}:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		t.mu.Lock()
		var c *control
		if n := len(t.idle); n > 0 {
			c, t.idle = t.idle[n-1], t.idle[:n-1]
		}
		others := len(t.slots) > 1
		t.mu.Unlock()
		if c == nil {
			c, err := t.login.dial(ctx)
			var told *textproto.Error
			if errors.As(err, &told) && told.Code == 421 && others {
				continue // the account may have no more: this slot stays taken, and one of the others is waited for
			}
			if err != nil {
				<-t.slots
				return nil, err
			}
			return c, nil
		}
		if time.Since(c.used) > stale {
			if _, _, err := c.cmd(200, "NOOP"); err != nil {
				c.conn.Close()
				<-t.slots
				continue
			}
		}
		return c, nil
	}
}

// give takes a connection back; one that broke is closed.
func (t *transport) give(c *control, err error) {
	t.mu.Lock()
	if err != nil && t.Lost(err) {
		c.conn.Close()
	} else {
		t.idle = append(t.idle, c)
	}
	t.mu.Unlock()
	<-t.slots
}

// do uses a connection, and another one when the first broke and it does no harm.
func (t *transport) do(ctx context.Context, again bool, use func(*control) error) error {
	for tried := 0; ; tried++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		c, err := t.take(ctx)
		if err != nil {
			return err
		}
		err = use(c)
		t.give(c, err)
		if err == nil || !again || !t.Lost(err) || tried == connections {
			return err
		}
	}
}

// Lost reports whether an error is that of a line that broke, and not an answer.
func (t *transport) Lost(err error) bool {
	var told *textproto.Error
	if errors.As(err, &told) {
		return told.Code == 421 || told.Code == 426
	}
	var network net.Error
	return errors.As(err, &network) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, net.ErrClosed)
}

func (t *transport) Transfers() int { return connections }

func (t *transport) Close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, c := range t.idle {
		c.cmd(221, "QUIT") //nolint:errcheck // it is closed anyway
		c.conn.Close()
	}
	t.idle = nil
	return nil
}

// within lists a folder by name, unless that was just done.
func (t *transport) within(ctx context.Context, dir string) (map[string]hostfs.Entry, error) {
	t.mu.Lock()
	known, there := t.lists[dir]
	changes := t.changes[dir]
	t.mu.Unlock()
	if there && time.Since(known.at) < lease {
		return known.entries, nil
	}
	var text []byte
	facts := false
	err := t.do(ctx, true, func(c *control) error {
		if _, _, err := c.cmd(250, "CWD %s", dir); err != nil {
			return err
		}
		var err error
		if _, facts = c.features["MLST"]; facts {
			text, err = c.retrieve(ctx, 0, listBytes, "MLSD")
		} else {
			text, err = c.retrieve(ctx, 0, listBytes, "LIST -a")
		}
		return err
	})
	if err != nil {
		return nil, noFolder(err)
	}
	entries := map[string]hostfs.Entry{}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\r\n")
		read := parseFacts
		if !facts {
			read = func(line string) (hostfs.Entry, bool, error) { return parseLine(line, time.Now().UTC()) }
		}
		e, ok, err := read(line)
		if err != nil {
			return nil, err
		}
		if ok && strings.Contains(e.Path, "/") {
			return nil, fmt.Errorf("the host lists the name %q, which no file can have", e.Path)
		}
		if ok {
			entries[e.Path] = e
		}
	}
	t.mu.Lock()
	if t.changes[dir] == changes {
		t.lists[dir] = listing{entries, time.Now()}
	}
	t.mu.Unlock()
	return entries, nil
}

// noFolder says that what cannot be entered is not there.
func noFolder(err error) error {
	var told *textproto.Error
	if errors.As(err, &told) && told.Code == 550 {
		return fmt.Errorf("%w: %s", fs.ErrNotExist, told.Msg)
	}
	return err
}

func (t *transport) changed(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.lists, path.Dir(name))
	t.changes[path.Dir(name)]++
	t.changes[name]++
	for dir := range t.lists {
		if dir == name || strings.HasPrefix(dir, name+"/") {
			delete(t.lists, dir)
		}
	}
}

// note keeps in mind what this program has made of a file, so that its folder need not be listed anew.
func (t *transport) note(name string, what func(e *hostfs.Entry)) {
	dir, base := path.Dir(name), path.Base(name)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.changes[dir]++
	known, there := t.lists[dir]
	if !there {
		return
	}
	entries := maps.Clone(known.entries) // somebody may be reading the other
	e, there := entries[base]
	if !there {
		e = hostfs.Entry{Path: base, Mode: t.fresh}
	}
	what(&e)
	entries[base] = e
	t.lists[dir] = listing{entries, known.at}
}

// Real goes down from the folder of the host, and follows no link: the protocol does not tell where one leads in the end.
func (t *transport) Real(ctx context.Context, dir string) (string, error) {
	below := strings.TrimPrefix(strings.TrimPrefix(dir, t.root), "/")
	at := t.root
	if below == "" {
		return at, nil
	}
	for _, part := range strings.Split(below, "/") {
		list, err := t.within(ctx, at)
		if err != nil {
			return "", err
		}
		at = path.Join(at, part)
		e, there := list[part]
		switch {
		case !there:
			return "", fs.ErrNotExist
		case e.Mode&fs.ModeSymlink != 0:
			return "", fmt.Errorf("%s is a link to %s, and links are not followed over FTP; give the folder itself", at, e.Target)
		case !e.Mode.IsDir():
			return "", fmt.Errorf("%s is not a folder", at)
		}
	}
	return at, nil
}

func (t *transport) List(ctx context.Context, dir string) ([]hostfs.Entry, error) {
	t.changed(path.Join(dir, "x"))
	list, err := t.within(ctx, dir)
	if err != nil {
		return nil, err
	}
	out := make([]hostfs.Entry, 0, len(list))
	for _, e := range list {
		out = append(out, e)
	}
	return out, nil
}

func (t *transport) Lstat(ctx context.Context, name string) (hostfs.Entry, error) {
	if name == t.root {
		_, err := t.within(ctx, name)
		return hostfs.Entry{Path: path.Base(name), Mode: fs.ModeDir | 0o755}, err
	}
	list, err := t.within(ctx, path.Dir(name))
	if err != nil {
		return hostfs.Entry{}, err
	}
	e, there := list[path.Base(name)]
	if !there {
		return e, fs.ErrNotExist
	}
	return e, nil
}

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

func (t *transport) one(ctx context.Context, again bool, expect int, name, format string, args ...any) error {
	err := t.do(ctx, again, func(c *control) error {
		_, _, err := c.cmd(expect, format, args...)
		return err
	})
	var told *textproto.Error
	if errors.As(err, &told) && told.Code == 550 { // most often what is not there
		t.changed(name)
		if _, there := t.Lstat(ctx, name); errors.Is(there, fs.ErrNotExist) {
			return fmt.Errorf("%w: %s", fs.ErrNotExist, told.Msg)
		}
		return fmt.Errorf("the host refuses it: %w", err)
	}
	return err
}

func (t *transport) Mkdir(ctx context.Context, name string) error {
	defer t.changed(name)
	return t.one(ctx, false, 257, name, "MKD %s", name)
}

// Chmod is no standard, and understood by nearly all. Where it is not, modes are as the host makes them.
func (t *transport) Chmod(ctx context.Context, name string, mode fs.FileMode) error {
	t.note(name, func(e *hostfs.Entry) { e.Mode = e.Mode&^0o777 | mode.Perm() })
	err := t.one(ctx, true, 2, name, "SITE CHMOD %03o %s", mode.Perm(), name)
	var told *textproto.Error
	if errors.As(err, &told) && (told.Code == 500 || told.Code == 502 || told.Code == 504) {
		err = nil
	}
	if err != nil {
		t.changed(name)
	}
	return err
}

// Chtimes asks in the way of draft-somers-ftp-mfxx, or in that of servers before it. Where neither works, times are those of the transfer.
func (t *transport) Chtimes(ctx context.Context, name string, at time.Time) error {
	defer t.note(name, func(e *hostfs.Entry) { e.ModTime = at })
	return t.do(ctx, true, func(c *control) error {
		command := "MDTM"
		if _, can := c.features["MFMT"]; can {
			command = "MFMT"
		}
		_, _, err := c.cmd(0, "%s %s %s", command, at.UTC().Format("20060102150405"), name)
		return err
	})
}

func (t *transport) Links() bool { return false }

func (t *transport) Symlink(context.Context, string, string) error { return hostfs.ErrNoLinks }

// Rename takes a file away that is in the place, where the other side does not.
func (t *transport) Rename(ctx context.Context, from, to string) error {
	defer t.changed(to)
	rename := func() error {
		return t.do(ctx, false, func(c *control) error {
			if _, _, err := c.cmd(350, "RNFR %s", from); err != nil {
				return err
			}
			_, _, err := c.cmd(250, "RNTO %s", to)
			return err
		})
	}
	t.changed(from)
	if _, err := t.Lstat(ctx, from); err != nil {
		return err
	}
	err := rename()
	t.changed(from)
	var told *textproto.Error
	if !errors.As(err, &told) {
		return err
	}
	t.changed(to)
	if e, there := t.Lstat(ctx, to); there != nil || !e.Mode.IsRegular() {
		return fmt.Errorf("the host refuses it: %w", err)
	}
	if err := t.Remove(ctx, to); err != nil {
		return err
	}
	return rename()
}

func (t *transport) Remove(ctx context.Context, name string) error {
	defer t.changed(name)
	return t.one(ctx, false, 250, name, "DELE %s", name)
}

func (t *transport) RemoveDir(ctx context.Context, name string) error {
	defer t.changed(name)
	return t.one(ctx, false, 250, name, "RMD %s", name)
}
