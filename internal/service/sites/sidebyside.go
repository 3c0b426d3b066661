package sites

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sidebyside"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/records"
	"nestseed/internal/service/store"
)

// SideBySideArgs ask for screenshots of a site's pages beside the source's.
type SideBySideArgs struct {
	Site  string `json:"site"`
	Pages int    `json:"pages"`
}

// screenshots is the store's group of screenshots. Their names begin with the numbers of the site and of the run.
const screenshots = "screenshots"

// SideBySide takes screenshots of a site beside its source.
func (svc *Sites) SideBySide(ctx context.Context, run engine.Run, args SideBySideArgs,
	report progress.Reporter) (*records.SideBySide, error) {
	browser, err := sidebyside.Find("")
	if err != nil {
		return nil, err
	}
	s, err := svc.DB.Site(ctx, args.Site)
	if err != nil {
		return nil, err
	}
	left, source, err := svc.sourceOfSite(ctx, s)
	if err != nil {
		return nil, err
	}
	right, k, err := svc.standing(ctx, s)
	if err != nil {
		return nil, err
	}
	report.Step("Find pages", progress.Amount{})
	paths, err := check.Paths(ctx, right, k, args.Pages)
	if err != nil {
		return nil, fmt.Errorf("site %s does not answer at %s: %w", s.Name, s.Address, err)
	}
	dir, err := svc.Stored.Store.Scratch(run.ID)
	if err != nil {
		return nil, err
	}
	pages, err := sidebyside.Take(ctx, browser, left, right, paths, dir, report)
	if err == nil {
		err = svc.keepScreenshots(ctx, s.ID, run.ID, dir, &records.SideBySide{Source: source, At: time.Now().UTC().Truncate(time.Second),
			Left: left.Address, Right: right.Address, Pages: pages})
	}
	if err = errors.Join(err, svc.Stored.Store.DropDraft(run.ID)); err != nil {
		return nil, err
	}
	return svc.DB.SideBySideOf(ctx, s.ID)
}

// keepScreenshots puts the screenshots in a folder into the store. Those that are there are shown until the new ones are whole.
func (svc *Sites) keepScreenshots(ctx context.Context, siteID, runID int64, dir string, seen *records.SideBySide) error {
	seen.Set = fmt.Sprintf("%d-%d-", siteID, runID)
	files, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	if err := svc.dropScreenshots(ctx, siteID, func(name string) bool { return strings.HasPrefix(name, seen.Set) }); err != nil {
		return err // of this run, before it was interrupted
	}
	for _, f := range files {
		if err := svc.Stored.Store.Put(ctx, filepath.Join(dir, f.Name()), screenshots+"/"+seen.Set+f.Name()); err != nil {
			return err
		}
	}
	if err := svc.DB.SetSideBySide(ctx, siteID, seen); err != nil {
		return err
	}
	return svc.dropScreenshots(ctx, siteID, func(name string) bool { return !strings.HasPrefix(name, seen.Set) })
}

// sourceOfSite says where the source of a site can be looked at.
func (svc *Sites) sourceOfSite(ctx context.Context, s records.Site) (check.Reach, string, error) {
	r, err := svc.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return check.Reach{}, "", err
	}
	source, err := svc.DB.Source(ctx, r.Manifest.Source)
	if errors.Is(err, records.ErrNotFound) {
		return check.Reach{}, "", fmt.Errorf("%w: %s was imported, or its source is removed; there is nothing to put site %s beside",
			provision.ErrPlan, r.Ref(), s.Name)
	}
	if err != nil {
		return check.Reach{}, "", err
	}
	h, err := svc.DB.HostByID(ctx, source.HostID)
	return hosts.Reach(h, source.Address), source.Name, err
}

// standing says where a site can be looked at, held or not.
func (svc *Sites) standing(ctx context.Context, s records.Site) (check.Reach, *kind.Kind, error) {
	h, err := svc.DB.HostByID(ctx, s.HostID)
	if err != nil {
		return check.Reach{}, nil, err
	}
	k, err := svc.kindOf(ctx, s)
	if err != nil {
		return check.Reach{}, nil, err
	}
	cookie, err := svc.previewCookie(ctx, k, s)
	at := hosts.Reach(h, s.Address)
	at.Cookie = cookie
	return at, k, err
}

// previewCookie lets somebody into a site that is held; "" for one that is not.
func (svc *Sites) previewCookie(ctx context.Context, k *kind.Kind, s records.Site) (string, error) {
	if !s.Held {
		return "", nil
	}
	key, err := svc.Vault.Get(ctx, "site", s.Name, previewSecret)
	return k.Hold.Cookie + "=" + key, err
}

func (svc *Sites) kindOf(ctx context.Context, s records.Site) (*kind.Kind, error) {
	r, err := svc.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return nil, err
	}
	return svc.Kinds.Of(ctx, r.Manifest)
}

// Screenshot opens a screenshot that a site's record names. Errors: records.ErrNotFound.
func (svc *Sites) Screenshot(ctx context.Context, s records.Site, name string) (store.File, time.Time, error) {
	none := fmt.Errorf("site %s has no screenshot %q: %w; take them again", s.Name, name, records.ErrNotFound)
	seen, err := svc.DB.SideBySideOf(ctx, s.ID)
	if err != nil {
		return nil, time.Time{}, err
	}
	if seen == nil || !slices.ContainsFunc(seen.Pages, func(p sidebyside.Page) bool {
		return name != "" &&
			(p.Left == name || p.Right == name)
	}) {
		return nil, time.Time{}, none
	}
	f, _, err := svc.Stored.Store.Open(ctx, screenshots+"/"+seen.Set+name)
	if errors.Is(err, store.ErrNotFound) {
		err = none
	}
	return f, seen.At, err
}

// dropScreenshots removes those screenshots of a site that which tells, by the names they have in the group.
func (svc *Sites) dropScreenshots(ctx context.Context, siteID int64, which func(name string) bool) error {
	files, err := svc.Stored.Store.List(ctx, screenshots)
	if err != nil {
		return err
	}
	var drop []string
	for _, f := range files {
		if name := path.Base(f.Name); strings.HasPrefix(name, fmt.Sprintf("%d-", siteID)) && which(name) {
			drop = append(drop, f.Name)
		}
	}
	return svc.Stored.Store.RemoveAll(ctx, drop...)
}
