package archive

import (
	"archive/zip"
	"crypto/sha256"
	"fmt"
	"hash/crc32"
	"io"

	"nestseed/internal/core/buffers"
)

// Stream is an entry of any size, written block by block by the goroutine that holds it. Its sums, which are one
// chain, are computed by a goroutine of their own while blocks are made and compressed.
type Stream struct {
	l       *Lane
	e       *entry
	buf     []byte
	summing chan *summed
	sums    chan sumsOf
	decided bool
	store   bool
}

// summed is a block on its way to the sums; done is closed when they have it.
type summed struct {
	raw  []byte
	done chan struct{}
}

// sumsOf are the sums of a whole stream.
type sumsOf struct {
	sha256 [sha256.Size]byte
	crc    uint32
	size   int64
}

// summingAhead is how many blocks may wait for the sums.
const summingAhead = 4

func (s *Stream) sum() {
	h, of := sha256.New(), sumsOf{}
	defer func() {
		h.Sum(of.sha256[:0])
		s.sums <- of
	}()
	for {
		select {
		case b, more := <-s.summing:
			if !more {
				return
			}
			h.Write(b.raw)
			of.crc = crc32.Update(of.crc, crc32.IEEETable, b.raw)
			of.size += int64(len(b.raw))
			close(b.done)
		case <-s.l.w.ctx.Done():
			return
		}
	}
}

// Stream begins a large entry of about so many bytes.
func (l *Lane) Stream(h *zip.FileHeader, sizeBytes int64) *Stream {
	e := &entry{header: h, blocks: make(chan *block, 64), large: sizeBytes > 2<<30}
	s := &Stream{l: l, e: e, buf: buffers.Take(blockBytes)[:0], summing: make(chan *summed, summingAhead), sums: make(chan sumsOf, 1)}
	go s.sum()
	return s
}

// Copied adds an entry whose compressed bytes are there already, in another archive: they are not looked into.
func (l *Lane) Copied(h *zip.FileHeader, reuse *Reuse, from *zip.File, sum string) error {
	h.Method, h.CRC32, h.UncompressedSize64 = from.Method, from.CRC32, from.UncompressedSize64
	size := int64(from.CompressedSize64)
	e := &entry{header: h, blocks: make(chan *block, 64), large: h.UncompressedSize64 > 2<<30, sum: sum}
	defer close(e.blocks)
	if at, known := reuse.places[from]; known {
		b := &block{ready: make(chan struct{}), copied: &packed{from: reuse.a.from, at: at, n: size}}
		close(b.ready)
		e.blocks <- b
		return l.whole(e)
	}
	raw, err := from.OpenRaw()
	if err != nil {
		return err
	}
	if err := l.queue(e); err != nil {
		return err
	}
	for first := true; size > 0 || first; first = false {
		n := min(size, blockBytes)
		if err := l.acquire(buffers.Room(int(n))); err != nil {
			return err
		}
		b := &block{ready: make(chan struct{}), cost: buffers.Room(int(n)), out: buffers.Take(int(n))}
		if _, err := io.ReadFull(raw, b.out); err != nil {
			return fmt.Errorf("copy %s from the release before: %w", h.Name, err)
		}
		close(b.ready)
		select {
		case e.blocks <- b:
		case <-l.w.ctx.Done():
			return l.w.cause()
		}
		size -= n
	}
	return nil
}

// Write implements io.Writer.
func (s *Stream) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		m := copy(s.buf[len(s.buf):blockBytes], p)
		s.buf = s.buf[:len(s.buf)+m]
		n, p = n+m, p[m:]
		if len(s.buf) == blockBytes {
			if err := s.flush(false); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// ReadFrom implements io.ReaderFrom, so that files are read straight into blocks.
func (s *Stream) ReadFrom(r io.Reader) (n int64, err error) {
	for {
		m, err := r.Read(s.buf[len(s.buf):blockBytes])
		s.buf = s.buf[:len(s.buf)+m]
		n += int64(m)
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
		if len(s.buf) == blockBytes {
			if err := s.flush(false); err != nil {
				return n, err
			}
		}
	}
}

func (s *Stream) flush(last bool) error {
	if !s.decided {
		s.decided = true
		s.store = !shrinks(s.buf)
		if !s.store {
			s.e.header.Method = zip.Deflate
		}
		if err := s.l.queue(s.e); err != nil {
			return err
		}
	}
	raw := s.buf
	b := &block{ready: make(chan struct{}), cost: int64(cap(raw))}
	if err := s.l.acquire(b.cost); err != nil {
		return err
	}
	select {
	case s.e.blocks <- b:
	case <-s.l.w.ctx.Done():
		return s.l.w.cause()
	}
	s.buf = nil
	if !last {
		s.buf = buffers.Take(blockBytes)[:0]
	}
	of := &summed{raw: raw, done: make(chan struct{})}
	if s.store {
		b.out, of.done = raw, b.ready // it may be written, and its buffer used again, when the sums have it
	}
	select {
	case s.summing <- of:
	case <-s.l.w.ctx.Done():
		return s.l.w.cause()
	}
	if s.store {
		return nil
	}
	return s.l.w.do(func() error {
		b.out = deflateBlock(raw, last)
		select {
		case <-of.done:
		case <-s.l.w.ctx.Done():
			return s.l.w.cause()
		}
		buffers.Recycle(raw)
		b.trim(s.l)
		close(b.ready)
		return nil
	})
}

// Undecided makes the entry wait at its end for a word on whether it is kept; see Keep.
func (s *Stream) Undecided() { s.e.decision = make(chan bool, 1) }

// Keep says, after Close, whether an undecided entry stays in the archive.
func (s *Stream) Keep(yes bool) { s.e.decision <- yes }

// Close ends the entry and returns the size of its content.
func (s *Stream) Close() (int64, error) {
	err := s.flush(true)
	close(s.summing)
	of := <-s.sums
	if err != nil {
		return 0, err
	}
	s.e.finish(of.sha256, of.crc, of.size)
	close(s.e.blocks)
	return of.size, nil
}
