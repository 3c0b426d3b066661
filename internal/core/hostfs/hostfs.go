// Package hostfs is a host's files behind one small interface, whatever carries them.
//
// An FS is opened at the folder that a host offers; every name is relative to it, slash-separated,
// and cannot lead out of it: not by "..", not by an absolute name, not through a symbolic link.
//
//	fsys, err := hostfs.Open(ctx, hostfs.Access{Address: "file:///srv/www?owner=www-data"})
//	site, err := fsys.Sub("base")                               // a site is a handle on its folder
//	err = site.Walk(ctx, ".", func(e hostfs.Entry) error { … })
//
// Whatever is done inside a site is done through a handle on its folder: somebody who may change the site can place links
// there, and through the handle no link leads to the site beside it.
//
// Files are streamed, never held. Reading a source uses only Walk, Stat and Open, so a
// source can be a place where nothing may be written.
package hostfs

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/url"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"
)

// Entry is one thing in a tree.
type Entry struct {
	Path      string // relative to the folder that was walked
	SizeBytes int64  // of regular files
	Mode      fs.FileMode
	ModTime   time.Time
	// ChangeTime is when content or attributes were last changed, as the system keeps it and no program can
	// set it; zero where that is not known.
	ChangeTime time.Time
	Target     string // where a symbolic link points, as it is written
}

// Info is an entry as a fs.FileInfo.
func (e Entry) Info() fs.FileInfo { return info{e} }

type info struct{ e Entry }

func (i info) Name() string       { return path.Base(i.e.Path) }
func (i info) Size() int64        { return i.e.SizeBytes }
func (i info) Mode() fs.FileMode  { return i.e.Mode }
func (i info) ModTime() time.Time { return i.e.ModTime }
func (i info) IsDir() bool        { return i.e.Mode.IsDir() }
func (i info) Sys() any           { return nil }

// maxLinks bounds how many links are followed.
const maxLinks = 16

// Resolve follows the links on the way to a folder, and returns what it is called without them. A link that leads out of the host's
// files stays as it is.
func Resolve(ctx context.Context, fsys FS, name string) (string, error) {
	at, rest := ".", strings.Split(path.Clean(name), "/")
	for followed := 0; len(rest) > 0; {
		next := path.Join(at, rest[0])
		rest = rest[1:]
		e, err := fsys.Stat(ctx, next)
		if err != nil {
			return "", err
		}
		to := e.Target
		if below, absolute := strings.CutPrefix(to, fsys.Root()+"/"); absolute {
			to, next = below, "."
		}
		if e.Mode&fs.ModeSymlink == 0 || path.IsAbs(to) || strings.HasPrefix(path.Join(path.Dir(next), to), "../") || followed == maxLinks {
			at = next
			continue
		}
		followed++
		rest = append(strings.Split(path.Join(path.Dir(next), to), "/"), rest...)
		at = "."
	}
	return at, nil
}

// What a tree may have, wherever it is: whoever can change a site can make any. A folder that is deeper is given to problem and passed
// over; a walk that finds more ends with ErrTooMany.
const (
	MaxDepth   = 200
	MaxEntries = 2_000_000
	maxPath    = 4096 // bytes (POSIX, PATH_MAX of Linux)
	maxName    = 255  // bytes (NAME_MAX)
)

// Errors of trees that are too large.
var (
	ErrTooDeep = fmt.Errorf("more than %d folders are inside each other; what is below is passed over", MaxDepth)
	ErrTooMany = fmt.Errorf("there are more than %d files and folders; find out what has made them, and remove what is not needed", MaxEntries)
)

// CheckListed judges a name that a host lists, which must be one in its folder.
func CheckListed(name string) error {
	if name == "" || name == "." || name == ".." || len(name) > maxName || strings.ContainsAny(name, "/\x00\r\n") {
		return fmt.Errorf("the host lists the name %.60q, which no file can have", name)
	}
	return nil
}

// Budget counts what one walk finds. It may be used by several goroutines.
type Budget struct{ found atomic.Int64 }

// Add counts entries. Errors: ErrTooMany.
func (b *Budget) Add(n int) error {
	if b.found.Add(int64(n)) > MaxEntries {
		return ErrTooMany
	}
	return nil
}

// TooDeep judges a folder of a walk by its path. Errors: ErrTooDeep.
func TooDeep(path string) error {
	if strings.Count(path, "/") >= MaxDepth || len(path) > maxPath {
		return ErrTooDeep
	}
	return nil
}

// FS is a host's files.
type FS interface {
	// Walk visits everything below root, parents before children, names in byte order. A folder that
	// cannot be read is given to problem and passed over; visit returning an error ends the walk.
	Walk(ctx context.Context, root string, visit func(Entry) error, problem func(path string, err error)) error
	// List returns what lies in a folder, in byte order of the names, which are the paths of the entries. What cannot be looked at
	// is passed over.
	List(ctx context.Context, folder string) ([]Entry, error)
	// Stat does not follow a link, but says where it points.
	Stat(ctx context.Context, name string) (Entry, error)
	// Open opens a regular file. Anything else is ErrNotRegular, also what would make a reader wait, like a pipe.
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// ID tells a file or folder from every other on the host, whatever it is called, as long as it is there.
	ID(ctx context.Context, name string) (string, error)

	// Sub opens a folder that is there as an FS of its own.
	Sub(ctx context.Context, folder string) (FS, error)
	// MakeSub does so too, and makes the folder and those above it where they are not there.
	MakeSub(ctx context.Context, folder string) (FS, error)
	// Create makes a new file and the folders above it. The file must not exist.
	Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error)
	Mkdir(ctx context.Context, name string, mode fs.FileMode) error
	Symlink(ctx context.Context, target, name string) error
	Chtimes(ctx context.Context, name string, t time.Time) error
	Rename(ctx context.Context, from, to string) error
	RemoveAll(ctx context.Context, name string) error
	// RemoveEmpty removes a folder if it is there and holds nothing.
	RemoveEmpty(ctx context.Context, name string) error

	// Writable reports, without writing, why nothing can be made in a folder; nil when it can.
	Writable(ctx context.Context, folder string) error
	// Root is the folder on the host that names are relative to, absolute.
	Root() string
	Close() error
}

// What some protocols can do and others cannot is found out by asking an FS for one of these.
type (
	// Exchanger makes two names that exist change places, if it can at one moment, so that nobody sees either missing.
	Exchanger interface {
		Exchange(ctx context.Context, a, b string) error
	}
	// Settler has an Exchange that takes several steps: it ends one that was cut off, so that both names are there.
	Settler interface {
		Settle(ctx context.Context, a, b string) error
	}
	// Spacer tells the space that is left, in bytes.
	Spacer interface {
		FreeBytes(ctx context.Context) (int64, error)
	}
	// Dialer reaches, from where the files are, what may not be reachable from here.
	Dialer interface {
		Dial(ctx context.Context, network, address string) (net.Conn, error)
	}
	// Bulker takes many files with little waiting for each.
	Bulker interface {
		Bulk(ctx context.Context) (Bulk, error)
	}
	// linker says whether links can be made.
	linker interface {
		Links() bool
	}
	// transferrer says how many files are best moved at a time.
	transferrer interface {
		Transfers() int
	}
)

// Bulk takes files that are there when Close has returned without an error. It may be used by several goroutines.
type Bulk interface {
	// Put places a new file, with its mode and time, and makes the folders above it. The content may be used until Close.
	Put(name string, mode fs.FileMode, modified time.Time, content []byte) error
	Close() error
}

// Transfers is how many files are best moved at a time: as many as this machine has cores, unless the way to them is long.
func Transfers(fsys FS) int {
	if t, told := fsys.(transferrer); told {
		return t.Transfers()
	}
	return max(2, runtime.GOMAXPROCS(0))
}

// CanLink reports whether links can be made on a host. Where they cannot, Symlink is ErrNoLinks.
func CanLink(fsys FS) bool {
	l, told := fsys.(linker)
	return !told || l.Links()
}

// Far reports whether most of the time that a file takes is waiting for the host.
func Far(fsys FS) bool {
	_, told := fsys.(transferrer)
	return told
}

// Settle ends an exchange that was cut off. It is called before it is asked which of two folders is which.
func Settle(ctx context.Context, fsys FS, a, b string) error {
	if s, can := fsys.(Settler); can {
		return s.Settle(ctx, a, b)
	}
	return nil
}

// Mark is a file that some protocols tell a folder by. It belongs to the place and not to the site: no release holds it.
const Mark = ".nestseed-folder"

// Errors of what a protocol cannot do.
var (
	ErrNoLinks      = errors.New("links cannot be made on this host the way its files are reached")
	ErrNoExchange   = errors.New("two folders of this host cannot change places at one moment")
	ErrSpaceUnknown = errors.New("this host does not tell how much space is left")
)

// Exchange makes two names change places. Errors: ErrNoExchange.
func Exchange(ctx context.Context, fsys FS, a, b string) error {
	if x, can := fsys.(Exchanger); can {
		return x.Exchange(ctx, a, b)
	}
	return ErrNoExchange
}

// FreeBytes returns the space that is left. Errors: ErrSpaceUnknown.
func FreeBytes(ctx context.Context, fsys FS) (int64, error) {
	if s, can := fsys.(Spacer); can {
		return s.FreeBytes(ctx)
	}
	return 0, ErrSpaceUnknown
}

// ErrUnsupported says that an address names a way to reach files that this version does not speak.
var ErrUnsupported = errors.New("files cannot be reached this way")

// ErrNotRegular says that a name is that of a folder, a link, a pipe or a device, where a file was asked for.
var ErrNotRegular = errors.New("is not a regular file")

// Access is how a host's files are reached. What is secret is here and never in the address.
type Access struct {
	Address    string // its scheme is that of a protocol: file:///folder
	Password   string
	PrivateKey string // in PEM, as OpenSSH writes it
	Passphrase string // of the private key
	// HostKey is the key or certificate that the other side must show, as Shown was told it. When none is known, only one that
	// somebody known vouches for is taken, or, where Shown is given, what the other side shows.
	HostKey string
	// Shown is told what the other side showed, when that was taken.
	Shown func(key string)
}

// ErrHostKey says that a host shows another key than the one that is known.
var ErrHostKey = errors.New("the host shows another key than before")

// Fingerprint is the short form in which hosting companies tell a key: its SHA-256, as OpenSSH writes it.
func Fingerprint(key string) string {
	_, text, _ := strings.Cut(key, " ")
	text, _, _ = strings.Cut(text, " ")
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(raw) == 0 {
		return key
	}
	sum := sha256.Sum256(raw)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// Protocol is a way to files.
type Protocol struct {
	Title   string // what hosting companies call it
	Example string // "a local folder like file:///srv/www"
	Open    func(ctx context.Context, u *url.URL, a Access) (FS, error)
}

// protocols are the ways to files that are spoken, by the scheme of an address.
var protocols = map[string]Protocol{}

// Register makes a way to files known by the scheme of its addresses. It is for the packages of protocols, when the program
// begins.
func Register(scheme string, p Protocol) { protocols[scheme] = p }

// Title returns what hosting companies call the protocol of an address.
func Title(scheme string) string { return protocols[scheme].Title }

// examples of addresses, for sentences.
func examples() string {
	var all []string
	for _, scheme := range slices.Sorted(maps.Keys(protocols)) {
		if example := protocols[scheme].Example; example != "" {
			all = append(all, example)
		}
	}
	return strings.Join(all, ", or ")
}

// Open opens the files at an address. Errors: ErrUnsupported, ErrHostKey.
func Open(ctx context.Context, a Access) (FS, error) {
	u, err := url.Parse(a.Address)
	if err != nil {
		return nil, fmt.Errorf("the address of the files cannot be read; write %s", examples())
	}
	p, known := protocols[u.Scheme]
	if !known {
		return nil, fmt.Errorf("%w: %q; write %s", ErrUnsupported, u.Redacted(), examples())
	}
	return p.Open(ctx, u, a)
}

// Options reads the options of an address. Errors: one that is not among the known.
func Options(u *url.URL, known ...string) (url.Values, error) {
	options := u.Query()
	for name := range options {
		if !slices.Contains(known, name) {
			return nil, fmt.Errorf("the option %q of the files address is not known; there is %s", name, strings.Join(known, ", "))
		}
	}
	return options, nil
}

// ReadFile reads a small file whole; a larger one than maxBytes is an error.
func ReadFile(ctx context.Context, fsys FS, name string, maxBytes int64) ([]byte, error) {
	f, err := fsys.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, maxBytes+1))
	if err == nil && int64(len(b)) > maxBytes {
		return nil, fmt.Errorf("%s is larger than %d bytes", name, maxBytes)
	}
	return b, err
}

// WriteFile replaces a file's content as a whole: readers see the old one or the new one.
func WriteFile(ctx context.Context, fsys FS, name string, content []byte, mode fs.FileMode) error {
	return writeBeside(ctx, fsys, name, FreshName(name), content, mode)
}

// FreshName is what a file is called while WriteFile writes it.
func FreshName(name string) string { return name + ".nestseed-new" }

// WriteSecret is WriteFile for a program that holds secrets and lies where a web server may look: while it is written its name ends as
// that of a program, so that whoever asks for one that was cut off has it run and never shown.
func WriteSecret(ctx context.Context, fsys FS, name string, content []byte, mode fs.FileMode) error {
	return writeBeside(ctx, fsys, name, FreshName(name)+path.Ext(name), content, mode)
}

func writeBeside(ctx context.Context, fsys FS, name, fresh string, content []byte, mode fs.FileMode) error {
	if err := fsys.RemoveAll(ctx, fresh); err != nil {
		return err
	}
	if err := WriteNew(ctx, fsys, fresh, content, mode); err != nil {
		return err
	}
	return fsys.Rename(ctx, fresh, name)
}

// WriteNew writes a file that must not be there. What could not be written whole is removed, as where the disk is full.
func WriteNew(ctx context.Context, fsys FS, name string, content []byte, mode fs.FileMode) error {
	w, err := fsys.Create(ctx, name, mode)
	if err != nil {
		return err
	}
	_, err = w.Write(content)
	if err = errors.Join(err, w.Close()); err != nil {
		return errors.Join(err, fsys.RemoveAll(context.WithoutCancel(ctx), name))
	}
	return nil
}

// CopyTree copies what is in one folder into another, or what want, unless nil, wants of it. A file that is in the
// way at the target is an error.
func CopyTree(ctx context.Context, from, to FS, want func(Entry) bool) error {
	var problems []error
	err := from.Walk(ctx, ".", func(e Entry) error {
		if e.Path == Mark || want != nil && !want(e) {
			return nil
		}
		switch {
		case e.Mode.IsDir():
			return to.Mkdir(ctx, e.Path, e.Mode.Perm()|0o700)
		case e.Mode&fs.ModeSymlink != 0:
			return to.Symlink(ctx, e.Target, e.Path)
		case !e.Mode.IsRegular():
			return nil
		}
		return copyFile(ctx, from, to, e)
	}, func(p string, err error) { problems = append(problems, fmt.Errorf("copy %s: %w", p, err)) })
	return errors.Join(append(problems, err)...)
}

func copyFile(ctx context.Context, from, to FS, e Entry) error {
	in, err := from.Open(ctx, e.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := to.Create(ctx, e.Path, e.Mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err := errors.Join(err, out.Close()); err != nil {
		return fmt.Errorf("copy %s: %w", e.Path, err)
	}
	return to.Chtimes(ctx, e.Path, e.ModTime)
}
