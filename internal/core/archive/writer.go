package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"math"
	"runtime"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/klauspost/compress"
	"github.com/klauspost/compress/flate"
	"golang.org/x/sync/errgroup"
)

// Target is what an archive is written to: forward, but for the manifest, which is filled in last.
type Target interface {
	io.Writer
	io.WriterAt
}

const (
	blockBytes  = 1 << 20  // large entries are compressed in blocks of this size, independently
	smallBytes  = 4 << 20  // files up to this size are read whole by one worker
	flightBytes = 48 << 20 // content that may be read but not yet written
	level       = 3        // of deflate: the knee of size over speed on real sites
)

// writer compresses entries on all cores and writes them in the order they were added.
//
// Each entry is a queue of blocks. Workers fill blocks in any order; one goroutine writes them in
// order. Deflate blocks that end with a sync flush can follow one another (RFC 1951 section 3.2.4, an
// empty stored block aligns to a byte), so a large entry is compressed on all cores and still is one
// stream. Memory is bounded by the bytes in flight.
type writer struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	zip    *zip.Writer
	out    Target
	group  *errgroup.Group
	tasks  chan func() error
	order  chan *entry
	flight *flight
	sums   bytes.Buffer
	wrote  int64
}

// entry is one file of the archive on its way.
type entry struct {
	header *zip.FileHeader
	blocks chan *block
	sum    string // hexadecimal SHA-256; empty for what sums do not cover
	skip   bool   // nothing is written after all
	size   int64  // reserved in flight
}

// block is a piece of an entry's compressed stream.
type block struct {
	ready chan struct{}
	out   []byte
	cost  int64
}

func newWriter(ctx context.Context, out Target) *writer {
	ctx, cancel := context.WithCancelCause(ctx)
	group, ctx := errgroup.WithContext(ctx)
	w := &writer{ctx: ctx, cancel: cancel, out: out, group: group, tasks: make(chan func() error), order: make(chan *entry, 256), flight: newFlight(flightBytes)}
	w.zip = zip.NewWriter(countingWriter{w})
	for range max(2, runtime.GOMAXPROCS(0)) {
		group.Go(func() error {
			for task := range w.tasks {
				if err := task(); err != nil {
					return err
				}
			}
			return nil
		})
	}
	group.Go(w.write)
	context.AfterFunc(ctx, w.flight.close)
	return w
}

type countingWriter struct{ w *writer }

func (c countingWriter) Write(p []byte) (int, error) {
	n, err := c.w.out.Write(p)
	c.w.wrote += int64(n)
	return n, err
}

// write is the goroutine that owns the ZIP file.
func (w *writer) write() error {
	for e := range w.order {
		if err := w.writeEntry(e); err != nil {
			return err
		}
	}
	return nil
}

func (w *writer) writeEntry(e *entry) error {
	var body io.Writer
	var packed int64
	for {
		b, err := w.next(e)
		if err != nil {
			return err
		}
		if b == nil {
			break
		}
		if e.skip {
			w.flight.release(b.cost)
			continue
		}
		if body == nil {
			if e.header.Flags&0x8 == 0 {
				e.header.CompressedSize64 = uint64(len(b.out)) // an entry of one block says its size in front
			}
			if body, err = w.zip.CreateRaw(e.header); err != nil {
				return err
			}
		}
		if _, err := body.Write(b.out); err != nil {
			return fmt.Errorf("write the archive: %w", err)
		}
		packed += int64(len(b.out))
		giveBack(b.out)
		w.flight.release(b.cost)
	}
	if e.skip {
		return nil
	}
	e.header.CompressedSize64 = uint64(packed)
	// CreateRaw copied the sizes it was given into the fields of the classic format; these are final.
	e.header.CompressedSize = uint32(min(e.header.CompressedSize64, math.MaxUint32))
	e.header.UncompressedSize = uint32(min(e.header.UncompressedSize64, math.MaxUint32))
	if e.sum != "" {
		w.sums.WriteString(sumLine(e.sum, e.header.Name))
	}
	return nil
}

// next waits for the next block of an entry; nil at its end.
func (w *writer) next(e *entry) (*block, error) {
	select {
	case b := <-e.blocks:
		if b == nil {
			return nil, nil
		}
		select {
		case <-b.ready:
			return b, nil
		case <-w.ctx.Done():
		}
	case <-w.ctx.Done():
	}
	return nil, w.cause()
}

// sumLine is a line of SHA256SUMS; names with line feeds or backslashes are escaped as sha256sum does it.
func sumLine(sum, name string) string {
	if strings.ContainsAny(name, "\\\n") {
		return "\\" + sum + "  " + strings.NewReplacer(`\`, `\\`, "\n", `\n`).Replace(name) + "\n"
	}
	return sum + "  " + name + "\n"
}

// header makes an entry's header with its time, also in the extended timestamp field (0x5455, APPNOTE 4.6).
func header(name string, mode fs.FileMode, t time.Time) *zip.FileHeader {
	h := &zip.FileHeader{Name: name, Method: zip.Store, CreatorVersion: 3 << 8}
	if utf8.ValidString(name) {
		h.Flags |= 0x800
	} else {
		h.NonUTF8 = true
	}
	h.SetMode(mode)
	t = t.UTC().Truncate(time.Second)
	if t.Year() < 1980 {
		t = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	h.Modified = t
	h.ModifiedDate = uint16(t.Day() + int(t.Month())<<5 + (t.Year()-1980)<<9)
	h.ModifiedTime = uint16(t.Second()/2 + t.Minute()<<5 + t.Hour()<<11)
	extra := []byte{0x55, 0x54, 5, 0, 1, 0, 0, 0, 0}
	binary.LittleEndian.PutUint32(extra[5:], uint32(t.Unix()))
	h.Extra = extra
	return h
}

// queue puts an entry in line.
func (w *writer) queue(e *entry) error {
	select {
	case w.order <- e:
		return nil
	case <-w.ctx.Done():
		return w.cause()
	}
}

// do gives a task to the next free worker.
func (w *writer) do(task func() error) error {
	select {
	case w.tasks <- task:
		return nil
	case <-w.ctx.Done():
		return w.cause()
	}
}

func (w *writer) cause() error { return context.Cause(w.ctx) }

// small adds an entry whose content one worker reads. read may return nil to say that the entry is not
// to be written after all.
func (w *writer) small(h *zip.FileHeader, size int64, read func(buf []byte) ([]byte, error)) error {
	if err := w.flight.acquire(size); err != nil {
		return w.cause()
	}
	b := &block{ready: make(chan struct{}), cost: size}
	e := &entry{header: h, blocks: make(chan *block, 1), size: size}
	e.blocks <- b
	close(e.blocks)
	if err := w.queue(e); err != nil {
		return err
	}
	return w.do(func() error {
		buf := take(int(size) + 512)
		raw, err := read(buf)
		if err != nil {
			return err
		}
		if raw == nil {
			e.skip = true
		} else {
			e.finish(sha256.Sum256(raw), crc32.ChecksumIEEE(raw), int64(len(raw)))
			b.out, h.Method = deflateWhole(raw)
		}
		close(b.ready)
		return nil
	})
}

func (e *entry) finish(sum [32]byte, crc uint32, size int64) {
	e.sum = hex.EncodeToString(sum[:])
	e.header.CRC32 = crc
	e.header.UncompressedSize64 = uint64(size)
}

// shrinks looks at samples of the beginning and the middle: what looks random in both is stored.
func shrinks(raw []byte) bool {
	const sample, random = 8 << 10, 0.1
	middle := len(raw) / 2
	return len(raw) >= 64 &&
		(compress.Estimate(raw[:min(len(raw), sample)]) >= random || compress.Estimate(raw[middle:min(len(raw), middle+sample)]) >= random)
}

// deflateWhole compresses raw if that makes it smaller, and gives back the buffer that is not used.
func deflateWhole(raw []byte) (out []byte, method uint16) {
	if !shrinks(raw) {
		return raw, zip.Store
	}
	packed := deflateBlock(raw, true)
	if len(packed) >= len(raw) {
		giveBack(packed)
		return raw, zip.Store
	}
	giveBack(raw)
	return packed, zip.Deflate
}

var deflaters = sync.Pool{New: func() any {
	fw, _ := flate.NewWriter(io.Discard, level)
	return fw
}}

// deflateBlock compresses one block: the last closes the stream, others end with a sync flush.
func deflateBlock(raw []byte, last bool) []byte {
	out := bytes.NewBuffer(take(len(raw) + len(raw)/16 + 64)[:0])
	fw := deflaters.Get().(*flate.Writer)
	defer deflaters.Put(fw)
	fw.Reset(out)
	// Writing to memory cannot fail.
	fw.Write(raw)
	if last {
		fw.Close()
	} else {
		fw.Flush()
	}
	return out.Bytes()
}

// stream is an entry of any size, written block by block by the goroutine that holds it.
type stream struct {
	w       *writer
	e       *entry
	buf     []byte
	sum     hash.Hash
	crc     uint32
	size    int64
	decided bool
	store   bool
}

// stream begins a large entry. Its sizes are not known yet, so they follow the data (APPNOTE 4.3.9).
func (w *writer) stream(h *zip.FileHeader) (*stream, error) {
	h.Flags |= 0x8
	e := &entry{header: h, blocks: make(chan *block, 64)}
	return &stream{w: w, e: e, buf: take(blockBytes)[:0], sum: sha256.New()}, nil
}

// Write implements io.Writer.
func (s *stream) Write(p []byte) (n int, err error) {
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
func (s *stream) ReadFrom(r io.Reader) (n int64, err error) {
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

func (s *stream) flush(last bool) error {
	if !s.decided {
		s.decided = true
		s.store = !shrinks(s.buf)
		if !s.store {
			s.e.header.Method = zip.Deflate
		}
		if err := s.w.queue(s.e); err != nil {
			return err
		}
	}
	raw := s.buf
	s.sum.Write(raw)
	s.crc = crc32.Update(s.crc, crc32.IEEETable, raw)
	s.size += int64(len(raw))
	if err := s.w.flight.acquire(int64(len(raw))); err != nil {
		return s.w.cause()
	}
	b := &block{ready: make(chan struct{}), cost: int64(len(raw))}
	select {
	case s.e.blocks <- b:
	case <-s.w.ctx.Done():
		return s.w.cause()
	}
	s.buf = nil
	if !last {
		s.buf = take(blockBytes)[:0]
	}
	if s.store {
		b.out = raw
		close(b.ready)
		return nil
	}
	return s.w.do(func() error {
		b.out = deflateBlock(raw, last)
		giveBack(raw)
		close(b.ready)
		return nil
	})
}

// Close ends the entry and returns the size of its content.
func (s *stream) Close() (int64, error) {
	if err := s.flush(true); err != nil {
		return 0, err
	}
	s.e.finish([32]byte(s.sum.Sum(nil)), s.crc, s.size)
	close(s.e.blocks)
	return s.size, nil
}

// reserve writes the first entry with a body of fixed size, to be filled in by finish.
func (w *writer) reserve(name string, t time.Time, body []byte) (*reserved, error) {
	h := header(name, 0o644, t)
	h.UncompressedSize64, h.CompressedSize64 = uint64(len(body)), uint64(len(body))
	out, err := w.zip.CreateRaw(h)
	if err != nil {
		return nil, err
	}
	if _, err := out.Write(body); err != nil {
		return nil, err
	}
	return &reserved{h, len(body)}, nil
}

type reserved struct {
	header *zip.FileHeader
	size   int
}

const (
	localHeaderBytes = 30 // APPNOTE 4.3.7: fixed part of a local file header
	crcOffset        = 14
)

// finish waits for everything that was added, lets last make the reserved body, writes the sums and the
// directory, fills the reserved body in, and returns the sum of the sums.
func (w *writer) finish(r *reserved, sumsTime time.Time, last func() ([]byte, error)) (sumsSHA256 string, err error) {
	close(w.tasks)
	close(w.order)
	if err := w.group.Wait(); err != nil {
		return "", err
	}
	body, err := last()
	if err != nil {
		return "", err
	}
	if len(body) > r.size {
		return "", fmt.Errorf("the manifest needs %d bytes and only %d were kept for it", len(body), r.size)
	}
	body = append(body, bytes.Repeat([]byte(" "), r.size-len(body))...)
	r.header.CRC32 = crc32.ChecksumIEEE(body)
	digest := sha256.Sum256(body)
	sums := append([]byte(sumLine(hex.EncodeToString(digest[:]), r.header.Name)), w.sums.Bytes()...)

	h := header(SumsName, 0o644, sumsTime)
	h.CRC32, h.UncompressedSize64 = crc32.ChecksumIEEE(sums), uint64(len(sums))
	pinned := sha256.Sum256(sums)
	packed, method := deflateWhole(sums)
	h.Method, h.CompressedSize64 = method, uint64(len(packed))
	out, err := w.zip.CreateRaw(h)
	if err != nil {
		return "", err
	}
	if _, err := out.Write(packed); err != nil {
		return "", err
	}
	if err := w.zip.Close(); err != nil {
		return "", err
	}
	crc := binary.LittleEndian.AppendUint32(nil, r.header.CRC32)
	if _, err := w.out.WriteAt(crc, crcOffset); err != nil {
		return "", err
	}
	_, err = w.out.WriteAt(body, int64(localHeaderBytes+len(r.header.Name)+len(r.header.Extra)))
	return hex.EncodeToString(pinned[:]), err
}

// abandon ends the goroutines after an error.
func (w *writer) abandon() {
	w.cancel(context.Canceled)
	close(w.tasks)
	close(w.order)
	w.group.Wait()
}
