package build

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/ahead"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/core/sitevalue"
	"nestseed/internal/core/sqltext"
)

// Input is what a release is built from.
type Input struct {
	FS       hostfs.FS
	Root     string        // the web root, relative to the FS
	DB       sitedb.Reader // nil for files alone
	Identity *kind.Identity
	List     *packing.List
	// Before is the release before, whose entries are copied where the source has not changed since; nil to read
	// and compress everything. It must have been built from the same source with the same secrets: what it
	// holds is not searched for them again.
	Before *archive.Archive
	// Elsewhere says that the files do not lie where the site lay: the origin's web root is then what Manifest
	// brings, and not theirs.
	Elsewhere bool
	// Manifest brings what only the caller knows: id, starter, number, time, person, note, parent,
	// source and the origin's address. The rest is filled in.
	Manifest archive.Manifest
}

// Result is a finished archive.
type Result struct {
	Manifest archive.Manifest
	// SumsSHA256 is the SHA-256 of the entry SHA256SUMS, in hexadecimal. As that entry holds the sums of
	// all others, this one pins the content of the whole archive.
	SumsSHA256 string
	// Index lists the entries, for Tree; packed with filelist.
	Index []byte
	// Copied is what was copied from the release before.
	Copied progress.Amount
}

// Release writes an archive to out. The source is only read. On an error, what is in out is worthless and
// the caller's to remove.
func Release(ctx context.Context, out archive.Target, in Input, report progress.Reporter) (*Result, error) {
	match, err := in.List.Compile(in.Identity.Kind, in.Identity.Prefix)
	if err != nil {
		return nil, err
	}
	b := &builder{in: in, match: match, report: report, m: in.Manifest, dropped: packing.Dropped{}, links: archive.Links{}}
	if in.Before != nil {
		if b.reuse, err = archive.NewReuse(in.Before, out); err != nil {
			return nil, err
		}
	}
	if in.Root != "" {
		if b.site, err = in.FS.Sub(ctx, in.Root); err != nil {
			return nil, fmt.Errorf("read the source's files: %w", err)
		}
		defer b.site.Close()
	}
	b.search = kind.NewSearch(in.Identity.Secrets())
	b.m.Format, b.m.Kind, b.m.Version, b.m.Runtime = archive.Format, in.Identity.Kind.Name, in.Identity.Version, in.Identity.Runtime
	b.m.Defined = in.Identity.Kind.Sum()
	if !in.Elsewhere {
		b.m.Origin.WebRoot = path.Join(in.FS.Root(), in.Root)
		if resolved, err := hostfs.Resolve(ctx, in.FS, in.Root); err == nil && path.Join(in.FS.Root(), resolved) != b.m.Origin.WebRoot {
			b.m.Origin.RealRoot = path.Join(in.FS.Root(), resolved)
		}
	}
	b.m.Origin.Prefix, b.m.Origin.SubSites, b.m.List = in.Identity.Prefix, in.Identity.SubSites, in.List
	if in.Identity.SettingsPath != "" {
		b.m.Settings = in.Identity.SettingsName(in.Root)
	}
	b.m.Tables = []archive.TableTotal{}

	report.Step("Look at the source", progress.Amount{})
	b.areas, b.leftOut, b.blanked = map[string]*archive.AreaTotal{}, map[string]*archive.LeftOut{}, map[string]int64{}
	if err := b.blankSettings(); err != nil {
		return nil, err
	}
	files, err := b.walk(ctx)
	if err != nil {
		return nil, err
	}
	if err := b.openDatabase(ctx); err != nil {
		return nil, err
	}
	if b.snapshot != nil {
		defer b.snapshot.Close()
	}
	if b.site != nil {
		var stop func()
		b.site, stop = ahead.Open(ctx, b.site, slices.DeleteFunc(slices.Clone(files), func(e hostfs.Entry) bool {
			f, _ := b.unchanged(e)
			return f != nil
		}))
		defer stop()
	}
	b.w = archive.NewWriter(ctx, out)
	if err := b.write(ctx, files); err != nil {
		b.w.Abandon()
		return nil, err
	}
	pinned, err := b.w.Finish(b.reserved, b.m.Made, func() ([]byte, error) {
		b.finishManifest()
		return b.fit()
	})
	if err != nil {
		return nil, err
	}
	return &Result{Manifest: b.m, SumsSHA256: pinned, Index: contents.Pack(b.w.Index(), in.Identity.Kind), Copied: b.copied}, nil
}

type builder struct {
	in       Input
	site     hostfs.FS // the web root; nil where there are no files
	match    *packing.Matcher
	report   progress.Reporter
	search   *kind.Search // for secrets of the source
	snapshot sitedb.Snapshot
	tables   []sitedb.Table
	w        *archive.Writer
	dialect  *sqltext.Dialect // of the database
	reserved *archive.Reserved
	reuse    *archive.Reuse
	dropped  packing.Dropped // rows that stay out with what they belong to

	links    archive.Links     // of the tree
	settings map[string][]byte // texts of the settings files, by path

	mu      sync.Mutex // over m, which workers note things in
	m       archive.Manifest
	areas   map[string]*archive.AreaTotal
	leftOut map[string]*archive.LeftOut
	blanked map[string]int64
	copied  progress.Amount
}

func (b *builder) holdsSecret(text []byte) (name string, found bool) {
	return b.search.In(text)
}

func (b *builder) note(format string, args ...any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	sentence := fmt.Sprintf(format, args...)
	b.m.Notes = append(b.m.Notes, sentence)
	b.report.Note(sentence)
}

func (b *builder) leaveOut(rule string, bytes int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	l := b.leftOut[rule]
	if l == nil {
		l = &archive.LeftOut{Rule: rule}
		b.leftOut[rule] = l
	}
	l.Files++
	l.Bytes += bytes
}

func (b *builder) blank(what string, times int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.blanked[what] += times
}

// walk lists what goes in, sorted, and counts what stays out.
func (b *builder) walk(ctx context.Context) ([]hostfs.Entry, error) {
	if b.match.List().Only == "database" || b.site == nil {
		return nil, nil
	}
	var files []hostfs.Entry
	own := b.in.Identity.OwnDatabase(b.in.FS, b.in.Root)
	err := b.site.Walk(ctx, ".", func(e hostfs.Entry) error {
		if own != "" && (e.Path == own || strings.HasPrefix(e.Path, own+"-")) {
			return nil // the site's database: what is in it goes in as rows
		}
		if sitepage.Is(e.Path) || e.Path == hostfs.Mark {
			return nil // the site is being asked something at this moment; or the host knows its folder by it
		}
		if !e.Mode.IsRegular() && !e.Mode.IsDir() && e.Mode&fs.ModeSymlink == 0 {
			b.note("%q is neither file, folder nor link; left out", e.Path)
			return nil
		}
		if err := archive.CheckName(e.Path); err != nil {
			b.note("%q was left out: %v; rename it in the source if it is needed", e.Path, err)
			return nil
		}
		if rule, out := b.match.LeavesOut(e.Path, e.SizeBytes); out && b.settings[e.Path] == nil {
			if !e.Mode.IsDir() {
				b.leaveOut(rule, e.SizeBytes)
			}
			return nil
		}
		if e.Mode&fs.ModeSymlink != 0 {
			e.Target = archive.RelativeLink(e.Path, e.Target, b.m.Origin.WebRoot, b.m.Origin.RealRoot)
			b.links[e.Path] = e.Target
		}
		files = append(files, e)
		return nil
	}, func(p string, err error) { b.note("%s cannot be read and is not in the release: %v", p, err) })
	if err != nil {
		return nil, fmt.Errorf("read the source's files: %w", err)
	}
	// A settings file that lies above the web root travels inside it.
	if above := path.Join(b.in.Root, b.m.Settings) != path.Clean(b.in.Identity.SettingsPath); b.m.Settings != "" && above &&
		b.match.List().Only != "database" {
		e, err := b.in.FS.Stat(ctx, b.in.Identity.SettingsPath)
		if err != nil {
			return nil, err
		}
		e.Path = b.m.Settings
		files = append(files, e)
	}
	slices.SortFunc(files, func(x, y hostfs.Entry) int { return strings.Compare(x.Path, y.Path) })
	return files, nil
}

func (b *builder) openDatabase(ctx context.Context) error {
	if b.match.List().Only == "files" || b.in.DB == nil {
		return nil
	}
	v, err := b.in.DB.Version(ctx)
	if err != nil {
		return err
	}
	b.m.Database = v
	if b.snapshot, err = b.in.DB.Snapshot(ctx); err != nil {
		return err
	}
	all, err := b.in.DB.Tables(ctx)
	if err != nil {
		return err
	}
	for _, t := range all {
		if rule, out := b.match.LeavesOutTable(t.Name); out {
			b.leaveOut("table "+t.Name+": "+rule, t.DataBytes)
			continue
		}
		b.tables = append(b.tables, t)
	}
	return b.readDefaults(ctx)
}

// readDefaults notes what the fields hold in the source; secrets are not noted.
func (b *builder) readDefaults(ctx context.Context) error {
	site := sitevalue.Site{Kind: b.in.Identity.Kind, Prefix: b.in.Identity.Prefix, DB: b.in.DB, Settings: b.in.Identity.Settings}
	for _, f := range b.in.List.Fields {
		t := f.To[0]
		if f.Secret || b.in.List.Blank.Has(t.Place()) {
			continue
		}
		v, _, err := site.Get(ctx, t.Place())
		switch {
		case errors.Is(err, sitevalue.ErrInside):
			b.note("field %s: %v", f.Key, err)
		case err != nil && !errors.Is(err, kind.ErrUnreadable):
			return err
		}
		b.m.Defaults = append(b.m.Defaults, archive.Default{Key: f.Key, Value: v})
	}
	return nil
}

// write puts everything in order: manifest, read-me, files, database.
func (b *builder) write(ctx context.Context, files []hostfs.Entry) error {
	var expected progress.Amount
	for _, e := range files {
		if e.Mode.IsRegular() {
			expected = expected.Plus(progress.Amount{Files: 1, Bytes: e.SizeBytes})
		}
	}
	for _, t := range b.tables {
		if !b.match.Empties(t.Name) {
			expected.Rows += t.Rows
			expected.Bytes += t.DataBytes
		}
	}
	body, err := b.placeholder(files)
	if err != nil {
		return err
	}
	if b.reserved, err = b.w.Reserve(archive.ManifestName, b.m.Made, body); err != nil {
		return err
	}
	note := ""
	if b.m.Note != "" {
		note = " by " + b.m.By + ": " + b.m.Note
	}
	text := fmt.Sprintf(readMe, b.m.Ref(), strings.Repeat("=", len(b.m.Ref())+19), b.in.Identity.Kind.Title, b.m.Version,
		b.m.Made.UTC().Format("2 January 2006"), note, sqltext.DialectOf(b.m.Database.Engine).Client(), b.m.Settings)
	if err := b.text(b.w.Files, archive.ReadMeName, text); err != nil {
		return err
	}
	b.report.Step("Pack files and rows", expected)
	group, _ := parallel.WithContext(ctx)
	for _, side := range []struct {
		lane *archive.Lane
		fill func() error
	}{{b.w.Files, func() error { return b.files(ctx, files) }}, {b.w.Database, func() error { return b.database(b.w.Context()) }}} {
		group.Go(func() error {
			err := side.fill()
			if err == nil {
				err = side.lane.Close()
			}
			if err != nil {
				b.w.Cancel(err) // the other side ends too
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return cmp.Or(context.Cause(b.w.Context()), err) // the first fault, not what it led to on the other side
	}
	return nil
}

// fit encodes the manifest, and when notes do not fit, keeps as many as do and says how many there were.
func (b *builder) fit() ([]byte, error) {
	for {
		body, err := b.m.Encode()
		if err != nil || len(body) <= b.reserved.Size() || len(b.m.Notes) < 2 {
			return body, err
		}
		half := len(b.m.Notes) / 2
		b.m.Notes = append(b.m.Notes[:half:half], "more notes are in the log of the build")
	}
}

func (b *builder) finishManifest() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.m.Areas, b.m.LeftOut, b.m.Blanked = []archive.AreaTotal{}, []archive.LeftOut{}, []archive.Blanked{}
	for _, a := range b.areas {
		b.m.Areas = append(b.m.Areas, *a)
	}
	slices.SortFunc(b.m.Areas, func(x, y archive.AreaTotal) int { return strings.Compare(x.Area, y.Area) })
	for _, l := range b.leftOut {
		b.m.LeftOut = append(b.m.LeftOut, *l)
	}
	slices.SortFunc(b.m.LeftOut, func(x, y archive.LeftOut) int { return strings.Compare(x.Rule, y.Rule) })
	for what, n := range b.blanked {
		b.m.Blanked = append(b.m.Blanked, archive.Blanked{What: what, Times: n})
	}
	slices.SortFunc(b.m.Blanked, func(x, y archive.Blanked) int { return strings.Compare(x.What, y.What) })
	slices.Sort(b.m.Notes)
}

const readMe = `%s: a starter package
%s

This is a release of a website, %s %s, packed by Nest Seed on %s%s.

  files/                the site's files, as they lie in its web root
  database/schema.sql   its tables
  database/rows/        their rows
  database/after.sql    what belongs after the rows: foreign keys, views, triggers
  nestseed.json         what this is, where it came from, what was left out and blanked
  SHA256SUMS            check after unpacking with: sha256sum -c SHA256SUMS

To put the database back by hand, into an empty database called NAME:

  cat database/schema.sql database/rows/*.sql database/after.sql | %s

Passwords, keys and people's accounts of the site it was made from are not in here unless
nestseed.json says so. The settings file, files/%s, needs values of your own.
`
