package archive

import (
	"errors"
	"sync"
)

var errClosed = errors.New("closed")

// budget bounds the bytes that are read and not yet written. One that is larger than the bound goes alone.
type budget struct {
	mu     sync.Mutex
	room   *sync.Cond
	used   int64
	limit  int64
	closed bool
}

func newBudget(limit int64) *budget {
	f := &budget{limit: limit}
	f.room = sync.NewCond(&f.mu)
	return f
}

func (f *budget) acquire(n int64) error {
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

func (f *budget) release(n int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.used -= n
	f.room.Broadcast()
}

func (f *budget) close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	f.room.Broadcast()
}

// Buffers are kept by size class, so that memory stays flat however many entries pass.
var buffers [9]sync.Pool // 32 KiB << i, up to 8 MiB

const leastBuffer = 32 << 10

func class(n int) int {
	c := 0
	for size := leastBuffer; size < n && c < len(buffers)-1; size <<= 1 {
		c++
	}
	return c
}

// room is how much memory take sets aside for so many bytes. What is in flight is counted by it: a small piece may lie
// in a large buffer.
func room(n int) int64 { return int64(max(n, leastBuffer<<class(n))) }

func take(n int) []byte {
	if b, ok := buffers[class(n)].Get().(*[]byte); ok && cap(*b) >= n {
		return (*b)[:n]
	}
	return make([]byte, n, room(n))
}

func recycle(b []byte) {
	full := b[:0:cap(b)]
	if cap(full) >= leastBuffer {
		// A buffer serves the largest class it fills.
		c := 0
		for size := leastBuffer; c < len(buffers)-1 && size<<1 <= cap(full); size <<= 1 {
			c++
		}
		buffers[c].Put(&full)
	}
}

// shrink moves bytes that wait into a buffer of their size, when they lie in a much larger one.
func shrink(b []byte) []byte {
	if room(len(b)) >= int64(cap(b)) {
		return b
	}
	out := append(take(len(b))[:0], b...)
	recycle(b)
	return out
}
