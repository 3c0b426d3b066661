package sites

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/network"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitevalue"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/records"
)

// checksMillis is about how long the checks of a site take, where there is none yet that it could be learned from.
const checksMillis = 1200

// ChecksMillis is about how long the checks of a site of a release take: as long as those of the newest sites of its starter.
func (svc *Sites) ChecksMillis(ctx context.Context, releaseID int64) (int64, error) {
	learned, err := svc.DB.ChecksMillis(ctx, releaseID)
	return cmp.Or(learned, checksMillis), err
}

// Expect learns how long a site will take to be made, from others that were made like it, and returns how long its checks will.
func (svc *Sites) Expect(ctx context.Context, o *Opened, plan *provision.Plan) (checks int64, err error) {
	making, err := svc.DB.MakingMillis(ctx, o.Site.ReleaseID, o.Site.HostID, o.Site.CodeID != nil)
	if err != nil {
		return 0, err
	}
	plan.ExpectedMillis = cmp.Or(making, plan.ExpectedMillis)
	return svc.ChecksMillis(ctx, o.Site.ReleaseID)
}

// CheckArgs ask for a site to be checked.
type CheckArgs struct {
	Site   string `json:"site,omitempty"`
	Source string `json:"source,omitempty"` // a site that was made by hand
	Full   bool   `json:"full,omitempty"`   // opens all pages and reads all files again
}

// Check checks a site, or a source.
func (svc *Sites) Check(ctx context.Context, run engine.Run, args CheckArgs, report progress.Reporter) (*check.Report, error) {
	if args.Source != "" {
		return svc.Sources.Check(ctx, args.Source, report)
	}
	return svc.checkSite(ctx, args.Site, checking{full: args.Full}, report)
}

// checking says how a site is checked.
type checking struct {
	like   *check.Like      // as in check.Site
	placed *archive.Archive // that the site has just been made from, and all of its files; nil otherwise
	moved  bool             // placed is not the release, but what the site was elsewhere
	full   bool
}

// checkSite checks a site and keeps what was found.
func (svc *Sites) checkSite(ctx context.Context, name string, how checking, report progress.Reporter) (*check.Report, error) {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return nil, err
	}
	rep, err := svc.checkAt(ctx, s, how, report)
	if err != nil {
		return nil, err
	}
	err = errors.Join(svc.DB.SetReport(ctx, s.Name, rep), svc.askName(ctx, s))
	if rep.Searched != nil {
		err = errors.Join(err, svc.DB.SetSearchedSite(ctx, s.ID, rep.Searched, rep.SearchedAll))
	}
	return rep, err
}

// checkAt checks a site where a record says that it is.
func (svc *Sites) checkAt(ctx context.Context, s records.Site, how checking, report progress.Reporter) (*check.Report, error) {
	h, err := svc.DB.HostByID(ctx, s.HostID)
	if err != nil {
		return nil, err
	}
	k, err := svc.kindOf(ctx, s)
	if err != nil {
		return nil, err
	}
	fsys, server, err := svc.Hosts.Open(ctx, h, s.Plan.Engine)
	if err != nil {
		return nil, err
	}
	defer fsys.Close()
	defer server.Close()
	db, err := svc.siteDatabase(ctx, server, s)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	password, err := svc.Vault.Get(ctx, "site", s.Name, "administrator")
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	cookie, err := svc.previewCookie(ctx, k, s)
	if err != nil {
		return nil, err
	}
	title, err := siteTitle(ctx, fsys, k, s, db)
	if err != nil {
		return nil, err
	}
	site := check.Site{Address: s.Address, Connect: h.Connect, Private: hosts.Reach(h, s.Address).Private, DNS: svc.DNS, Kind: k,
		Title: title, Visible: s.Visible, Quiet: s.Quiet, Held: s.Held, Database: s.Database, User: s.DBUser,
		Login: s.Admin, Password: password, Origin: s.Plan.Rules, DB: db, Prefix: s.Prefix, FS: fsys, Folder: s.Folder, Cookie: cookie,
		Pages: svc.Hosts.Pages(h.ID, s.Folder), Like: how.like, Full: how.full}
	if source, _, err := svc.sourceOfSite(ctx, s); err == nil && how.like == nil {
		site.Source = source
	}
	if err := svc.seenBefore(ctx, s, &site, how); err != nil {
		return nil, err
	}
	site.Baseline = func() *check.Baseline {
		r, err := svc.DB.ReleaseByID(ctx, s.ReleaseID)
		var found *check.Report
		if err == nil {
			found, err = svc.Sources.Baseline(ctx, r)
		}
		if err != nil {
			report.Note(fmt.Sprintf("the source could not be checked, so that all that is found counts: %v", err))
		}
		return found.Baseline()
	}
	if site.SubSites, err = subSites(ctx, fsys, k, s, db); err != nil {
		return nil, err
	}
	return check.Run(ctx, site, report)
}

// seenBefore tells the checks what they need not look at again, unless they look at all.
func (svc *Sites) seenBefore(ctx context.Context, s records.Site, site *check.Site, how checking) (err error) {
	if how.placed != nil {
		site.Placed = func(ctx context.Context) (*check.Searched, error) {
			if how.moved {
				return check.Search(ctx, filesOf(how.placed), s.Plan.Rules, nil)
			}
			before, err := svc.DB.SearchedRelease(ctx, s.ReleaseID)
			if err != nil {
				return nil, err
			}
			found, err := check.Search(ctx, filesOf(how.placed), s.Plan.Rules, before)
			if err == nil && found != before {
				err = svc.DB.SetSearchedRelease(ctx, s.ReleaseID, found)
			}
			return found, err
		}
	} else if site.Searched, err = svc.DB.SearchedSite(ctx, s.ID); err != nil {
		return err
	}
	if s.Report != nil {
		site.Templates = s.Report.Templates
	}
	if len(site.Templates) == 0 {
		site.Templates, err = svc.DB.Templates(ctx, s.ReleaseID)
	}
	return err
}

// filesOf returns the files of an archive, for the checks.
func filesOf(a *archive.Archive) (files []check.ReleaseFile) {
	for _, e := range a.Entries() {
		if path, is := strings.CutPrefix(e.Name, archive.FilesDir); is && e.Mode().IsRegular() {
			files = append(files, check.ReleaseFile{Path: path, SizeBytes: int64(e.UncompressedSize64),
				Open: func() (io.ReadCloser, error) { return a.File(e.Name) }})
		}
	}
	return files
}

// subSites returns the sites of a network, as it is now.
func subSites(ctx context.Context, fsys hostfs.FS, k *kind.Kind, s records.Site, db sitedb.DB) ([]kind.SubSite, error) {
	if k.Single() == k {
		return nil, nil
	}
	id, err := k.Known(ctx, fsys, s.Folder, s.Code)
	if err != nil {
		return nil, nil // the checks of the site say what is wrong with it
	}
	if err := network.Read(ctx, db, id); err != nil {
		return nil, err
	}
	return id.SubSites, nil
}

// siteTitle returns the title that a site is to show, "" where its kind keeps none or it cannot be read.
func siteTitle(ctx context.Context, fsys hostfs.FS, k *kind.Kind, s records.Site, db sitedb.DB) (string, error) {
	values := sitevalue.Site{Kind: k, Prefix: s.Prefix, DB: db}
	if k.SiteTitle.Setting != "" {
		id, err := k.Known(ctx, fsys, s.Folder, s.Code)
		if err != nil {
			return "", nil // the checks of the site say what is wrong with it
		}
		values.Settings = id.Settings
	}
	return values.Title(ctx)
}
