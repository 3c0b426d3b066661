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
	"time"
	"unicode/utf8"

	"nestseed/internal/core/buffers"
	"nestseed/internal/core/filelist"
	"nestseed/internal/core/parallel"
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
