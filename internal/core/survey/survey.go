// Package survey reads a source once and says what is there: sizes, counts, versions, findings.
//
// Take walks the files and looks at the database; it never writes and needs no right but to read.
// The result is plain data that is stored, so that a packing list can be tried against it again and
// again (Total) without a second walk.
//
//	s, err := survey.Take(ctx, survey.Input{…}, reporter)
//	fmt.Println(s.Totals.Bytes, s.Findings)
//	in, out := s.Total(matcher)
//
// Sizes are bytes of content as the file system and the database report them.
package survey

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
)

// Input is what is surveyed.
type Input struct {
	FS       hostfs.FS
	Root     string
	DB       sitedb.DB // nil when the database cannot be reached; then only files are surveyed
	Identity *kind.Identity
}

// Survey is one reading of a source.
type Survey struct {
	TakenAt    time.Time      `json:"taken_at"`
	TookMillis int64          `json:"took_ms"`
	Kind       string         `json:"kind"`
	KindTitle  string         `json:"kind_title"`
	Version    string         `json:"version"`
	Runtime    string         `json:"runtime"` // least version of PHP
	Database   sitedb.Version `json:"database"`
	Address    string         `json:"address"`
	Title      string         `json:"title"`
	WebRoot    string         `json:"web_root"`
	Prefix     string         `json:"prefix"`
	Totals     Totals         `json:"totals"`
	Areas      []Area         `json:"areas"`
	Folders    []Folder       `json:"folders"` // down to three levels, largest first
	Largest    []File         `json:"largest"`
	Tables     []sitedb.Table `json:"tables"`
	Findings   []Finding      `json:"findings"`
	Files      []File         `json:"files,omitempty"` // all of them, for totals; not in listings
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

// Finding is something the survey noticed, with what to do about it.
type Finding struct {
	Severity string  `json:"severity" enum:"fault,warning,note"`
	What     string  `json:"what"`
	Where    string  `json:"where"`
	Bytes    int64   `json:"bytes"`
	Why      string  `json:"why"`
	Remedy   *Remedy `json:"remedy,omitempty"`
}

// Remedy is one edit of a packing list.
type Remedy struct {
	LeaveOut []string `json:"leave_out,omitempty"`
	Empty    []string `json:"empty,omitempty"`
}

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
		WebRoot: path.Join(in.FS.Root(), in.Root), Prefix: in.Identity.Prefix, Findings: []Finding{},
	}
	report.Step("Walk the files", progress.Amount{})
	t := &taker{in: in, s: s, areas: map[string]*Area{}, folders: map[string]*Folder{}, report: report}
	if err := t.walk(ctx); err != nil {
		return nil, err
	}
	for _, why := range in.Identity.Unreadable {
		t.find(Finding{Severity: "warning", What: "setting that is not readable", Where: in.Identity.SettingsPath, Why: why})
	}
	if in.DB != nil {
		report.Step("Look at the database", progress.Amount{})
		if err := t.database(ctx); err != nil {
			return nil, err
		}
	}
	t.finish()
	s.TookMillis = time.Since(start).Milliseconds()
	return s, nil
}

type taker struct {
	in      Input
	s       *Survey
	report  progress.Reporter
	areas   map[string]*Area
	folders map[string]*Folder
}

func (t *taker) find(f Finding) { t.s.Findings = append(t.s.Findings, f) }

func (t *taker) walk(ctx context.Context) error {
	err := t.in.FS.Walk(ctx, t.in.Root, func(e hostfs.Entry) error {
		switch {
		case e.Mode.IsDir():
			t.s.Totals.Folders++
			t.folder(e.Path)
		case e.Mode.IsRegular():
			t.file(e)
		default:
			t.s.Totals.Links++
		}
		return nil
	}, func(p string, err error) {
		t.find(Finding{Severity: "fault", What: "cannot be read", Where: p, Why: err.Error() + "; it would be missing from a release"})
	})
	if err != nil {
		return fmt.Errorf("walk the source's files: %w", err)
	}
	return nil
}

func (t *taker) file(e hostfs.Entry) {
	f := File{e.Path, e.SizeBytes, t.in.Identity.Kind.AreaOf(e.Path)}
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
	if f.Bytes >= minArchiveBytes {
		t.judgeFile(e)
	}
}

func (t *taker) database(ctx context.Context) error {
	var err error
	if t.s.Database, err = t.in.DB.Version(ctx); err != nil {
		return err
	}
	if t.s.Tables, err = t.in.DB.Tables(ctx); err != nil {
		return err
	}
	for _, tb := range t.s.Tables {
		t.s.Totals.Tables++
		t.s.Totals.Rows += tb.Rows
		t.s.Totals.DatabaseBytes += tb.DataBytes
		if !strings.HasPrefix(tb.Name, t.s.Prefix) {
			t.find(Finding{Severity: "note", What: "table of another prefix", Where: tb.Name, Bytes: tb.DataBytes,
				Why: "it does not begin with " + t.s.Prefix + ", so it belongs to something else; it stays out of releases"})
		}
	}
	k := t.in.Identity.Kind
	read := func(option string) (string, error) {
		v, _, err := t.in.DB.Lookup(ctx, t.s.Prefix+k.Options.Table, k.Options.Key, option, k.Options.Value)
		return v, err
	}
	if t.s.Address, err = Address(ctx, t.in.DB, t.in.Identity); err != nil {
		return err
	}
	if t.s.Title, err = read(k.SiteTitle); err != nil {
		return err
	}
	visible, err := read(k.Visibility.Option)
	if err == nil && visible == k.Visibility.Hidden {
		t.find(Finding{Severity: "note", What: "search engines are kept out", Where: "option " + k.Visibility.Option,
			Why: "each new site sets this for itself, so it does no harm in a starter"})
	}
	return err
}

// Address returns the address a site gives for itself: from its settings file where it is set there,
// else from its options.
func Address(ctx context.Context, db sitedb.DB, id *kind.Identity) (string, error) {
	for _, name := range id.Kind.Settings.Addresses {
		if v, err := id.Settings.Get(name); err == nil && v != "" {
			return strings.TrimRight(v, "/"), nil
		}
	}
	o := id.Kind.Options
	v, found, err := db.Lookup(ctx, id.Prefix+o.Table, o.Key, id.Kind.Address[0], o.Value)
	if err != nil {
		return "", err
	}
	if !found {
		return "", fmt.Errorf("the database has no option %s; is the table prefix %q right?", id.Kind.Address[0], id.Prefix)
	}
	return strings.TrimRight(v, "/"), nil
}

func (t *taker) finish() {
	t.judgeTree()
	for _, a := range t.areas {
		t.s.Areas = append(t.s.Areas, *a)
	}
	slices.SortFunc(t.s.Areas, func(a, b Area) int { return descending(a.Bytes, b.Bytes, a.Area, b.Area) })
	for _, f := range t.folders {
		t.s.Folders = append(t.s.Folders, *f)
	}
	slices.SortFunc(t.s.Folders, func(a, b Folder) int { return descending(a.Bytes, b.Bytes, a.Path, b.Path) })
	byBytes := slices.Clone(t.s.Files)
	slices.SortFunc(byBytes, func(a, b File) int { return descending(a.Bytes, b.Bytes, a.Path, b.Path) })
	t.s.Largest = byBytes[:min(largestFiles, len(byBytes))]
	order := map[string]int{"fault": 0, "warning": 1, "note": 2}
	slices.SortStableFunc(t.s.Findings, func(a, b Finding) int {
		if d := order[a.Severity] - order[b.Severity]; d != 0 {
			return d
		}
		return descending(a.Bytes, b.Bytes, a.Where, b.Where)
	})
}

func descending(a, b int64, nameA, nameB string) int {
	if a != b {
		if a > b {
			return -1
		}
		return 1
	}
	return strings.Compare(nameA, nameB)
}

// Share is a number of files and rows with their bytes.
type Share struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"`
	Rows  int64 `json:"rows"`
	Data  int64 `json:"database_bytes"`
}

// Total says what a packing list would take and what it would leave, and what each rule saves.
func (s *Survey) Total(m *packing.Matcher) (in, out Share, saved map[string]Share) {
	saved = map[string]Share{}
	for _, f := range s.Files {
		if rule, leave := m.LeavesOut(f.Path, f.Bytes); leave {
			out.Files++
			out.Bytes += f.Bytes
			r := saved[rule]
			saved[rule] = Share{Files: r.Files + 1, Bytes: r.Bytes + f.Bytes}
			continue
		}
		in.Files++
		in.Bytes += f.Bytes
	}
	for _, t := range s.Tables {
		rule, leave := m.LeavesOutTable(t.Name)
		if m.Empties(t.Name) && !leave {
			rule, leave = "empty: "+t.Name, true
		}
		if leave {
			out.Rows += t.Rows
			out.Data += t.DataBytes
			saved[rule] = Share{Rows: saved[rule].Rows + t.Rows, Data: saved[rule].Data + t.DataBytes}
			continue
		}
		in.Rows += t.Rows
		in.Data += t.DataBytes
	}
	return in, out, saved
}
