// Package sites is what the service does with sites: make, replace, refresh, move and retire them, keep copies of them and put
// those back, hold and open them, check them, hand them over. It is the only code that changes a site, and it does so under
// the site's lock.
package sites

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/sources"
	"nestseed/internal/service/vault"
)

// Sites is the sites of the records, on their hosts. Whatever changes one holds its lock.
type Sites struct {
	DB       *records.DB
	Vault    *vault.Vault
	Stored   *releases.Stored
	Hosts    *hosts.Hosts
	Sources  *sources.Sources
	Releases *releases.Releases
	Engine   *engine.Engine
	Kinds    []*kind.Kind
	// Data is the service's folder.
	Data string
	// DNS is asked where the names of sites lead.
	DNS check.Resolver
}

// openSite is a site with its host, kind and connections.
type openSite struct {
	records.Site
	kind   *kind.Kind
	fs     hostfs.FS
	server sitedb.Server
}

func (o *openSite) Close() {
	o.fs.Close()
	o.server.Close()
}

func (svc *Sites) openSite(ctx context.Context, s records.Site) (*openSite, error) {
	k, err := svc.kindOf(ctx, s)
	if err != nil {
		return nil, err
	}
	fsys, server, err := svc.Hosts.OpenByID(ctx, s.HostID)
	if err != nil {
		return nil, err
	}
	return &openSite{s, k, fsys, server}, nil
}

// siteDatabase opens a site's database with the site's own account.
func (svc *Sites) siteDatabase(ctx context.Context, server sitedb.Server, s records.Site) (sitedb.DB, error) {
	if s.Result.UserPassword != "" { // it was just made, and is not in the vault yet
		return server.OpenAs(ctx, s.Database, s.DBUser, s.Result.UserPassword)
	}
	password, err := svc.Vault.Get(ctx, "site", s.Name, "database")
	if err != nil {
		return nil, fmt.Errorf("the password of the database of site %s: %w", s.Name, err)
	}
	return server.OpenAs(ctx, s.Database, s.DBUser, password)
}

// SiteArgs ask for something to be done with a site. What it is at that moment is part of them, so that a run
// that begins again does not do it to what the site has become.
type SiteArgs struct {
	SiteID   int64  `json:"site_id"`
	SiteRun  int64  `json:"site_run,omitempty"` // the run that made the site as it stood
	CopyID   int64  `json:"copy_id,omitempty"`
	Folder   string `json:"folder,omitempty"`  // where the copy lies, and after it was put back what it took the place of
	HostID   int64  `json:"host_id,omitempty"` // that Folder is on, when the site has moved
	RunID    int64  `json:"run_id,omitempty"`  // the run that made the copy
	Database string `json:"database,omitempty"`
	User     string `json:"user,omitempty"`
	NoCopy   bool   `json:"no_copy,omitempty"`
}

// ArgsFor are the arguments of a run on a site as it is now.
func ArgsFor(s records.Site) SiteArgs {
	return SiteArgs{SiteID: s.ID, SiteRun: s.RunID, Database: s.Database, User: s.DBUser}
}

// current refuses to begin with a site that has become another since it was asked for.
func (a SiteArgs) current(s records.Site) error {
	if a.Database != "" && s.Database != a.Database || a.SiteRun != 0 && s.RunID != a.SiteRun {
		return fmt.Errorf("%w: site %s has changed since this was asked for; look at it again", provision.ErrPlan, s.Name)
	}
	return nil
}

// UndoPlan says what undoing the last provisioning of a site will do.
func (svc *Sites) UndoPlan(ctx context.Context, s records.Site) (SiteArgs, []string, error) {
	args := ArgsFor(s)
	sentences, err := svc.undoPlan(ctx, s, &args)
	return args, sentences, err
}

func (svc *Sites) undoPlan(ctx context.Context, s records.Site, args *SiteArgs) ([]string, error) {
	copies, err := svc.DB.SiteCopies(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range copies {
		if c.Why == records.CopyReplaced {
			args.CopyID, args.Folder, args.RunID = c.ID, c.Folder, c.RunID
			if other, err := svc.DB.Site(ctx, c.Address); err == nil && other.ID != s.ID {
				return nil, fmt.Errorf("%w: site %s has the address %s by now; move or retire it first", provision.ErrPlan, other.Name, c.Address)
			}
			back := "comes back"
			if c.Address != "" && c.Address != s.Address {
				back += " at " + c.Address
			}
			return []string{
				fmt.Sprintf("the site as it stood until %s %s: its folder and database %s, untouched since", c.MadeAt.Format("2 January 2006, 15:04"),
					back, c.Database),
				fmt.Sprintf("what was made of %s since is removed: its folder, database %s and its user", s.Release, s.Database),
				"the logins that worked then work again",
			}, nil
		}
		if c.Why == records.CopyMoved {
			args.CopyID, args.Folder, args.HostID, args.RunID = c.ID, s.Folder, s.HostID, c.RunID
			return svc.undoMovePlan(ctx, s, c)
		}
	}
	last := "its credentials are removed from the vault, and its record with them"
	if len(copies) > 0 {
		last = fmt.Sprintf("its credentials are removed from the vault; its record stays, with %d safety copies", len(copies))
	}
	return []string{
		fmt.Sprintf("the site is removed: folder %s, database %s and its user", s.Plan.Folder, s.Database),
		"nothing stood there before it, so nothing comes back",
		last,
	}, nil
}

// undoMovePlan says what undoing a move will do. Errors: provision.ErrPlan where the old place is taken.
func (svc *Sites) undoMovePlan(ctx context.Context, s records.Site, c records.SiteCopy) ([]string, error) {
	h, err := svc.DB.HostByID(ctx, *c.HostID)
	if err != nil {
		return nil, err
	}
	if other, err := svc.DB.Site(ctx, c.Address); err == nil && other.ID != s.ID {
		return nil, fmt.Errorf("%w: site %s has the address %s by now; move or retire it first", provision.ErrPlan, other.Name, c.Address)
	}
	back := fmt.Sprintf("the site is at %s on host %s again, with folder and database %s as they stood until %s", c.Address, h.Name,
		c.Database, c.MadeAt.Format("2 January 2006, 15:04"))
	if c.Serves() {
		back = fmt.Sprintf("the site on host %s, which has gone on serving, is the one that counts again; let %s lead there", h.Name, c.Address)
	} else {
		fsys, server, err := svc.Hosts.Open(ctx, h)
		if err != nil {
			return nil, err
		}
		defer fsys.Close()
		defer server.Close()
		if err := free(ctx, fsys, c.Place); err != nil {
			return nil, err
		}
	}
	return []string{back,
		fmt.Sprintf("what was placed at %s on host %s is removed, with all that changed there since: its folder, database %s and its user",
			s.Address, s.Host, s.Database),
		"the logins that worked then work again",
	}, nil
}

// Undo takes back the last provisioning of a site.
func (svc *Sites) Undo(ctx context.Context, run engine.Run, args SiteArgs, report progress.Reporter) (map[string]string, error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if errors.Is(err, records.ErrNotFound) && args.CopyID == 0 && run.Committed {
		return map[string]string{"site": "removed"}, svc.cleanUp(ctx, run) // its record was, before this was interrupted
	}
	if err != nil {
		return nil, err
	}
	if s.RetiredAt != nil {
		return map[string]string{"site": s.Name}, svc.cleanUp(ctx, run)
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
	c, gone, err := svc.copyToPutBack(ctx, s, args)
	if err != nil {
		return nil, err
	}
	if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return nil, err
	}
	if args.CopyID == 0 {
		report.Step("Remove the site", progress.Amount{})
		return map[string]string{"site": s.Name}, svc.removeSite(ctx, run, o, svc.forgetOrRetire)
	}
	if !gone {
		report.Step("Put the old site back", progress.Amount{})
		if c.Why == records.CopyMoved {
			err = svc.returnToOldPlace(ctx, run, c)
		} else {
			err = svc.exchangeBack(ctx, run, o, c)
		}
		if err != nil {
			return nil, err
		}
		if err := svc.DB.PutBackSite(ctx, c); err != nil {
			return nil, err
		}
	}
	if err := svc.restoreSecrets(ctx, s.Name, args.RunID); err != nil {
		return nil, err
	}
	report.Step("Remove what was made since", progress.Amount{})
	host := s.HostID
	if args.HostID != 0 {
		host = args.HostID
	}
	if err := svc.toRemove(ctx, run, host, args.Folder, args.Database, args.User); err != nil {
		return nil, err
	}
	return map[string]string{"site": s.Name}, svc.cleanUp(ctx, run)
}

// copyToPutBack returns the safety copy that an undoing puts back. It is gone when this run has put it back before it was
// interrupted: then the site's record names another database than the one that is to go. That the copy alone is gone says
// nothing: somebody may have dropped it.
func (svc *Sites) copyToPutBack(ctx context.Context, s records.Site, args SiteArgs) (c records.SiteCopy, gone bool, err error) {
	if args.CopyID == 0 {
		return c, true, nil
	}
	c, err = svc.DB.SiteCopyByID(ctx, args.CopyID)
	if !errors.Is(err, records.ErrNotFound) {
		return c, false, err
	}
	if s.Database == args.Database {
		return c, false, fmt.Errorf("%w: the safety copy that would come back is not there any more; site %s stays as it is", provision.ErrPlan,
			s.Name)
	}
	return c, true, nil
}

// forgetOrRetire ends the record of a site that was undone: it stays while there are safety copies of it.
func (svc *Sites) forgetOrRetire(ctx context.Context, s records.Site) error {
	copies, err := svc.DB.SiteCopies(ctx, s.ID)
	if err != nil {
		return err
	}
	if len(copies) > 0 {
		return svc.DB.RetireSite(ctx, s.ID)
	}
	return svc.DB.ForgetSite(ctx, s.ID)
}

// identity returns which folder it is that a run moves: as the run's journal says, or, the first time, as the file system
// does. A run that begins again so knows whether it has moved it; nothing that stands in a site's folder is asked.
func (svc *Sites) identity(ctx context.Context, run engine.Run, fsys hostfs.FS, folder string) (string, error) {
	made, err := svc.DB.Made(ctx, run.ID)
	if err != nil {
		return "", err
	}
	for _, m := range made {
		if m.What == provision.MadeIdentity {
			return m.Name, nil
		}
	}
	id, err := fsys.ID(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("%w: the safety copy is not in %s any more", provision.ErrPlan, path.Join(fsys.Root(), folder))
	}
	if err != nil {
		return "", err
	}
	return id, svc.DB.AddMade(ctx, run.ID, provision.Made{What: provision.MadeIdentity, Name: id})
}

// exchangeBack makes the old folder the site's again, unless this run has done so before it was interrupted.
func (svc *Sites) exchangeBack(ctx context.Context, run engine.Run, o *openSite, c records.SiteCopy) error {
	id, err := svc.identity(ctx, run, o.fs, c.Folder)
	if err != nil {
		return err
	}
	if now, err := o.fs.ID(ctx, o.Folder); err != nil || now == id {
		return err
	}
	if there, err := o.fs.ID(ctx, c.Folder); err != nil || there != id {
		return errors.Join(err, fmt.Errorf("what lies in %s is not the safety copy any more", path.Join(o.fs.Root(), c.Folder)))
	}
	return hostfs.Exchange(ctx, o.fs, o.Folder, c.Folder)
}

// toRemove notes in a run's journal what is to be removed from a host. Once it is there it is removed, however often that
// takes, though no record of a site may name it any more.
func (svc *Sites) toRemove(ctx context.Context, run engine.Run, hostID int64, folder, database, user string) error {
	there, err := svc.DB.Made(ctx, run.ID)
	if err != nil {
		return err
	}
	where := strconv.FormatInt(hostID, 10)
	for _, m := range []provision.Made{{What: "folder", Name: folder, Where: where}, {What: "user", Name: user, Where: where},
		{What: "database", Name: database, Where: where}} {
		if m.Name == "" || slices.Contains(there, m) {
			continue
		}
		if err := svc.DB.AddMade(ctx, run.ID, m); err != nil {
			return err
		}
	}
	return nil
}

// cleanUp removes what a run's journal says, and empties it. Errors: engine.ErrCleanup, and the journal stays.
func (svc *Sites) cleanUp(ctx context.Context, run engine.Run) error {
	made, err := svc.DB.Made(ctx, run.ID)
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrCleanup, err)
	}
	byHost := map[string][]provision.Made{}
	for _, m := range made {
		if m.What != provision.MadeIdentity {
			byHost[m.Where] = append(byHost[m.Where], m)
		}
	}
	for where, made := range byHost {
		if err := svc.removeFrom(ctx, where, made); err != nil {
			return fmt.Errorf("%w: %w", engine.ErrCleanup, err)
		}
	}
	return svc.DB.ClearMade(ctx, run.ID)
}

func (svc *Sites) removeFrom(ctx context.Context, where string, made []provision.Made) error {
	id, err := strconv.ParseInt(where, 10, 64)
	if err != nil {
		return fmt.Errorf("the journal names no host: %q", where)
	}
	fsys, server, err := svc.Hosts.OpenByID(ctx, id)
	if err != nil {
		return err
	}
	defer fsys.Close()
	defer server.Close()
	return provision.Undo(ctx, fsys, server, made)
}

// RecoverRemoval ends an interrupted run that removes something, or that could not: what its journal says goes, and if the
// run had not come so far it goes on.
func (svc *Sites) RecoverRemoval(ctx context.Context, run engine.Run, _ SiteArgs) (engine.Outcome, error) {
	made, err := svc.DB.Made(ctx, run.ID)
	if err != nil {
		return engine.Again, err
	}
	removes := slices.ContainsFunc(made, func(m provision.Made) bool { return m.What != provision.MadeIdentity })
	switch {
	case run.Committed:
		return engine.Onward, nil // it comes to what the journal says by itself
	case removes:
		return engine.Finished, svc.cleanUp(ctx, run)
	}
	return engine.Again, nil
}

// removeSite takes a site off its host, with what it has replaced and left behind, and its secrets out of the vault. Its
// record ends first, by end: from then on the run's journal says what is still to go.
func (svc *Sites) removeSite(ctx context.Context, run engine.Run, o *openSite, end func(context.Context, records.Site) error) error {
	copies, err := svc.DB.SiteCopies(ctx, o.ID)
	if err != nil {
		return err
	}
	if err := svc.toRemove(ctx, run, o.HostID, o.Folder, o.Database, o.DBUser); err != nil {
		return err
	}
	for _, c := range copies {
		if c.Archive != "" {
			continue
		}
		host := o.HostID
		if c.HostID != nil {
			host = *c.HostID
		}
		if err := svc.toRemove(ctx, run, host, c.Folder, c.Database, c.DBUser); err != nil {
			return err
		}
		if err := svc.DB.RemoveSiteCopy(ctx, c.ID); err != nil && !errors.Is(err, records.ErrNotFound) {
			return err
		}
	}
	if err := end(ctx, o.Site); err != nil {
		return err
	}
	if err := errors.Join(svc.dropScreenshots(o.ID, func(string) bool { return true }),
		svc.DB.RemoveSecrets(ctx, "site", o.Name)); err != nil {
		return err
	}
	return svc.cleanUp(ctx, run)
}

// dropCopy removes a safety copy: from the store, or from the host. It returns how many bytes are free there now.
func (svc *Sites) dropCopy(ctx context.Context, o *openSite, c records.SiteCopy) (freed int64, err error) {
	if c.Archive != "" {
		if err := svc.DB.RemoveSiteCopy(ctx, c.ID); err != nil {
			return 0, err
		}
		return svc.Stored.Remove(ctx, c.Archive)
	}
	fsys, server := o.fs, o.server
	if c.HostID != nil && *c.HostID != o.HostID {
		if fsys, server, err = svc.Hosts.OpenByID(ctx, *c.HostID); err != nil {
			return 0, err
		}
		defer fsys.Close()
		defer server.Close()
	} else if c.Folder == o.Folder || c.Database == o.Database {
		return 0, fmt.Errorf("safety copy %d names what the site uses now; it is not removed", c.ID)
	}
	// The folder goes last: while the server does not answer, the copy stays whole.
	for _, made := range []provision.Made{{What: "database", Name: c.Database}, {What: "user", Name: c.DBUser},
		{What: "folder", Name: c.Folder}} {
		if err := provision.Undo(ctx, fsys, server, []provision.Made{made}); err != nil {
			return 0, err
		}
	}
	for _, name := range siteSecrets {
		if err := svc.DB.RemoveSecrets(ctx, "site", o.Name, secretOfRun(name, c.RunID)); err != nil {
			return 0, err
		}
	}
	return c.Bytes, svc.DB.RemoveSiteCopy(ctx, c.ID)
}

// DropCopy removes a safety copy of a site that somebody does not need any more. Errors: engine.ErrBusy.
func (svc *Sites) DropCopy(ctx context.Context, s records.Site, copyID int64) (freed int64, err error) {
	err = svc.Engine.WithLock(ctx, engine.Target("site", s.Name), func(ctx context.Context) error {
		c, err := svc.DB.SiteCopyByID(ctx, copyID)
		if err == nil && c.SiteID != s.ID {
			err = fmt.Errorf("site %s has no safety copy %d: %w", s.Name, copyID, records.ErrNotFound)
		}
		if err != nil {
			return err
		}
		now, err := svc.DB.SiteByID(ctx, s.ID)
		if err != nil {
			return err
		}
		o, err := svc.openSite(ctx, now)
		if err != nil {
			return err
		}
		defer o.Close()
		freed, err = svc.dropCopy(ctx, o, c)
		return err
	})
	return freed, err
}

// CopyResult is a safety copy that was made.
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
	id, err := kind.Identify(ctx, o.fs, o.Folder, []*kind.Kind{o.kind})
	if err != nil {
		return 0, err
	}
	db, err := svc.siteDatabase(ctx, o.server, o.Site)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	list, err := packing.Parse([]byte(o.kind.Lists["whole-site"]))
	if err != nil {
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
	if err := svc.DB.AddSiteCopy(ctx, records.SiteCopy{SiteID: o.ID, Why: why, RunID: run.ID, Bytes: size, Archive: name, ReleaseID: &release,
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
		a, f, err := svc.Stored.Open(c.Archive, c.SumsSha256)
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

// RotateResult names what has new passwords.
type RotateResult struct {
	Site  string `json:"site"`
	User  string `json:"user"`
	Admin string `json:"admin"`
}

// rotate gives a live site a new database user and password, and its administrator a new password. The vault has
// each new secret before the old one is of no use.
// Rotate gives a live site new credentials.
func (svc *Sites) Rotate(ctx context.Context, run engine.Run, args SiteArgs, report progress.Reporter) (*RotateResult, error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, err
	}
	o, err := svc.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	r, err := svc.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return nil, err
	}
	pending := secretOfRun("new database", run.ID)
	password, err := svc.Vault.Get(ctx, "site", s.Name, pending)
	if errors.Is(err, records.ErrNotFound) {
		password = provision.Password(28)
		err = svc.Vault.Put(ctx, "site", s.Name, pending, password)
	}
	if err != nil {
		return nil, err
	}
	user := fmt.Sprintf("%s_r%d", args.Database[:min(len(args.Database), 20)], run.ID)
	live := provision.Live{FS: o.fs, Server: o.server, Kind: o.kind, Folder: o.Folder, Settings: r.Manifest.Settings, Database: args.Database,
		User: args.User, Prefix: s.Prefix, Admin: s.Admin}
	if s.DBUser == args.User { // and the run was not interrupted behind this point
		if live.Password, err = svc.Vault.Get(ctx, "site", s.Name, "database"); err == nil {
			err = provision.CheckPrograms(ctx, live)
		}
		if err != nil {
			return nil, err
		}
	}
	if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return nil, err
	}
	report.Step("Give the database a new user", progress.Amount{})
	if err := provision.NewDatabaseUser(ctx, live, user, password); err != nil {
		return nil, err
	}
	live.User, live.Password = user, password
	if err := provision.TakeOverPrograms(ctx, live, args.User); err != nil {
		return nil, err
	}
	if err := svc.Vault.Put(ctx, "site", s.Name, "database", password); err != nil {
		return nil, err
	}
	if err := svc.DB.SetSiteUser(ctx, s.ID, user); err != nil {
		return nil, err
	}
	report.Step("Give the administrator a new password", progress.Amount{})
	secret := provision.Password(20)
	before, err := svc.Vault.Get(ctx, "site", s.Name, "administrator")
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	if err := svc.Vault.Put(ctx, "site", s.Name, "administrator", secret); err != nil {
		return nil, err
	}
	if err := provision.NewAdministratorPassword(ctx, live, secret); err != nil {
		return nil, errors.Join(err, svc.Vault.Put(ctx, "site", s.Name, "administrator", before))
	}
	report.Step("Remove the old database user", progress.Amount{})
	return &RotateResult{s.Name, user, s.Admin}, errors.Join(provision.RemoveOldUser(ctx, o.server, args.User),
		svc.DB.RemoveSecrets(ctx, "site", s.Name, pending))
}

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
	text, preview, err := svc.holdText(ctx, o.kind, o.Name, o.Address, o.Plan)
	if err != nil {
		return "", err
	}
	site, err := o.fs.Sub(ctx, o.Folder)
	if err != nil {
		return "", err
	}
	defer site.Close()
	if err := site.Mkdir(ctx, path.Dir(o.kind.Hold.File), 0o755); err != nil {
		return "", err
	}
	if err := hostfs.WriteFile(ctx, site, o.kind.Hold.File, []byte(text), 0o644); err != nil {
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
		if err := site.RemoveAll(ctx, o.kind.Hold.File); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := svc.DB.SetHeld(ctx, o.ID, false); err != nil {
			return err
		}
	}
	if !visible && !o.Visible {
		return nil
	}
	db, err := svc.siteDatabase(ctx, o.server, o.Site)
	if err != nil {
		return err
	}
	defer db.Close()
	v, opt := o.kind.Visibility, o.kind.Options
	if err := db.SetValue(ctx, o.Prefix+opt.Table, opt.Key, v.Option, opt.Value, v.Visible); err != nil {
		return err
	}
	if file := o.kind.Mail.File; file != "" {
		if err := site.RemoveAll(ctx, file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return svc.DB.SetLive(ctx, o.ID)
}

// holdText returns what the file holds that keeps visitors out, and the address that lets somebody in.
func (svc *Sites) holdText(ctx context.Context, k *kind.Kind, site, address string,
	plan *provision.Plan) (text, preview string, err error) {
	hold := k.Hold
	if hold.File == "" {
		return "", "", fmt.Errorf("%w: sites of kind %s cannot be held", provision.ErrPlan, k.Title)
	}
	key, err := svc.Vault.Get(ctx, "site", site, previewSecret)
	if errors.Is(err, records.ErrNotFound) {
		key = strings.ToLower(rand.Text())
		err = svc.Vault.Put(ctx, "site", site, previewSecret, key)
	}
	if err != nil {
		return "", "", err
	}
	title := ""
	for _, v := range plan.Values {
		if v.Key == "title" {
			title = v.Value
		}
	}
	// The title stands inside a PHP string.
	title = strings.NewReplacer(`\`, "", `'`, "&#039;").Replace(html.EscapeString(title))
	return strings.NewReplacer("{key}", key, "{title}", title).Replace(hold.Text), address + "/?" + hold.Parameter + "=" + key, nil
}

// Places returns how often a release names what is replaced on each site, counted once.
func (svc *Sites) Places(ctx context.Context, r records.Release, a *archive.Archive) (*records.Places, error) {
	p, err := svc.DB.PlacesOf(ctx, r.ID)
	if err != nil || p != nil {
		return p, err
	}
	p = &records.Places{}
	if p.Counts, p.Samples, err = provision.CountPlaces(ctx, a); err != nil {
		return nil, err
	}
	return p, svc.DB.SetPlaces(ctx, r.ID, *p)
}
