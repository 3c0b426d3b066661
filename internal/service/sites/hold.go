package sites

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// previewSecret is what lets somebody into a site that is held.
const previewSecret = "preview"

// Hold keeps visitors out of a site, or lets them in again; with visible, search engines too, and its mail out. It
// returns the address with which somebody who has it sees the site all the same. Errors: engine.ErrBusy.
func (svc *Sites) Hold(ctx context.Context, name string, held, visible bool) (preview string, err error) {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return "", err
	}
	err = svc.Engine.WithLock(ctx, engine.Target("site", s.Name), func(ctx context.Context) error {
		now, err := svc.DB.Site(ctx, s.Name)
		if err != nil {
			return err
		}
		o, err := svc.openSite(ctx, now)
		if err != nil {
			return err
		}
		defer o.Close()
		if held {
			preview, err = svc.hold(ctx, o)
			return err
		}
		return svc.open(ctx, o, visible)
	})
	return preview, err
}

func (svc *Sites) hold(ctx context.Context, o *openSite) (preview string, err error) {
	page, preview, err := svc.holdingPage(ctx, o.kind, o.Name, o.Address, o.Plan)
	if err != nil {
		return "", err
	}
	site, err := o.fs.Sub(ctx, o.Folder)
	if err != nil {
		return "", err
	}
	defer site.Close()
	if err := o.kind.KeepOut(ctx, site, path.Join(o.fs.Root(), o.Folder), page); err != nil {
		return "", err
	}
	return preview, svc.DB.SetHeld(ctx, o.ID, true)
}

// open lets visitors into a site; with visible, search engines too, and its mail out. The key that lets somebody in stays: a
// safety copy of the site may be held with it.
func (svc *Sites) open(ctx context.Context, o *openSite, visible bool) error {
	site, err := o.fs.Sub(ctx, o.Folder)
	if err != nil {
		return err
	}
	defer site.Close()
	if o.Held {
		if err := o.kind.KeepOut(ctx, site, path.Join(o.fs.Root(), o.Folder), nil); err != nil {
			return err
		}
		if err := svc.DB.SetHeld(ctx, o.ID, false); err != nil {
			return err
		}
	}
	if !visible && !o.Visible {
		return nil
	}
	live := provision.Live{FS: o.fs, Server: o.server, Kind: o.kind, Folder: o.Folder, Code: o.Code, Database: o.Database,
		User: o.DBUser, Prefix: o.Prefix}
	if o.kind.Visibility.Place().InDatabase() {
		if live.Password, err = svc.databasePassword(ctx, o.Site); err != nil {
			return err
		}
	}
	if err := provision.SetValue(ctx, live, o.kind.Visibility.Place(), o.kind.Visibility.Visible); err != nil {
		return err
	}
	if m := o.kind.Mail; m.Setting != "" && o.Quiet {
		if err := provision.SetValue(ctx, live, kind.Value{Setting: m.Setting}, m.Sends); err != nil {
			return err
		}
	}
	if file := o.kind.Mail.File; file != "" {
		if err := o.removeOurs(ctx, site, file); err != nil {
			return err
		}
	}
	return svc.DB.SetLive(ctx, o.ID)
}

// removeOurs removes a file that was placed in a site, from where the site loads it.
func (o *openSite) removeOurs(ctx context.Context, site hostfs.FS, name string) error {
	file, err := o.kind.PlaceIn(ctx, site, path.Join(o.fs.Root(), o.Folder), name)
	if err != nil {
		return err
	}
	if err := site.RemoveAll(ctx, file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// holdingPage returns what the file holds that keeps visitors out, and the address that lets somebody in.
func (svc *Sites) holdingPage(ctx context.Context, k *kind.Kind, site, address string, plan *provision.Plan) (page []byte, preview string,
	err error) {
	if k.Hold.File == "" {
		return nil, "", fmt.Errorf("%w: sites of kind %s cannot be held", provision.ErrPlan, k.Title)
	}
	key, err := svc.Vault.Get(ctx, "site", site, previewSecret)
	if errors.Is(err, records.ErrNotFound) {
		key = strings.ToLower(rand.Text())
		err = svc.Vault.Put(ctx, "site", site, previewSecret, key)
	}
	if err != nil {
		return nil, "", err
	}
	title := ""
	for _, v := range plan.Values {
		if v.Key == "title" {
			title = v.Value
		}
	}
	return k.Hold.Page(key, title), address + "/?" + k.Hold.Parameter + "=" + key, nil
}
