package store

import (
	"errors"
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

// pending is a file that is written mostly forward and is new. It is for one goroutine.
//
// What is written one after the other gathers in a window of memory, and full windows go to the disk around the
// system's cache (O_DIRECT of open(2)), in the background: the cache stays with the sites' files, and the processor
// copies each byte once less. What lies before the window, like a size in a header far back, is mended through the
// cache once the windows before have arrived. File systems that know no such writing are written to as others are.
type pending struct {
	file   *os.File
	around *os.File // the same file, around the cache; nil where that cannot be
	window []byte   // begins at offset at, and n bytes of it are filled
	at     int64
	n      int

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

func newPending(name string) (*pending, error) {
	s := &pending{full: make(chan window, windows), spare: make(chan []byte, windows)}
	var err error
	if s.file, err = os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600); err != nil {
		return nil, err
	}
	s.around, _ = os.OpenFile(name, os.O_WRONLY|unix.O_DIRECT, 0)
	for range windows {
		// Writing around the cache takes whole pages of memory.
		w, err := unix.Mmap(-1, 0, windowBytes, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
		if err != nil {
			s.close()
			return nil, err
		}
		s.spare <- w
	}
	s.window = <-s.spare
	s.writer.Go(s.write)
	return s, nil
}

// write brings full windows to the disk.
func (s *pending) write() {
	for w := range s.full {
		if s.failed() == nil {
			if err := s.put(w); err != nil {
				s.mu.Lock()
				s.err = err
				s.mu.Unlock()
			}
		}
		s.spare <- w.bytes
		s.pending.Done()
	}
}

func (s *pending) put(w window) error {
	if s.around != nil {
		_, err := s.around.WriteAt(w.bytes, w.at)
		if !errors.Is(err, unix.EINVAL) {
			return err
		}
	}
	_, err := s.file.WriteAt(w.bytes, w.at)
	// A hint to begin bringing it to disk: what comes of it is seen by Sync.
	unix.SyncFileRange(int(s.file.Fd()), w.at, int64(len(w.bytes)), unix.SYNC_FILE_RANGE_WRITE)
	return err
}

// failed returns why a window could not be written.
func (s *pending) failed() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// filled counts n more bytes of the window, and hands it over when it is full.
func (s *pending) filled(n int) error {
	s.mu.Lock()
	s.settled = false
	s.mu.Unlock()
	if s.n += n; s.n < windowBytes {
		return nil
	}
	s.pending.Add(1)
	s.full <- window{s.window, s.at}
	s.window, s.at, s.n = <-s.spare, s.at+windowBytes, 0
	return s.failed()
}

// size is how much has been written, in bytes.
func (s *pending) size() int64 { return s.at + int64(s.n) }

// WriteAt implements io.WriterAt; at is not beyond what was written before.
func (s *pending) WriteAt(p []byte, at int64) (n int, err error) {
	if at < s.at {
		s.pending.Wait()
		before := p[:min(int64(len(p)), s.at-at)]
		if n, err = s.file.WriteAt(before, at); err != nil {
			return n, err
		}
		p, at = p[n:], at+int64(n)
	}
	for len(p) > 0 {
		from := int(at - s.at)
		m := copy(s.window[from:], p)
		n, p, at = n+m, p[m:], at+int64(m)
		if err := s.filled(max(0, from+m-s.n)); err != nil {
			return n, err
		}
	}
	return n, nil
}

// flush waits until all that was written is in the file, if not yet on the disk.
func (s *pending) flush() error {
	s.pending.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err != nil || s.settled {
		return s.err
	}
	if _, err := s.file.WriteAt(s.window[:s.n], s.at); err != nil {
		return err
	}
	s.settled = true
	return nil
}

// truncate ends the file after so many bytes.
func (s *pending) truncate(size int64) error {
	s.n = int(min(int64(s.n), max(0, size-s.at)))
	if err := s.flush(); err != nil {
		return err
	}
	return s.file.Truncate(size)
}

// ReadAt implements io.ReaderAt. Several goroutines may read once all is written.
func (s *pending) ReadAt(p []byte, at int64) (int, error) {
	if err := s.flush(); err != nil {
		return 0, err
	}
	return s.file.ReadAt(p, at)
}

// close ends writing and gives the memory back.
func (s *pending) close() error {
	if s.file == nil {
		return nil
	}
	close(s.full)
	s.writer.Wait()
	if s.window != nil {
		s.spare <- s.window
		s.window = nil
	}
	close(s.spare)
	for w := range s.spare {
		unix.Munmap(w)
	}
	err := s.file.Close()
	if s.around != nil {
		err = errors.Join(err, s.around.Close())
	}
	s.file = nil
	return err
}
