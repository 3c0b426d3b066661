package archive

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
)

// places tells where the packed bytes of entries lie, from the directory alone. The usual way is to read each entry's
// local header: in an archive that is not in the system's cache that is a wait for the disk, for each of them, and the
// system fetches what lies around it too. Here an entry ends where the next begins, which is so in archives that were
// written as ours are; what does not fit is told apart by the length of its header.
func places(r io.ReaderAt, sizeBytes int64, files []*zip.File) (map[*zip.File]int64, error) {
	start, size, err := directoryAt(r, sizeBytes)
	if err != nil {
		return nil, err
	}
	dir := make([]byte, size)
	if _, err := r.ReadAt(dir, start); err != nil {
		return nil, fmt.Errorf("%w: the directory cannot be read: %v", ErrDamaged, err)
	}
	le := binary.LittleEndian
	headers, extras := make([]int64, 0, len(files)+1), make([]int, 0, len(files))
	for range files {
		if len(dir) < dirBytes || le.Uint32(dir) != dirSig {
			return nil, fmt.Errorf("%w: its directory breaks off", ErrDamaged)
		}
		name, extra, comment := int(le.Uint16(dir[28:])), int(le.Uint16(dir[30:])), int(le.Uint16(dir[32:]))
		if len(dir) < dirBytes+name+extra+comment {
			return nil, fmt.Errorf("%w: its directory breaks off", ErrDamaged)
		}
		at, own := int64(le.Uint32(dir[42:])), extra
		if wide := wideOf(dir[dirBytes+name : dirBytes+name+extra]); wide != nil {
			own -= 4 + len(wide)
			if at == math.MaxUint32 && len(wide) >= 8 {
				at = int64(le.Uint64(wide[len(wide)-8:])) // the last of its fields (APPNOTE 4.5.3)
			}
		}
		headers, extras = append(headers, at), append(extras, own)
		dir = dir[dirBytes+name+extra+comment:]
	}
	headers = append(headers, start)
	out := make(map[*zip.File]int64, len(files))
	for i, f := range files {
		body := headers[i+1] - int64(f.CompressedSize64)
		switch body - headers[i] - localBytes - int64(len(f.Name)) - int64(extras[i]) {
		case 0, wideLocalBytes:
			out[f] = body
		}
	}
	return out, nil
}

const (
	dirBytes       = 46 // APPNOTE 4.3.12: fixed part of an entry of the directory
	endBytes       = 22 // 4.3.16: of its end, without a comment
	wideEndBytes   = 56 // 4.3.14
	wideLocBytes   = 20 // 4.3.15
	wideLocalBytes = 20 // of the ZIP64 sizes in a local header
)

// wideOf returns the ZIP64 field of an entry's extra field, or nil.
func wideOf(extra []byte) []byte {
	for len(extra) >= 4 {
		n := int(binary.LittleEndian.Uint16(extra[2:]))
		if len(extra) < 4+n {
			return nil
		}
		if binary.LittleEndian.Uint16(extra) == wideTag {
			return extra[4 : 4+n]
		}
		extra = extra[4+n:]
	}
	return nil
}

// directoryAt finds the directory from the end of an archive without a comment, as ours are.
func directoryAt(r io.ReaderAt, sizeBytes int64) (start, size int64, err error) {
	none := fmt.Errorf("%w: no directory at its end", ErrDamaged)
	tail := make([]byte, min(sizeBytes, endBytes+wideLocBytes+wideEndBytes))
	if _, err := r.ReadAt(tail, sizeBytes-int64(len(tail))); err != nil || len(tail) < endBytes {
		return 0, 0, none
	}
	le := binary.LittleEndian
	end := tail[len(tail)-endBytes:]
	if le.Uint32(end) != dirEndSig {
		return 0, 0, none
	}
	size, start = int64(le.Uint32(end[12:])), int64(le.Uint32(end[16:]))
	if wide := bytes.Index(tail, le.AppendUint32(nil, wideEndSig)); wide >= 0 && len(tail)-wide >= wideEndBytes {
		size, start = int64(le.Uint64(tail[wide+40:])), int64(le.Uint64(tail[wide+48:]))
	}
	if size < 0 || start < 0 || start > sizeBytes || size > sizeBytes-start {
		return 0, 0, none
	}
	return start, size, nil
}
