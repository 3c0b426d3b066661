// Package local reaches the files of this machine.
package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"os/user"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/parallel"
)

// local is a folder on this machine. os.Root keeps every name inside it, links included.
type local struct {
	root     *os.Root
	dir      string
	uid, gid int // owner of what is made here; -1 for the service's own user

	mu    sync.Mutex
	known map[string]bool // folders that Create has seen or made
}

func init() {
	hostfs.Register("file", hostfs.Protocol{Title: "folders of this machine", Example: "a local folder like file:///srv/www", Open: open})
}

// open opens the folder that an address names: file:///folder[?owner=USER].
func open(_ context.Context, u *url.URL, _ hostfs.Access) (hostfs.FS, error) {
	if u.Host != "" || u.Path == "" {
		return nil, fmt.Errorf("%w: %q; write a local folder like file:///srv/www", hostfs.ErrUnsupported, u.Redacted())
	}
	options, err := hostfs.Options(u, "owner")
	if err != nil {
		return nil, fmt.Errorf("%w: file:///srv/www?owner=www-data", err)
	}
	return openOwned(u.Path, options.Get("owner"))
}

// Open opens a folder of this machine, for work that is not on a host.
func Open(dir string) (hostfs.FS, error) { return openOwned(dir, "") }

// mayGive reports whether files can be given to other accounts: by root, or by an account with that capability (capabilities(7)).
var mayGive = sync.OnceValue(func() bool {
	var data [2]unix.CapUserData
	err := unix.Capget(&unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}, &data[0])
	return err == nil && data[0].Effective&(1<<unix.CAP_CHOWN) != 0
})

func openOwned(dir, owner string) (hostfs.FS, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("open folder of the host: %w", err)
	}
	l := &local{root: root, dir: path.Clean(dir), uid: -1, gid: -1, known: map[string]bool{}}
	if owner != "" && mayGive() {
		u, err := user.Lookup(owner)
		if err != nil {
			return nil, fmt.Errorf("owner of the host's files: %w", err)
		}
		l.uid, _ = strconv.Atoi(u.Uid)
		l.gid, _ = strconv.Atoi(u.Gid)
	}
	return l, nil
}

func (l *local) Root() string { return l.dir }
func (l *local) Close() error { return l.root.Close() }

// Walk lists folders ahead on several goroutines and visits them in order.
func (l *local) Walk(ctx context.Context, root string, visit func(hostfs.Entry) error, problem func(string, error)) error {
	sub, err := l.root.OpenRoot(clean(root))
	if err != nil {
		return err
	}
	defer sub.Close()
	w := newWalker(sub)
	defer w.stop()
	return w.visit(ctx, w.add("."), visit, problem)
}

// List implements hostfs.FS.
func (l *local) List(_ context.Context, name string) ([]hostfs.Entry, error) {
	sub, err := l.root.OpenRoot(clean(name))
	if err != nil {
		return nil, err
	}
	defer sub.Close()
	f := &folder{path: "."}
	(&walker{root: sub}).read(f)
	for _, p := range f.problems {
		if p.path == "." {
			return nil, p.err
		}
	}
	return f.entries, nil
}

// walker reads the folders of a tree side by side.
type walker struct {
	root   *os.Root
	wg     sync.WaitGroup
	budget hostfs.Budget

	mu      sync.Mutex
	wake    *sync.Cond
	todo    []*folder // the last one added is read first: it is needed first
	stopped bool
}

// folder is one folder of the tree; the rest is there once ready is closed.
type folder struct {
	path     string
	ready    chan struct{}
	entries  []hostfs.Entry
	below    []*folder // of the entries that are folders, in their order
	problems []walkProblem
}

type walkProblem struct {
	path string
	err  error
}

// walkers is how many folders are read at a time: more than cores, as most of it is waiting for a disk.
const walkers = 8

func newWalker(root *os.Root) *walker {
	w := &walker{root: root}
	w.wake = sync.NewCond(&w.mu)
	for range walkers {
		w.wg.Go(w.work)
	}
	return w
}

func (w *walker) stop() {
	w.mu.Lock()
	w.stopped = true
	w.mu.Unlock()
	w.wake.Broadcast()
	w.wg.Wait()
}

func (w *walker) add(p string) *folder {
	f := &folder{path: p, ready: make(chan struct{})}
	w.mu.Lock()
	w.todo = append(w.todo, f)
	w.mu.Unlock()
	w.wake.Signal()
	return f
}

func (w *walker) work() {
	for {
		w.mu.Lock()
		for len(w.todo) == 0 && !w.stopped {
			w.wake.Wait()
		}
		if w.stopped {
			w.mu.Unlock()
			return
		}
		f := w.todo[len(w.todo)-1]
		w.todo = w.todo[:len(w.todo)-1]
		w.mu.Unlock()
		w.read(f)
		w.mu.Lock()
		for i := len(f.below) - 1; i >= 0; i-- {
			w.todo = append(w.todo, f.below[i])
		}
		w.mu.Unlock()
		w.wake.Broadcast()
		close(f.ready)
	}
}

func (w *walker) read(f *folder) {
	var fault error
	defer func() {
		if fault != nil {
			f.problems = append(f.problems, walkProblem{f.path, fault})
		}
	}()
	defer parallel.Recover(&fault)
	fail := func(p string, err error) { f.problems = append(f.problems, walkProblem{p, err}) }
	if err := hostfs.TooDeep(f.path); err != nil {
		fail(f.path, err)
		return
	}
	dir, err := w.root.Open(f.path)
	if err != nil {
		fail(f.path, err)
		return
	}
	defer dir.Close()
	var list []os.DirEntry
	for {
		some, err := dir.ReadDir(4096)
		if tooMany := w.budget.Add(len(some)); tooMany != nil {
			fail(f.path, tooMany)
			return
		}
		list = append(list, some...)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			fail(f.path, err)
			break
		}
	}
	slices.SortFunc(list, func(a, b os.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	f.entries = make([]hostfs.Entry, 0, len(list))
	for _, d := range list {
		p := path.Join(f.path, d.Name())
		info, err := d.Info()
		if err != nil {
			fail(p, err)
			continue
		}
		e := entryOf(p, info)
		if e.Mode&fs.ModeSymlink != 0 {
			if e.Target, err = w.root.Readlink(p); err != nil {
				fail(p, err)
				continue
			}
		}
		f.entries = append(f.entries, e)
		if e.Mode.IsDir() {
			f.below = append(f.below, &folder{path: p, ready: make(chan struct{})})
		}
	}
}

func (w *walker) visit(ctx context.Context, f *folder, visit func(hostfs.Entry) error, problem func(string, error)) error {
	select {
	case <-f.ready:
	case <-ctx.Done():
		return ctx.Err()
	}
	for _, p := range f.problems {
		if errors.Is(p.err, hostfs.ErrTooMany) {
			return p.err
		}
		problem(p.path, p.err)
	}
	next := 0
	for _, e := range f.entries {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := visit(e); err != nil {
			return err
		}
		if e.Mode.IsDir() {
			if err := w.visit(ctx, f.below[next], visit, problem); err != nil {
				return err
			}
			f.below[next] = nil
			next++
		}
	}
	return nil
}

func entryOf(name string, info fs.FileInfo) hostfs.Entry {
	e := hostfs.Entry{Path: name, Mode: info.Mode(), ModTime: info.ModTime()}
	if info.Mode().IsRegular() {
		e.SizeBytes = info.Size()
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		e.ChangeTime = time.Unix(st.Ctim.Unix())
	}
	return e
}

func clean(name string) string {
	if name == "" {
		return "."
	}
	return path.Clean(name)
}

func (l *local) Stat(_ context.Context, name string) (hostfs.Entry, error) {
	info, err := l.root.Lstat(clean(name))
	if err != nil {
		return hostfs.Entry{}, err
	}
	e := entryOf(name, info)
	if info.Mode()&fs.ModeSymlink != 0 {
		e.Target, err = l.root.Readlink(clean(name))
	}
	return e, err
}

// Open does not wait for whoever would write into a pipe, and judges the file that it has open: what has the name may be
// another by then.
func (l *local) Open(_ context.Context, name string) (io.ReadCloser, error) {
	f, err := l.root.OpenFile(clean(name), os.O_RDONLY|unix.O_NONBLOCK, 0)
	if errors.Is(err, unix.ENXIO) { // a socket
		return nil, &fs.PathError{Op: "open", Path: name, Err: hostfs.ErrNotRegular}
	}
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: hostfs.ErrNotRegular}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// ID is the number of the inode and when it was made: numbers are used again.
func (l *local) ID(_ context.Context, name string) (string, error) {
	dir, base := path.Split(clean(name))
	parent, err := l.root.Open(clean(dir))
	if err != nil {
		return "", err
	}
	defer parent.Close()
	var st unix.Statx_t
	if err := unix.Statx(int(parent.Fd()), base, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_INO|unix.STATX_BTIME, &st); err != nil {
		return "", &fs.PathError{Op: "stat", Path: name, Err: err}
	}
	return fmt.Sprintf("%d.%d.%d", st.Ino, st.Btime.Sec, st.Btime.Nsec), nil
}

func (l *local) MakeSub(ctx context.Context, folder string) (hostfs.FS, error) {
	if err := l.parents(clean(folder)); err != nil {
		return nil, err
	}
	return l.Sub(ctx, folder)
}

func (l *local) Sub(_ context.Context, folder string) (hostfs.FS, error) {
	root, err := l.root.OpenRoot(clean(folder))
	if err != nil {
		return nil, err
	}
	return &local{root: root, dir: path.Join(l.dir, clean(folder)), uid: l.uid, gid: l.gid, known: map[string]bool{}}, nil
}

func (l *local) Create(_ context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	name = clean(name)
	if err := l.parents(path.Dir(name)); err != nil {
		return nil, err
	}
	f, err := l.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode.Perm())
	if err != nil {
		return nil, err
	}
	if err := errors.Join(permit(f, mode.Perm()), l.own(f)); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// permit gives a new file its mode, where the service's umask has taken something from it.
func permit(f *os.File, mode fs.FileMode) error {
	info, err := f.Stat()
	if err != nil || info.Mode().Perm() == mode {
		return err
	}
	return f.Chmod(mode)
}

func (l *local) own(f *os.File) error {
	if l.uid < 0 {
		return nil
	}
	return f.Chown(l.uid, l.gid)
}

// parents makes the folders above a file once each.
func (l *local) parents(dir string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.ensure(dir)
}

func (l *local) ensure(dir string) error {
	if dir == "." || dir == "/" || l.known[dir] {
		return nil
	}
	if err := l.ensure(path.Dir(dir)); err != nil {
		return err
	}
	err := l.root.Mkdir(dir, 0o755)
	if err == nil && l.uid >= 0 {
		err = l.root.Lchown(dir, l.uid, l.gid)
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	l.known[dir] = true
	return nil
}

func (l *local) Mkdir(_ context.Context, name string, mode fs.FileMode) error {
	if err := l.parents(clean(name)); err != nil {
		return err
	}
	// A folder keeps the set-group bit that it has of the folder above it.
	info, err := l.root.Lstat(clean(name))
	if err != nil {
		return err
	}
	return l.root.Chmod(clean(name), mode.Perm()|info.Mode()&fs.ModeSetgid)
}

func (l *local) Symlink(_ context.Context, target, name string) error {
	if err := l.parents(path.Dir(clean(name))); err != nil {
		return err
	}
	err := l.root.Symlink(target, clean(name))
	if err == nil && l.uid >= 0 {
		err = l.root.Lchown(clean(name), l.uid, l.gid)
	}
	return err
}

func (l *local) Chtimes(_ context.Context, name string, t time.Time) error {
	return l.root.Chtimes(clean(name), t, t)
}

func (l *local) Rename(_ context.Context, from, to string) error {
	l.forget()
	return l.root.Rename(clean(from), clean(to))
}

// Exchange works on the folders the names lie in, which are opened inside the root, so that no link leads out.
func (l *local) Exchange(_ context.Context, a, b string) error {
	l.forget()
	dirA, err := l.root.Open(path.Dir(clean(a)))
	if err != nil {
		return err
	}
	defer dirA.Close()
	dirB, err := l.root.Open(path.Dir(clean(b)))
	if err != nil {
		return err
	}
	defer dirB.Close()
	if err := unix.Renameat2(int(dirA.Fd()), path.Base(clean(a)), int(dirB.Fd()), path.Base(clean(b)), unix.RENAME_EXCHANGE); err != nil {
		return fmt.Errorf("exchange %s and %s: %w", a, b, err)
	}
	return nil
}

func (l *local) RemoveAll(_ context.Context, name string) error {
	if clean(name) == "." {
		return errors.New("refusing to remove the whole folder of the host")
	}
	l.forget()
	return l.root.RemoveAll(clean(name))
}

func (l *local) RemoveEmpty(_ context.Context, name string) error {
	if clean(name) == "." {
		return nil
	}
	l.forget()
	err := l.root.Remove(clean(name))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTEMPTY) {
		return nil
	}
	return err
}

func (l *local) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	clear(l.known)
}

func (l *local) Writable(_ context.Context, folder string) error {
	// As the process may, and not as its account alone.
	return unix.Faccessat(unix.AT_FDCWD, path.Join(l.dir, clean(folder)), unix.W_OK|unix.X_OK, unix.AT_EACCESS)
}

func (l *local) FreeBytes(_ context.Context) (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(l.dir, &st); err != nil {
		return 0, fmt.Errorf("free space of %s: %w", l.dir, err)
	}
	return int64(st.Bavail) * st.Bsize, nil
}
