// Package filelist keeps long lists of files small: those of a survey, and those of an archive.
//
// A list of 200,000 files is a few hundred kilobytes and is read in some tens of milliseconds, so that a
// packing list can be tried against a survey, and the contents of an archive shown, without reading
// either again.
//
//	packed := filelist.Encode(entries)         // sorted by path
//	entries, err := filelist.Decode(packed)
//
// Format: entries in byte order of their paths, each path as the length it shares with the one before
// and the rest; numbers as varints (encoding/binary); all of it compressed with Zstandard (RFC 8878).
package filelist

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// Entry is one file, folder or link.
type Entry struct {
	Path     string // relative to the web root, slash-separated
	Bytes    int64  // of content
	Packed   int64  // bytes in an archive; 0 in a survey
	Modified int64  // seconds since 1970
	Mode     fs.FileMode
	Area     string
	Target   string // of a symbolic link
}

// ErrDamaged says that a list cannot be read.
var ErrDamaged = errors.New("list of files is damaged")

const (
	magic      = "NSL1"
	maxEntries = 20_000_000
	maxBytes   = 4 << 30 // of a list that is decoded
)

// Sort puts entries in the order that Encode needs.
func Sort(entries []Entry) {
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
}

// Encode packs a sorted list.
func Encode(entries []Entry) []byte {
	areas := []string{}
	at := map[string]uint64{}
	for _, e := range entries {
		if _, seen := at[e.Area]; !seen {
			at[e.Area] = uint64(len(areas))
			areas = append(areas, e.Area)
		}
	}
	b := append(make([]byte, 0, 64+24*len(entries)), magic...)
	b = binary.AppendUvarint(b, uint64(len(areas)))
	for _, a := range areas {
		b = appendText(b, a)
	}
	b = binary.AppendUvarint(b, uint64(len(entries)))
	var before Entry
	for _, e := range entries {
		shared := sharedPrefix(before.Path, e.Path)
		b = binary.AppendUvarint(b, uint64(shared))
		b = appendText(b, e.Path[shared:])
		b = binary.AppendUvarint(b, uint64(e.Bytes))
		b = binary.AppendUvarint(b, uint64(e.Packed))
		b = binary.AppendVarint(b, e.Modified-before.Modified)
		b = binary.AppendUvarint(b, uint64(e.Mode))
		b = binary.AppendUvarint(b, at[e.Area])
		if e.Mode&fs.ModeSymlink != 0 {
			b = appendText(b, e.Target)
		}
		before = e
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic(err) // the options are constant
	}
	defer z.Close()
	return z.EncodeAll(b, nil)
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

func sharedPrefix(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

// Decode reads a list. Errors: ErrDamaged.
func Decode(packed []byte) ([]Entry, error) {
	r, areas, count, err := begin(packed)
	if err != nil {
		return nil, err
	}
	entries := make([]Entry, 0, count)
	if err := r.each(areas, count, func(e *Entry) { entries = append(entries, *e) }); err != nil {
		return nil, err
	}
	return entries, nil
}

// Each reads a list and gives its entries one after the other, each in a place that the next is read to. Errors:
// ErrDamaged, before or after some of them.
func Each(packed []byte, do func(e *Entry)) error {
	r, areas, count, err := begin(packed)
	if err != nil {
		return err
	}
	return r.each(areas, count, do)
}

// begin reads what comes before the entries.
func begin(packed []byte) (r reader, areas []string, count uint64, err error) {
	z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxBytes))
	if err != nil {
		return r, nil, 0, err
	}
	defer z.Close()
	if r.b, err = z.DecodeAll(packed, nil); err != nil {
		return r, nil, 0, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	if string(r.take(uint64(len(magic)))) != magic {
		return r, nil, 0, fmt.Errorf("%w: it does not begin with %s", ErrDamaged, magic)
	}
	areas = make([]string, r.count(256))
	for i := range areas {
		areas[i] = r.text()
	}
	return r, areas, r.count(maxEntries), nil
}

func (r *reader) each(areas []string, count uint64, do func(e *Entry)) error {
	var e Entry
	var paths texts
	var name []byte
	for range count {
		shared := r.uvarint()
		if shared > uint64(len(name)) {
			return ErrDamaged
		}
		name = append(name[:shared], r.take(r.uvarint())...)
		e = Entry{Path: paths.keep(name), Bytes: int64(r.uvarint()), Packed: int64(r.uvarint()), Modified: e.Modified + r.varint(),
			Mode: fs.FileMode(r.uvarint())}
		area := r.uvarint()
		if e.Mode&fs.ModeSymlink != 0 {
			e.Target = r.text()
		}
		if r.bad || area >= uint64(len(areas)) {
			return ErrDamaged
		}
		e.Area = areas[area]
		do(&e)
	}
	if r.bad {
		return ErrDamaged
	}
	return nil
}

// texts makes strings many at a time.
type texts struct{ room strings.Builder }

const roomBytes = 32 << 10

func (t *texts) keep(b []byte) string {
	if t.room.Cap()-t.room.Len() < len(b) {
		t.room = strings.Builder{} // what was made in the old one stays there
		t.room.Grow(max(roomBytes, len(b)))
	}
	at := t.room.Len()
	t.room.Write(b)
	return t.room.String()[at:]
}

// reader reads numbers and texts, and remembers when there were not enough bytes.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) uvarint() uint64 {
	if len(r.b) > 0 && r.b[0] < 0x80 {
		v := r.b[0]
		r.b = r.b[1:]
		return uint64(v)
	}
	v, n := binary.Uvarint(r.b)
	if n <= 0 {
		r.bad = true
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *reader) varint() int64 {
	v, n := binary.Varint(r.b)
	if n <= 0 {
		r.bad = true
		return 0
	}
	r.b = r.b[n:]
	return v
}

// count reads a number of things that follow; each takes at least a byte, so a lie is noticed.
func (r *reader) count(most uint64) uint64 {
	n := r.uvarint()
	if n > most || n > uint64(len(r.b)) {
		r.bad = true
		return 0
	}
	return n
}

func (r *reader) take(n uint64) []byte {
	if n > uint64(len(r.b)) {
		r.bad = true
		return nil
	}
	out := r.b[:n]
	r.b = r.b[n:]
	return out
}

func (r *reader) text() string { return string(r.take(r.uvarint())) }
