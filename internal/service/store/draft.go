package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/sys/unix"
)

// Draft is an archive that is being written, in a scratch folder. It is for one goroutine.
type Draft struct {
	store *Store
	dir   string
	own   *pending // the bytes that no other archive has
	joined
	linked      map[*os.File]*sharedFile
	sharedFiles []*sharedFile // by number of file, less one
	alone       bool          // nothing can be shared here
}

// sharedFile is a file of another archive that bytes are shared with.
type sharedFile struct {
	file   *os.File // our own link to it
	size   int64
	number int // of its part of the archive
}

// What is shared is copied after all, so that the other archive's file can go with the archive that it belongs to, where
const (
	leastShared = 0.5 // less of the file than this is in use,
	mostShared  = 16  // or where as many others lend more.
)

// Create begins an archive for a run.
func (s *Store) Create(runID int64) (*Draft, error) {
	d := &Draft{store: s, dir: s.scratch(runID), linked: map[*os.File]*sharedFile{}}
	err := os.RemoveAll(d.dir) // of the same run, before the service was killed
	if err == nil {
		err = os.Mkdir(d.dir, 0o700)
	}
	if err == nil {
		d.own, err = newPending(d.path(ownName))
	}
	if err != nil {
		return nil, fmt.Errorf("begin an archive: %w", err)
	}
	d.files = []io.ReaderAt{d.own}
	return d, nil
}

func (d *Draft) path(name string) string { return filepath.Join(d.dir, name) }

// WriteAt implements io.WriterAt.
func (d *Draft) WriteAt(p []byte, at int64) (n int, err error) {
	for gap := at - d.size; gap > 0 && len(p) > 0; gap = at - d.size {
		if _, err := d.append(make([]byte, min(gap, windowBytes)), d.size); err != nil {
			return 0, err
		}
	}
	for len(p) > 0 && err == nil {
		var m int
		if at == d.size {
			m, err = d.append(p, at)
		} else if i := d.find(at); d.parts[i].file == 0 {
			m, err = d.own.WriteAt(p[:min(int64(len(p)), d.end(i)-at)], d.parts[i].from+at-d.parts[i].at)
		} else {
			m, err = d.append(p[:min(int64(len(p)), d.end(i)-at)], at)
		}
		n, p, at = n+m, p[m:], at+int64(m)
	}
	return n, err
}

// append puts bytes of its own at a place of the archive.
func (d *Draft) append(p []byte, at int64) (int, error) {
	from := d.own.size()
	n, err := d.own.WriteAt(p, from)
	d.place(at, int64(n), 0, from)
	return n, err
}

// Shares implements archive.CopyTarget: bytes of archives in this store's folder are shared with them.
func (d *Draft) Shares(from io.ReaderAt) bool {
	switch from.(type) {
	case *os.File, *shared:
		_, is := d.store.Backend.(*folder)
		return is
	}
	return false
}

// CopyAt implements archive.CopyTarget.
func (d *Draft) CopyAt(r io.ReaderAt, from, n, at int64) error {
	switch r := r.(type) {
	case *os.File:
		return d.share(r, from, n, at)
	case *shared:
		return r.each(from, n, func(file int, from, n int64) error {
			err := d.share(r.open[file], from, n, at)
			at += n
			return err
		})
	}
	return d.copy(r, from, n, at)
}

// share makes bytes of another archive's file bytes of this one.
func (d *Draft) share(f *os.File, from, n, at int64) error {
	l := d.linked[f]
	if l == nil && !d.alone {
		var err error
		if l, err = d.link(f); err != nil {
			return err
		}
		d.linked[f] = l
	}
	if l == nil || at > d.size {
		return d.copy(f, from, n, at)
	}
	if n > l.size-from {
		return io.ErrUnexpectedEOF
	}
	d.place(at, n, l.number, from)
	return nil
}

// link makes a link to another archive's file; nil where its file system knows none.
func (d *Draft) link(f *os.File) (*sharedFile, error) {
	l := &sharedFile{number: len(d.sharedFiles) + 1}
	name := d.path(fileName(l.number))
	// By the open file, since its name may have changed.
	err := unix.Linkat(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", f.Fd()), unix.AT_FDCWD, name, unix.AT_SYMLINK_FOLLOW)
	if err != nil {
		d.alone = true
		return nil, nil
	}
	if l.file, err = os.Open(name); err != nil {
		return nil, err
	}
	info, err := l.file.Stat()
	if err != nil {
		return nil, err
	}
	l.size = info.Size()
	d.sharedFiles, d.files = append(d.sharedFiles, l), append(d.files, l.file)
	return l, nil
}

func (d *Draft) copy(r io.ReaderAt, from, n, at int64) error {
	m, err := io.CopyBuffer(io.NewOffsetWriter(d, at), io.NewSectionReader(r, from, n), make([]byte, min(n, 256<<10)))
	if err == nil && m < n {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// Truncate ends the archive after so many bytes.
func (d *Draft) Truncate(size int64) error {
	d.cut(size)
	return d.own.flush()
}

// Size returns how long the archive is, in bytes.
func (d *Draft) Size() (int64, error) { return d.size, d.own.flush() }

// Shared returns how many of its bytes lie in files of other archives.
func (d *Draft) Shared() (n int64) {
	for i := range d.parts {
		if d.parts[i].file > 0 {
			n += d.end(i) - d.parts[i].at
		}
	}
	return n
}

// Keep makes the draft an archive of the store, on disk for good, and returns its size.
func (d *Draft) Keep(ctx context.Context, name string) (sizeBytes int64, err error) {
	if err := d.part(); err != nil {
		return 0, err
	}
	var own int64 // how much of its own file is in use
	for i, p := range d.parts {
		if p.file == 0 {
			own = max(own, p.from+d.end(i)-p.at)
		}
	}
	if err := d.own.truncate(own); err != nil {
		return 0, err
	}
	sizeBytes = d.size
	plain := len(d.parts) == 0 || len(d.parts) == 1 && d.parts[0] == part{}
	if err := errors.Join(d.own.file.Sync(), d.close()); err != nil {
		return 0, err
	}
	here, is := d.store.Backend.(*folder)
	if plain || !is {
		if err := d.store.Put(ctx, d.path(ownName), name); err != nil {
			return 0, err
		}
		return sizeBytes, errors.Join(os.RemoveAll(d.dir), syncFolder(d.store.dir))
	}
	if err := writeFile(d.path(listName), d.list()); err != nil {
		return 0, err
	}
	if err := syncFolder(d.dir); err != nil {
		return 0, err
	}
	if err := here.enter(d.dir, name, name+sharedSuffix); err != nil {
		return 0, err
	}
	return sizeBytes, syncFolder(d.store.dir)
}

// part takes leave of files of which too little is in use: the bytes become the archive's own.
func (d *Draft) part() error {
	used := make([]int64, len(d.files))
	for i, p := range d.parts {
		used[p.file] += d.end(i) - p.at
	}
	stay := slices.DeleteFunc(slices.Clone(d.sharedFiles),
		func(l *sharedFile) bool { return float64(used[l.number]) < leastShared*float64(l.size) })
	slices.SortFunc(stay, func(x, y *sharedFile) int { return cmp.Compare(used[y.number], used[x.number]) })
	stay = stay[:min(len(stay), mostShared)]
	slices.SortFunc(stay, func(x, y *sharedFile) int { return cmp.Compare(x.number, y.number) })
	if len(stay) == len(d.sharedFiles) {
		return nil
	}
	number := make([]int, len(d.files))
	for i, l := range stay {
		number[l.number] = i + 1
	}
	old := d.joined
	d.joined = joined{files: old.files}
	for i, p := range old.parts {
		n := old.end(i) - p.at
		if p.file == 0 || number[p.file] > 0 {
			d.place(p.at, n, number[p.file], p.from)
		} else if err := d.copy(old.files[p.file], p.from, n, p.at); err != nil {
			return err
		}
	}
	d.files = []io.ReaderAt{d.own}
	for _, l := range d.sharedFiles {
		if number[l.number] == 0 {
			if err := errors.Join(l.file.Close(), os.Remove(l.file.Name())); err != nil {
				return err
			}
			continue
		}
		if err := os.Rename(l.file.Name(), d.path(fileName(number[l.number]))); err != nil {
			return err
		}
		d.files = append(d.files, l.file)
	}
	d.sharedFiles = stay
	return nil
}

// Drop throws the draft away. After Keep it does nothing.
func (d *Draft) Drop() {
	d.close()
	os.RemoveAll(d.dir)
}

// close ends writing and gives the memory back.
func (d *Draft) close() error {
	err := d.own.close()
	for _, l := range d.sharedFiles {
		l.file.Close()
	}
	d.sharedFiles = nil
	return err
}

// syncFolder makes renames in a folder last through a loss of power.
func syncFolder(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}
