package provision

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitevalue"
	"nestseed/internal/core/sqltext"
)

// Refresh asks that the site in Request.Replace takes the code of the release, and keeps its content, settings and
// accounts. Was is the release that its code is of; nil when its archive is not kept any more.
type Refresh struct {
	Was *archive.Archive
}

// Refreshed is what a refresh changes.
type Refreshed struct {
	From       string       `json:"from,omitempty"`
	Version    string       `json:"version"`     // of the CMS, on the site
	NewVersion string       `json:"new_version"` // in the release
	Units      []UnitChange `json:"units"`       // parts of the code that differ
	Stays      []string     `json:"stays,omitempty"`
	Edited     []string     `json:"edited,omitempty"` // files that somebody changed on the site, and that are replaced
	Content    int64        `json:"content"`          // files that stay
}

// UnitChange is a part of the code, and how many of its files differ.
type UnitChange struct {
	Unit    string `json:"unit"`
	Added   int    `json:"added"`
	Changed int    `json:"changed"`
	Removed int    `json:"removed"`
}

// code tells the paths of a site apart: what the release brings, and what stays.
type code struct {
	kind     *kind.Kind
	settings string
	has      map[string]bool // units that the release has
}

func codeOf(req Request) (*code, error) {
	c := &code{req.Kind, req.Archive.Manifest.Settings, map[string]bool{}}
	err := req.Archive.Regular(func(_ *zip.File, p string) error {
		if unit, _, is := c.kind.Unit(p); is {
			c.has[unit] = true
		}
		return nil
	})
	return c, err
}

// brings reports whether a path is code that comes from the release.
func (c *code) brings(p string) bool {
	unit, whole, is := c.kind.Unit(p)
	return is && (whole || c.has[unit]) && !c.own(p)
}

// own reports whether a file belongs to the site alone, wherever it lies.
func (c *code) own(p string) bool {
	return p == c.settings || p == c.kind.Hold.File || p == c.kind.Mail.File
}

// stays reports whether a path of the site is carried over as it is.
func (c *code) stays(p string) bool { return !c.brings(p) && p != c.kind.Pause.File }

// edits is how far the time of a file may be from that of its entry before it counts as changed: archives keep
// seconds.
const edits = 2 * time.Second

// refreshing plans what the code of a release changes on a site. The count of files and rows is that of the site.
func (p *Plan) refreshing(ctx context.Context, req Request) error {
	c, err := codeOf(req)
	r := &Refreshed{Units: []UnitChange{}}
	p.Refresh = r
	if err != nil || !p.versions(ctx, req) {
		return err
	}
	fresh, err := entriesOf(req.Archive, c)
	if err != nil {
		return err
	}
	was := map[string]*zip.File{}
	if req.Refresh.Was != nil {
		r.From = req.Refresh.Was.Manifest.Ref()
		if was, err = entriesOf(req.Refresh.Was, c); err != nil {
			return err
		}
	}
	units := unitChanges{}
	change := func(name string) *UnitChange { return units.of(c, name) }
	shared := linksOf(req.Shared)
	p.Files, p.Bytes = int64(len(shared)), 0
	for name, f := range fresh {
		if !shared.covers(name) {
			p.Files++
			p.Bytes += int64(f.UncompressedSize64)
		}
	}
	stays, there := map[string]bool{}, map[string]bool{}
	site, err := req.FS.Sub(ctx, req.Folder)
	if err != nil {
		return err
	}
	defer site.Close()
	links := archive.Links{}
	led := linksOf(req.Replace.Shared)
	units.shared(c, led, was, fresh, there)
	err = site.Walk(ctx, ".", func(e hostfs.Entry) error {
		if e.Mode.IsDir() || led.leads(e) {
			return nil
		}
		if e.Mode&fs.ModeSymlink != 0 {
			links[e.Path] = e.Target
		}
		if c.stays(e.Path) {
			p.Files++
			p.Bytes += e.SizeBytes
			r.Content++
			if unit, _, is := c.kind.Unit(e.Path); is && !c.own(e.Path) {
				stays[unit] = true
			}
			return nil
		}
		if !c.brings(e.Path) {
			return nil
		}
		there[e.Path] = true
		old, now := was[e.Path], fresh[e.Path]
		if now == nil {
			change(e.Path).Removed++
		} else if old == nil && (int64(now.UncompressedSize64) != e.SizeBytes || !near(now.Modified, e.ModTime)) || old != nil &&
			old.CRC32 != now.CRC32 {
			change(e.Path).Changed++
		}
		if len(was) > 0 && (old == nil || !near(old.Modified, e.ModTime)) {
			r.Edited = append(r.Edited, e.Path)
		}
		return nil
	}, func(string, error) {})
	if err != nil {
		p.Problems = append(p.Problems, fmt.Sprintf("%s cannot be read: %v", p.Folder, err))
	}
	p.linksOut(c, links)
	units.added(c, fresh, there)
	r.Units = units.list()
	r.Stays = slices.Sorted(maps.Keys(stays))
	return p.liveRows(ctx, req)
}

// unitChanges are the changes of units by their names.
type unitChanges map[string]*UnitChange

// shared counts the changes of what a site has shared until now: its code is that of the release, which nobody has edited.
func (u unitChanges) shared(c *code, led links, was, fresh map[string]*zip.File, there map[string]bool) {
	for name, f := range was {
		if !led.covers(name) {
			continue
		}
		there[name] = true
		if now := fresh[name]; now == nil {
			u.of(c, name).Removed++
		} else if now.CRC32 != f.CRC32 {
			u.of(c, name).Changed++
		}
	}
}

func (u unitChanges) of(c *code, name string) *UnitChange {
	unit, _, _ := c.kind.Unit(name)
	if u[unit] == nil {
		u[unit] = &UnitChange{Unit: unit}
	}
	return u[unit]
}

// added counts the files of the release that the site does not have.
func (u unitChanges) added(c *code, fresh map[string]*zip.File, there map[string]bool) {
	for name := range fresh {
		if !there[name] {
			u.of(c, name).Added++
		}
	}
}

func (u unitChanges) list() []UnitChange {
	out := []UnitChange{}
	for _, unit := range slices.Sorted(maps.Keys(u)) {
		out = append(out, *u[unit])
	}
	return out
}

// linksOut names links that would be carried over and lead out of the site.
func (p *Plan) linksOut(c *code, links archive.Links) {
	for _, name := range slices.Sorted(maps.Keys(links)) {
		if c.stays(name) && !links.Stay(name, links[name]) {
			p.Problems = append(p.Problems, fmt.Sprintf("%s is a link to %s, outside the site; remove it, or put there what it leads to", name,
				links[name]))
		}
	}
}

// versions says which version the site has and which it gets. Errors are problems of the plan.
func (p *Plan) versions(ctx context.Context, req Request) bool {
	code := ""
	if s := req.Replace.Shared; s != nil {
		code = s.Folder
	}
	id, err := req.Kind.Known(ctx, req.FS, req.Folder, code)
	if err != nil {
		p.Problems = append(p.Problems, fmt.Sprintf("the site that stands there: %v", err))
		return false
	}
	r := p.Refresh
	r.Version, r.NewVersion = id.Version, req.Archive.Manifest.Version
	if r.Version != "" && r.NewVersion != "" && kind.CompareVersions(r.NewVersion, r.Version) < 0 {
		p.Problems = append(p.Problems,
			fmt.Sprintf("the site runs %s %s and the release has %s; a site does not go back to an older version: build a release from a source "+
				"that is up to date",
				req.Kind.Title, r.Version, r.NewVersion))
	}
	return true
}

// liveRows counts the tables and rows of the site, which go with it.
func (p *Plan) liveRows(ctx context.Context, req Request) error {
	db, err := req.openOld(ctx)
	if err != nil {
		p.Problems = append(p.Problems, err.Error())
		return nil
	}
	defer db.Close()
	tables, err := db.Tables(ctx)
	p.Tables, p.Rows = int64(len(tables)), 0
	for _, t := range tables {
		p.Rows += t.Rows
	}
	return err
}

func near(a, b time.Time) bool { return a.Sub(b).Abs() < edits }

// entriesOf returns the code of a release by path.
func entriesOf(a *archive.Archive, c *code) (map[string]*zip.File, error) {
	out := map[string]*zip.File{}
	err := a.Regular(func(f *zip.File, p string) error {
		if c.brings(p) {
			out[p] = f
		}
		return nil
	})
	return out, err
}

// pause makes the CMS tell visitors that it is being worked on: from here to the exchange nothing of the content
// may change, or it would be lost.
func (mk *maker) pause(ctx context.Context) error {
	pause := mk.req.Kind.Pause
	if pause.File == "" {
		return nil
	}
	if _, err := mk.old.Stat(ctx, pause.File); !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %s is there already: %s is being updated, or an update was cut off; see to that first", ErrPlan,
			path.Join(mk.plan.Folder, pause.File), mk.req.Kind.Title)
	}
	// It is made under a name of the run's own first, so that the journal can say which file it is.
	fresh := path.Join(mk.req.Folder, Beside(pause.File, mk.req.RunID))
	if err := mk.making(ctx, "staging", fresh, ""); err != nil {
		return err
	}
	if err := hostfs.WriteNew(ctx, mk.old, Beside(pause.File, mk.req.RunID), []byte(pause.Text), 0o644); err != nil {
		return err
	}
	id, err := mk.req.FS.ID(ctx, fresh)
	if err != nil {
		return err
	}
	if err := mk.making(ctx, "folder", path.Join(mk.req.Folder, pause.File), id); err != nil {
		return err
	}
	return mk.old.Rename(ctx, Beside(pause.File, mk.req.RunID), pause.File)
}

// resume ends the pause of a site.
func (mk *maker) resume(ctx context.Context, site hostfs.FS) error {
	if mk.req.Kind.Pause.File == "" {
		return nil
	}
	err := site.RemoveAll(ctx, mk.req.Kind.Pause.File)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// carryOver brings the content of the site into the prepared folder and the new database, side by side.
func (mk *maker) carryOver(ctx context.Context) error {
	if err := mk.openDatabase(ctx); err != nil {
		return err
	}
	mk.report.Step("Carry over files and rows", progress.Amount{Files: mk.plan.Refresh.Content, Rows: mk.plan.Rows})
	led, host := linksOf(mk.req.Replace.Shared), hostOf(mk.plan.Address)
	group, ctx := parallel.WithContext(ctx)
	group.Go(func() error {
		return hostfs.CopyTree(ctx, mk.old, mk.stage, func(e hostfs.Entry) bool {
			if !mk.code.stays(e.Path) || led.leads(e) || led != nil && e.Mode&fs.ModeSymlink != 0 && mk.req.Kind.Tenants.Made(e.Path, host) {
				return false
			}
			if !e.Mode.IsDir() {
				mk.placed(e.SizeBytes)
			}
			return true
		})
	})
	group.Go(func() error { return mk.copyRows(ctx) })
	return group.Wait()
}

// copyRows makes every table, view, trigger and routine of the site's database again, and copies the rows. What the site's
// database says of itself is parsed like a dump from outside: somebody may have changed it who has its password.
func (mk *maker) copyRows(ctx context.Context) error {
	old, err := mk.req.openOld(ctx)
	if err != nil {
		return err
	}
	defer old.Close()
	tables, err := old.Tables(ctx)
	if err != nil {
		return err
	}
	loader, err := mk.db.Loader(ctx)
	if err != nil {
		return err
	}
	defer loader.Close()
	later, err := mk.copyTables(ctx, old, tables, loader)
	if err != nil {
		return err
	}
	for _, f := range later.Foreign {
		if err := loader.AddForeignKey(ctx, f, nil); err != nil {
			return err
		}
	}
	return createPrograms(ctx, loader, later.Programs, nil)
}

// copyTables makes the tables of the old site's database in the new one, fills them side by side, and returns what is to be
// made when they have their rows.
func (mk *maker) copyTables(ctx context.Context, old sitedb.DB, tables []sitedb.Table, loader sitedb.Loader) (*sqltext.Definitions, error) {
	snap, err := old.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	defer snap.Close()
	later := &sqltext.Definitions{}
	programs, left, err := snap.Programs(ctx, tables)
	if err != nil {
		return nil, err
	}
	for _, l := range left {
		mk.did("%s was not carried over: %s", l.What, l.Reason)
	}
	first, rest := sqltext.Apart(programs)
	if err := createPrograms(ctx, loader, first, nil); err != nil {
		return nil, err
	}
	later.Programs = rest
	for i := range tables {
		if tables[i].View {
			continue
		}
		d, err := snap.Definition(ctx, &tables[i])
		if err != nil {
			return nil, err
		}
		if err := loader.CreateTable(ctx, d, nil); err != nil {
			return nil, err
		}
		later.Foreign = append(later.Foreign, d.Constraints...)
	}
	for i := range tables {
		if tables[i].View {
			continue
		}
		n, err := sitedb.CopyRows(ctx, snap, &tables[i], loader, &tables[i], nil)
		if err != nil {
			return nil, err
		}
		mk.result.Rows += n
		mk.report.Add(progress.Amount{Rows: n})
	}
	return later, nil
}

// upgrade lets the CMS bring its tables to the version of its code, where they differ. Until it has, visitors are
// told that the site is being worked on.
func (mk *maker) upgrade(ctx context.Context) error {
	needs, err := mk.needsUpgrade(ctx)
	if err != nil || needs == "" {
		return errors.Join(err, mk.resume(ctx, mk.stage))
	}
	u := mk.req.Kind.Upgrade
	err = mk.eachSub(func(site sitevalue.Site, address string) error {
		status, body, err := mk.req.Visit(ctx, address, u.Visit)
		if err != nil {
			return err
		}
		now, _, err := site.Option(ctx, u.Option)
		if err == nil && now != needs {
			err = fmt.Errorf("%s did not bring its tables from %s to %s: %s answered %d: %.200s", mk.req.Kind.Title, now, needs, u.Visit, status,
				body)
		}
		return err
	})
	if err != nil {
		return err
	}
	mk.result.Upgraded = needs
	return mk.resume(ctx, mk.stage)
}

// needsUpgrade returns the version that the tables have to be brought to, or "".
func (mk *maker) needsUpgrade(ctx context.Context) (string, error) {
	u := mk.req.Kind.Upgrade
	if u.Visit == "" || mk.req.Visit == nil {
		return "", nil
	}
	in, done, err := mk.codeStage(ctx)
	if err != nil {
		return "", err
	}
	defer done()
	code := kind.Place{File: u.File, Setting: u.Setting}.Look(ctx, in)
	data, found, err := mk.site().Option(ctx, u.Option)
	if err != nil || !found || code == "" || kind.CompareVersions(code, data) <= 0 {
		return "", err
	}
	return code, nil
}

// pauseUntilUpgraded keeps visitors out of a prepared site whose tables are not of the version of its code.
func (mk *maker) pauseUntilUpgraded(ctx context.Context) error {
	needs, err := mk.needsUpgrade(ctx)
	if err != nil || needs == "" || mk.req.Kind.Pause.File == "" {
		return err
	}
	return hostfs.WriteFile(ctx, mk.stage, mk.req.Kind.Pause.File, []byte(mk.req.Kind.Pause.Text), 0o644)
}

// refreshSteps are the steps of a plan that refreshes.
func (p *Plan) refreshSteps(req Request) {
	r := p.Refresh
	parts := fmt.Sprintf("%d parts differ", len(r.Units))
	if len(r.Units) == 1 {
		parts = "1 part differs"
	}
	version := fmt.Sprintf("%s %s, as now", req.Kind.Title, r.NewVersion)
	if r.Version != r.NewVersion {
		version = fmt.Sprintf("%s %s becomes %s", req.Kind.Title, r.Version, r.NewVersion)
	}
	pause := "visitors are told for these moments that the site is being worked on, so that nothing they do is lost"
	if req.Kind.Pause.File == "" {
		pause = "what visitors write in these moments would be lost; choose a quiet time"
	}
	p.Steps = []Step{
		{"Check the host", p.hostSays(), ""},
		{"Place the code of " + p.Release, fmt.Sprintf("%s; %s; %s", p.codePlace(req), version, parts),
			fmt.Sprintf("%d files", p.Files-r.Content)},
		{"Carry over content", "uploads, settings, accounts and every row, into database " + p.Database + "; " + pause,
			fmt.Sprintf("%d files, %d rows", r.Content, p.Rows)},
		{"Swap in", p.Replaces + " stay as a safety copy, to be put back with site undo", ""},
		{"Bring tables to the version of the code", "by " + req.Kind.Title + " itself, where they differ", ""},
		{"Check", "pages, links, images, leftovers of the old address, login", ""},
	}
}
