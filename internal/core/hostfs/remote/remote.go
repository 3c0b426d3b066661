// Package remote makes the files of another machine an FS, whatever protocol carries them.
//
// A protocol is a Transport: what it can do with one path. Everything above that is the same for all of them and is here: names
// that stay inside the folder, walking with several folders read ahead, reading that goes on after the line broke, folders that
// change places in three renames, and identities of folders.
//
//	fsys := remote.New(transport, "/home/loom/www", "")
//
// These protocols have no handle on a folder, as an open folder of this machine is one. So each name is resolved by the other side
// before it is used, and refused when that leads out of the folder; a file is judged again once it is open. Whoever changes
// links in a site at the very moment could still win that race, with the rights of the account that logs in: give each client's
// host an account of its own.
package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"nestseed/internal/core/hostfs"
)

// Transport is what a protocol can do. Paths are absolute, as the other side names them. It is used by many goroutines at once.
type Transport interface {
	// Real returns where a folder is when every link on the way is followed. A protocol that cannot tell refuses links.
	Real(ctx context.Context, dir string) (string, error)
	// List returns what is in a folder, in any order, with base names for paths, and with the targets of links.
	List(ctx context.Context, dir string) ([]hostfs.Entry, error)
	// Lstat does not follow a link.
	Lstat(ctx context.Context, name string) (hostfs.Entry, error)
	// Read opens a file, from a byte on. What has been added to it since it had a size need not be read.
	Read(ctx context.Context, name string, offset, size int64) (io.ReadCloser, error)
	// Create makes a file that must not exist.
	Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error)
	Mkdir(ctx context.Context, name string) error
	Chmod(ctx context.Context, name string, mode fs.FileMode) error
	Chtimes(ctx context.Context, name string, t time.Time) error
	Symlink(ctx context.Context, target, name string) error
	// Rename puts what has a name in the place of a file that has the other.
	Rename(ctx context.Context, from, to string) error
	Remove(ctx context.Context, name string) error    // a file or link
	RemoveDir(ctx context.Context, name string) error // that is empty
	// Lost reports whether an error is that of a line that broke.
	Lost(err error) bool
	// Transfers is how many files are best moved at a time.
	Transfers() int
	Close() error
}

// Options of a transport: what some have and others do not.
type (
	spacer interface {
		FreeBytes(ctx context.Context, dir string) (int64, error)
	}
	linker interface {
		Links() bool
	}
	denier interface {
		// Denied returns why this account cannot make anything in a folder, nil where it can or where that is not known.
		Denied(ctx context.Context, dir string) error
	}
)

// lease is how long it is believed that a folder is where it was.
const lease = time.Second

// FS is a folder of another machine. See hostfs.FS.
type FS struct {
	t    *shared
	root string // as the protocol names it, without links
	seen string // as the programs of that machine name it

	setgid sync.Once
	group  fs.FileMode // see inherited

	mu     sync.Mutex
	made   map[string]bool     // folders that are known to be there
	places map[string]resolved // by folder
}

type resolved struct {
	real string
	at   time.Time
}

// shared is a transport that several handles use; it is closed with the last of them.
type shared struct {
	Transport
	mu   sync.Mutex
	refs int
}

// List judges all names that the other side lists, whatever the protocol is: they become parts of paths.
func (s *shared) List(ctx context.Context, dir string) ([]hostfs.Entry, error) {
	list, err := s.Transport.List(ctx, dir)
	if err != nil {
		return nil, err
	}
	seen := make(map[string]bool, len(list))
	for _, e := range list {
		if err := hostfs.CheckListed(e.Path); err != nil {
			return nil, err
		}
		if seen[e.Path] {
			return nil, fmt.Errorf("the host lists the name %.60q twice", e.Path)
		}
		seen[e.Path] = true
	}
	return list, nil
}

// New returns the folder of a transport; seen is what the programs of that machine call it, "" for the same.
func New(t Transport, root, seen string) *FS {
	if seen == "" {
		seen = root
	}
	return newFS(&shared{Transport: t, refs: 1}, root, seen)
}

func newFS(t *shared, root, seen string) *FS {
	return &FS{t: t, root: root, seen: seen, made: map[string]bool{".": true}, places: map[string]resolved{}}
}

func (f *FS) Root() string { return f.seen }

// Transfers is how many files are best moved at a time.
func (f *FS) Transfers() int { return f.t.Transfers() }

// Links reports whether links can be made.
func (f *FS) Links() bool {
	l, told := f.t.Transport.(linker)
	return !told || l.Links()
}

func (f *FS) Close() error {
	f.t.mu.Lock()
	defer f.t.mu.Unlock()
	if f.t.refs--; f.t.refs == 0 {
		return f.t.Transport.Close()
	}
	return nil
}

// ErrOutside says that a name leads out of the folder.
var ErrOutside = errors.New("path escapes from the folder")

// clean returns a name relative to the folder, which it may not leave.
func clean(op, name string) (string, error) {
	c := path.Clean(name)
	if path.IsAbs(name) || c == ".." || strings.HasPrefix(c, "../") || strings.ContainsAny(name, "\x00\r\n") {
		return "", &fs.PathError{Op: op, Path: name, Err: ErrOutside}
	}
	return c, nil
}

// folder returns where a folder really is, which must be inside the root.
func (f *FS) folder(ctx context.Context, op, dir string) (string, error) {
	if dir == "." {
		return f.root, nil
	}
	f.mu.Lock()
	known, ok := f.places[dir]
	fresh := ok && time.Since(known.at) < lease
	if ok && !fresh {
		// One asks; the others go on with what was so until now.
		f.places[dir] = resolved{known.real, time.Now()}
	}
	f.mu.Unlock()
	if fresh {
		return known.real, nil
	}
	real, err := f.t.Real(ctx, path.Join(f.root, dir))
	if err == nil && real != f.root && !strings.HasPrefix(real, strings.TrimSuffix(f.root, "/")+"/") {
		err = ErrOutside
	}
	if err != nil {
		f.mu.Lock()
		delete(f.places, dir)
		f.mu.Unlock()
		return "", &fs.PathError{Op: op, Path: dir, Err: err}
	}
	f.isAt(dir, real)
	return real, nil
}

// isAt keeps in mind where a folder is.
func (f *FS) isAt(dir, real string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.places[dir] = resolved{real, time.Now()}
}

// MakeParents makes a folder and those above it, as far as they are not there, and sees that they are inside.
func (f *FS) MakeParents(ctx context.Context, dir string) error {
	if err := f.parents(ctx, dir); err != nil {
		return err
	}
	_, err := f.folder(ctx, "open", path.Clean(dir))
	return err
}

// at returns the path on the other side of a name, whose last part may be a link.
func (f *FS) at(ctx context.Context, op, name string) (string, error) {
	name, err := clean(op, name)
	if err != nil {
		return "", err
	}
	if name == "." {
		return f.root, nil
	}
	dir, err := f.folder(ctx, op, path.Dir(name))
	return path.Join(dir, path.Base(name)), err
}

func (f *FS) forget() {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.made)
	f.made["."] = true
	clear(f.places)
}

// Stat does not follow a link, but says where it points.
func (f *FS) Stat(ctx context.Context, name string) (hostfs.Entry, error) {
	at, err := f.at(ctx, "stat", name)
	if err != nil {
		return hostfs.Entry{}, err
	}
	e, err := f.t.Lstat(ctx, at)
	if err != nil {
		return e, &fs.PathError{Op: "stat", Path: name, Err: err}
	}
	e.Path = path.Clean(name)
	return e, nil
}

// Open opens a regular file. It is judged before it is opened, as a pipe would make the other side wait, and after.
func (f *FS) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	at, err := f.at(ctx, "open", name)
	if err != nil {
		return nil, err
	}
	fail := func(err error) (io.ReadCloser, error) { return nil, &fs.PathError{Op: "open", Path: name, Err: err} }
	e, err := f.judge(ctx, at)
	if err != nil {
		return fail(err)
	}
	in, err := f.t.Read(ctx, at, 0, e.SizeBytes)
	if err != nil {
		return fail(err)
	}
	r := &reader{ctx: ctx, t: f.t, name: at, in: in, size: e.SizeBytes, judged: make(chan error, 1)}
	go func() { // while the first bytes are on their way
		_, err := f.judge(ctx, at)
		r.judged <- err
	}()
	return r, nil
}

// judge reports why a name is not that of a regular file.
func (f *FS) judge(ctx context.Context, at string) (hostfs.Entry, error) {
	e, err := f.t.Lstat(ctx, at)
	if err == nil && !e.Mode.IsRegular() {
		err = hostfs.ErrNotRegular
	}
	return e, err
}

// tries is how often a broken line is mended for one file without a byte in between.
const tries = 3

// reader goes on where it was when the line breaks.
type reader struct {
	ctx    context.Context
	t      Transport
	name   string
	in     io.ReadCloser
	at     int64
	size   int64
	broken int
	judged chan error // what the name was once the file was open
}

func (r *reader) Read(p []byte) (int, error) {
	for {
		n, err := r.in.Read(p)
		if r.judged != nil {
			fault := <-r.judged
			r.judged = nil
			if fault != nil && !r.t.Lost(fault) {
				return 0, &fs.PathError{Op: "read", Path: r.name, Err: fault}
			}
		}
		r.at += int64(n)
		if n > 0 {
			r.broken = 0
		}
		if err == nil || err == io.EOF || n > 0 || !r.t.Lost(err) || r.broken == tries {
			if n > 0 && err != io.EOF {
				err = nil // the next call meets the fault again
			}
			return n, err
		}
		r.broken++
		r.in.Close()
		if r.in, err = r.t.Read(r.ctx, r.name, r.at, r.size); err != nil {
			r.in = io.NopCloser(strings.NewReader(""))
			return 0, fmt.Errorf("go on reading %s at byte %d: %w", r.name, r.at, err)
		}
	}
}

func (r *reader) Close() error {
	if r.judged != nil {
		<-r.judged
	}
	return r.in.Close()
}

func (f *FS) Sub(ctx context.Context, folder string) (hostfs.FS, error) {
	sub, err := f.SubFolder(ctx, folder)
	if err != nil {
		return nil, err
	}
	return sub, nil
}

func (f *FS) MakeSub(ctx context.Context, folder string) (hostfs.FS, error) {
	sub, err := f.MakeSubFolder(ctx, folder)
	if err != nil {
		return nil, err
	}
	return sub, nil
}

// SubFolder is Sub, for protocols that can do more with a folder.
func (f *FS) SubFolder(ctx context.Context, folder string) (*FS, error) {
	name, err := clean("open", folder)
	if err != nil {
		return nil, err
	}
	real, err := f.folder(ctx, "open", name)
	if err != nil {
		return nil, err
	}
	e, err := f.t.Lstat(ctx, real)
	if err == nil && !e.Mode.IsDir() {
		err = errors.New("is not a folder")
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: folder, Err: err}
	}
	f.t.mu.Lock()
	f.t.refs++
	f.t.mu.Unlock()
	return newFS(f.t, real, path.Join(f.seen, name)), nil
}

// MakeSubFolder is MakeSub, for protocols that can do more with a folder.
func (f *FS) MakeSubFolder(ctx context.Context, folder string) (*FS, error) {
	if err := f.parents(ctx, folder); err != nil {
		return nil, err
	}
	return f.SubFolder(ctx, folder)
}

// Place returns where the folder is on the other side, and that it still is.
func (f *FS) Place(ctx context.Context) (string, error) {
	real, err := f.t.Real(ctx, f.root)
	if err == nil && real != f.root {
		err = ErrOutside
	}
	return real, err
}

// parents makes a folder and those above it, as far as they are not there.
func (f *FS) parents(ctx context.Context, name string) error {
	dir, err := clean("mkdir", name)
	if err != nil {
		return err
	}
	f.mu.Lock()
	known := f.made[dir]
	f.mu.Unlock()
	if known {
		return nil
	}
	if dir != "." {
		if err := f.parents(ctx, path.Dir(dir)); err != nil {
			return err
		}
	}
	at, err := f.at(ctx, "mkdir", dir)
	if err != nil {
		return err
	}
	err = f.t.Mkdir(ctx, at)
	if err == nil {
		f.isAt(dir, at) // it was made there this moment
	} else {
		// It may be there, as a folder or as a link to one inside.
		if _, there := f.folder(ctx, "mkdir", dir); there != nil {
			return &fs.PathError{Op: "mkdir", Path: dir, Err: errors.Join(err, there)}
		}
		if e, statErr := f.t.Lstat(ctx, at); statErr != nil || e.Mode.IsRegular() {
			return &fs.PathError{Op: "mkdir", Path: dir, Err: err}
		}
	}
	f.mu.Lock()
	f.made[dir] = true
	f.mu.Unlock()
	return nil
}

func (f *FS) Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	if err := f.parents(ctx, path.Dir(name)); err != nil {
		return nil, err
	}
	at, err := f.at(ctx, "create", name)
	if err != nil {
		return nil, err
	}
	w, err := f.t.Create(ctx, at, mode.Perm())
	if err != nil {
		return nil, &fs.PathError{Op: "create", Path: name, Err: err}
	}
	return w, nil
}

func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	if err := f.parents(ctx, name); err != nil {
		return err
	}
	return f.on(ctx, "chmod", name, func(at string) error { return f.t.Chmod(ctx, at, mode.Perm()|f.inherited(ctx)) })
}

// inherited is the set-group bit, where the folder has it: a folder that is made in it has it too, and what lies there the group of the
// folder (POSIX leaves that to the system; Linux does so), until somebody changes its mode without it.
func (f *FS) inherited(ctx context.Context) fs.FileMode {
	f.setgid.Do(func() {
		if e, err := f.t.Lstat(ctx, f.root); err == nil {
			f.group = e.Mode & fs.ModeSetgid
		}
	})
	return f.group
}

// on does something with the path of a name.
func (f *FS) on(ctx context.Context, op, name string, do func(at string) error) error {
	at, err := f.at(ctx, op, name)
	if err != nil {
		return err
	}
	if err := do(at); err != nil {
		return &fs.PathError{Op: op, Path: name, Err: err}
	}
	return nil
}

func (f *FS) Symlink(ctx context.Context, target, name string) error {
	if err := f.parents(ctx, path.Dir(name)); err != nil {
		return err
	}
	return f.on(ctx, "symlink", name, func(at string) error { return f.t.Symlink(ctx, target, at) })
}

// Chtimes does nothing to a link: the other side would set the time of what it leads to.
func (f *FS) Chtimes(ctx context.Context, name string, t time.Time) error {
	return f.on(ctx, "chtimes", name, func(at string) error {
		if e, err := f.t.Lstat(ctx, at); err != nil || e.Mode&fs.ModeSymlink != 0 {
			return err
		}
		return f.t.Chtimes(ctx, at, t)
	})
}

func (f *FS) Rename(ctx context.Context, from, to string) error {
	defer f.forget()
	target, err := f.at(ctx, "rename", to)
	if err != nil {
		return err
	}
	return f.on(ctx, "rename", from, func(at string) error { return f.t.Rename(ctx, at, target) })
}

// RemoveAll removes several folders' contents at a time.
func (f *FS) RemoveAll(ctx context.Context, name string) error {
	c, err := clean("remove", name)
	if err != nil {
		return err
	}
	if c == "." {
		return errors.New("refusing to remove the whole folder of the host")
	}
	defer f.forget()
	at, err := f.at(ctx, "remove", c)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = removeTree(ctx, f.t, at)
	}
	if err != nil {
		return &fs.PathError{Op: "remove", Path: name, Err: err}
	}
	return nil
}

func (f *FS) RemoveEmpty(ctx context.Context, name string) error {
	c, err := clean("remove", name)
	if err != nil || c == "." {
		return err
	}
	at, err := f.at(ctx, "remove", c)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.forget()
	list, err := f.t.List(ctx, at)
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(list) > 0 {
		return nil
	}
	if err == nil {
		err = f.t.RemoveDir(ctx, at)
	}
	return err
}

// Writable tells what the other side's account is known not to be allowed; that it can be done shows when it is done.
func (f *FS) Writable(ctx context.Context, folder string) error {
	name, err := clean("access", folder)
	if err != nil {
		return err
	}
	real, err := f.folder(ctx, "access", name)
	if err != nil {
		return err
	}
	if _, err := f.t.Lstat(ctx, real); err != nil {
		return err
	}
	if d, can := f.t.Transport.(denier); can {
		return d.Denied(ctx, real)
	}
	return nil
}

func (f *FS) FreeBytes(ctx context.Context) (int64, error) {
	if s, can := f.t.Transport.(spacer); can {
		return s.FreeBytes(ctx, f.root)
	}
	return 0, hostfs.ErrSpaceUnknown
}

func sortEntries(list []hostfs.Entry) {
	slices.SortFunc(list, func(a, b hostfs.Entry) int { return strings.Compare(a.Path, b.Path) })
}
