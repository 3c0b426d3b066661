package sites

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/network"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
)

// DropArgs are the arguments of a run that drops a safety copy. Errors: records.ErrNotFound; provision.ErrPlan where the site uses it.
func (svc *Sites) DropArgs(ctx context.Context, s records.Site, copyID int64) (SiteArgs, error) {
	c, err := svc.DB.SiteCopyByID(ctx, copyID)
	if err == nil && c.SiteID != s.ID {
		err = fmt.Errorf("site %s has no safety copy %d: %w", s.Name, copyID, records.ErrNotFound)
	}
	if err == nil {
		err = dropFits(s, c)
	}
	return SiteArgs{SiteID: s.ID, CopyID: copyID}, err
}

// dropFits refuses to drop what a site uses now. Errors: provision.ErrPlan.
func dropFits(s records.Site, c records.SiteCopy) error {
	here := c.HostID == nil || *c.HostID == s.HostID
	uses := c.Folder == s.Folder || c.Database == s.Database && sitedb.HasAccounts(s.Plan.Engine)
	if c.Archive == "" && here && s.RetiredAt == nil && uses {
		return fmt.Errorf("%w: safety copy %d names what the site uses now", provision.ErrPlan, c.ID)
	}
	return nil
}

// DropCopy removes a safety copy: from the store, or from the host.
func (svc *Sites) DropCopy(ctx context.Context, run engine.Run, args SiteArgs, report progress.Reporter) (*CopyResult, error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, err
	}
	c, err := svc.DB.SiteCopyByID(ctx, args.CopyID)
	if errors.Is(err, records.ErrNotFound) && run.Committed {
		return &CopyResult{Site: s.Name}, svc.cleanUp(ctx, run) // its record was removed before this was interrupted
	}
	if err == nil {
		err = dropFits(s, c)
	}
	if err != nil {
		return nil, err
	}
	report.Step("Remove the safety copy", progress.Amount{})
	if c.Archive != "" {
		if ctx, err = svc.Engine.Commit(ctx, run); err == nil {
			err = svc.DB.RemoveSiteCopy(ctx, c.ID)
		}
		if err != nil {
			return nil, err
		}
		freed, err := svc.Stored.Remove(ctx, c.Archive)
		return &CopyResult{s.Name, freed}, err
	}
	o, err := svc.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	doors, err := svc.doorsOf(ctx, o, c.CodeID, c.Address, func(u records.Sharing) bool { return u.CopyID == c.ID })
	if err != nil {
		return nil, err
	}
	if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return nil, err
	}
	host := s.HostID
	if c.HostID != nil {
		host = *c.HostID
	}
	if err := svc.note(ctx, run, doors); err != nil {
		return nil, err
	}
	if err := svc.toRemove(ctx, run, host, s.Plan.Engine, c.Folder, c.Database, c.DBUser); err != nil {
		return nil, err
	}
	err = svc.DB.Tx(ctx, func(ctx context.Context) error {
		if err := svc.DB.RemoveSiteCopy(ctx, c.ID); err != nil {
			return err
		}
		for _, name := range siteSecrets {
			if err := svc.DB.RemoveSecrets(ctx, "site", s.Name, secretOfRun(name, c.RunID)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return &CopyResult{s.Name, c.Bytes}, svc.cleanUp(ctx, run)
}

// CopyResult is a safety copy that was made or dropped.
type CopyResult struct {
	Site  string `json:"site"`
	Bytes int64  `json:"bytes"`
}

// KeepCopy makes a safety copy of a site.
func (svc *Sites) KeepCopy(ctx context.Context, run engine.Run, args SiteArgs, report progress.Reporter) (*CopyResult, error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, err
	}
	o, err := svc.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	n, err := svc.copySite(ctx, run, o, records.CopyAsked, report)
	return &CopyResult{s.Name, n}, err
}

// copySite packs a site whole, its accounts and content as they are. The password of its database stays out, as it
// does of every archive; it is in the vault.
func (svc *Sites) copySite(ctx context.Context, run engine.Run, o *openSite, why string, report progress.Reporter) (int64, error) {
	if c, err := svc.DB.CopyOfRun(ctx, run.ID); err == nil {
		return c.Bytes, nil // made before the run was interrupted
	}
	id, err := o.kind.Known(ctx, o.fs, o.Folder, o.Code)
	if err != nil {
		return 0, err
	}
	db, err := svc.siteDatabase(ctx, o.server, o.Site)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	if err := network.Read(ctx, db, id); err != nil {
		return 0, err
	}
	list, err := packing.Parse([]byte(id.Kind.Lists["whole-site"]))
	if err != nil {
		return 0, err
	}
	if err := svc.withoutShared(ctx, o.Site, list); err != nil {
		return 0, err
	}
	m := archive.Manifest{ID: rand.Text(), Starter: "copy-of-" + o.Name, Number: int(run.ID), Made: time.Now().UTC().Truncate(time.Second),
		By:   run.Who,
		Note: "safety copy", Source: o.Name, Origin: archive.Origin{Address: o.Address}}
	secrets, err := json.Marshal(id.Secrets())
	if err != nil {
		return 0, err
	}
	sealed, err := svc.Vault.Seal(releases.SecretsPurpose, string(secrets))
	if err != nil {
		return 0, err
	}
	draft, err := svc.Stored.Store.Create(run.ID)
	if err != nil {
		return 0, err
	}
	defer draft.Drop()
	before, done := svc.copyBefore(ctx, o.Site, string(secrets))
	defer done()
	built, err := build.Release(ctx, draft, build.Input{FS: o.fs, Root: o.Folder, DB: db, Identity: id, List: list, Manifest: m,
		Before: before}, report)
	if err != nil {
		return 0, err
	}
	report.Step("Keep the copy", progress.Amount{})
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	ctx = context.WithoutCancel(ctx)
	name, size, err := svc.Stored.Keep(ctx, draft, "copy-of-"+o.Name, run.ID)
	if err != nil {
		return 0, err
	}
	release := o.ReleaseID
	if err := svc.DB.AddSiteCopy(ctx, records.SiteCopy{SiteID: o.ID, Standing: records.Standing{CodeID: o.CodeID}, Why: why,
		RunID: run.ID, Bytes: size, Archive: name, ReleaseID: &release,
		SiteRunID: &o.RunID, SecretsSealed: sealed, SumsSha256: built.SumsSHA256}); err != nil {
		_, dropped := svc.Stored.Remove(ctx, name)
		return 0, errors.Join(err, dropped)
	}
	return size, nil
}

// copyBefore opens the newest safety copy of a site, for what need not be read again: one that was made of the same
// files, which are those that one run has placed, while the site had the same secrets.
func (svc *Sites) copyBefore(ctx context.Context, s records.Site, secrets string) (*archive.Archive, func()) {
	nothing := func() {}
	copies, err := svc.DB.SiteCopies(ctx, s.ID)
	if err != nil {
		return nil, nothing
	}
	for _, c := range copies {
		if c.Archive == "" || c.SiteRunID == nil || *c.SiteRunID != s.RunID {
			continue
		}
		if was, err := svc.Vault.Unseal(releases.SecretsPurpose, c.SecretsSealed); err != nil || was != secrets {
			return nil, nothing
		}
		a, f, err := svc.Stored.Open(ctx, c.Archive, c.SumsSha256)
		if err != nil {
			return nil, nothing
		}
		return a, func() { f.Close() }
	}
	return nil, nothing
}

// Retire takes a site off its host.
func (svc *Sites) Retire(ctx context.Context, run engine.Run, args SiteArgs, report progress.Reporter) (*CopyResult, error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, err
	}
	if s.RetiredAt != nil {
		return &CopyResult{Site: s.Name}, svc.cleanUp(ctx, run)
	}
	if !run.Committed {
		if err := args.current(s); err != nil {
			return nil, err
		}
	}
	o, err := svc.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	var n int64
	if !args.NoCopy {
		if n, err = svc.copySite(ctx, run, o, records.CopyRetired, report); err != nil {
			return nil, fmt.Errorf("the site was not retired, as no last safety copy could be made: %w", err)
		}
	}
	if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return nil, err
	}
	report.Step("Remove the site", progress.Amount{})
	return &CopyResult{s.Name, n}, svc.removeSite(ctx, run, o,
		func(ctx context.Context, s records.Site) error { return svc.DB.RetireSite(ctx, s.ID) })
}
