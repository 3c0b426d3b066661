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
