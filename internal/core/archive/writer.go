//lint:file-ignore SA1019 headers are written as they are: the old fields for times too, which older programs read

package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"runtime"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/klauspost/compress"
	"github.com/klauspost/compress/flate"

	"nestseed/internal/core/buffers"
	"nestseed/internal/core/filelist"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/sums"
)

// Target is what an archive is written to: forward, but for sums and sizes, and the manifest, which are filled
// in when they are known.
type Target interface {
	io.WriterAt
	Truncate(size int64) error
}

// CopyTarget is a Target that takes bytes of other archives by itself, by a shorter way than through buffers of ours.
type CopyTarget interface {
	Target
	// Shares says whether it does so for an archive that is read in this way.
	Shares(from io.ReaderAt) bool
	// CopyAt makes n bytes from an offset of another archive those at an offset of the target.
	CopyAt(r io.ReaderAt, from, n, at int64) error
}

const (
	blockBytes  = 1 << 20  // large entries are compressed in blocks of this size, independently
	SmallBytes  = 4 << 20  // files up to this size are read whole by one worker
	budgetBytes = 48 << 20 // content of the first lane that may be read and not yet written
	aheadBytes  = 32 << 20 // content of the second that may be fetched and packed ahead
	batchBytes  = 4 << 20  // room of small files that one worker reads and sums together, at most,
	batchFiles  = 64       // and how many: several for each lane of the sums, so that lanes stay full
	piecesBytes = 16 << 20 // room of pieces of rows that are summed together,
	piecesCount = 16       // and how many: they are of like sizes, and one for each lane is enough
	spareBytes  = 512      // in the buffer of a small file: it may grow by a little before it is read
	level       = 3        // of deflate: the knee of size over speed on real sites
)

// Writer compresses entries on all cores and writes them in order: those of files as they were added, then
// those of the database. Lanes are filled side by side, each by one goroutine: while files are read and written, rows
// are fetched from the database and packed ahead, as far as their lane has room.
//
// Each entry is a queue of blocks. Workers fill blocks in any order; one goroutine writes them in
// order. Deflate blocks that end with a sync flush can follow one another (RFC 1951 section 3.2.4, an
// empty stored block aligns to a byte), so a large entry is compressed on all cores and still is one
// stream. Memory is bounded by the bytes in flight.
type Writer struct {
	ctx      context.Context
	cancel   context.CancelCauseFunc
	zip      *zipFile
	out      Target
	group    *parallel.Group
	tasks    chan func() error
	Files    *Lane
	Database *Lane
	sums     bytes.Buffer
	index    []filelist.Entry
}

// Index lists what was written. It is complete after Finish.
func (w *Writer) Index() []filelist.Entry { return w.index }

// Context ends when the writer does.
func (w *Writer) Context() context.Context { return w.ctx }

// Cancel ends both lanes, for a reason that their methods return from then on.
func (w *Writer) Cancel(reason error) { w.cancel(reason) }

// Lane is a line of entries. It is for one goroutine.
type Lane struct {
	w      *Writer
	order  chan *entry
	budget *budget
	batch  []*pending // small entries that are in line and that no worker has yet
	held   int64      // the room they take
	count  int        // of entries in a full batch
	bytes  int64      // and their room
}

// pending is a small entry that is in line, and how its content is come by.
type pending struct {
	e    *entry
	b    *block
	read func() ([]byte, error)
	// reuse, unless nil, may have what content of this sum was packed to before; then copied is called with its size.
	reuse  *Reuse
	copied func(sizeBytes int64)
}

// entry is one file of the archive on its way.
type entry struct {
	lane     *Lane
	header   *zip.FileHeader
	blocks   chan *block
	sum      string    // hexadecimal SHA-256; empty for what sums do not cover
	skip     bool      // nothing is written after all
	decision chan bool // unless nil: says at the end whether what was written is kept
	large    bool      // may pass 4 GiB
	target   string    // of a link
}

// packed is what content was packed to in another archive.
type packed struct {
	method uint16
	out    []byte // nil where the target copies it:
	from   io.ReaderAt
	at, n  int64
}

// block is a piece of an entry's compressed stream.
type block struct {
	ready  chan struct{}
	out    []byte
	copied *packed // instead of out
	cost   int64
}

// trim lets a block that is packed, and that may wait long for its turn, take only the room that it needs.
func (b *block) trim(l *Lane) {
	b.out = buffers.Shrink(b.out)
	if saved := b.cost - int64(cap(b.out)); saved > 0 {
		b.cost -= saved
		l.budget.release(saved)
	}
}

// NewWriter begins an archive. Either Finish or Abandon ends it.
func NewWriter(ctx context.Context, out Target) *Writer {
	ctx, cancel := context.WithCancelCause(ctx)
	group, ctx := parallel.WithContext(ctx)
	w := &Writer{ctx: ctx, cancel: cancel, out: out, group: group, tasks: make(chan func() error),
		zip: &zipFile{out: out, buf: make([]byte, 0, bufferBytes)}}
	w.Files, w.Database = newLane(w, budgetBytes, batchFiles, batchBytes), newLane(w, aheadBytes, piecesCount, piecesBytes)
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
	return w
}

func newLane(w *Writer, room int64, count int, bytes int64) *Lane {
	l := &Lane{w: w, order: make(chan *entry, 256), budget: newBudget(room), count: count, bytes: bytes}
	context.AfterFunc(w.ctx, l.budget.close)
	return l
}

// write is the goroutine that owns the ZIP file.
func (w *Writer) write() error {
	for _, l := range []*Lane{w.Files, w.Database} {
		for open := true; open; {
			select {
			case e, more := <-l.order:
				if open = more; !more {
					break
				}
				if err := w.writeEntry(e); err != nil {
					return err
				}
			case <-w.ctx.Done():
				return w.cause()
			}
		}
	}
	return nil
}

func (w *Writer) writeEntry(e *entry) error {
	begun := false
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
			e.lane.budget.release(b.cost)
			continue
		}
		if !begun {
			begun = true
			if err := w.zip.begin(e.header, e.large); err != nil {
				return err
			}
		}
		if c := b.copied; c != nil {
			if err := w.zip.copy(c); err != nil {
				return fmt.Errorf("copy %s from the release before: %w", e.header.Name, err)
			}
			packed += c.n
		} else if _, err := w.zip.Write(b.out); err != nil {
			return err
		}
		packed += int64(len(b.out))
		buffers.Recycle(b.out)
		e.lane.budget.release(b.cost)
	}
	if e.skip {
		return nil
	}
	if e.decision != nil {
		select {
		case kept := <-e.decision:
			if !kept {
				w.zip.rollBack()
				return nil
			}
		case <-w.ctx.Done():
			return w.cause()
		}
	}
	e.header.CompressedSize64 = uint64(packed)
	if e.sum != "" {
		w.sums.WriteString(sumLine(e.sum, e.header.Name))
	}
	w.index = append(w.index, filelist.Entry{Path: strings.TrimSuffix(e.header.Name, "/"), Bytes: int64(e.header.UncompressedSize64),
		Packed:   packed,
		Modified: e.header.Modified.Unix(), Mode: e.header.Mode(), Target: e.target})
	return w.zip.end()
}

// next waits for the next block of an entry; nil at its end.
func (w *Writer) next(e *entry) (*block, error) {
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

// Header makes an entry's Header with its time, also in the extended timestamp field (0x5455, APPNOTE 4.6).
func Header(name string, mode fs.FileMode, t time.Time) *zip.FileHeader {
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
	h.ModifiedDate, h.ModifiedTime = dosTime(t)
	extra := []byte{0x55, 0x54, 5, 0, 1, 0, 0, 0, 0}
	binary.LittleEndian.PutUint32(extra[5:], uint32(t.Unix()))
	h.Extra = extra
	return h
}

// queue puts an entry in line. Small ones that are in line before it go to a worker first: the line would come to a
// stop at one that nobody reads.
func (l *Lane) queue(e *entry) error {
	if err := l.dispatch(); err != nil {
		return err
	}
	return l.line(e)
}

// whole puts an entry in line that needs no worker, like a folder. The batch before it may wait for more, as long as
// the line has room for both.
func (l *Lane) whole(e *entry) error {
	if len(l.order) > cap(l.order)/2 {
		return l.queue(e)
	}
	return l.line(e)
}

func (l *Lane) line(e *entry) error {
	e.lane = l
	select {
	case l.order <- e:
		return nil
	case <-l.w.ctx.Done():
		return l.w.cause()
	}
}

// Link adds an entry that sums do not cover: a symbolic link, whose content is its target, or a folder, with "".
func (l *Lane) Link(h *zip.FileHeader, target string) error {
	b := &block{ready: make(chan struct{}), out: []byte(target)}
	close(b.ready)
	e := &entry{header: h, blocks: make(chan *block, 1), target: target}
	e.blocks <- b
	close(e.blocks)
	h.CRC32, h.UncompressedSize64 = crc32.ChecksumIEEE([]byte(target)), uint64(len(target))
	return l.whole(e)
}

// Close ends the lane: nothing is added any more.
func (l *Lane) Close() error {
	err := l.dispatch()
	close(l.order)
	return err
}

// acquire waits until so many bytes have room in the lane.
func (l *Lane) acquire(n int64) error {
	if err := l.budget.acquire(n); err != nil {
		return l.w.cause()
	}
	return nil
}

// do gives a task to the next free worker.
func (w *Writer) do(task func() error) error {
	select {
	case w.tasks <- task:
		return nil
	case <-w.ctx.Done():
		return w.cause()
	}
}

func (w *Writer) cause() error { return context.Cause(w.ctx) }

// Small adds an entry whose content one worker reads. read may return nil to say that the entry is not
// to be written after all. Small entries go to workers by the batch: sums of many are computed at once.
func (l *Lane) Small(h *zip.FileHeader, size int64, read func(buf []byte) ([]byte, error)) error {
	n := int(size) + spareBytes
	return l.pend(h, buffers.Room(n), &pending{read: func() ([]byte, error) { return read(buffers.Take(n)) }})
}

// Piece adds an entry whose content is there already, in a buffer that is the lane's from now on. If reuse is not nil and
// has a piece of rows with the same content, its packed bytes are taken, and copied is called with the size of the content.
func (l *Lane) Piece(h *zip.FileHeader, raw []byte, reuse *Reuse, copied func(sizeBytes int64)) error {
	raw = buffers.Shrink(raw)
	return l.pend(h, int64(cap(raw)), &pending{read: func() ([]byte, error) { return raw, nil }, reuse: reuse, copied: copied})
}

// pend puts an entry in line and in the batch. A batch that would become too large goes to a worker first: what it
// takes is given free only then.
func (l *Lane) pend(h *zip.FileHeader, cost int64, p *pending) error {
	if l.held > 0 && l.held+cost > l.bytes {
		if err := l.dispatch(); err != nil {
			return err
		}
	}
	if err := l.acquire(cost); err != nil {
		return err
	}
	p.b = &block{ready: make(chan struct{}), cost: cost}
	p.e = &entry{header: h, blocks: make(chan *block, 1)}
	p.e.blocks <- p.b
	close(p.e.blocks)
	if err := l.line(p.e); err != nil {
		return err
	}
	l.batch, l.held = append(l.batch, p), l.held+cost
	if len(l.batch) == l.count {
		return l.dispatch()
	}
	return nil
}

// dispatch gives the small entries that are in line to the next free worker.
func (l *Lane) dispatch() error {
	batch := l.batch
	l.batch, l.held = nil, 0
	if len(batch) == 0 {
		return nil
	}
	return l.w.do(func() error { return pack(batch) })
}

// pack reads a batch of small entries, sums them together and compresses each.
func pack(batch []*pending) error {
	raws := make([][]byte, len(batch))
	for i, p := range batch {
		var err error
		if raws[i], err = p.read(); err != nil {
			return err
		}
	}
	for i, digest := range sums.Of(raws) {
		p, raw := batch[i], raws[i]
		if raw == nil {
			p.e.skip = true
		} else {
			p.e.finish(digest, crc32.ChecksumIEEE(raw), int64(len(raw)))
			p.pack(raw, digest)
			p.b.trim(p.e.lane)
		}
		close(p.b.ready)
	}
	return nil
}

// pack compresses content, or takes what it was packed to before.
func (p *pending) pack(raw []byte, sum [sha256.Size]byte) {
	if p.reuse != nil {
		if was := p.reuse.packedRows(sum); was != nil {
			p.copied(int64(len(raw)))
			buffers.Recycle(raw)
			p.e.header.Method = was.method
			if p.b.out = was.out; was.out == nil {
				p.b.copied = was
			}
			return
		}
	}
	p.b.out, p.e.header.Method = deflateWhole(raw)
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
		buffers.Recycle(packed)
		return raw, zip.Store
	}
	buffers.Recycle(raw)
	return packed, zip.Deflate
}

var deflaters = sync.Pool{New: func() any {
	fw, _ := flate.NewWriter(io.Discard, level)
	return fw
}}

// deflateBlock compresses one block: the last closes the stream, others end with a sync flush.
func deflateBlock(raw []byte, last bool) []byte {
	out := bytes.NewBuffer(buffers.Take(len(raw) + len(raw)/16 + 64)[:0])
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

// Reserve writes the first entry with a body of fixed size, to be filled in by Finish. It is called before
// anything is queued.
func (w *Writer) Reserve(name string, t time.Time, body []byte) (*Reserved, error) {
	h := Header(name, 0o644, t)
	h.UncompressedSize64, h.CompressedSize64 = uint64(len(body)), uint64(len(body))
	if err := w.zip.begin(h, false); err != nil {
		return nil, err
	}
	if _, err := w.zip.Write(body); err != nil {
		return nil, err
	}
	return &Reserved{h, len(body)}, w.zip.end()
}

// Reserved is an entry whose body is written at the end.
type Reserved struct {
	header *zip.FileHeader
	size   int
}

// Size is how many bytes its body may have at most.
func (r *Reserved) Size() int { return r.size }

// Finish, called when both lanes are closed, waits for everything that was added, lets last make the reserved body, writes the sums and the
// directory, fills the reserved body in, and returns the sum of the sums.
func (w *Writer) Finish(r *Reserved, sumsTime time.Time, last func() ([]byte, error)) (sumsSHA256 string, err error) {
	close(w.tasks)
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
	lines := append([]byte(sumLine(hex.EncodeToString(digest[:]), r.header.Name)), w.sums.Bytes()...)
	pinned := sha256.Sum256(lines)

	h := Header(SumsName, 0o644, sumsTime)
	h.CRC32, h.UncompressedSize64 = crc32.ChecksumIEEE(lines), uint64(len(lines))
	packed, method := deflateWhole(lines)
	h.Method, h.CompressedSize64 = method, uint64(len(packed))
	if err := w.zip.begin(h, false); err != nil {
		return "", err
	}
	if _, err := w.zip.Write(packed); err != nil {
		return "", err
	}
	if err := w.zip.end(); err != nil {
		return "", err
	}
	size, err := w.zip.finish()
	if err != nil {
		return "", err
	}
	crc := binary.LittleEndian.AppendUint32(nil, r.header.CRC32)
	if err := w.zip.put(crc, crcOffset); err != nil {
		return "", err
	}
	if err := w.zip.put(body, int64(localBytes+len(r.header.Name)+len(r.header.Extra))); err != nil {
		return "", err
	}
	// An entry that was taken back may have been longer than all that came after it.
	return hex.EncodeToString(pinned[:]), w.out.Truncate(size)
}

// Abandon ends the goroutines after an error.
func (w *Writer) Abandon() {
	w.cancel(context.Canceled)
	close(w.tasks)
	w.group.Wait()
}
