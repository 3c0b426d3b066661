package archive

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"hash/crc32"
	"io"
	"sync"

	"github.com/klauspost/compress"
	"github.com/klauspost/compress/flate"

	"nestseed/internal/core/buffers"
	"nestseed/internal/core/sums"
)

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
