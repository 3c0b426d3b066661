package rewrite

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"unicode/utf8"

	"nestseed/internal/core/phpval"
)

// Bounds of packed values: how large one is at most when it is opened, and how many forms are in one another.
const (
	openedBytes = 16 << 20
	packedDepth = 4
)

// packing is a form in which applications keep values: of each, how it is opened and how what was opened is put back.
type packing struct {
	is   func(src []byte) bool // begins like one
	open func(src []byte) ([]byte, error)
	pack func(was, inside []byte) ([]byte, error)
	// text says that what is opened need not be packed further to be of interest.
	text bool
}

var errTooLarge = errors.New("is larger than is opened")

// The forms: base64 (RFC 4648 section 4), zlib (RFC 1950), gzip (RFC 1952) and
// deflate alone (RFC 1951), as PHP's gzcompress, gzencode and gzdeflate write them.
var packings = []packing{
	{encodes, openBase64, func(_, inside []byte) ([]byte, error) { return base64.StdEncoding.AppendEncode(nil, inside), nil }, false},
	{isZlib, func(src []byte) ([]byte, error) { return inflated(src, zlibReader) }, packZlib, true},
	{isGzip, func(src []byte) ([]byte, error) { return inflated(src, gzipReader) }, packGzip, true},
	{isDeflate, func(src []byte) ([]byte, error) { return inflated(src, deflateReader) }, packDeflate, true},
}

func openBase64(src []byte) ([]byte, error) {
	inside, err := base64.StdEncoding.AppendDecode(nil, src)
	if err == nil && !bytes.Equal(base64.StdEncoding.AppendEncode(nil, inside), src) {
		err = base64.CorruptInputError(0)
	}
	return inside, err
}

// isZlib: the method is deflate, with a window of 32 KiB, and the first two bytes are a multiple of 31 (RFC 1950 section 2.2).
func isZlib(src []byte) bool {
	return len(src) > 8 && src[0] == 0x78 && (uint(src[0])<<8|uint(src[1]))%31 == 0
}

func isGzip(src []byte) bool {
	return len(src) > 18 && src[0] == 0x1f && src[1] == 0x8b && src[2] == 8
}

// isDeflate: nothing says so, but that it is no text, and that a first block is of one of the three kinds.
func isDeflate(src []byte) bool {
	return len(src) > 8 && src[0]>>1&3 != 3 && !utf8.Valid(src[:min(len(src), 256)]) && !isZlib(src) && !isGzip(src)
}

func zlibReader(r io.Reader) (io.ReadCloser, error)    { return zlib.NewReader(r) }
func gzipReader(r io.Reader) (io.ReadCloser, error)    { return gzip.NewReader(r) }
func deflateReader(r io.Reader) (io.ReadCloser, error) { return flate.NewReader(r), nil }

// inflated opens a value that is compressed as a whole: nothing may follow.
func inflated(src []byte, open func(io.Reader) (io.ReadCloser, error)) ([]byte, error) {
	in := bytes.NewReader(src)
	r, err := open(in)
	if err != nil {
		return nil, err
	}
	inside, err := io.ReadAll(io.LimitReader(r, openedBytes+1))
	switch {
	case err != nil:
		return nil, err
	case len(inside) > openedBytes:
		return nil, errTooLarge
	case in.Len() > 0:
		return nil, errors.New("something follows")
	}
	return inside, r.Close()
}

func packZlib(was, inside []byte) ([]byte, error) {
	level := zlib.DefaultCompression
	if was[1] == 0xda { // the best (RFC 1950, FLEVEL)
		level = zlib.BestCompression
	}
	var out bytes.Buffer
	w, err := zlib.NewWriterLevel(&out, level)
	if err != nil {
		return nil, err
	}
	return packInto(&out, w, inside)
}

// packGzip keeps the name and time that the value had.
func packGzip(was, inside []byte) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(was))
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Header = r.Header
	return packInto(&out, w, inside)
}

func packDeflate(_, inside []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := flate.NewWriter(&out, flate.DefaultCompression)
	if err != nil {
		return nil, err
	}
	return packInto(&out, w, inside)
}

func packInto(out *bytes.Buffer, w io.WriteCloser, inside []byte) ([]byte, error) {
	_, err := w.Write(inside)
	err = errors.Join(err, w.Close()) // which writes the end
	return out.Bytes(), err
}

// Packs reports whether a value begins like one that is packed, in which nothing can be seen.
func Packs(src []byte) bool {
	for i := range packings {
		if packings[i].is(src) {
			return true
		}
	}
	return false
}

// packed appends a value that is packed, in one form or several in one another, with what is inside rewritten and packed in the same forms;
// nothing changes where nothing is to be replaced, or where it is no such value. A value that is too large to be opened is counted.
func (w *Worker) packed(dst, src []byte, depth int) (_ []byte, changed bool) {
	for i := range packings {
		p := &packings[i]
		if depth == packedDepth || !p.is(src) {
			continue
		}
		inside, err := p.open(src)
		if errors.Is(err, errTooLarge) {
			w.tally.Unopened++
		}
		if err != nil || len(inside) == 0 {
			continue
		}
		fresh, is := w.packed(nil, inside, depth+1)
		if !is {
			if !utf8.Valid(inside) || !w.r.Has(inside) || !p.text && !phpval.Valid(inside) && !json.Valid(inside) {
				continue
			}
			if fresh = w.nested(nil, inside); bytes.Equal(fresh, inside) {
				continue
			}
		}
		out, err := p.pack(src, fresh)
		if err != nil {
			continue
		}
		return append(dst, out...), true
	}
	return dst, false
}
