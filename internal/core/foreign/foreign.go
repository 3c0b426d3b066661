package foreign

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/buffers"
	"nestseed/internal/core/confine"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
)

// Limits bound what an archive from outside may unpack to.
type Limits struct {
	Bytes   int64 // of all content
	Entries int64
	// Ratio is how many times larger than the archive its content may be, once that is more than RatioFrom bytes.
	Ratio     int64
	RatioFrom int64
}

// DefaultLimits are far above any real site.
func DefaultLimits(freeBytes int64) Limits {
	return Limits{Bytes: max(0, freeBytes-256<<20), Entries: 500_000, Ratio: 400, RatioFrom: 512 << 20}
}

// Format is what a file turned out to be, from its content.
type Format string

// The formats that are understood.
const (
	Zip    Format = "zip"
	Tar    Format = "tar"
	Dump   Format = "dump"   // an SQL script, perhaps compressed
	Sealed Format = "sealed" // by age
	Other  Format = ""
)

const peekBytes = 4096

// peeled is a stream with its compression taken off.
type peeled struct {
	*bufio.Reader
	close func() error
	by    string
}

// peel finds out by its first bytes whether a stream is compressed, and how.
func peel(r io.Reader) (*peeled, error) {
	b := bufio.NewReaderSize(r, 256<<10)
	head, err := b.Peek(6)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	none := func() error { return nil }
	wrap := func(by string, r io.Reader, err error, close func() error) (*peeled, error) {
		if err != nil {
			return nil, fmt.Errorf("%w: it begins like %s and is not: %v", archive.ErrDamaged, by, err)
		}
		return &peeled{bufio.NewReaderSize(r, 256<<10), close, by}, nil
	}
	switch {
	case bytes.HasPrefix(head, []byte("\x1f\x8b")):
		z, err := gzip.NewReader(b)
		return wrap("gzip", z, err, none)
	case bytes.HasPrefix(head, []byte("BZh")):
		return wrap("bzip2", bzip2.NewReader(b), nil, none)
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		return confined("xz", b)
	case bytes.HasPrefix(head, []byte("\x28\xb5\x2f\xfd")):
		return confined("zstd", b)
	}
	return &peeled{b, none, ""}, nil
}

// inflate decompresses what says itself how much memory that takes: the dictionary of xz and the window of zstd may be gigabytes.
var inflate = confine.Register("inflate", func(args []string, in io.Reader, out io.Writer) error {
	var r io.Reader
	var err error
	switch args[0] {
	case "xz":
		r, err = xz.ReaderConfig{DictCap: 64 << 20}.NewReader(in)
	case "zstd":
		r, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
	default:
		err = fmt.Errorf("nothing is known of %q", args[0])
	}
	if err == nil {
		_, err = io.Copy(out, r)
	}
	return err
})

func confined(by string, r io.Reader) (*peeled, error) {
	out, err := inflate.Start(context.Background(), r, by)
	if err != nil {
		return nil, err
	}
	b := bufio.NewReaderSize(out, 256<<10)
	if _, err := b.Peek(1); err != nil && !errors.Is(err, io.EOF) {
		return nil, errors.Join(fmt.Errorf("%w: it begins like %s and is not: %v", archive.ErrDamaged, by, err), out.Close())
	}
	return &peeled{b, out.Close, by}, nil
}

// FormatOf finds out what a file is. Compression is looked through once.
func FormatOf(r io.ReaderAt, sizeBytes int64) (Format, error) {
	switch {
	case archive.IsZip(r):
		return Zip, nil
	case archive.IsSealed(r):
		return Sealed, nil
	}
	p, err := peel(io.NewSectionReader(r, 0, sizeBytes))
	if err != nil {
		return Other, err
	}
	defer p.close()
	inner, err := p.Peek(peekBytes)
	if err != nil && !errors.Is(err, io.EOF) && len(inner) == 0 {
		return Other, fmt.Errorf("%w: %v", archive.ErrDamaged, err)
	}
	return formatOfHead(inner), nil
}

func formatOfHead(head []byte) Format {
	if len(head) >= 512 && (bytes.HasPrefix(head[257:], []byte("ustar")) || plausibleTar(head)) {
		return Tar
	}
	if bytes.IndexByte(head, 0) < 0 && looksSQL(head) || sitedb.IsArchive(head) {
		return Dump
	}
	return Other
}

// plausibleTar knows the form of tar from before POSIX, which has no mark: its header has a sum.
func plausibleTar(head []byte) bool {
	sum, want := 0, 0
	for i, c := range head[:512] {
		if i >= 148 && i < 156 {
			c = ' '
		}
		sum += int(c)
	}
	digits := bytes.Trim(head[148:156], " \x00")
	for _, d := range digits {
		if d < '0' || d > '7' {
			return false
		}
		want = want*8 + int(d-'0')
	}
	return len(digits) > 0 && sum == want
}

func looksSQL(head []byte) bool {
	t := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \r\n\t")
	for _, begin := range []string{"--", "/*", "#", "CREATE ", "DROP ", "SET ", "INSERT ", "USE ", "START ", "BEGIN", "LOCK ", "create ",
		"drop ", "set ", "insert "} {
		if bytes.HasPrefix(t, []byte(begin)) {
			upper := bytes.ToUpper(t)
			for _, word := range []string{"CREATE TABLE", "INSERT INTO", " DUMP", "SET NAMES", "DROP TABLE", "SQL_MODE", "CREATE DATABASE",
				"SERVER VERSION"} {
				if bytes.Contains(upper, []byte(word)) {
					return true
				}
			}
		}
	}
	return false
}

// Unpacked is what came out of an archive from outside.
type Unpacked struct {
	Files int64
	Bytes int64
}

// Unpack writes the content of a foreign archive below a folder of a scratch place: ZIP, or tar, plain or
// compressed with gzip, bzip2, xz or Zstandard. What no honest archive has is refused with the entry's name;
// what was written until then is the caller's to remove. Errors: ErrHostile, ErrDamaged, ErrNotOurs for a file
// that is no archive.
func Unpack(ctx context.Context, r io.ReaderAt, sizeBytes int64, to hostfs.FS, folder string, limits Limits,
	report progress.Reporter) (*Unpacked, error) {
	sort, err := FormatOf(r, sizeBytes)
	if err != nil {
		return nil, err
	}
	u := &unpacker{ctx: ctx, to: to, folder: folder, limits: limits, packed: sizeBytes, report: report, seen: map[string]string{}}
	switch sort {
	case Zip:
		err = u.zip(r, sizeBytes)
	case Tar:
		err = u.tar(io.NewSectionReader(r, 0, sizeBytes))
	default:
		return nil, fmt.Errorf("%w: it is neither ZIP nor tar (plain, .gz, .bz2, .xz or .zst)", archive.ErrNotOurs)
	}
	if err != nil {
		return nil, err
	}
	return &u.out, nil
}

// unpacker writes entries one by one, and keeps the limits.
type unpacker struct {
	ctx    context.Context
	to     hostfs.FS
	folder string
	limits Limits
	packed int64
	report progress.Reporter
	seen   map[string]string // names in small letters
	links  []foreignLink
	out    Unpacked
	n      int64
	names  int // bytes of all names
}

// namesBytes is how long all names together may be: they are kept, so that none comes twice.
const namesBytes = 48 << 20

type foreignLink struct{ name, target string }

// name judges an entry's name and returns it as it is used.
func (u *unpacker) name(raw string, isFolder bool) (string, error) {
	name := strings.TrimSuffix(raw, "/")
	for strings.HasPrefix(name, "./") {
		name = strings.TrimPrefix(name, "./")
	}
	if name == "." || name == "" && isFolder {
		return "", nil
	}
	if err := archive.CheckName(name); err != nil {
		return "", archive.Hostile(raw, "%v", err)
	}
	if u.n++; u.n > u.limits.Entries {
		return "", fmt.Errorf("%w: more than %d entries", archive.ErrHostile, u.limits.Entries)
	}
	if u.names += len(name); u.names > namesBytes {
		return "", fmt.Errorf("%w: the names of its entries are longer than %d MB together", archive.ErrHostile, namesBytes>>20)
	}
	low := strings.ToLower(name)
	if other, taken := u.seen[low]; taken && !isFolder {
		if other == name {
			return "", archive.Hostile(raw, "is there twice")
		}
		return "", archive.Hostile(raw, "differs from %q only in case", other)
	}
	u.seen[low] = name
	return name, nil
}

// file writes one file. declared is the size that the archive says, or -1.
func (u *unpacker) file(name string, mode fs.FileMode, modified time.Time, declared int64, r io.Reader) error {
	if declared > u.limits.Bytes-u.out.Bytes {
		return archive.Hostile(name, "says it has %d bytes, more than there is room for", declared)
	}
	p := path.Join(u.folder, name)
	w, err := u.to.Create(u.ctx, p, mode.Perm()&0o755|0o600)
	if errors.Is(err, fs.ErrExist) {
		return archive.Hostile(name, "takes the place of another")
	}
	if err != nil {
		return fmt.Errorf("unpack %q: %w", name, err)
	}
	buf := buffers.Take(128 << 10)
	defer buffers.Recycle(buf)
	_, err = io.CopyBuffer(struct{ io.Writer }{w}, &bounded{u, name, r}, buf)
	if err := errors.Join(err, w.Close()); err != nil {
		return entryError(name, err)
	}
	u.out.Files++
	u.report.Add(progress.Amount{Files: 1})
	if modified.Year() > 1979 && modified.Year() < 2200 {
		return u.to.Chtimes(u.ctx, p, modified)
	}
	return nil
}

// entryError tells damage from what else goes wrong.
func entryError(name string, err error) error {
	for _, known := range []error{archive.ErrHostile, context.Canceled, context.DeadlineExceeded, fs.ErrPermission} {
		if errors.Is(err, known) {
			return err
		}
	}
	var disk *fs.PathError
	if errors.As(err, &disk) {
		return fmt.Errorf("unpack %q: %w", name, err)
	}
	return &archive.EntryError{Entry: name, What: err.Error(), Err: archive.ErrDamaged}
}

// bounded reads an entry and ends when a limit is passed, whatever sizes the archive declares.
type bounded struct {
	u    *unpacker
	name string
	r    io.Reader
}

func (b *bounded) Read(p []byte) (int, error) {
	if err := b.u.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := b.r.Read(p)
	b.u.out.Bytes += int64(n)
	b.u.report.Add(progress.Amount{Bytes: int64(n)})
	switch {
	case b.u.out.Bytes > b.u.limits.Bytes:
		return n, fmt.Errorf("%w: at entry %q the content passes %d bytes, more than there is room for", archive.ErrHostile, b.name,
			b.u.limits.Bytes)
	case b.u.out.Bytes > b.u.limits.RatioFrom && b.u.out.Bytes/max(1, b.u.packed) > b.u.limits.Ratio:
		return n, fmt.Errorf("%w: at entry %q the content is more than %d times the size of the archive", archive.ErrHostile, b.name,
			b.u.limits.Ratio)
	}
	return n, err
}

func (u *unpacker) zip(r io.ReaderAt, size int64) error {
	z, err := archive.OpenZip(r, size)
	if err != nil {
		return err
	}
	if int64(len(z.File)) > u.limits.Entries {
		return fmt.Errorf("%w: %d entries, more than any site has", archive.ErrHostile, len(z.File))
	}
	var declared progress.Amount
	for _, f := range z.File {
		declared = declared.Plus(progress.Amount{Files: 1, Bytes: int64(min(f.UncompressedSize64, 1<<50))})
	}
	if declared.Bytes > u.limits.Bytes {
		return fmt.Errorf("%w: it says that it unpacks to %d bytes, more than there is room for", archive.ErrHostile, declared.Bytes)
	}
	u.report.Step("Unpack", declared)
	for _, f := range z.File {
		if f.Flags&1 != 0 {
			return archive.Hostile(f.Name, "is encrypted; unpack it with its password and pack it again without")
		}
		raw := f.Name
		if strings.Contains(raw, `\`) && !strings.Contains(raw, "/") && f.CreatorVersion>>8 == 0 {
			raw = strings.ReplaceAll(raw, `\`, "/") // programs on Windows have written such names
		}
		mode := f.Mode()
		isFolder := mode.IsDir() || strings.HasSuffix(raw, "/")
		name, err := u.name(raw, isFolder)
		if err != nil {
			return err
		}
		if err := u.zipEntry(f, name, mode, isFolder); err != nil {
			return err
		}
	}
	return u.placeLinks()
}

func (u *unpacker) zipEntry(f *zip.File, name string, mode fs.FileMode, isFolder bool) error {
	switch {
	case isFolder:
		return u.mkdir(name)
	case mode&(fs.ModeDevice|fs.ModeNamedPipe|fs.ModeSocket|fs.ModeIrregular) != 0:
		return archive.Hostile(f.Name, "is a device or pipe")
	case mode&fs.ModeSymlink != 0:
		target, err := archive.ReadEntry(f, 4096)
		if err != nil {
			return err
		}
		return u.link(name, string(target))
	}
	r, err := archive.OpenEntry(f)
	if err != nil {
		return err
	}
	defer r.Close()
	return u.file(name, mode, f.Modified, int64(min(f.UncompressedSize64, 1<<62)), r)
}

func (u *unpacker) mkdir(name string) error {
	if name == "" {
		return nil
	}
	if err := u.to.Mkdir(u.ctx, path.Join(u.folder, name), 0o755); err != nil {
		return archive.Hostile(name, "is a folder: %v", err)
	}
	return nil
}

// What links may be: they are kept in memory until everything else is written. Hard links are copies, and not kept.
const (
	longestTarget = 4096 // bytes (PATH_MAX)
	mostLinks     = 20_000
)

// link remembers a link. Links are made when everything else is written, so that nothing is written through one.
func (u *unpacker) link(name, target string) error {
	if !archive.LinkStays(name, target) {
		return archive.Hostile(name, "is a link that leads out of the archive, to %q", target)
	}
	if len(target) > longestTarget || len(u.links) == mostLinks {
		return archive.Hostile(name, "is a link of %d bytes, or one of more than %d links", len(target), mostLinks)
	}
	u.links = append(u.links, foreignLink{strings.Clone(name), strings.Clone(target)})
	return nil
}

func (u *unpacker) placeLinks() error {
	chain := archive.Links{}
	for _, l := range u.links {
		chain[l.name] = l.target
	}
	for _, l := range u.links {
		if !chain.Stay(l.name, l.target) {
			return archive.Hostile(l.name, "is a link that leads out of the archive, to %q", l.target)
		}
		if err := u.to.Symlink(u.ctx, l.target, path.Join(u.folder, l.name)); err != nil {
			return archive.Hostile(l.name, "is a link: %v", err)
		}
	}
	return nil
}

func (u *unpacker) tar(r io.Reader) error {
	p, err := peel(r)
	if err != nil {
		return err
	}
	defer p.close()
	// What a compressed tar holds is known at its end only; what is expected grows while it is read.
	u.report.Step("Unpack", progress.Amount{Bytes: u.packed})
	t := tar.NewReader(p)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			if u.ctx.Err() != nil {
				return u.ctx.Err()
			}
			return fmt.Errorf("%w: behind entry %d: %v", archive.ErrDamaged, u.n, err)
		}
		if err := u.tarEntry(t, h); err != nil {
			return err
		}
	}
	if u.n == 0 {
		return fmt.Errorf("%w: the archive is empty", archive.ErrDamaged)
	}
	return u.placeLinks()
}

func (u *unpacker) tarEntry(t *tar.Reader, h *tar.Header) error {
	if h.Typeflag == tar.TypeXGlobalHeader {
		return nil
	}
	isFolder := h.Typeflag == tar.TypeDir
	name, err := u.name(h.Name, isFolder)
	if err != nil {
		return err
	}
	switch h.Typeflag {
	case tar.TypeDir:
		return u.mkdir(name)
	case tar.TypeReg, tar.TypeGNUSparse:
		return u.file(name, h.FileInfo().Mode(), h.ModTime, h.Size, t)
	case tar.TypeSymlink:
		return u.link(name, h.Linkname)
	case tar.TypeLink:
		return u.hardLink(name, h)
	}
	return archive.Hostile(h.Name, "is a device or pipe")
}

// hardLink writes the content of a file that came before once more.
func (u *unpacker) hardLink(name string, h *tar.Header) error {
	target := strings.TrimPrefix(h.Linkname, "./")
	if err := archive.CheckName(target); err != nil || u.seen[strings.ToLower(target)] != target {
		return archive.Hostile(h.Name, "is a link to %q, which is not in the archive before it", h.Linkname)
	}
	e, err := u.to.Stat(u.ctx, path.Join(u.folder, target))
	if err != nil || !e.Mode.IsRegular() {
		return archive.Hostile(h.Name, "is a link to %q, which is no file", h.Linkname)
	}
	r, err := u.to.Open(u.ctx, path.Join(u.folder, target))
	if err != nil {
		return fmt.Errorf("unpack %q: %w", name, err)
	}
	defer r.Close()
	return u.file(name, e.Mode, h.ModTime, e.SizeBytes, r)
}

// Script makes a dump readable at any place: a plain one as it is; one in a compressed file or in a ZIP of its
// own is written below a scratch place first, within limits. The second result is its size.
func Script(ctx context.Context, r io.ReaderAt, sizeBytes int64, scratch hostfs.FS, name string, limits Limits,
	report progress.Reporter) (io.ReaderAt, int64, func(), error) {
	nothing := func() {}
	sort, err := FormatOf(r, sizeBytes)
	if err != nil {
		return nil, 0, nothing, err
	}
	var src io.Reader
	switch sort {
	case Dump:
		p, err := peel(io.NewSectionReader(r, 0, sizeBytes))
		if err != nil {
			return nil, 0, nothing, err
		}
		defer p.close()
		text, changed, err := sitedb.Text(p)
		if err != nil {
			return nil, 0, nothing, err
		}
		defer text.Close()
		if p.by == "" && !changed {
			return r, sizeBytes, nothing, nil
		}
		src = text
	case Zip:
		f, err := onlyScript(r, sizeBytes)
		if err != nil {
			return nil, 0, nothing, err
		}
		in, err := archive.OpenEntry(f)
		if err != nil {
			return nil, 0, nothing, err
		}
		defer in.Close()
		src = in
	default:
		return nil, 0, nothing, fmt.Errorf("%w: it is not an SQL dump (plain, .gz, .bz2, .xz, .zst or .zip)", archive.ErrNotOurs)
	}
	report.Step("Unpack the dump", progress.Amount{Bytes: sizeBytes})
	u := &unpacker{ctx: ctx, to: scratch, folder: ".", limits: limits, packed: sizeBytes, report: report, seen: map[string]string{}}
	if err := u.file(name, 0o600, time.Time{}, -1, src); err != nil {
		return nil, 0, nothing, err
	}
	f, err := scratch.Open(ctx, name)
	if err != nil {
		return nil, 0, nothing, err
	}
	at, ok := f.(io.ReaderAt)
	if !ok {
		f.Close()
		return nil, 0, nothing, errors.New("the scratch folder is not on this machine")
	}
	return at, u.out.Bytes, func() { f.Close(); scratch.RemoveAll(ctx, name) }, nil
}

// onlyScript returns the one SQL script of a ZIP.
func onlyScript(r io.ReaderAt, size int64) (*zip.File, error) {
	z, err := archive.OpenZip(r, size)
	if err != nil {
		return nil, err
	}
	var found *zip.File
	for _, f := range z.File {
		if !f.Mode().IsRegular() || strings.HasPrefix(f.Name, "__MACOSX/") || f.Flags&1 != 0 || !strings.HasSuffix(strings.ToLower(f.Name),
			".sql") {
			continue
		}
		if found != nil {
			return nil, fmt.Errorf("%w: the ZIP holds two dumps, %q and %q; give the one that belongs to the site", archive.ErrHostile, found.Name,
				f.Name)
		}
		found = f
	}
	if found == nil {
		return nil, fmt.Errorf("%w: the ZIP holds no .sql file", archive.ErrNotOurs)
	}
	return found, nil
}
