package store

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

// Draft is an archive that is being written. It is for one goroutine.
//
// What is written one after the other gathers in a window of memory, and full windows go to the disk around the
// system's cache (O_DIRECT of open(2)), in the background: the cache stays with the sites' files, and the processor
// copies each byte once less. What lies before the window, like a size in a header far back, is mended through the
// cache once the windows before have arrived. File systems that know no such writing are written to as others are.
type Draft struct {
	store  *Store
	name   string
	file   *os.File
	around *os.File // the same file, around the cache; nil where that cannot be
	window []byte   // begins at offset at, and n bytes of it are filled
	at     int64
	n      int
	source *os.File // what was copied from last
	from   *ahead   // reads it; nil where it is read as others are

	full    chan window
	spare   chan []byte
	writer  sync.WaitGroup
	pending sync.WaitGroup // windows that are on their way
	mu      sync.Mutex
	err     error // of writing one
	settled bool  // all that was written is in the file
}

type window struct {
	bytes []byte
	at    int64
}

const (
	windowBytes = 2 << 20
	windows     = 3
)

// Create begins an archive for a run.
func (s *Store) Create(runID int64) (*Draft, error) {
	d := &Draft{store: s, name: s.scratch(runID), full: make(chan window, windows), spare: make(chan []byte, windows)}
	var err error
	if d.file, err = os.OpenFile(d.name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600); err != nil {
		return nil, fmt.Errorf("begin an archive: %w", err)
	}
	d.around, _ = os.OpenFile(d.name, os.O_WRONLY|unix.O_DIRECT, 0)
	for range windows {
		// Writing around the cache takes whole pages of memory.
		w, err := unix.Mmap(-1, 0, windowBytes, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
		if err != nil {
			d.Drop()
			return nil, err
		}
		d.spare <- w
	}
	d.window = <-d.spare
	d.writer.Go(d.write)
	return d, nil
}

// write brings full windows to the disk.
func (d *Draft) write() {
	for w := range d.full {
		if d.failed() == nil {
			if err := d.put(w); err != nil {
				d.mu.Lock()
				d.err = err
				d.mu.Unlock()
			}
		}
		d.spare <- w.bytes
		d.pending.Done()
	}
}

func (d *Draft) put(w window) error {
	if d.around != nil {
		_, err := d.around.WriteAt(w.bytes, w.at)
		if !errors.Is(err, unix.EINVAL) {
			return err
		}
	}
	_, err := d.file.WriteAt(w.bytes, w.at)
	// A hint to begin bringing it to disk: what comes of it is seen by Sync.
	unix.SyncFileRange(int(d.file.Fd()), w.at, int64(len(w.bytes)), unix.SYNC_FILE_RANGE_WRITE)
	return err
}

// failed returns why a window could not be written.
func (d *Draft) failed() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.err
}

// filled counts n more bytes of the window, and hands it over when it is full.
func (d *Draft) filled(n int) error {
	d.mu.Lock()
	d.settled = false
	d.mu.Unlock()
	if d.n += n; d.n < windowBytes {
		return nil
	}
	d.pending.Add(1)
	d.full <- window{d.window, d.at}
	d.window, d.at, d.n = <-d.spare, d.at+windowBytes, 0
	return d.failed()
}

// WriteAt implements io.WriterAt.
func (d *Draft) WriteAt(p []byte, at int64) (n int, err error) {
	if at < d.at {
		d.pending.Wait()
		before := p[:min(int64(len(p)), d.at-at)]
		if n, err = d.file.WriteAt(before, at); err != nil {
			return n, err
		}
		p, at = p[n:], at+int64(n)
	}
	for gap := at - d.at - int64(d.n); gap > 0 && len(p) > 0; gap = at - d.at - int64(d.n) {
		m := int(min(gap, int64(windowBytes-d.n)))
		clear(d.window[d.n : d.n+m])
		if err := d.filled(m); err != nil {
			return n, err
		}
	}
	for len(p) > 0 {
		from := int(at - d.at)
		m := copy(d.window[from:], p)
		n, p, at = n+m, p[m:], at+int64(m)
		if err := d.filled(max(0, from+m-d.n)); err != nil {
			return n, err
		}
	}
	return n, nil
}

// CopyAt implements archive.CopyTarget: the bytes are read to where they are written from.
func (d *Draft) CopyAt(f *os.File, from, n, at int64) error {
	if at != d.at+int64(d.n) {
		m, err := io.Copy(io.NewOffsetWriter(d, at), io.NewSectionReader(f, from, n))
		if err == nil && m < n {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	var r io.ReaderAt = f
	if d.source != f {
		if d.from != nil {
			d.from.close()
		}
		d.source = f
		d.from, _ = newAhead(f)
	}
	if d.from != nil {
		r = d.from
	}
	for n > 0 {
		m, err := r.ReadAt(d.window[d.n:min(windowBytes, int64(d.n)+n)], from)
		if m == 0 && err == io.EOF {
			return io.ErrUnexpectedEOF
		}
		if m == 0 && err != nil {
			return err
		}
		n, from = n-int64(m), from+int64(m)
		if err := d.filled(m); err != nil {
			return err
		}
	}
	return nil
}

// settle waits until all that was written is in the file, if not yet on the disk.
func (d *Draft) settle() error {
	d.pending.Wait()
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.err != nil || d.settled {
		return d.err
	}
	if _, err := d.file.WriteAt(d.window[:d.n], d.at); err != nil {
		return err
	}
	d.settled = true
	return nil
}

// Truncate ends the archive after so many bytes.
func (d *Draft) Truncate(size int64) error {
	d.n = int(min(int64(d.n), max(0, size-d.at)))
	if err := d.settle(); err != nil {
		return err
	}
	return d.file.Truncate(size)
}

// ReadAt implements io.ReaderAt. Several goroutines may read once all is written.
func (d *Draft) ReadAt(p []byte, at int64) (int, error) {
	if err := d.settle(); err != nil {
		return 0, err
	}
	return d.file.ReadAt(p, at)
}

// Size returns how long the archive is, in bytes.
func (d *Draft) Size() (int64, error) {
	if err := d.settle(); err != nil {
		return 0, err
	}
	info, err := d.file.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// Keep makes the draft an archive of the store, on disk for good, and returns its size.
func (d *Draft) Keep(name string) (sizeBytes int64, err error) {
	if sizeBytes, err = d.Size(); err != nil {
		return 0, err
	}
	if b := d.store.bucket; b != nil {
		if err := d.close(); err != nil {
			return 0, err
		}
		if err := b.put(d.name, name); err != nil {
			return 0, err
		}
		return sizeBytes, os.Remove(d.name)
	}
	if err := errors.Join(d.file.Sync(), d.close()); err != nil {
		return 0, err
	}
	if err := os.Rename(d.name, d.store.path(name)); err != nil {
		return 0, err
	}
	return sizeBytes, d.store.sync()
}

// Drop throws the draft away. After Keep it does nothing.
func (d *Draft) Drop() {
	d.close()
	os.Remove(d.name)
}

// close ends writing and gives the memory back.
func (d *Draft) close() error {
	if d.file == nil {
		return nil
	}
	close(d.full)
	d.writer.Wait()
	if d.from != nil {
		d.from.close()
	}
	if d.window != nil {
		d.spare <- d.window
		d.window = nil
	}
	close(d.spare)
	for w := range d.spare {
		unix.Munmap(w)
	}
	err := d.file.Close()
	if d.around != nil {
		err = errors.Join(err, d.around.Close())
	}
	d.file = nil
	return err
}
