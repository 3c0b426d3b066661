package archive

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
)

// before is the release before, for what can be copied from it.
type before struct {
	a    *Archive
	sums map[string]string
	rows map[[sha256.Size]byte]*zip.File // pieces of rows by their sums
	// places are where the packed bytes of entries lie in it; empty where the target does not take them by itself.
	places map[*zip.File]int64
	made   time.Time
}

func (b *builder) openBefore(out Target) error {
	a := b.in.Before
	if a == nil {
		return nil
	}
	sums, err := a.Sums()
	if err != nil {
		return fmt.Errorf("sums of the release before: %w", err)
	}
	b.before = &before{a: a, sums: sums, rows: map[[sha256.Size]byte]*zip.File{}, made: a.Manifest.Made}
	if t, can := out.(CopyTarget); can && t.Shares(a.from) {
		// Where they cannot be told from the directory, each is read from its header.
		b.before.places, _ = places(a.from, a.size, a.zip.File)
	}
	for name, sum := range sums {
		if f := a.byName[name]; f != nil && strings.HasPrefix(name, RowsDir) && f.UncompressedSize64 <= MaxStatementBytes {
			if raw, err := hex.DecodeString(sum); err == nil && len(raw) == sha256.Size {
				b.before.rows[[sha256.Size]byte(raw)] = f
			}
		}
	}
	return nil
}

// How long a file must have been at rest when the release before was begun. Times that programs set have
// seconds only; those that the system keeps lag by a tick of its clock.
const (
	settleSet  = 2 * time.Second
	settleKept = 100 * time.Millisecond
)

// unchanged returns the entry of the release before that a file can be copied from, with its sum: same size,
// same time, same mode, and not touched since that release was begun. Where the system keeps the time of the
// last change, which nobody can set, a file whose time was set back is noticed too.
func (p *before) unchanged(e hostfs.Entry) (*zip.File, string) {
	if p == nil {
		return nil, ""
	}
	f := p.a.byName[FilesDir+e.Path]
	if f == nil || !f.Mode().IsRegular() || f.UncompressedSize64 != uint64(e.SizeBytes) || f.Mode() != e.Mode || f.Modified.Unix() != e.ModTime.Unix() {
		return nil, ""
	}
	last, settle := e.ChangeTime, settleKept
	if last.IsZero() {
		last, settle = e.ModTime, settleSet
	}
	sum := p.sums[f.Name]
	if sum == "" || !last.Before(p.made.Add(-settle)) {
		return nil, ""
	}
	return f, sum
}

func (b *builder) countCopied(e hostfs.Entry) {
	b.count(e.Path, e.SizeBytes)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.copied = b.copied.Plus(progress.Amount{Files: 1, Bytes: e.SizeBytes})
}

// packedRows returns what a piece of rows was packed to in the release before, if it had one of this sum, whatever
// its name was then.
func (b *builder) packedRows(sum [sha256.Size]byte) *packed {
	f := b.before.rows[sum]
	if f == nil {
		return nil
	}
	p := &packed{method: f.Method, from: b.before.a.from, n: int64(f.CompressedSize64)}
	var known bool
	if p.at, known = b.before.places[f]; !known {
		r, err := f.OpenRaw()
		if err != nil {
			return nil
		}
		p.out = take(int(p.n))
		if _, err := io.ReadFull(r, p.out); err != nil {
			recycle(p.out)
			return nil // it is packed anew, and does not need the release before
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.copied = b.copied.Plus(progress.Amount{Bytes: int64(f.UncompressedSize64)})
	return p
}

// indexOf packs the list of an archive's entries.
func indexOf(entries []filelist.Entry, k *kind.Kind) []byte {
	for i := range entries {
		entries[i].Area = areaOf(entries[i].Path, k)
	}
	filelist.Sort(entries)
	return filelist.Encode(entries)
}

func areaOf(name string, k *kind.Kind) string {
	if p, in := strings.CutPrefix(name, FilesDir); in {
		return k.AreaOf(p)
	}
	if strings.HasPrefix(name, RowsDir) {
		return "database"
	}
	return ""
}

// Index lists the entries of an archive that was not built here, as Built.Index does.
func (a *Archive) Index(k *kind.Kind) ([]byte, error) {
	entries := make([]filelist.Entry, 0, len(a.zip.File))
	for _, f := range a.zip.File {
		e := filelist.Entry{Path: strings.TrimSuffix(f.Name, "/"), Bytes: int64(f.UncompressedSize64), Packed: int64(f.CompressedSize64), Modified: f.Modified.Unix(), Mode: f.Mode()}
		if e.Mode&fs.ModeSymlink != 0 {
			target, err := readAll(f, 4096)
			if err != nil {
				return nil, err
			}
			e.Target = string(target)
		}
		entries = append(entries, e)
	}
	return indexOf(entries, k), nil
}
