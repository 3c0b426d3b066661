package archive

import (
	"archive/zip"
	"bytes"
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
	made time.Time
}

func (b *builder) openBefore() error {
	a := b.in.Before
	if a == nil {
		return nil
	}
	sums, err := a.Sums()
	if err != nil {
		return fmt.Errorf("sums of the release before: %w", err)
	}
	b.before = &before{a, sums, a.Manifest.Made}
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

// rowsEntry begins an entry of rows. Where the release before has one of that name, the rows are compared with
// it, which costs less than to compress and hash them; equal ones are copied.
func (b *builder) rowsEntry(name string) rowsOut {
	h := header(name, 0o644, b.m.Made)
	if b.before != nil {
		if old := b.before.a.byName[name]; old != nil && b.before.sums[name] != "" {
			if r, err := openEntry(old); err == nil {
				return &sameRows{b: b, h: h, old: old, r: r, buf: take(statementBytes + 128<<10)}
			}
		}
	}
	return b.w.second.stream(h, 0)
}

// sameRows compares what is written with an entry of the release before. At the first difference it begins a
// stream, gives it what was equal so far, and goes on there.
type sameRows struct {
	b     *builder
	h     *zip.FileHeader
	old   *zip.File
	r     io.ReadCloser
	buf   []byte
	equal int64
	out   *stream
}

// Write implements io.Writer.
func (s *sameRows) Write(p []byte) (int, error) {
	if s.out == nil {
		if s.same(p) {
			s.equal += int64(len(p))
			return len(p), nil
		}
		if err := s.differ(); err != nil {
			return 0, err
		}
	}
	return s.out.Write(p)
}

func (s *sameRows) same(p []byte) bool {
	for len(p) > 0 {
		n := min(len(p), len(s.buf))
		if _, err := io.ReadFull(s.r, s.buf[:n]); err != nil || !bytes.Equal(s.buf[:n], p[:n]) {
			return false
		}
		p = p[n:]
	}
	return true
}

func (s *sameRows) differ() error {
	s.r.Close()
	s.out = s.b.w.second.stream(s.h, 0)
	r, err := openEntry(s.old)
	if err != nil {
		return err
	}
	defer r.Close()
	_, err = io.CopyN(s.out, struct{ io.Reader }{r}, s.equal)
	return err
}

// Close implements rowsOut.
func (s *sameRows) Close() (int64, error) {
	defer giveBack(s.buf)
	if s.out == nil && uint64(s.equal) == s.old.UncompressedSize64 {
		// Reading to the end checks the old entry's CRC.
		if n, err := s.r.Read(s.buf[:1]); n == 0 && err == io.EOF {
			s.r.Close()
			s.b.mu.Lock()
			s.b.copied = s.b.copied.Plus(progress.Amount{Bytes: s.equal})
			s.b.mu.Unlock()
			return s.equal, s.b.w.second.copied(s.h, s.old, s.b.before.sums[s.old.Name])
		}
	}
	if s.out == nil {
		if err := s.differ(); err != nil {
			return 0, err
		}
	}
	return s.out.Close()
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
