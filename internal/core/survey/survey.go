// Package survey reads a source once and says what is there: sizes, counts, versions, findings.
//
// Take walks the files and looks at the database side by side, and then into those files whose content
// says something; it never writes and needs no right but to read. The result is plain data that is
// stored, so that a packing list can be tried against it again and again (Total) without a second walk.
//
//	s, err := survey.Take(ctx, survey.Input{…}, reporter)
//	fmt.Println(s.Totals.Bytes, s.Findings)
//	in, out, saved := s.Total(matcher)
//
// Sizes are bytes of content as the file system and the database report them.
package survey

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitevalue"
)

// Input is what is surveyed.
type Input struct {
	FS       hostfs.FS
	Root     string
	DB       sitedb.DB // nil when the database cannot be reached; then only files are surveyed
	Identity *kind.Identity
	// Visit asks the site's first page for the headers of its answer; nil when the site is not asked.
	Visit func(ctx context.Context, address string) (http.Header, error)
	// ExpectedFiles is how many files there were the last time; 0 when that is not known.
	ExpectedFiles int64
	Known         []string // addresses that the site was known as before
}

// Survey is one reading of a source.
type Survey struct {
	TakenAt    time.Time      `json:"taken_at"`
	TookMillis int64          `json:"took_ms"`
	Kind       string         `json:"kind"`
	KindTitle  string         `json:"kind_title"`
	Version    string         `json:"version"`
	Runtime    string         `json:"runtime"`           // least version of PHP
	Running    string         `json:"running,omitempty"` // version of PHP that the site says it runs on
	Database   sitedb.Version `json:"database"`
	Address    string         `json:"address"`
	// Also are other addresses that the site gives for itself, such as that of its code in a folder of its own.
	Also     []string       `json:"also,omitempty"`
	Title    string         `json:"title"`
	SubSites []kind.SubSite `json:"sub_sites,omitempty"` // of a network
	WebRoot  string         `json:"web_root"`
	Prefix   string         `json:"prefix"`
	Totals   Totals         `json:"totals"`
	Areas    []Area         `json:"areas"`
	Folders  []Folder       `json:"folders"` // down to three levels, largest first
	Largest  []File         `json:"largest"`
	Tables   []sitedb.Table `json:"tables"`
	Groups   []Groups       `json:"groups,omitempty"` // rows by the values of some columns
	Findings []Finding      `json:"findings"`

	Files []filelist.Entry `json:"-"` // all of them, by path; kept beside the rest
}

// Totals are sums over everything that was seen.
type Totals struct {
	Files         int64 `json:"files"`
	Folders       int64 `json:"folders"`
	Links         int64 `json:"links"`
	Bytes         int64 `json:"bytes"`
	Tables        int64 `json:"tables"`
	Rows          int64 `json:"rows"` // the server's estimate
	DatabaseBytes int64 `json:"database_bytes"`
}

// Area is the share of one area.
type Area struct {
	Area  string `json:"area"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// Folder is a folder with all that is below it.
type Folder struct {
	Path  string `json:"path"`
	Area  string `json:"area"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// File is one file.
type File struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	Area  string `json:"area,omitempty"`
}

// Groups are the rows of a table by the values of a column; of a table that rows of another belong to, By says
// whose column it is.
type Groups struct {
	Table  string         `json:"table"` // without prefix
	Column string         `json:"column"`
	By     string         `json:"by,omitempty"` // table whose column it is, where it is not Table
	Values []sitedb.Group `json:"values"`
}

// Finding is something the survey noticed, with what to do about it.
type Finding struct {
	Severity string        `json:"severity" enum:"fault,warning,note"`
	What     string        `json:"what"`
	Where    string        `json:"where"`
	Bytes    int64         `json:"bytes"`
	Count    int64         `json:"count,omitempty"` // of files, rows or places
	Why      string        `json:"why"`
	Examples []string      `json:"examples,omitempty"`
	Remedy   *packing.Edit `json:"remedy,omitempty"` // one edit of the packing list
	Advice   string        `json:"advice,omitempty"` // what to do where no packing list can help
}

// Name tells a finding from others of a source.
func (f *Finding) Name() string { return f.What + ": " + f.Where }

const (
	fault   = "fault"
	warning = "warning"
	note    = "note"
)

const (
	largestFiles = 20
	folderLevels = 3
)

// Take surveys a source.
func Take(ctx context.Context, in Input, report progress.Reporter) (*Survey, error) {
	start := time.Now()
	s := &Survey{
		TakenAt: start.UTC(), Kind: in.Identity.Kind.Name, KindTitle: in.Identity.Kind.Title,
		Version: in.Identity.Version, Runtime: in.Identity.Runtime,
		WebRoot: path.Join(in.FS.Root(), in.Root), Prefix: in.Identity.Prefix, SubSites: in.Identity.SubSites, Findings: []Finding{},
	}
	site, err := in.FS.Sub(ctx, in.Root)
	if err != nil {
		return nil, fmt.Errorf("walk the source's files: %w", err)
	}
	defer site.Close()
	t := &taker{in: in, site: site, s: s, kind: in.Identity.Kind, areas: map[string]*Area{}, folders: map[string]*Folder{}, report: report}
	progress.Stage(report, 0, walkShare)
	report.Step("Walk the files and look at the database", progress.Amount{Files: in.ExpectedFiles})
	group, gctx := parallel.WithContext(ctx)
	group.Go(func() error { return t.walk(gctx) })
	group.Go(func() error { return t.database(gctx) })
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for _, why := range in.Identity.Unreadable {
		t.find(Finding{Severity: warning, What: "setting that is not readable", Where: in.Identity.SettingsPath, Why: why,
			Advice: "give the source's database by its address when you add it"})
	}
	filelist.Sort(s.Files)
	progress.Stage(report, walkShare, 1)
	if err := t.scan(ctx); err != nil {
		return nil, err
	}
	t.findAll(ctx)
	t.finish()
	s.TookMillis = time.Since(start).Milliseconds()
	return s, nil
}

// taker gathers a survey. The walk and the database fill different fields, so they need no lock but the one
// over findings.
type taker struct {
	in     Input
	site   hostfs.FS // the web root
	s      *Survey
	kind   *kind.Kind
	report progress.Reporter
	finder

	areas   map[string]*Area
	folders map[string]*Folder
	links   []filelist.Entry
	working []string // folders of developers
	media   mediaRows
	parts   map[string][]string // names of active extensions and themes, by folder
	headers http.Header         // of the site's first page
}

// walkShare is which share of a survey is walking the tree.
const walkShare = 0.3

func (t *taker) walk(ctx context.Context) error {
	err := t.site.Walk(ctx, ".", func(e hostfs.Entry) error {
		switch {
		case e.Mode.IsDir():
			t.s.Totals.Folders++
			t.folder(e.Path)
		case e.Mode.IsRegular():
			t.file(e)
			t.report.Add(progress.Amount{Files: 1})
		default:
			t.s.Totals.Links++
			t.links = append(t.links, filelist.Entry{Path: e.Path, Mode: e.Mode, Target: e.Target})
		}
		return nil
	}, func(p string, err error) {
		t.find(Finding{Severity: fault, What: "cannot be read", Where: p, Why: err.Error() + "; it would be missing from a release",
			Advice: "let the service read it, then survey again"})
	})
	if err != nil {
		return fmt.Errorf("walk the source's files: %w", err)
	}
	return nil
}

func (t *taker) file(e hostfs.Entry) {
	f := filelist.Entry{Path: e.Path, Bytes: e.SizeBytes, Modified: e.ModTime.Unix(), Mode: e.Mode, Area: t.kind.AreaOf(e.Path)}
	t.s.Files = append(t.s.Files, f)
	t.s.Totals.Files++
	t.s.Totals.Bytes += f.Bytes
	a := t.areas[f.Area]
	if a == nil {
		a = &Area{Area: f.Area}
		t.areas[f.Area] = a
	}
	a.Files++
	a.Bytes += f.Bytes
	for dir, level := path.Dir(f.Path), 0; dir != "."; dir = path.Dir(dir) {
		if level = strings.Count(dir, "/"); level >= folderLevels {
			continue
		}
		d := t.folders[dir]
		if d == nil {
			d = &Folder{Path: dir, Area: f.Area}
			t.folders[dir] = d
		}
		if d.Area != f.Area {
			d.Area = ""
		}
		d.Files++
		d.Bytes += f.Bytes
	}
	t.report.Add(progress.Amount{Files: 1, Bytes: f.Bytes})
}

// below sums up what lies in a folder; Files are sorted by then.
func (t *taker) below(folder string) (files, bytes int64) {
	at, _ := slices.BinarySearchFunc(t.s.Files, folder+"/", func(e filelist.Entry, p string) int { return cmp.Compare(e.Path, p) })
	for _, f := range t.s.Files[at:] {
		if !strings.HasPrefix(f.Path, folder+"/") {
			break
		}
		files++
		bytes += f.Bytes
	}
	return files, bytes
}

// Addresses returns every address that a site gives for itself, without a slash at the end: first where visitors find it, then
// where its code says it lies, if that is elsewhere. What its settings file says counts more than its options, but what
// stands in those is one of its addresses too. Last come those that the site is known at without saying so itself.
// Errors: ErrNoAddress.
func Addresses(ctx context.Context, db sitedb.Reader, id *kind.Identity, known ...string) ([]string, error) {
	var all []string
	add := func(v string) {
		if v = strings.TrimRight(strings.TrimSpace(v), "/"); v != "" && !slices.Contains(all, v) {
			all = append(all, v)
		}
	}
	site := sitevalue.Site{Kind: id.Kind, Prefix: id.Prefix, DB: db, Settings: id.Settings}
	var missing kind.Value
	for _, place := range id.Kind.Address {
		v, found, err := site.Get(ctx, place)
		if err != nil && !errors.Is(err, kind.ErrUnreadable) && !errors.Is(err, sitevalue.ErrInside) {
			return nil, err
		}
		if add(v); !found && place.InDatabase() && missing.IsZero() {
			missing = place
		}
	}
	for _, v := range slices.Concat(known, id.Also) {
		add(v)
	}
	switch {
	case len(all) > 0:
		return all, nil
	case !missing.IsZero():
		return nil, fmt.Errorf("the database has no %s; is the table prefix %q right?", missing, id.Prefix)
	}
	return nil, fmt.Errorf("%w: say what the address is", ErrNoAddress)
}

// ErrNoAddress says that neither settings nor database tell a site's address.
var ErrNoAddress = errors.New("the site does not say at which address it is")

func (t *taker) finish() {
	for _, a := range t.areas {
		t.s.Areas = append(t.s.Areas, *a)
	}
	slices.SortFunc(t.s.Areas, func(a, b Area) int { return descending(a.Bytes, b.Bytes, a.Area, b.Area) })
	for _, f := range t.folders {
		t.s.Folders = append(t.s.Folders, *f)
	}
	slices.SortFunc(t.s.Folders, func(a, b Folder) int { return descending(a.Bytes, b.Bytes, a.Path, b.Path) })
	for _, f := range t.s.Files {
		t.s.Largest = append(t.s.Largest, File{f.Path, f.Bytes, f.Area})
		if len(t.s.Largest) > 8*largestFiles {
			t.s.Largest = largest(t.s.Largest)
		}
	}
	t.s.Largest = largest(t.s.Largest)
	order := map[string]int{fault: 0, warning: 1, note: 2}
	slices.SortStableFunc(t.s.Findings, func(a, b Finding) int {
		if d := order[a.Severity] - order[b.Severity]; d != 0 {
			return d
		}
		return descending(a.Bytes, b.Bytes, a.Where, b.Where)
	})
}

func largest(files []File) []File {
	slices.SortFunc(files, func(a, b File) int { return descending(a.Bytes, b.Bytes, a.Path, b.Path) })
	return files[:min(largestFiles, len(files))]
}

func descending(a, b int64, nameA, nameB string) int {
	if a != b {
		return cmp.Compare(b, a)
	}
	return strings.Compare(nameA, nameB)
}
