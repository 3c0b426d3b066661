package archive

import (
	"archive/zip"
	"context"
	"hash/crc32"

	"nestseed/internal/core/buffers"
)

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

func newLane(w *Writer, room int64, count int, bytes int64) *Lane {
	l := &Lane{w: w, order: make(chan *entry, 256), budget: newBudget(room), count: count, bytes: bytes}
	context.AfterFunc(w.ctx, l.budget.close)
	return l
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
