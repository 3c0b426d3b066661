package archive

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"strings"

	"nestseed/internal/core/buffers"
)

// Reuse is an archive whose entries a Writer may take over as they are packed.
type Reuse struct {
	a    *Archive
	sums map[string]string
	rows map[[sha256.Size]byte]*zip.File // pieces of rows by their sums
	// places are where the packed bytes of entries lie in it; empty where the target does not take them by itself.
	places map[*zip.File]int64
}

// NewReuse prepares an archive for what is written to a target.
func NewReuse(a *Archive, out Target) (*Reuse, error) {
	sums, err := a.Sums()
	if err != nil {
		return nil, fmt.Errorf("sums of the release before: %w", err)
	}
	u := &Reuse{a: a, sums: sums, rows: map[[sha256.Size]byte]*zip.File{}}
	if t, can := out.(CopyTarget); can && t.Shares(a.from) {
		// Where they cannot be told from the directory, each is read from its header.
		u.places, _ = places(a.from, a.size, a.zip.File)
	}
	for name, sum := range sums {
		if f := a.byName[name]; f != nil && strings.HasPrefix(name, RowsDir) && f.UncompressedSize64 <= MaxStatementBytes {
			if raw, err := hex.DecodeString(sum); err == nil && len(raw) == sha256.Size {
				u.rows[[sha256.Size]byte(raw)] = f
			}
		}
	}
	return u, nil
}

// Entry returns an entry of the archive and its SHA-256 in hexadecimal; nil if there is none of the name, "" where no sum
// covers it.
func (u *Reuse) Entry(name string) (f *zip.File, sum string) {
	return u.a.byName[name], u.sums[name]
}

// packedRows returns what a piece of rows of this sum is packed to, whatever its name is in the archive; nil if there is none.
func (u *Reuse) packedRows(sum [sha256.Size]byte) *packed {
	f := u.rows[sum]
	if f == nil {
		return nil
	}
	p := &packed{method: f.Method, from: u.a.from, n: int64(f.CompressedSize64)}
	var known bool
	if p.at, known = u.places[f]; !known {
		r, err := f.OpenRaw()
		if err != nil {
			return nil
		}
		p.out = buffers.Take(int(p.n))
		if _, err := io.ReadFull(r, p.out); err != nil {
			buffers.Recycle(p.out)
			return nil // it is packed again, and does not need the release before
		}
	}
	return p
}
