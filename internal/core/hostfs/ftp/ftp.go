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
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"net/url"
	"path"
	"strings"
	"sync"
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
	listBytes   = 16 << 20
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
