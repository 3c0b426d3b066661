package archive

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"slices"
	"strings"
	"sync"

	"nestseed/internal/core/bounds"
	"nestseed/internal/core/sqltext"

	"github.com/klauspost/compress/flate"
)

// Errors that callers decide on.
var (
	ErrNotOurs = errors.New("not an archive of a release")
	ErrHostile = errors.New("refused")
	ErrDamaged = errors.New("damaged")
	ErrNoEntry = errors.New("not in the archive")
)

// Limits on what an archive may declare; far above any real site, far below what would hurt.
const (
	maxManifestBytes  = 16 << 20
	maxManifestTokens = 400_000
	maxSumsBytes      = 128 << 20
	maxSchemaBytes    = 32 << 20
)

// EntryError is a fault of one entry. It is what Err is: ErrHostile or ErrDamaged.
type EntryError struct {
	Entry string // its name, as it stands in the archive
	What  string // is wrong with it
	Err   error
}

func (e *EntryError) Error() string { return fmt.Sprintf("%v: entry %q %s", e.Err, e.Entry, e.What) }

// Unwrap implements errors.Is.
func (e *EntryError) Unwrap() error { return e.Err }

// Hostile returns an EntryError that is ErrHostile.
func Hostile(entry, what string, args ...any) error {
	return &EntryError{Entry: entry, What: fmt.Sprintf(what, args...), Err: ErrHostile}
}

// Archive is an open archive. It reads by ranges and may be used by several goroutines.
type Archive struct {
	Manifest Manifest

	zip    *zip.Reader
	byName map[string]*zip.File
	from   io.ReaderAt
	size   int64
}

// Open reads the directory and the manifest of an archive, and refuses one whose names or links would
// lead out of a folder it is unpacked in. Errors: ErrNotOurs, ErrHostile, ErrDamaged.
func Open(r io.ReaderAt, sizeBytes int64) (*Archive, error) {
	z, err := OpenZip(r, sizeBytes)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(z.File, func(f *zip.File) bool { return f.Name == ManifestName }) {
		return nil, fmt.Errorf("%w: it has no %s", ErrNotOurs, ManifestName)
	}
	a := &Archive{zip: z, from: r, size: sizeBytes, byName: make(map[string]*zip.File, len(z.File))}
	chain := Links{}
	for _, f := range z.File {
		if err := checkEntry(f, chain); err != nil {
			return nil, err
		}
		name := strings.TrimSuffix(f.Name, "/")
		if a.byName[name] != nil {
			return nil, Hostile(f.Name, "is there twice")
		}
		a.byName[name] = f
	}
	for p, target := range chain {
		if !chain.Stay(p, target) {
			return nil, Hostile(FilesDir+p, "is a link that leads out of the site, to %q", target)
		}
	}
	text, err := a.Read(ManifestName, maxManifestBytes)
	if err != nil {
		return nil, err
	}
	if err := bounds.JSON(text, maxManifestTokens); err != nil {
		return nil, fmt.Errorf("%w: manifest: %w", ErrHostile, err)
	}
	if err := json.Unmarshal(text, &a.Manifest); err != nil {
		return nil, fmt.Errorf("%w: manifest: %v", ErrDamaged, err)
	}
	if a.Manifest.Format > Format || a.Manifest.Format < 1 {
		return nil, fmt.Errorf("the archive has format %d and this version reads up to %d; use a newer Nest Seed", a.Manifest.Format, Format)
	}
	if err := a.checkManifest(); err != nil {
		return nil, err
	}
	return a, nil
}

// judge refuses what no honest archive has, and notes where links lead.
func checkEntry(f *zip.File, chain Links) error {
	if err := CheckName(strings.TrimSuffix(f.Name, "/")); err != nil {
		return Hostile(f.Name, "%v", err)
	}
	if f.Flags&1 != 0 {
		return Hostile(f.Name, "is encrypted")
	}
	mode := f.Mode()
	if mode&(fs.ModeDevice|fs.ModeNamedPipe|fs.ModeSocket|fs.ModeIrregular) != 0 {
		return Hostile(f.Name, "is a device or pipe")
	}
	if mode&fs.ModeSymlink != 0 {
		if f.UncompressedSize64 > 4096 {
			return Hostile(f.Name, "is a link and too long")
		}
		target, err := ReadEntry(f, 4096)
		if err != nil {
			return err
		}
		p, in := strings.CutPrefix(f.Name, FilesDir)
		if !in {
			return Hostile(f.Name, "is a link and not one of the site's files")
		}
		chain[p] = string(target)
	}
	return nil
}

// CheckName reports why a name must not be used as a path, or nil.
func CheckName(name string) error {
	switch {
	case name == "":
		return errors.New("it has no name")
	case strings.HasPrefix(name, "/") || strings.HasPrefix(name, `\`) || len(name) > 1 && name[1] == ':':
		return errors.New("its name is absolute")
	case strings.ContainsFunc(name, control):
		return errors.New("its name has a control character")
	case len(name) > 4096:
		return errors.New("its name is too long")
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == "" || part == "." || part == ".." || strings.HasPrefix(part, `..\`) || strings.Contains(part, `\..`) {
			return errors.New("its name leads elsewhere")
		}
		if len(part) > 255 {
			return errors.New("a part of its name is longer than 255 bytes")
		}
	}
	return nil
}

// control reports whether a character would control a terminal or a log in place of being shown (ECMA-48, and the marks
// of Unicode that turn the direction of text).
func control(r rune) bool {
	return r < ' ' || r >= 0x7f && r <= 0x9f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

var inflaters sync.Pool

// inflater is a deflate reader with its buffers, which are used again.
type inflater struct {
	in  *bufio.Reader
	out io.ReadCloser
}

// packedBytes is how much of a packed entry is read at a time.
const packedBytes = 32 << 10

func Inflate(r io.Reader) io.ReadCloser {
	z, ok := inflaters.Get().(*inflater)
	if !ok {
		in := bufio.NewReaderSize(r, packedBytes)
		return &inflating{&inflater{in, flate.NewReader(in)}}
	}
	z.in.Reset(r)
	z.out.(flate.Resetter).Reset(z.in, nil)
	return &inflating{z}
}

// inflating is an inflater at work.
type inflating struct{ *inflater }

func (z *inflating) Read(p []byte) (int, error) {
	if z.inflater == nil {
		return 0, io.ErrClosedPipe
	}
	return z.out.Read(p)
}

func (z *inflating) Close() error {
	if z.inflater == nil {
		return nil
	}
	err := z.out.Close()
	z.in.Reset(nil)
	inflaters.Put(z.inflater)
	z.inflater = nil
	return err
}

// Entries lists what is in the archive, in its order.
func (a *Archive) Entries() []*zip.File { return a.zip.File }

// Entry returns an entry by its name, a folder's without the slash; nil if there is none.
func (a *Archive) Entry(name string) *zip.File { return a.byName[name] }

// File opens an entry by its full name. Reading to the end checks its size and CRC.
func (a *Archive) File(name string) (io.ReadCloser, error) {
	f := a.byName[name]
	if f == nil || f.Mode().IsDir() {
		return nil, fmt.Errorf("%s: %w", name, ErrNoEntry)
	}
	return OpenEntry(f)
}

// OpenEntry opens a file of a ZIP archive; its CRC is checked as it is read.
func OpenEntry(f *zip.File) (io.ReadCloser, error) {
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %v", f.Name, ErrDamaged, err)
	}
	return r, nil
}

func (a *Archive) Read(name string, maxBytes int64) ([]byte, error) {
	f := a.byName[name]
	if f == nil {
		return nil, fmt.Errorf("%s: %w", name, ErrNoEntry)
	}
	return ReadEntry(f, maxBytes)
}

func ReadEntry(f *zip.File, maxBytes int64) ([]byte, error) {
	if f.UncompressedSize64 > uint64(maxBytes) {
		return nil, fmt.Errorf("%w: %s is larger than %d bytes", ErrHostile, f.Name, maxBytes)
	}
	r, err := OpenEntry(f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b := bytes.NewBuffer(make([]byte, 0, int(f.UncompressedSize64)+bytes.MinRead)) // no larger than maxBytes
	if _, err := b.ReadFrom(io.LimitReader(r, maxBytes+1)); err != nil {
		return nil, fmt.Errorf("%s: %w: %v", f.Name, ErrDamaged, err)
	}
	return b.Bytes(), nil
}

// Schema returns the statements of schema.sql or after.sql, whole; they are small.
func (a *Archive) Schema(name string) ([]byte, error) {
	b, err := a.Read(name, maxSchemaBytes)
	if errors.Is(err, ErrNoEntry) {
		return nil, nil
	}
	return b, err
}

// Rows returns the names of the entries that hold a table's rows.
func (a *Archive) Rows(t TableTotal) []string {
	names := make([]string, t.Entries)
	for i := range names {
		names[i] = RowsName(t.Name, i)
	}
	return names
}

// RowsName returns the name of a table's n-th entry of rows. Characters that file names cannot have
// everywhere are percent-encoded.
func RowsName(table string, n int) string {
	safe := strings.ReplaceAll(url.PathEscape(table), ".", "%2E")
	if n == 0 {
		return RowsDir + safe + ".sql"
	}
	return fmt.Sprintf("%s%s.%04d.sql", RowsDir, safe, n)
}

// Joined reads entries one after the other, as one stream; each is opened when the one before has ended. Errors of
// opening and reading come from Read.
func (a *Archive) Joined(names []string) io.ReadCloser { return &inTurn{a: a, names: names} }

type inTurn struct {
	a     *Archive
	names []string // still to come
	r     io.ReadCloser
}

func (j *inTurn) Read(p []byte) (int, error) {
	for {
		if j.r == nil {
			if len(j.names) == 0 {
				return 0, io.EOF
			}
			r, err := j.a.File(j.names[0])
			if err != nil {
				return 0, err
			}
			j.r, j.names = r, j.names[1:]
		}
		n, err := j.r.Read(p)
		if err == io.EOF {
			j.r.Close()
			j.r, err = nil, nil
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}

func (j *inTurn) Close() error {
	if j.r == nil {
		return nil
	}
	return j.r.Close()
}

// Pinned returns the SHA-256 of SHA256SUMS, in hexadecimal: see Built.
func (a *Archive) Pinned() (string, error) {
	f := a.byName[SumsName]
	if f == nil {
		return "", fmt.Errorf("%s: %w", SumsName, ErrNoEntry)
	}
	r, err := OpenEntry(f)
	if err != nil {
		return "", err
	}
	defer r.Close()
	sum := sha256.New()
	switch n, err := io.Copy(sum, io.LimitReader(r, maxSumsBytes+1)); {
	case err != nil:
		return "", fmt.Errorf("%s: %w: %v", SumsName, ErrDamaged, err)
	case n > maxSumsBytes:
		return "", fmt.Errorf("%w: %s is too large", ErrHostile, SumsName)
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// Sums returns the SHA-256 of each entry by name, in hexadecimal.
func (a *Archive) Sums() (map[string]string, error) {
	f := a.byName[SumsName]
	if f == nil {
		return nil, fmt.Errorf("%s: %w", SumsName, ErrNoEntry)
	}
	if f.UncompressedSize64 > maxSumsBytes {
		return nil, fmt.Errorf("%w: %s is too large", ErrHostile, SumsName)
	}
	r, err := OpenEntry(f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	sums := make(map[string]string, len(a.byName))
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 64<<10)
	for lines.Scan() {
		line := lines.Text()
		escaped := strings.HasPrefix(line, `\`)
		sum, name, ok := strings.Cut(strings.TrimPrefix(line, `\`), "  ")
		if !ok || len(sum) != 64 {
			return nil, fmt.Errorf("%s: %w: line %q", SumsName, ErrDamaged, line)
		}
		if escaped {
			name = strings.NewReplacer(`\\`, `\`, `\n`, "\n").Replace(name)
		}
		if a.byName[name] == nil {
			return nil, fmt.Errorf("%s: %w: it names %.100q, which is not there", SumsName, ErrDamaged, name)
		}
		sums[name] = sum
	}
	return sums, lines.Err()
}

// EachRow calls each with every row of a table.
func (a *Archive) EachRow(ctx context.Context, t TableTotal, each func(columns []string, row []sqltext.Literal) error) error {
	for _, name := range a.Rows(t) {
		r, err := a.File(name)
		if err != nil {
			return err
		}
		err = EachRow(a.Dialect(), readerContext{ctx, r}, func(ins *sqltext.Insert, row []sqltext.Literal) error {
			return each(ins.Columns,
				row)
		})
		r.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}
