package runs

import (
	"context"
	"encoding/json"
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
	"nestseed/internal/service/records"
)

// SideBySideArgs ask for pages of a site to be looked at beside the source's.
type SideBySideArgs struct {
	Site  string `json:"site"`
	Pages int    `json:"pages"`
}

func (w *Works) picturesOf(siteID int64) string {
	return filepath.Join(w.Data, "side-by-side", fmt.Sprint(siteID))
}

func (w *Works) sideBySide(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args SideBySideArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	browser, err := sidebyside.Find("")
	if err != nil {
		return nil, err
	}
	s, err := w.DB.Site(ctx, args.Site)
	if err != nil {
		return nil, err
	}
	left, source, err := w.sourceOfSite(ctx, s)
	if err != nil {
		return nil, err
	}
	right, k, err := w.standing(ctx, s)
	if err != nil {
		return nil, err
	}
	report.Step("Find pages", progress.Amount{})
	paths, err := check.Paths(ctx, right.Address, right.Connect, right.Cookie, k, args.Pages)
	if err != nil {
		return nil, fmt.Errorf("site %s does not answer at %s: %w", s.Name, s.Address, err)
	}
	// The pictures that are there are shown until the new ones are whole.
	dir := w.picturesOf(s.ID)
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
	return out, w.DB.SetSideBySide(ctx, s.ID, out)
}

// sourceOfSite says where the source of a site can be looked at.
func (w *Works) sourceOfSite(ctx context.Context, s records.Site) (sidebyside.Site, string, error) {
	r, err := w.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return sidebyside.Site{}, "", err
	}
	source, err := w.DB.Source(ctx, r.Manifest.Source)
	if errors.Is(err, records.ErrNotFound) {
		return sidebyside.Site{}, "", fmt.Errorf("%w: %s was brought in, or its source is removed; there is nothing to put site %s beside", provision.ErrPlan, r.Ref(), s.Name)
	}
	if err != nil {
		return sidebyside.Site{}, "", err
	}
	h, err := w.DB.HostByID(ctx, source.HostID)
	return sidebyside.Site{Address: source.Address, Connect: h.Connect}, source.Name, err
}

// standing says where a site can be looked at, held or not.
func (w *Works) standing(ctx context.Context, s records.Site) (sidebyside.Site, *kind.Kind, error) {
	h, err := w.DB.HostByID(ctx, s.HostID)
	if err != nil {
		return sidebyside.Site{}, nil, err
	}
	k, err := w.kindOf(ctx, s)
	if err != nil {
		return sidebyside.Site{}, nil, err
	}
	cookie, err := w.previewCookie(ctx, k, s)
	return sidebyside.Site{Address: s.Address, Connect: h.Connect, Cookie: cookie}, k, err
}

// previewCookie lets somebody into a site that is held; "" for one that is not.
func (w *Works) previewCookie(ctx context.Context, k *kind.Kind, s records.Site) (string, error) {
	if !s.Held {
		return "", nil
	}
	key, err := w.Vault.Get(ctx, "site", s.Name, previewSecret)
	return k.Hold.Cookie + "=" + key, err
}

func (w *Works) kindOf(ctx context.Context, s records.Site) (*kind.Kind, error) {
	r, err := w.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return nil, err
	}
	return kind.Named(w.Kinds, r.Manifest.Kind)
}

// Picture opens a picture of a site beside its source. Errors: records.ErrNotFound.
func (w *Works) Picture(s records.Site, name string) (*os.File, error) {
	f, err := os.OpenInRoot(w.picturesOf(s.ID), name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("site %s has no picture %q: %w; look at it again", s.Name, name, records.ErrNotFound)
	}
	return f, err
}

// dropPictures removes what was seen of a site.
func (w *Works) dropPictures(siteID int64) error { return os.RemoveAll(w.picturesOf(siteID)) }
