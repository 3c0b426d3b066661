package build

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/buffers"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
)

func (b *builder) files(ctx context.Context, files []hostfs.Entry) error {
	for _, e := range files {
		if err := b.file(ctx, e); err != nil {
			return err
		}
	}
	return nil
}

func (b *builder) text(to *archive.Lane, name, text string) error {
	return to.Small(archive.Header(name, 0o644, b.m.Made), int64(len(text)), func(buf []byte) ([]byte, error) {
		return append(buf[:0], text...), nil
	})
}

// file adds one entry of the tree.
func (b *builder) file(ctx context.Context, e hostfs.Entry) error {
	name := archive.FilesDir + e.Path
	switch {
	case e.Mode.IsDir():
		b.m.Totals.Folders++
		return b.w.Files.Link(archive.Header(name+"/", e.Mode, e.ModTime), "")
	case e.Mode&fs.ModeSymlink != 0 && !b.links.Stay(e.Path, e.Target):
		b.leaveOut("link that leaves the site", 0)
		b.note("%s is a link to %s, outside the site, and was left out", e.Path, e.Target)
		return nil
	case e.Mode&fs.ModeSymlink != 0:
		b.m.Totals.Links++
		return b.w.Files.Link(archive.Header(name, e.Mode, e.ModTime), e.Target)
	}
	if text, is := b.settings[e.Path]; is {
		return b.settingsFile(e, text)
	}
	if same, sum := b.unchanged(e); same != nil {
		b.countCopied(e)
		return b.w.Files.Copied(archive.Header(name, e.Mode, e.ModTime), b.reuse, same, sum)
	}
	if e.SizeBytes > archive.SmallBytes {
		return b.large(ctx, e)
	}
	return b.w.Files.Small(archive.Header(name, e.Mode, e.ModTime), e.SizeBytes, func(buf []byte) ([]byte, error) {
		raw, err := b.readStable(ctx, e, buf)
		if raw == nil || err != nil {
			return nil, err
		}
		if b.isDatabase(e, raw) {
			return nil, nil
		}
		if rewrite.IsText(raw[:min(len(raw), 8<<10)]) {
			if name, found := b.holdsSecret(raw); found {
				b.leaveOut("holds the source's "+name, e.SizeBytes)
				b.note("%s holds the source's %s and was left out", e.Path, name)
				return nil, nil
			}
		}
		b.count(e.Path, int64(len(raw)))
		return raw, nil
	})
}

var errDatabase = errors.New("is a database")

// isDatabase notes a whole database that lies among the site's content, and reports whether a file is one. One that lies with the
// code of an extension belongs to that.
func (b *builder) isDatabase(e hostfs.Entry, head []byte) bool {
	if slices.Contains([]string{"core", "extensions", "themes"}, b.in.Identity.Kind.AreaOf(e.Path)) {
		return false
	}
	for _, engine := range sitedb.InSites() {
		if bytes.HasPrefix(head, []byte(engine.Head)) {
			b.leaveOut(engine.Titles[0]+" database", e.SizeBytes)
			b.note("%s is a database of %s and was left out: nobody can say what is in it", e.Path, engine.Titles[0])
			return true
		}
	}
	return false
}

// tries is how often a file is read that changes while it is read.
const tries = 3

// readStable reads a small file, again if it changed meanwhile. A file that is gone gives nil.
func (b *builder) readStable(ctx context.Context, e hostfs.Entry, buf []byte) ([]byte, error) {
	for try := 1; ; try++ {
		raw, now, err := readInto(ctx, b.site, e.Path, buf)
		if b.missing(e, err) {
			return nil, nil
		}
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", e.Path, err)
		}
		still := now.SizeBytes == int64(len(raw)) && now.SizeBytes == e.SizeBytes && now.ModTime.Equal(e.ModTime)
		switch {
		case still && try == 1:
			return raw, nil
		case still:
			b.note("%s changed while it was read; it was read again", e.Path)
			return raw, nil
		case try == tries:
			b.note("%s changed each time it was read; the release has it as it was read last", e.Path)
			return raw, nil
		}
		e.SizeBytes, e.ModTime, buf = now.SizeBytes, now.ModTime, raw
	}
}

// missing notes a file that cannot be read any more, and reports whether it is one.
func (b *builder) missing(e hostfs.Entry, err error) bool {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		b.note("%s vanished while the release was built", e.Path)
	case errors.Is(err, hostfs.ErrNotRegular):
		b.note("%s became something else than a file while the release was built, and was left out", e.Path)
	case errors.Is(err, fs.ErrPermission):
		b.note("%s cannot be read and is not in the release: %v", e.Path, err)
	default:
		return false
	}
	b.report.Add(progress.Amount{Files: 1, Bytes: e.SizeBytes})
	return true
}

// readInto reads a file whole and says what it looks like afterwards.
func readInto(ctx context.Context, fsys hostfs.FS, p string, buf []byte) ([]byte, hostfs.Entry, error) {
	f, err := fsys.Open(ctx, p)
	if err != nil {
		return nil, hostfs.Entry{}, err
	}
	defer f.Close()
	buf = buf[:0]
	for {
		if len(buf) == cap(buf) {
			buf = append(buf, 0)[:len(buf)]
		}
		n, err := f.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if err == io.EOF {
			now, err := statOpen(ctx, fsys, f, p)
			return buf, now, err
		}
		if err != nil {
			return nil, hostfs.Entry{}, err
		}
	}
}

// statOpen asks an open file what it is like, or its name where the file cannot be asked.
func statOpen(ctx context.Context, fsys hostfs.FS, f io.Reader, p string) (hostfs.Entry, error) {
	if s, ok := f.(interface{ Stat() (fs.FileInfo, error) }); ok {
		info, err := s.Stat()
		if err != nil {
			return hostfs.Entry{}, err
		}
		return hostfs.Entry{SizeBytes: info.Size(), ModTime: info.ModTime()}, nil
	}
	return fsys.Stat(ctx, p)
}

func (b *builder) count(p string, bytes int64) {
	area := b.in.Identity.Kind.AreaOf(p)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.addArea(area, 1, bytes)
	b.m.Totals.Files++
	b.m.Totals.Bytes += bytes
	b.report.Add(progress.Amount{Files: 1, Bytes: bytes})
}

func (b *builder) addArea(area string, files, bytes int64) {
	a := b.areas[area]
	if a == nil {
		a = &archive.AreaTotal{Area: area}
		b.areas[area] = a
	}
	a.Files += files
	a.Bytes += bytes
}

// large streams a file that is not held whole. A large text that holds a secret is found before it is packed.
// One that changes while it is read is taken back and read again.
func (b *builder) large(ctx context.Context, e hostfs.Entry) error {
	name, found, err := b.scanLarge(ctx, e)
	if b.missing(e, err) || errors.Is(err, errDatabase) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("read %s: %w", e.Path, err)
	}
	if found {
		b.leaveOut("holds the source's "+name, e.SizeBytes)
		b.note("%s holds the source's %s and was left out", e.Path, name)
		return nil
	}
	for try := 1; ; try++ {
		f, err := b.site.Open(ctx, e.Path)
		if b.missing(e, err) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read %s: %w", e.Path, err)
		}
		size, now, err := b.pass(ctx, e, f, try)
		f.Close()
		if err != nil {
			return err
		}
		if now == nil {
			b.count(e.Path, size)
			return nil
		}
		e.SizeBytes, e.ModTime = now.SizeBytes, now.ModTime
	}
}

// pass packs a large file once. It returns what the file looks like now when it changed and is to be read again.
func (b *builder) pass(ctx context.Context, e hostfs.Entry, f io.Reader, try int) (size int64, changed *hostfs.Entry, err error) {
	s := b.w.Files.Stream(archive.Header(archive.FilesDir+e.Path, e.Mode, e.ModTime), e.SizeBytes)
	s.Undecided()
	if _, err := s.ReadFrom(f); err != nil {
		return 0, nil, fmt.Errorf("read %s: %w", e.Path, err)
	}
	if size, err = s.Close(); err != nil {
		return 0, nil, err
	}
	now, err := statOpen(ctx, b.site, f, e.Path)
	still := err == nil && size == e.SizeBytes && now.SizeBytes == size && now.ModTime.Equal(e.ModTime)
	if !still && err == nil && try < tries {
		s.Keep(false)
		return 0, &now, nil
	}
	if !still {
		b.note("%s changed each time it was read; the release has it as it was read last", e.Path)
	} else if try > 1 {
		b.note("%s changed while it was read; it was read again", e.Path)
	}
	s.Keep(true)
	return size, nil, nil
}

func (b *builder) scanLarge(ctx context.Context, e hostfs.Entry) (name string, found bool, err error) {
	f, err := b.site.Open(ctx, e.Path)
	if err != nil {
		return "", false, err
	}
	defer f.Close()
	buf := buffers.Take(1 << 20)
	defer buffers.Recycle(buf)
	const overlap = 256
	kept := 0
	for first := true; ; first = false {
		n, err := io.ReadFull(f, buf[kept:])
		text := buf[:kept+n]
		if first && b.isDatabase(e, text) {
			return "", false, errDatabase
		}
		if first && !rewrite.IsText(text[:min(len(text), 8<<10)]) {
			return "", false, nil
		}
		if name, found := b.holdsSecret(text); found {
			return name, true, nil
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return "", false, nil
		}
		if err != nil {
			return "", false, err
		}
		kept = copy(buf, text[len(text)-overlap:])
	}
}
