// Package installs is what the service does with installs: code of releases on a host, which several sites share. An install has a
// folder for each release whose code it holds; a site that shares one is a tenant, and everything else of it is its own. Sites are made,
// refreshed and undone by the package sites; this one places and removes code, and brings all sites of an install from one to another.
package installs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/input"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/sites"
)

// Installs is the installs of the records. Whatever changes one holds its lock.
type Installs struct {
	DB       *records.DB
	Hosts    *hosts.Hosts
	Kinds    *kinds.Kinds
	Releases *releases.Releases
	Sites    *sites.Sites
	Engine   *engine.Engine
}

var nameForm = regexp.MustCompile(`^[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?$`)

// PlaceArgs ask for the code of a release in an install, which is made if it is not there.
type PlaceArgs struct {
	Install string `json:"install"`
	Host    string `json:"host"`
	Release string `json:"release"`
}

// PlaceResult is code that was placed.
type PlaceResult struct {
	Install string `json:"install"`
	Release string `json:"release"`
	Files   int64  `json:"files"`
	Bytes   int64  `json:"bytes"`
	Shared  int    `json:"shared"` // names by which a site leads there
}

// place is code to be placed, with what has to be closed after it.
type place struct {
	provision.CodeRequest
	release records.Release
	host    records.Host
	close   []func()
}

func (p *place) Close() {
	for _, c := range p.close {
		c()
	}
}

// open gathers what placing code needs. Errors: input.ErrWrong, records.ErrNotFound, provision.ErrPlan.
func (svc *Installs) open(ctx context.Context, args PlaceArgs, runID string) (_ *place, err error) {
	if !nameForm.MatchString(args.Install) {
		return nil, input.Wrongf("%q is not an install's name; use small letters, digits and dashes, at most 63", args.Install)
	}
	p := &place{}
	defer func() {
		if err != nil {
			p.Close()
		}
	}()
	if p.host, err = svc.DB.Host(ctx, args.Host); err != nil {
		return nil, err
	}
	if p.release, err = svc.DB.Release(ctx, args.Release); err != nil {
		return nil, err
	}
	k, err := svc.Kinds.Of(ctx, p.release.Manifest)
	if err != nil {
		return nil, err
	}
	a, f, err := svc.Releases.OpenArchive(ctx, p.release)
	if err != nil {
		return nil, err
	}
	p.close = append(p.close, func() { f.Close() })
	if err := a.CheckKind(k); err != nil {
		return nil, fmt.Errorf("archive of %s: %w", p.release.Ref(), err)
	}
	fsys, err := svc.Hosts.PlainFiles(ctx, p.host)
	if err != nil {
		return nil, err
	}
	p.close = append(p.close, func() { fsys.Close() })
	p.CodeRequest = provision.CodeRequest{Archive: a, Kind: k, FS: fsys, RunID: runID, All: sites.FolderOfCode,
		Folder: path.Join(sites.FolderOfCode, args.Install, strings.ReplaceAll(p.release.Ref(), "@", "-"))}
	return p, nil
}

// Check refuses what cannot be placed, before a run is started. It returns the arguments with the release's full name.
func (svc *Installs) Check(ctx context.Context, args PlaceArgs) (PlaceArgs, error) {
	p, err := svc.open(ctx, args, "")
	if err != nil {
		return args, err
	}
	defer p.Close()
	args.Release = p.release.Ref()
	return args, provision.CheckCode(ctx, p.CodeRequest)
}

// Place places the code of a release in an install.
func (svc *Installs) Place(ctx context.Context, run engine.Run, args PlaceArgs, report progress.Reporter) (*PlaceResult, error) {
	p, err := svc.open(ctx, args, run.Token())
	if err != nil {
		return nil, err
	}
	defer p.Close()
	placed, err := provision.PlaceCode(ctx, p.CodeRequest, svc.DB.Journal(run.ID, strconv.FormatInt(p.host.ID, 10)), report)
	if errors.Is(err, provision.ErrLeftBehind) {
		return nil, errors.Join(err, engine.ErrCleanup)
	}
	if err != nil {
		return nil, errors.Join(err, svc.DB.ClearMade(context.WithoutCancel(ctx), run.ID))
	}
	ctx, err = svc.Engine.Commit(ctx, run)
	if err == nil {
		err = svc.DB.AddInstallCode(ctx, records.InstallCode{Install: args.Install, HostID: p.host.ID, ReleaseID: p.release.ID, RunID: run.ID,
			Folder: p.Folder, Links: placed.Links, Files: placed.Files, Bytes: placed.Bytes})
	}
	if err != nil {
		_, asked := svc.DB.CodeOfRun(context.WithoutCancel(ctx), run.ID)
		switch {
		case errors.Is(asked, records.ErrNotFound):
			return nil, errors.Join(err, svc.takeBack(context.WithoutCancel(ctx), run, p.FS))
		case asked != nil: // nobody can tell; whoever recovers the run asks again
			return nil, fmt.Errorf("%w: %w", engine.ErrCleanup, err)
		}
	}
	return &PlaceResult{args.Install, p.release.Ref(), placed.Files, placed.Bytes, len(placed.Links)}, nil
}

// takeBack removes what a run's journal says. Errors: engine.ErrCleanup.
func (svc *Installs) takeBack(ctx context.Context, run engine.Run, fsys hostfs.FS) error {
	made, err := svc.DB.Made(ctx, run.ID)
	if err == nil {
		err = provision.Undo(ctx, fsys, sitedb.None, made, svc.DB.Claimed)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrCleanup, err)
	}
	return svc.DB.ClearMade(ctx, run.ID)
}

// RecoverPlace takes back what an interrupted run has placed, unless it is recorded.
func (svc *Installs) RecoverPlace(ctx context.Context, run engine.Run, args PlaceArgs) (engine.Outcome, error) {
	if _, err := svc.DB.CodeOfRun(ctx, run.ID); !errors.Is(err, records.ErrNotFound) {
		return engine.Finished, err
	}
	h, err := svc.DB.Host(ctx, args.Host)
	if err != nil {
		return engine.TakenBack, err
	}
	fsys, err := svc.Hosts.PlainFiles(ctx, h)
	if err != nil {
		return engine.TakenBack, err
	}
	defer fsys.Close()
	return engine.TakenBack, svc.takeBack(ctx, run, fsys)
}

// RemoveArgs ask for code of an install to be removed: that of a release, or all.
type RemoveArgs struct {
	Install string `json:"install"`
	Release string `json:"release,omitempty"`
}

// Removable returns the code that is asked to be removed. Errors: records.ErrInUse where sites share it, or have as they were before.
func (svc *Installs) Removable(ctx context.Context, args RemoveArgs) ([]records.InstallCode, error) {
	i, err := svc.DB.Install(ctx, args.Install)
	if err != nil {
		return nil, err
	}
	all, err := svc.DB.InstallCodes(ctx, i.ID)
	if err != nil {
		return nil, err
	}
	out := slices.DeleteFunc(all, func(c records.InstallCode) bool { return args.Release != "" && c.Release != args.Release })
	if len(out) == 0 {
		return nil, fmt.Errorf("install %s has no code of %s: %w", i.Name, args.Release, records.ErrNotFound)
	}
	for _, c := range out {
		switch {
		case c.Tenants > 0:
			return nil, fmt.Errorf("%d sites share the code of %s in install %s, so it is %w; retire them, bring them to another release, or give "+
				"them code of their own", c.Tenants, c.Release, i.Name, records.ErrInUse)
		case c.Copies > 0:
			return nil, fmt.Errorf("%d safety copies of %s shared the code of %s in install %s, so it is %w; drop them first", c.Copies,
				strings.Join(c.CopiesOf, ", "), c.Release, i.Name, records.ErrInUse)
		}
	}
	return out, nil
}

// Remove removes code that nobody shares, and the install with the last of it.
func (svc *Installs) Remove(ctx context.Context, run engine.Run, args RemoveArgs, report progress.Reporter) (map[string]string, error) {
	codes, err := svc.Removable(ctx, args)
	gone := errors.Is(err, records.ErrNotFound) && run.Committed // before this was interrupted
	if err != nil && !gone {
		return nil, err
	}
	if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return nil, err
	}
	report.Step("Remove the code", progress.Amount{})
	for _, c := range codes {
		id, err := svc.folderID(ctx, c)
		if err != nil {
			return nil, err
		}
		if err := svc.DB.RemoveInstallCode(ctx, c, run.ID, provision.Made{What: "folder", Name: c.Folder, ID: id,
			Where: strconv.FormatInt(c.HostID, 10)}); err != nil {
			return nil, err
		}
	}
	return map[string]string{"install": args.Install}, svc.cleanUp(ctx, run)
}

// folderID tells the folder of shared code from others; "gone" when it is not there.
func (svc *Installs) folderID(ctx context.Context, c records.InstallCode) (string, error) {
	h, err := svc.DB.HostByID(ctx, c.HostID)
	if err != nil {
		return "", err
	}
	fsys, err := svc.Hosts.PlainFiles(ctx, h)
	if err != nil {
		return "", err
	}
	defer fsys.Close()
	id, err := fsys.ID(ctx, c.Folder)
	if errors.Is(err, fs.ErrNotExist) {
		return "gone", nil
	}
	return id, err
}

// cleanUp removes what a run's journal says. Errors: engine.ErrCleanup.
func (svc *Installs) cleanUp(ctx context.Context, run engine.Run) error {
	made, err := svc.DB.Made(ctx, run.ID)
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrCleanup, err)
	}
	for _, m := range made {
		if err := svc.removeFolder(ctx, m); err != nil {
			return fmt.Errorf("%w: %w", engine.ErrCleanup, err)
		}
	}
	return svc.DB.ClearMade(ctx, run.ID)
}

func (svc *Installs) removeFolder(ctx context.Context, m provision.Made) error {
	id, err := strconv.ParseInt(m.Where, 10, 64)
	if err != nil {
		return fmt.Errorf("the journal names no host: %q", m.Where)
	}
	h, err := svc.DB.HostByID(ctx, id)
	if err != nil {
		return err
	}
	fsys, err := svc.Hosts.PlainFiles(ctx, h)
	if err != nil {
		return err
	}
	defer fsys.Close()
	if err := provision.Undo(ctx, fsys, sitedb.None, []provision.Made{m}, svc.DB.Claimed); err != nil {
		return err
	}
	if err := fsys.RemoveEmpty(ctx, path.Dir(m.Name)); err != nil {
		return err
	}
	all, err := svc.DB.Installs(ctx)
	if err != nil || slices.ContainsFunc(all, func(i records.Install) bool { return i.HostID == id }) {
		return err
	}
	// Other hosts, and other services, may keep code in the same folder: then what lies beside it is theirs too.
	left, err := fsys.List(ctx, sites.FolderOfCode)
	if err == nil && !slices.ContainsFunc(left, func(e hostfs.Entry) bool { return e.Mode.IsDir() }) {
		err = fsys.RemoveAll(ctx, sites.FolderOfCode)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
