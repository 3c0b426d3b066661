// Package sftp reaches files over SSH (draft-ietf-secsh-filexfer-02, with the extensions of OpenSSH).
//
//	sftp://USER@HOST[:PORT]/folder[?seen=FOLDER][&agent=yes][&commands=no]
//
// A folder that begins with /~/ is below the one that the account begins in. seen is what the programs of that machine call the
// folder, where the account is shut into a part of it. Who logs in is told by a password, a private key or an agent; the other
// side by the key it shows, which is fixed from the first time on.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/remote"
)

func init() {
	hostfs.Register("sftp", hostfs.Protocol{Title: "SFTP (file transfer over SSH)", Example: "one over SSH like sftp://user@host/folder",
		Open: open})
}

// How many files are moved at a time: most of each is waiting for answers, the more the farther the host is. Where nothing is waited for,
// more than a few only get into each other's way.
const (
	leastTransfers = 64
	mostTransfers  = 256
	perTransfer    = 80 * time.Microsecond // of the way there and back there is one more
)

// transport is one line to a host, which is opened anew when it breaks.
type transport struct {
	dial func(ctx context.Context) (*ssh.Client, error)

	mu      sync.Mutex
	line    *line
	closed  bool
	fresh   fs.FileMode   // the mode of files as the other side makes them; 0 until one was made
	uid     int           // of the account; -1 where it is not known
	noShell bool          // commands are not allowed
	there   time.Duration // how long the way there and back took, when the host was opened
	asked   bool          // whether they are has been found out
}

// line is a connection with a session for files on it.
type line struct {
	ssh   *ssh.Client
	files *sftp.Client
	names *names // that the other side has sent
	ended chan struct{}
}

// close ends the connection first: closing the session alone would wait for the other side.
func (l *line) close() {
	l.ssh.Close()   //nolint:errcheck // nothing is under way on it
	l.files.Close() //nolint:errcheck // nothing is under way on it
}

// FS is the files of a host that is reached over SSH.
type FS struct {
	*remote.FS
	t *transport
}

func (f *FS) Sub(ctx context.Context, folder string) (hostfs.FS, error) {
	return f.wrap(f.FS.SubFolder(ctx, folder))
}

func (f *FS) MakeSub(ctx context.Context, folder string) (hostfs.FS, error) {
	return f.wrap(f.FS.MakeSubFolder(ctx, folder))
}

func (f *FS) wrap(sub *remote.FS, err error) (hostfs.FS, error) {
	if err != nil {
		return nil, err
	}
	return &FS{FS: sub, t: f.t}, nil
}

func open(ctx context.Context, u *url.URL, a hostfs.Access) (hostfs.FS, error) {
	options, err := hostfs.Options(u, "seen", "agent", "commands")
	if err != nil {
		return nil, err
	}
	if u.Hostname() == "" || u.User.Username() == "" || !strings.HasPrefix(u.Path, "/") {
		return nil, errors.New("write the address of the files like sftp://user@host/folder")
	}
	dial, err := dialer(u, a, options.Get("agent") == "yes")
	if err != nil {
		return nil, err
	}
	t := &transport{dial: dial, uid: -1, noShell: options.Get("commands") == "no"}
	var root string
	err = t.do(ctx, true, func(c *sftp.Client) error {
		home, err := c.RealPath(".")
		if err != nil {
			return err
		}
		if info, err := c.Stat(home); err == nil {
			if st, ok := info.Sys().(*sftp.FileStat); ok {
				t.uid = int(st.UID)
			}
		}
		asked := time.Now()
		folder := u.Path
		if below, inHome := strings.CutPrefix(folder+"/", "/~/"); inHome {
			folder = path.Join(home, below)
		}
		info, err := c.Stat(folder)
		t.there = time.Since(asked)
		if err != nil {
			return fmt.Errorf("folder %s of the host: %w", folder, err)
		}
		if !info.IsDir() {
			return fmt.Errorf("%s of the host is not a folder", folder)
		}
		root, err = c.RealPath(folder)
		return err
	})
	if err != nil {
		return nil, errors.Join(err, t.Close())
	}
	return &FS{FS: remote.New(t, root, options.Get("seen")), t: t}, nil
}

// get returns the line, and opens it if there is none or it has broken.
func (t *transport) get(ctx context.Context) (*line, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		return nil, net.ErrClosed
	}
	if t.line != nil {
		select {
		case <-t.line.ended:
			t.line.close()
			t.line = nil
		default:
			return t.line, nil
		}
	}
	conn, err := t.dial(ctx)
	if err != nil {
		return nil, err
	}
	files, names, err := begin(conn)
	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("the host lets nobody transfer files over SSH (its SFTP service does not answer): %w", err)
	}
	l := &line{ssh: conn, files: files, names: names, ended: make(chan struct{})}
	go func() {
		files.Wait() //nolint:errcheck // that it has ended is what matters
		close(l.ended)
	}()
	go l.keepAlive()
	t.line = l
	return l, nil
}

// silence is how long a line may not answer before it counts as broken.
const silence = 30 * time.Second

// keepAlive ends a line on which nothing comes back any more.
func (l *line) keepAlive() {
	every := time.NewTicker(silence / 2)
	defer every.Stop()
	for {
		select {
		case <-l.ended:
			return
		case <-every.C:
		}
		answered := make(chan error, 1)
		go func() {
			_, _, err := l.ssh.SendRequest("keepalive@openssh.com", true, nil)
			answered <- err
		}()
		select {
		case err := <-answered:
			if err == nil {
				continue
			}
		case <-time.After(silence):
		case <-l.ended:
			return
		}
		l.ssh.Close() //nolint:errcheck // it is broken
		return
	}
}

// do asks the other side for something, once more on a new line when the line broke and it does no harm.
func (t *transport) do(ctx context.Context, again bool, ask func(*sftp.Client) error) error {
	for tried := 0; ; tried++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		l, err := t.get(ctx)
		if err != nil {
			return err
		}
		if err = plain(ask(l.files)); err == nil || !t.Lost(err) || !again || tried == 2 {
			return err
		}
		<-l.ended
	}
}

// plain turns the protocol's errors into those of io/fs.
func plain(err error) error {
	var status *sftp.StatusError
	if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxFailure {
		return fmt.Errorf("the host refuses it: %w", err)
	}
	return err
}

// Lost reports whether an error is that of a line that broke: not all of them say so, but then the line ends.
func (t *transport) Lost(err error) bool {
	var status *sftp.StatusError
	if errors.As(err, &status) {
		return status.FxCode() == sftp.ErrSSHFxConnectionLost
	}
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrExist) ||
		errors.Is(err, context.Canceled) {
		return false
	}
	t.mu.Lock()
	l := t.line
	t.mu.Unlock()
	if l == nil || errors.Is(err, sftp.ErrSSHFxConnectionLost) {
		return true
	}
	select {
	case <-l.ended:
		return true
	case <-time.After(ending):
		return false
	}
}

// ending is how long it may take until a line that broke is known to have ended.
const ending = 200 * time.Millisecond

func (t *transport) Close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closed = true
	if t.line == nil {
		return nil
	}
	t.line.close()
	<-t.line.ended
	t.line = nil
	return nil
}

func (t *transport) Transfers() int {
	return min(max(int(t.there/perTransfer), leastTransfers), mostTransfers)
}

// Real returns where a folder is. What is not there is an error with every server, also where the protocol would answer.
func (t *transport) Real(ctx context.Context, dir string) (real string, err error) {
	err = t.do(ctx, true, func(c *sftp.Client) error {
		type stat struct {
			info fs.FileInfo
			err  error
		}
		is := make(chan stat, 1) // asked at the same time
		go func() {
			info, err := c.Stat(dir)
			is <- stat{info, err}
		}()
		real, err = c.RealPath(dir)
		told := <-is
		if err != nil {
			var status *sftp.StatusError
			if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxFailure {
				return errors.Join(told.err, err)
			}
			return err
		}
		if told.err == nil && !told.info.IsDir() {
			return errors.New("is not a folder")
		}
		return told.err
	})
	return real, err
}

func entryOf(name string, info fs.FileInfo) hostfs.Entry {
	e := hostfs.Entry{Path: name, Mode: info.Mode(), ModTime: info.ModTime()}
	if info.Mode().IsRegular() {
		e.SizeBytes = info.Size()
	}
	return e
}

// list lists a folder, as long as that has an end.
func (t *transport) list(ctx context.Context, c *sftp.Client, dir string) ([]fs.FileInfo, error) {
	t.mu.Lock()
	l := t.line
	t.mu.Unlock()
	if l == nil || l.files != c {
		return c.ReadDirContext(ctx, dir)
	}
	ctx, done := l.names.bounded(ctx)
	defer done()
	list, err := c.ReadDirContext(ctx, dir)
	if cause := context.Cause(ctx); errors.Is(cause, errEndless) {
		return nil, cause
	}
	return list, err
}

func (t *transport) List(ctx context.Context, dir string) (out []hostfs.Entry, err error) {
	err = t.do(ctx, true, func(c *sftp.Client) error {
		list, err := t.list(ctx, c, dir)
		if err != nil {
			return err
		}
		out = make([]hostfs.Entry, 0, len(list))
		for _, info := range list {
			if err := hostfs.CheckListed(info.Name()); err != nil { // before it is asked where a link of that name leads
				return err
			}
			e := entryOf(info.Name(), info)
			if e.Mode&fs.ModeSymlink != 0 {
				if e.Target, err = c.ReadLink(path.Join(dir, e.Path)); err != nil {
					return err
				}
			}
			out = append(out, e)
		}
		return nil
	})
	return out, err
}

func (t *transport) Lstat(ctx context.Context, name string) (e hostfs.Entry, err error) {
	err = t.do(ctx, true, func(c *sftp.Client) error {
		info, err := c.Lstat(name)
		if err != nil {
			return err
		}
		e = entryOf(name, info)
		if e.Mode&fs.ModeSymlink != 0 {
			e.Target, err = c.ReadLink(name)
		}
		return err
	})
	return e, err
}

// readAhead is how much of a file is asked for at a time.
const readAhead = 256 << 10

// reading is a file that is read in large pieces: each is asked for in several requests at once.
type reading struct {
	f    *sftp.File
	at   int64
	size int64 // how much there is to read
	buf  []byte
	rest []byte
}

func (r *reading) Read(p []byte) (int, error) {
	if len(r.rest) == 0 {
		want := min(readAhead, r.size-r.at)
		if want <= 0 {
			return 0, io.EOF
		}
		if int64(cap(r.buf)) < want {
			r.buf = make([]byte, want)
		}
		n, err := r.f.ReadAt(r.buf[:want], r.at)
		r.rest = r.buf[:n]
		r.at += int64(n)
		if n == 0 {
			return 0, err
		}
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

// Close waits for nobody: that the other side forgets a file that was only read changes nothing.
func (r *reading) Close() error {
	go r.f.Close() //nolint:errcheck // see above
	return nil
}

func (t *transport) Read(ctx context.Context, name string, offset, size int64) (in io.ReadCloser, err error) {
	err = t.do(ctx, true, func(c *sftp.Client) error {
		f, err := c.Open(name)
		in = &reading{f: f, at: offset, size: size}
		return err
	})
	if err != nil {
		return nil, err
	}
	return in, nil
}

func (t *transport) Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	w := &writing{ctx: ctx, t: t, name: name}
	err := t.do(ctx, false, func(c *sftp.Client) (err error) {
		if w.f, err = c.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL); err != nil {
			if info, statErr := c.Lstat(name); statErr == nil && info != nil {
				return fs.ErrExist // servers of version 3 say no more than that it failed
			}
			return err
		}
		if err := t.permit(w.f, mode); err != nil {
			return errors.Join(err, w.f.Close())
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return w, nil
}

// permit gives a new and still empty file its mode, unless it has it: a request less for most.
func (t *transport) permit(f *sftp.File, mode fs.FileMode) error {
	t.mu.Lock()
	fresh := t.fresh
	t.mu.Unlock()
	if fresh == 0 {
		info, err := f.Stat()
		if err != nil {
			return err
		}
		fresh = info.Mode().Perm()
		t.mu.Lock()
		t.fresh = fresh
		t.mu.Unlock()
	}
	if fresh == mode {
		return nil
	}
	return f.Chmod(mode)
}

// writing is a file that is written on when the line breaks, from the first byte that was not answered.
type writing struct {
	ctx    context.Context
	t      *transport
	name   string
	f      *sftp.File
	at     int64
	broken int
}

func (w *writing) Write(p []byte) (int, error) {
	for {
		n, err := w.f.WriteAt(p, w.at)
		if err == nil {
			w.at += int64(n)
			w.broken = 0
			return n, nil
		}
		if !w.t.Lost(err) || w.broken == 3 {
			return 0, plain(err)
		}
		w.broken++
		if err := w.reopen(); err != nil {
			return 0, err
		}
	}
}

func (w *writing) reopen() error {
	return w.t.do(w.ctx, true, func(c *sftp.Client) error {
		info, err := c.Lstat(w.name)
		if err == nil && !info.Mode().IsRegular() {
			err = hostfs.ErrNotRegular
		}
		if err == nil {
			w.f, err = c.OpenFile(w.name, os.O_WRONLY)
		}
		if err != nil {
			return fmt.Errorf("go on writing %s at byte %d: %w", w.name, w.at, err)
		}
		return nil
	})
}

func (w *writing) Close() error {
	err := w.f.Close()
	if err != nil && w.t.Lost(err) {
		// Every byte was answered; only the handle went with the line.
		return nil
	}
	return err
}

// CloseAt closes a file and sets its time, and waits for both answers together: the other side does the one after the other.
func (w *writing) CloseAt(modified time.Time) error {
	closed := make(chan error, 1)
	go func() { closed <- w.Close() }()
	err := w.t.Chtimes(w.ctx, w.name, modified)
	return errors.Join(<-closed, err)
}

func (t *transport) Mkdir(ctx context.Context, name string) error {
	return t.do(ctx, false, func(c *sftp.Client) error { return c.Mkdir(name) })
}

func (t *transport) Chmod(ctx context.Context, name string, mode fs.FileMode) error {
	return t.do(ctx, true, func(c *sftp.Client) error { return c.Chmod(name, mode) })
}

func (t *transport) Chtimes(ctx context.Context, name string, at time.Time) error {
	return t.do(ctx, true, func(c *sftp.Client) error { return c.Chtimes(name, at, at) })
}

// Symlink names the two the other way round than the draft: so does OpenSSH, and so all who talk to it.
func (t *transport) Symlink(ctx context.Context, target, name string) error {
	return t.do(ctx, false, func(c *sftp.Client) error { return c.Symlink(target, name) })
}

// Rename uses the extension that replaces a file, where there is one.
func (t *transport) Rename(ctx context.Context, from, to string) error {
	return t.do(ctx, false, func(c *sftp.Client) error {
		if _, can := c.HasExtension("posix-rename@openssh.com"); can {
			return c.PosixRename(from, to)
		}
		err := c.Rename(from, to)
		if err == nil {
			return nil
		}
		if info, statErr := c.Lstat(to); statErr != nil || info.IsDir() {
			return err
		}
		if err := c.Remove(to); err != nil {
			return err
		}
		return c.Rename(from, to)
	})
}

func (t *transport) Remove(ctx context.Context, name string) error {
	return t.do(ctx, false, func(c *sftp.Client) error { return c.Remove(name) })
}

func (t *transport) RemoveDir(ctx context.Context, name string) error {
	return t.do(ctx, false, func(c *sftp.Client) error { return c.RemoveDirectory(name) })
}

// Denied knows by owner and mode of a folder that this account cannot write there.
func (t *transport) Denied(ctx context.Context, dir string) error {
	return t.do(ctx, true, func(c *sftp.Client) error {
		info, err := c.Stat(dir)
		if err != nil {
			return err
		}
		st, ok := info.Sys().(*sftp.FileStat)
		if !ok || t.uid < 0 || t.uid == 0 {
			return nil
		}
		may := info.Mode().Perm()&0o022 != 0 // the groups of the account are not known
		if int(st.UID) == t.uid {
			may = info.Mode().Perm()&0o200 != 0
		}
		if !may {
			return fs.ErrPermission
		}
		return nil
	})
}

// FreeBytes asks with an extension of OpenSSH.
func (t *transport) FreeBytes(ctx context.Context, dir string) (free int64, err error) {
	err = t.do(ctx, true, func(c *sftp.Client) error {
		if _, can := c.HasExtension("statvfs@openssh.com"); !can {
			return hostfs.ErrSpaceUnknown
		}
		st, err := c.StatVFS(dir)
		if err == nil {
			free = int64(st.Bavail * st.Frsize)
		}
		return err
	})
	return free, err
}

// Dial reaches what can be reached from the host.
func (f *FS) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	l, err := f.t.get(ctx)
	if err != nil {
		return nil, err
	}
	return l.ssh.DialContext(ctx, network, address)
}
