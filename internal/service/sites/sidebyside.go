package sites

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sidebyside"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/records"
)

// SideBySideArgs ask for pages of a site to be looked at beside the source's.
type SideBySideArgs struct {
	Site  string `json:"site"`
	Pages int    `json:"pages"`
}

func (svc *Sites) picturesOf(siteID int64) string {
	return filepath.Join(svc.Data, "side-by-side", fmt.Sprint(siteID))
}

// SideBySide takes screenshots of a site beside its source.
func (svc *Sites) SideBySide(ctx context.Context, run engine.Run, args SideBySideArgs, report progress.Reporter) (*records.SideBySide, error) {
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
	// The pictures that are there are shown until the new ones are whole.
	dir := svc.picturesOf(s.ID)
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return nil, err
	}
	fresh, err := os.MkdirTemp(filepath.Dir(dir), fmt.Sprintf(".%d-", s.ID))
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(fresh)
	pages, err := sidebyside.Take(ctx, browser, left, right, paths, fresh, report)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(os.RemoveAll(dir), os.Rename(fresh, dir)); err != nil {
		return nil, err
	}
	out := &records.SideBySide{Source: source, At: time.Now().UTC().Truncate(time.Second), Left: left.Address, Right: right.Address, Pages: pages}
	return out, svc.DB.SetSideBySide(ctx, s.ID, out)
}

// sourceOfSite says where the source of a site can be looked at.
func (svc *Sites) sourceOfSite(ctx context.Context, s records.Site) (check.Reach, string, error) {
	r, err := svc.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return check.Reach{}, "", err
	}
	source, err := svc.DB.Source(ctx, r.Manifest.Source)
	if errors.Is(err, records.ErrNotFound) {
		return check.Reach{}, "", fmt.Errorf("%w: %s was brought in, or its source is removed; there is nothing to put site %s beside", provision.ErrPlan, r.Ref(), s.Name)
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
	return kind.Named(svc.Kinds, r.Manifest.Kind)
}

// Picture opens a picture of a site beside its source. Errors: records.ErrNotFound.
func (svc *Sites) Picture(s records.Site, name string) (*os.File, error) {
	f, err := os.OpenInRoot(svc.picturesOf(s.ID), name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("site %s has no picture %q: %w; look at it again", s.Name, name, records.ErrNotFound)
	}
	return f, err
}

// dropScreenshots removes the screenshots of a site.
func (svc *Sites) dropScreenshots(siteID int64) error { return os.RemoveAll(svc.picturesOf(siteID)) }
