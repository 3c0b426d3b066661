package archive

import (
	"fmt"
	"io"
	"sync"
)

// Ranges is an io.ReaderAt over something that is fetched by ranges, like an object in a store or a download.
// A ZIP file is read in pieces of a few kilobytes; Ranges fetches whole blocks and keeps the last of them.
// It may be used by several goroutines, and keeps at most blocksKept blocks of memory.
type Ranges struct {
	// Fetch fills p from an offset; p never reaches past the end.
	Fetch func(p []byte, off int64) error
	// SizeBytes is the size of the whole.
	SizeBytes int64

	mu     sync.Mutex
	blocks []*rangeBlock // the one used last stands last
}

type rangeBlock struct {
	number int64
	once   *sync.Once
	data   []byte
	err    error
}

const (
	rangeBytes = 512 << 10
	blocksKept = 24
)

// ReadAt implements io.ReaderAt.
func (r *Ranges) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("read at %d: before the beginning", off)
	}
	for n < len(p) && off < r.SizeBytes {
		data, err := r.block(off / rangeBytes)
		if err != nil {
			return n, err
		}
		m := copy(p[n:], data[off%rangeBytes:])
		n, off = n+m, off+int64(m)
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// block returns a block, fetching it once however many ask for it.
func (r *Ranges) block(number int64) ([]byte, error) {
	b := r.slot(number)
	b.once.Do(func() {
		data := make([]byte, min(rangeBytes, r.SizeBytes-number*rangeBytes))
		if b.err = r.Fetch(data, number*rangeBytes); b.err == nil {
			b.data = data
		}
	})
	if b.err != nil {
		r.forget(b)
	}
	return b.data, b.err
}

func (r *Ranges) slot(number int64) *rangeBlock {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, b := range r.blocks {
		if b.number == number {
			r.blocks = append(append(r.blocks[:i:i], r.blocks[i+1:]...), b)
			return b
		}
	}
	if len(r.blocks) >= blocksKept {
		r.blocks = r.blocks[1:]
	}
	b := &rangeBlock{number: number, once: &sync.Once{}}
	r.blocks = append(r.blocks, b)
	return b
}

// forget drops a block that could not be fetched, so that it is tried again.
func (r *Ranges) forget(gone *rangeBlock) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, b := range r.blocks {
		if b == gone {
			r.blocks = append(r.blocks[:i:i], r.blocks[i+1:]...)
			return
		}
	}
}
