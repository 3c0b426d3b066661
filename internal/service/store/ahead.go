package store

import (
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// ahead reads a file mostly forward, around the system's cache, a few chunks before they are asked for. It is for one
// goroutine.
type ahead struct {
	of     *os.File
	around *os.File
	chunks [chunks]chunk
	memory []byte
}

// chunk is a piece of the file that is read or being read.
type chunk struct {
	bytes  []byte
	number int64 // -1 for none
	n      int
	err    error
	ready  chan struct{}
}

const (
	chunkBytes = 1 << 20
	chunks     = 4
)

// newAhead opens a file that is open a second time. Errors: where its file system knows no reading around the cache.
func newAhead(f *os.File) (*ahead, error) {
	around, err := os.OpenFile(fmt.Sprintf("/proc/self/fd/%d", f.Fd()), os.O_RDONLY|unix.O_DIRECT, 0)
	if err != nil {
		return nil, err
	}
	a := &ahead{of: f, around: around}
	if a.memory, err = unix.Mmap(-1, 0, chunks*chunkBytes, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE); err != nil {
		around.Close()
		return nil, err
	}
	for i := range a.chunks {
		a.chunks[i] = chunk{bytes: a.memory[i*chunkBytes : (i+1)*chunkBytes], number: -1}
	}
	return a, nil
}

// chunk returns a chunk that is read or begins to be.
func (a *ahead) chunk(number int64) *chunk {
	c := &a.chunks[number%chunks]
	if c.number == number {
		return c
	}
	if c.number >= 0 {
		<-c.ready
	}
	c.number, c.ready = number, make(chan struct{})
	go func() {
		defer close(c.ready)
		c.n, c.err = a.around.ReadAt(c.bytes, number*chunkBytes)
	}()
	return c
}

// ReadAt implements io.ReaderAt; it may return fewer bytes than asked for without an error.
func (a *ahead) ReadAt(p []byte, at int64) (int, error) {
	number, from := at/chunkBytes, int(at%chunkBytes)
	c := a.chunk(number)
	for i := int64(1); i < chunks; i++ {
		a.chunk(number + i)
	}
	<-c.ready
	if errors.Is(c.err, unix.EINVAL) {
		return a.of.ReadAt(p, at)
	}
	if from < c.n {
		return copy(p, c.bytes[from:c.n]), nil
	}
	if c.err == nil {
		return 0, io.EOF
	}
	return 0, c.err
}

func (a *ahead) close() {
	for i := range a.chunks {
		if c := &a.chunks[i]; c.number >= 0 {
			<-c.ready
		}
	}
	unix.Munmap(a.memory)
	a.around.Close()
}
