package archive

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"nestseed/internal/core/buffers"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sqltext"
)

// Verification is what Verify found.
type Verification struct {
	Entries int64    `json:"entries"`
	Bytes   int64    `json:"bytes"`
	Faults  []Fault  `json:"faults"`
	Usable  []string `json:"usable,omitempty"` // where there are faults: what can still be used
}

// Fault is one thing that is wrong.
type Fault struct {
	Entry string `json:"entry"`
	What  string `json:"what"`
}

// Verify reads everything: sums of every entry, entries without a sum and sums without an entry, rows
// and files against the counts of the manifest, and whether every statement can be taken apart.
func (a *Archive) Verify(ctx context.Context, report progress.Reporter) (*Verification, error) {
	v := &Verification{Faults: []Fault{}}
	var mu sync.Mutex
	fault := func(entry, format string, args ...any) {
		mu.Lock()
		defer mu.Unlock()
		v.Faults = append(v.Faults, Fault{entry, fmt.Sprintf(format, args...)})
	}
	sums, err := a.Sums()
	if err != nil {
		fault(SumsName, "%v", err)
		sums = map[string]string{}
	}
	var expected progress.Amount
	for _, f := range a.zip.File {
		expected = expected.Plus(progress.Amount{Files: 1, Bytes: int64(f.UncompressedSize64)})
	}
	report.Step("Verify", expected)
	group, ctx := parallel.WithContext(ctx)
	group.SetLimit(4)
	for _, f := range a.zip.File {
		if f.Name == SumsName || !f.Mode().IsRegular() {
			continue
		}
		want, listed := sums[f.Name]
		delete(sums, f.Name)
		if !listed && err == nil {
			fault(f.Name, "has no line in %s", SumsName)
		}
		group.Go(func() error {
			got, n, err := sumEntry(ctx, f)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err != nil {
				fault(f.Name, "cannot be read: %v", err)
			} else if listed && got != want {
				fault(f.Name, "does not have the sum it had when it was made")
			}
			report.Add(progress.Amount{Files: 1, Bytes: n})
			mu.Lock()
			defer mu.Unlock()
			v.Entries++
			v.Bytes += n
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for name := range sums {
		fault(name, "is missing")
	}
	for _, t := range a.Manifest.Tables {
		a.verifyRows(t, fault)
	}
	a.verifyDefinitions(fault)
	a.verifyManifest(fault)
	slices.SortFunc(v.Faults, func(x, y Fault) int { return strings.Compare(x.Entry, y.Entry) })
	v.Usable = a.usable(v.Faults)
	return v, nil
}

func sumEntry(ctx context.Context, f *zip.File) (string, int64, error) {
	r, err := OpenEntry(f)
	if err != nil {
		return "", 0, err
	}
	defer r.Close()
	h := sha256.New()
	n, err := io.CopyBuffer(h, readerContext{ctx, r}, buffers.Take(128<<10))
	return hex.EncodeToString(h.Sum(nil)), n, err
}

// readerContext stops reading when its context ends.
type readerContext struct {
	ctx context.Context
	r   io.Reader
}

func (r readerContext) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.r.Read(p)
}

func (a *Archive) verifyRows(t TableTotal, fault func(string, string, ...any)) {
	var rows int64
	for _, name := range a.Rows(t) {
		r, err := a.File(name)
		if err != nil {
			fault(name, "%v", err)
			return
		}
		err = EachRow(a.Dialect(), r, func(ins *sqltext.Insert, row []sqltext.Literal) error { rows++; return nil })
		r.Close()
		if err != nil {
			fault(name, "%v", err)
			return
		}
	}
	if rows != t.Rows {
		fault(RowsDir+t.Name, "has %d rows where the manifest says %d", rows, t.Rows)
	}
}

// verifyDefinitions takes schema.sql and after.sql apart, and looks whether every table that has rows is made.
func (a *Archive) verifyDefinitions(fault func(string, string, ...any)) {
	made := map[string]bool{}
	if d, err := a.Definitions(); err != nil {
		fault(SchemaName, "%v", err)
	} else {
		for _, t := range d.Tables {
			made[t.Table] = true
		}
	}
	for _, t := range a.Manifest.Tables {
		if !made[t.Name] {
			fault(SchemaName, "does not make table %s, which the manifest names", t.Name)
		}
	}
}

// verifyManifest compares the manifest's sums with the entries.
func (a *Archive) verifyManifest(fault func(string, string, ...any)) {
	var files, bytes int64
	for _, f := range a.zip.File {
		if strings.HasPrefix(f.Name, FilesDir) && f.Mode().IsRegular() {
			files++
			bytes += int64(f.UncompressedSize64)
		}
	}
	if t := a.Manifest.Totals; t.Files != files || t.Bytes != bytes {
		fault(ManifestName, "says %d files of %d bytes where there are %d of %d", t.Files, t.Bytes, files, bytes)
	}
	if s := a.Manifest.Settings; s != "" && a.Manifest.Totals.Files > 0 && a.byName[FilesDir+s] == nil {
		fault(ManifestName, "names the settings file %s, which is not there", s)
	}
	if a.Manifest.List == nil {
		fault(ManifestName, "has no packing list")
	}
}

// MaxStatementBytes is the longest statement that rows may have: one row of the largest value
// that MariaDB's protocol carries by default, escaped.
const MaxStatementBytes = 192 << 20

// EachRow calls each with every row of an entry of rows. Anything but INSERT is an error.
func EachRow(d *sqltext.Dialect, r io.Reader, each func(ins *sqltext.Insert, row []sqltext.Literal) error) error {
	sc := d.NewScanner(r, MaxStatementBytes)
	var row []sqltext.Literal
	for sc.Scan() {
		ins, err := d.ParseInsert(sc.Statement())
		if err != nil {
			return err
		}
		for ins.Next(&row) {
			if err := each(ins, row); err != nil {
				return err
			}
		}
		if ins.Err() != nil {
			return ins.Err()
		}
	}
	return sc.Err()
}

// usable says in sentences what faults leave whole.
func (a *Archive) usable(faults []Fault) []string {
	if len(faults) == 0 {
		return nil
	}
	files, database := 0, false
	for _, f := range faults {
		if strings.HasPrefix(f.Entry, FilesDir) {
			files++
		}
		database = database || strings.HasPrefix(f.Entry, "database/")
	}
	out := []string{fmt.Sprintf("%d of %d files are whole and can be extracted", a.Manifest.Totals.Files-int64(files),
		a.Manifest.Totals.Files)}
	if !database {
		out = append(out, "the database is whole")
	}
	return out
}

// Folders calls each with every folder of the site, in the order of the archive.
func (a *Archive) Folders(each func(f *zip.File, p string) error) error {
	for _, f := range a.zip.File {
		if p, ok := strings.CutPrefix(f.Name, FilesDir); ok && f.Mode().IsDir() && p != "" {
			if err := each(f, strings.TrimSuffix(p, "/")); err != nil {
				return err
			}
		}
	}
	return nil
}

// Regular calls each with every regular file of the site, in the order of the archive, then with every link.
func (a *Archive) Regular(each func(f *zip.File, p string) error) error {
	for _, want := range []fs.FileMode{0, fs.ModeSymlink} {
		for _, f := range a.zip.File {
			if p, ok := strings.CutPrefix(f.Name, FilesDir); ok && f.Mode().Type() == want && p != "" {
				if err := each(f, p); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
