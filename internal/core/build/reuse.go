package build

import (
	"archive/zip"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
)

// How long a file must have been at rest when the release before was begun. Times that programs set have
// seconds only; those that the system keeps lag by a tick of its clock.
const (
	restSet  = 2 * time.Second
	restKept = 100 * time.Millisecond
)

// unchanged returns the entry of the release before that a file can be copied from, with its sum: same size,
// same time, same mode, and not touched since that release was begun. Where the system keeps the time of the
// last change, which nobody can set, a file whose time was set back is noticed too.
func (b *builder) unchanged(e hostfs.Entry) (*zip.File, string) {
	if b.reuse == nil {
		return nil, ""
	}
	f, sum := b.reuse.Entry(archive.FilesDir + e.Path)
	if f == nil || !f.Mode().IsRegular() || f.UncompressedSize64 != uint64(e.SizeBytes) || f.Mode() != e.Mode ||
		f.Modified.Unix() != e.ModTime.Unix() {
		return nil, ""
	}
	last, rest := e.ChangeTime, restKept
	if last.IsZero() {
		last, rest = e.ModTime, restSet
	}
	if sum == "" || !last.Before(b.in.Before.Manifest.Made.Add(-rest)) {
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

func (b *builder) countCopiedRows(sizeBytes int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.copied = b.copied.Plus(progress.Amount{Bytes: sizeBytes})
}
