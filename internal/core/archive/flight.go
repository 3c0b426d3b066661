package archive

import (
	"errors"
	"sync"
)

var errClosed = errors.New("closed")

// flight bounds the bytes that are read and not yet written. One that is larger than the bound goes alone.
type flight struct {
	mu     sync.Mutex
	room   *sync.Cond
	used   int64
	limit  int64
	closed bool
}

func newFlight(limit int64) *flight {
	f := &flight{limit: limit}
	f.room = sync.NewCond(&f.mu)
	return f
}

func (f *flight) acquire(n int64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for f.used > 0 && f.used+n > f.limit && !f.closed {
		f.room.Wait()
	}
	if f.closed {
		return errClosed
	}
	f.used += n
	return nil
}

func (f *flight) release(n int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.used -= n
	f.room.Broadcast()
}

func (f *flight) close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	f.room.Broadcast()
}

// Buffers are kept by size class, so that memory stays flat however many entries pass.
var buffers [8]sync.Pool // 32 KiB << 2i: 32 KiB, 128 KiB, 512 KiB, 2 MiB, 8 MiB …

func class(n int) int {
	c := 0
	for size := 32 << 10; size < n && c < len(buffers)-1; size <<= 2 {
		c++
	}
	return c
}

func take(n int) []byte {
	c := class(n)
	if b, ok := buffers[c].Get().(*[]byte); ok && cap(*b) >= n {
		return (*b)[:n]
	}
	return make([]byte, n, max(n, 32<<10<<(2*c)))
}

func giveBack(b []byte) {
	full := b[:0:cap(b)]
	if cap(full) >= 32<<10 {
		// A buffer serves the largest class it fills.
		c := 0
		for size := 32 << 10; c < len(buffers)-1 && size<<2 <= cap(full); size <<= 2 {
			c++
		}
		buffers[c].Put(&full)
	}
}
