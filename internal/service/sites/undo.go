package sites

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

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
			if err := svc.proveCopy(ctx, s, c); err != nil {
				return nil, err
			}
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
			if err := svc.proveCopy(ctx, s, c); err != nil {
				return nil, err
			}
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
		fsys, server, err := svc.Hosts.Open(ctx, h, s.Plan.Engine)
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
	if args.CopyID != 0 && !gone && !run.Committed {
		if err := svc.proveCopy(ctx, s, c); err != nil {
			return nil, err
		}
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
		err = svc.DB.Tx(ctx, func(ctx context.Context) error {
			if err := svc.DB.PutBackSite(ctx, c); err != nil {
				return err
			}
			return svc.restoreSecrets(ctx, s.Name, args.RunID)
		})
		if err != nil {
			return nil, err
		}
	}
	report.Step("Remove what was made since", progress.Amount{})
	host := s.HostID
	if args.HostID != 0 {
		host = args.HostID
	}
	doors, err := svc.doorsOf(ctx, o, args.CodeID, args.Address, func(records.Sharing) bool { return false })
	if err == nil {
		err = svc.note(ctx, run, doors)
	}
	folder := args.Folder
	if args.CopyID != 0 && args.HostID == 0 {
		folder = "" // exchangeBack has noted it
	}
	if err == nil {
		err = svc.toRemove(ctx, run, host, s.Plan.Engine, folder, args.Database, args.User)
	}
	if err != nil {
		return nil, err
	}
	return map[string]string{"site": s.Name}, svc.cleanUp(ctx, run)
}

// proveCopy looks whether all that a safety copy says is there: its folder, and its database for its account. Nothing is removed for a
// copy of which a part is missing. Errors: provision.ErrPlan.
func (svc *Sites) proveCopy(ctx context.Context, s records.Site, c records.SiteCopy) error {
	host := s.HostID
	if c.HostID != nil {
		host = *c.HostID
	}
	fsys, server, err := svc.Hosts.OpenByID(ctx, host, s.Plan.Engine)
	if err != nil {
		return err
	}
	defer fsys.Close()
	defer server.Close()
	missing := func(what string) error {
		return fmt.Errorf("%w: the safety copy of %s cannot come back: %s. Site %s stays as it is", provision.ErrPlan,
			c.MadeAt.Format("2 January 2006, 15:04"), what, s.Name)
	}
	if c.Why == records.CopyReplaced && (host != s.HostID || !strings.HasPrefix(c.Folder, provision.Beside(s.Folder, ""))) {
		return missing("the site has moved to another place since; move it back first")
	}
	if e, err := fsys.Stat(ctx, c.Folder); errors.Is(err, fs.ErrNotExist) || err == nil && !e.Mode.IsDir() {
		return missing("its folder " + path.Join(fsys.Root(), c.Folder) + " is not there")
	} else if err != nil {
		return err
	}
	if c.Database == "" || s.Plan.Engine != "" && !sitedb.HasAccounts(s.Plan.Engine) {
		return nil
	}
	password, err := svc.Vault.Get(ctx, "site", s.Name, secretOfRun("database", c.RunID))
	if errors.Is(err, records.ErrNotFound) {
		password, err = svc.Vault.Get(ctx, "site", s.Name, "database")
	}
	if err != nil {
		return err
	}
	if _, err := server.Version(ctx); err != nil {
		return err
	}
	db, err := server.OpenAs(ctx, c.Database, c.DBUser, password)
	if err != nil {
		return missing(fmt.Sprintf("database %s does not open for its account %s (%v)", c.Database, c.DBUser, err))
	}
	defer db.Close()
	tables, err := db.Tables(ctx)
	if err != nil || len(tables) == 0 {
		return missing(fmt.Sprintf("database %s has no tables for its account %s", c.Database, c.DBUser))
	}
	return nil
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

// exchangeBack makes the old folder the site's again, unless this run has done so before it was interrupted, and notes the folder that
// was there to be removed. The safety copy gets a name of this attempt's own first: one that was overtaken finds it no more, and moves
// nothing once this one has gone on.
func (svc *Sites) exchangeBack(ctx context.Context, run engine.Run, o *openSite, c records.SiteCopy) error {
	id, err := svc.identity(ctx, run, o.fs, c.Folder)
	if err != nil {
		return err
	}
	made, err := svc.DB.Made(ctx, run.ID)
	if err != nil {
		return err
	}
	names := []string{c.Folder} // that the safety copy may have
	for _, m := range made {
		if m.What == "folder" {
			if err := hostfs.Settle(ctx, o.fs, o.Folder, m.Name); err != nil {
				return err
			}
			names = append(names, m.Name)
		}
	}
	now, err := o.fs.ID(ctx, o.Folder)
	if err != nil || now == id {
		return err
	}
	at := slices.IndexFunc(names, func(name string) bool {
		there, err := o.fs.ID(ctx, name)
		return err == nil && there == id
	})
	if at < 0 {
		return fmt.Errorf("what is in %s is not the safety copy any more", path.Join(o.fs.Root(), c.Folder))
	}
	back := provision.Beside(o.Folder, "back-"+run.Token())
	m := provision.Made{What: "folder", Name: back, ID: now, Where: whereOn(o.HostID, o.Plan.Engine)}
	if err := errors.Join(svc.DB.AddMade(ctx, run.ID, m), svc.Engine.Still(ctx)); err != nil {
		return err
	}
	if err := o.fs.Rename(ctx, names[at], back); err != nil {
		return err
	}
	return hostfs.Exchange(ctx, o.fs, o.Folder, back)
}
