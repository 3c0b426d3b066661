//lint:file-ignore SA1019 headers are written as they are: the old fields for times too, which older programs read

package archive

import (
	"archive/zip"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"time"
)

// zipFile writes a ZIP file (APPNOTE.TXT 6.3) entry by entry. Sizes and sums are written into an entry's local
// header once they are known, so no data descriptors are needed; and the last entry can be taken back, which
// is how a file that changed while it was packed is packed again.
type zipFile struct {
	out Target
	buf []byte // not yet written; begins at offset at
	at  int64
	dir []zipEntry
}

type zipEntry struct {
	h      *zip.FileHeader
	offset int64
	wide   bool // has ZIP64 sizes in its local header
}

const (
	localSig     = 0x04034b50
	dirSig       = 0x02014b50
	dirEndSig    = 0x06054b50
	wideEndSig   = 0x06064b50
	wideLocSig   = 0x07064b50
	localBytes   = 30 // APPNOTE 4.3.7: fixed part of a local file header
	crcOffset    = 14
	wideTag      = 1 // APPNOTE 4.5.3: extended information of ZIP64
	bufferBytes  = 512 << 10
	unixMadeBy   = 3<<8 | 63
	plainVersion = 20
	wideVersion  = 45
)

// offset is where the next byte goes.
func (z *zipFile) offset() int64 { return z.at + int64(len(z.buf)) }

func (z *zipFile) Write(p []byte) (int, error) {
	if len(z.buf)+len(p) > bufferBytes {
		if err := z.flush(); err != nil {
			return 0, err
		}
	}
	if len(p) >= bufferBytes {
		if err := z.put(p, z.at); err != nil {
			return 0, err
		}
		z.at += int64(len(p))
		return len(p), nil
	}
	z.buf = append(z.buf, p...)
	return len(p), nil
}

// copy lets the target take over bytes of another archive.
func (z *zipFile) copy(p *packed) error {
	if err := z.flush(); err != nil {
		return err
	}
	if err := z.out.(CopyTarget).CopyAt(p.from, p.at, p.n, z.at); err != nil {
		return err
	}
	z.at += p.n
	return nil
}

func (z *zipFile) put(p []byte, at int64) error {
	if _, err := z.out.WriteAt(p, at); err != nil {
		return fmt.Errorf("write the archive: %w", err)
	}
	return nil
}

func (z *zipFile) flush() error {
	if len(z.buf) == 0 {
		return nil
	}
	if err := z.put(z.buf, z.at); err != nil {
		return err
	}
	z.at += int64(len(z.buf))
	z.buf = z.buf[:0]
	return nil
}

// begin writes an entry's local header; large says that its content may pass 4 GiB.
func (z *zipFile) begin(h *zip.FileHeader, large bool) error {
	e := zipEntry{h: h, offset: z.offset(), wide: large}
	b := make([]byte, 0, localBytes+len(h.Name)+len(h.Extra)+20)
	le := binary.LittleEndian
	version := uint16(plainVersion)
	extra := h.Extra
	if large {
		version = wideVersion
		extra = append(wideExtra(0, 0), extra...)
	}
	b = le.AppendUint32(b, localSig)
	b = le.AppendUint16(b, version)
	b = le.AppendUint16(b, h.Flags)
	b = le.AppendUint16(b, h.Method)
	b = le.AppendUint16(b, h.ModifiedTime)
	b = le.AppendUint16(b, h.ModifiedDate)
	b = append(b, make([]byte, 12)...) // sum and sizes, see end
	b = le.AppendUint16(b, uint16(len(h.Name)))
	b = le.AppendUint16(b, uint16(len(extra)))
	b = append(b, h.Name...)
	b = append(b, extra...)
	z.dir = append(z.dir, e)
	_, err := z.Write(b)
	return err
}

func wideExtra(size, packed uint64) []byte {
	b := binary.LittleEndian.AppendUint16(nil, wideTag)
	b = binary.LittleEndian.AppendUint16(b, 16)
	b = binary.LittleEndian.AppendUint64(b, size)
	return binary.LittleEndian.AppendUint64(b, packed)
}

// end fills in what is known of the last entry now: method, sum and sizes.
func (z *zipFile) end() error {
	e := z.dir[len(z.dir)-1]
	h := e.h
	if !e.wide && (h.UncompressedSize64 >= math.MaxUint32 || h.CompressedSize64 >= math.MaxUint32) {
		return fmt.Errorf("%s grew past 4 GiB while it was read", h.Name)
	}
	le := binary.LittleEndian
	fixed := le.AppendUint16(nil, h.Method)
	fixed = le.AppendUint16(fixed, h.ModifiedTime)
	fixed = le.AppendUint16(fixed, h.ModifiedDate)
	fixed = le.AppendUint32(fixed, h.CRC32)
	if e.wide {
		fixed = le.AppendUint32(le.AppendUint32(fixed, math.MaxUint32), math.MaxUint32)
	} else {
		fixed = le.AppendUint32(le.AppendUint32(fixed, uint32(h.CompressedSize64)), uint32(h.UncompressedSize64))
	}
	if err := z.patch(fixed, e.offset+8); err != nil {
		return err
	}
	if !e.wide {
		return nil
	}
	return z.patch(wideExtra(h.UncompressedSize64, h.CompressedSize64), e.offset+localBytes+int64(len(h.Name)))
}

// patch overwrites bytes that were written before, in the buffer or in the file.
func (z *zipFile) patch(p []byte, at int64) error {
	if n := z.at - at; n > 0 {
		head := p[:min(int64(len(p)), n)]
		if err := z.put(head, at); err != nil {
			return err
		}
		p, at = p[len(head):], at+int64(len(head))
	}
	if len(p) > 0 {
		copy(z.buf[at-z.at:], p)
	}
	return nil
}

// rollBack forgets the last entry; what comes next is written over it.
func (z *zipFile) rollBack() {
	e := z.dir[len(z.dir)-1]
	z.dir = z.dir[:len(z.dir)-1]
	if e.offset >= z.at {
		z.buf = z.buf[:e.offset-z.at]
		return
	}
	z.buf, z.at = z.buf[:0], e.offset
}

// finish writes the directory.
func (z *zipFile) finish() (sizeBytes int64, err error) {
	le := binary.LittleEndian
	start := z.offset()
	for _, e := range z.dir {
		h := e.h
		var wide []byte
		size, packed, offset := uint32(h.UncompressedSize64), uint32(h.CompressedSize64), uint32(e.offset)
		if e.wide || e.offset >= math.MaxUint32 {
			wide = le.AppendUint16(wide, wideTag)
			wide = le.AppendUint16(wide, 24)
			wide = le.AppendUint64(wide, h.UncompressedSize64)
			wide = le.AppendUint64(wide, h.CompressedSize64)
			wide = le.AppendUint64(wide, uint64(e.offset))
			size, packed, offset = math.MaxUint32, math.MaxUint32, math.MaxUint32
		}
		version := uint16(plainVersion)
		if wide != nil {
			version = wideVersion
		}
		b := le.AppendUint32(nil, dirSig)
		b = le.AppendUint16(b, unixMadeBy)
		b = le.AppendUint16(b, version)
		b = le.AppendUint16(b, h.Flags)
		b = le.AppendUint16(b, h.Method)
		b = le.AppendUint16(b, h.ModifiedTime)
		b = le.AppendUint16(b, h.ModifiedDate)
		b = le.AppendUint32(b, h.CRC32)
		b = le.AppendUint32(b, packed)
		b = le.AppendUint32(b, size)
		b = le.AppendUint16(b, uint16(len(h.Name)))
		b = le.AppendUint16(b, uint16(len(wide)+len(h.Extra)))
		b = append(b, 0, 0, 0, 0, 0, 0) // comment, disk, internal attributes
		b = le.AppendUint32(b, h.ExternalAttrs)
		b = le.AppendUint32(b, offset)
		b = append(b, h.Name...)
		b = append(append(b, wide...), h.Extra...)
		if _, err := z.Write(b); err != nil {
			return 0, err
		}
	}
	end := z.offset()
	b := z.directoryEnd(start, end)
	if _, err := z.Write(b); err != nil {
		return 0, err
	}
	return z.offset(), z.flush()
}

func (z *zipFile) directoryEnd(start, end int64) (b []byte) {
	le := binary.LittleEndian
	n, size, at := uint64(len(z.dir)), uint64(end-start), uint64(start)
	if n >= math.MaxUint16 || size >= math.MaxUint32 || at >= math.MaxUint32 {
		b = le.AppendUint32(b, wideEndSig)
		b = le.AppendUint64(b, 44)
		b = le.AppendUint16(b, unixMadeBy)
		b = le.AppendUint16(b, wideVersion)
		b = append(b, make([]byte, 8)...) // disks
		b = le.AppendUint64(b, n)
		b = le.AppendUint64(b, n)
		b = le.AppendUint64(b, size)
		b = le.AppendUint64(b, at)
		b = le.AppendUint32(b, wideLocSig)
		b = le.AppendUint32(b, 0)
		b = le.AppendUint64(b, uint64(end))
		b = le.AppendUint32(b, 1)
	}
	b = le.AppendUint32(b, dirEndSig)
	b = append(b, 0, 0, 0, 0) // disks
	b = le.AppendUint16(b, uint16(min(n, math.MaxUint16)))
	b = le.AppendUint16(b, uint16(min(n, math.MaxUint16)))
	b = le.AppendUint32(b, uint32(min(size, math.MaxUint32)))
	b = le.AppendUint32(b, uint32(min(at, math.MaxUint32)))
	return append(b, 0, 0) // comment
}

var _ io.Writer = (*zipFile)(nil)

// dosTime returns a time in the form of ZIP's headers, which have two seconds and no zone; UTC is used.
func dosTime(t time.Time) (date, clock uint16) {
	return uint16(t.Day() + int(t.Month())<<5 + (t.Year()-1980)<<9), uint16(t.Second()/2 + t.Minute()<<5 + t.Hour()<<11)
}
