package archive

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Limits on the directory of a ZIP archive: a reader keeps all of it in memory, some 300 bytes for an entry of 46.
const (
	maxEntries        = 500_000
	maxDirectoryBytes = 96 << 20
)

// OpenZip opens a ZIP archive, whoever has made it, once its directory has been counted in passing. Errors: ErrHostile, ErrDamaged.
func OpenZip(r io.ReaderAt, sizeBytes int64) (*zip.Reader, error) {
	if err := countDirectory(r, sizeBytes); err != nil {
		return nil, err
	}
	z, err := zip.NewReader(r, sizeBytes)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	z.RegisterDecompressor(zip.Deflate, Inflate)
	return z, nil
}

// The parts of a directory (APPNOTE 4.3.12 to 4.3.16).
const (
	headerMark     = "PK\x01\x02"
	endMark        = "PK\x05\x06"
	end64Locator   = "PK\x06\x07"
	longestComment = 1 << 16
)

// countDirectory walks the directory without keeping it. It begins where the end of the archive says, or before that end by the directory's
// own size where something is in front of the archive: readers try both.
func countDirectory(r io.ReaderAt, size int64) error {
	tail := make([]byte, min(size, endBytes+longestComment))
	if _, err := r.ReadAt(tail, size-int64(len(tail))); err != nil && !errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	at := bytes.LastIndex(tail, []byte(endMark))
	if at < 0 || len(tail)-at < endBytes {
		return fmt.Errorf("%w: it has no directory", ErrDamaged)
	}
	endAt := size - int64(len(tail)-at)
	end := tail[at:]
	length, offset := int64(binary.LittleEndian.Uint32(end[12:])), int64(binary.LittleEndian.Uint32(end[16:]))
	if before := make([]byte, wideLocBytes); endAt >= wideLocBytes {
		if _, err := r.ReadAt(before, endAt-wideLocBytes); err == nil && string(before[:4]) == end64Locator {
			where := int64(binary.LittleEndian.Uint64(before[8:]))
			end64 := make([]byte, wideEndBytes)
			if where < 0 || where > endAt-wideLocBytes {
				return fmt.Errorf("%w: its directory is nowhere", ErrDamaged)
			}
			if _, err := r.ReadAt(end64, where); err != nil {
				return fmt.Errorf("%w: %v", ErrDamaged, err)
			}
			length, offset = int64(binary.LittleEndian.Uint64(end64[40:])), int64(binary.LittleEndian.Uint64(end64[48:]))
			endAt = where
		}
	}
	for _, from := range []int64{offset, endAt - length} {
		if from < 0 || from > endAt {
			continue
		}
		if err := countHeaders(io.NewSectionReader(r, from, endAt-from)); err != nil {
			return err
		}
	}
	return nil
}

// countHeaders counts the headers that follow each other.
func countHeaders(r *io.SectionReader) error {
	b := bufio.NewReaderSize(r, 64<<10)
	read := int64(0)
	for n := 0; ; n++ {
		head, err := b.Peek(dirBytes)
		if err != nil || string(head[:4]) != headerMark {
			return nil
		}
		length := dirBytes + int(binary.LittleEndian.Uint16(head[28:])) + int(binary.LittleEndian.Uint16(head[30:])) +
			int(binary.LittleEndian.Uint16(head[32:]))
		if read += int64(length); n >= maxEntries || read > maxDirectoryBytes {
			return fmt.Errorf("%w: its directory has more than %d entries or %d MB, more than any site has", ErrHostile, maxEntries,
				maxDirectoryBytes>>20)
		}
		if _, err := b.Discard(length); err != nil {
			return nil
		}
	}
}
