package sites

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// toRemove notes in a run's journal what is to be removed from a host. Once it is there it is removed, however often that
// takes, though no record of a site may name it any more.
func (svc *Sites) toRemove(ctx context.Context, run engine.Run, hostID int64, sqlEngine, folder, database, user string) error {
	where := whereOn(hostID, sqlEngine)
	goes := []provision.Made{{What: "folder", Name: folder, Where: where}}
	if sqlEngine == "" || sitedb.HasAccounts(sqlEngine) { // else it is a file in the folder
		goes = append(goes, provision.Made{What: "user", Name: user, Where: where},
			provision.Made{What: "database", Name: database, Where: where})
	}
	return svc.note(ctx, run, goes)
}

// note adds to a run's journal what is to be removed, with what tells it from others of its name, unless it is there.
func (svc *Sites) note(ctx context.Context, run engine.Run, goes []provision.Made) error {
	there, err := svc.DB.Made(ctx, run.ID)
	if err != nil {
		return err
	}
	var fresh []provision.Made
	for _, m := range goes {
		noted := func(t provision.Made) bool { return t.What == m.What && t.Name == m.Name && t.Where == m.Where }
		if m.Name != "" && !slices.ContainsFunc(there, noted) {
			fresh = append(fresh, m)
		}
	}
	for len(fresh) > 0 { // those on one host and server together
		where := fresh[0].Where
		err := svc.on(ctx, where, func(fsys hostfs.FS, server sitedb.Server) error {
			for _, m := range fresh {
				if m.Where != where {
					continue
				}
				if m.ID, err = idOf(ctx, fsys, server, m); err != nil {
					return err
				}
				if err := svc.DB.AddMade(ctx, run.ID, m); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		fresh = slices.DeleteFunc(fresh, func(m provision.Made) bool { return m.Where == where })
	}
	return nil
}

// gone is the identity of what is not there.
const gone = "gone"

// idOf is what tells something on a host from others that may have its name; "" where names are used once.
func idOf(ctx context.Context, fsys hostfs.FS, server sitedb.Server, m provision.Made) (string, error) {
	switch g, given := server.(sitedb.Giver); {
	case m.What == "database" && given:
		return g.Adopt(ctx, m.Name)
	case m.What == "folder":
		id, err := fsys.ID(ctx, m.Name)
		if errors.Is(err, fs.ErrNotExist) {
			return gone, nil
		}
		return id, err
	}
	return "", nil
}

// whereOn is what a journal calls a host and its database server of an engine.
func whereOn(hostID int64, sqlEngine string) string {
	where := strconv.FormatInt(hostID, 10)
	if sqlEngine != "" {
		where += "/" + sqlEngine
	}
	return where
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
	return svc.on(ctx, where, func(fsys hostfs.FS, server sitedb.Server) error {
		return provision.Undo(ctx, fsys, server, made, svc.DB.Claimed)
	})
}

// RemoveLate removes what attempts have made after they were overtaken and their runs were cleaned up: names that only they can have used.
func (svc *Sites) RemoveLate(ctx context.Context) error {
	late, err := svc.DB.LateMade(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, l := range late {
		err := svc.on(ctx, l.Made.Where, func(fsys hostfs.FS, server sitedb.Server) error {
			return provision.UndoOwn(ctx, fsys, server, []provision.Made{l.Made})
		})
		if err == nil {
			err = svc.DB.LookedFor(ctx, l.ID)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// on opens the host and server that a journal's entry is about.
func (svc *Sites) on(ctx context.Context, where string, do func(fsys hostfs.FS, server sitedb.Server) error) error {
	number, sqlEngine, _ := strings.Cut(where, "/")
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return fmt.Errorf("the journal names no host: %q", where)
	}
	fsys, server, err := svc.Hosts.OpenByID(ctx, id, sqlEngine)
	if err != nil {
		return err
	}
	defer fsys.Close()
	defer server.Close()
	return do(fsys, server)
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
	if err := svc.toRemove(ctx, run, o.HostID, o.Plan.Engine, o.Folder, o.Database, o.DBUser); err != nil {
		return err
	}
	if err := svc.doorsToRemove(ctx, run, o, copies); err != nil {
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
		if err := svc.toRemove(ctx, run, host, o.Plan.Engine, c.Folder, c.Database, c.DBUser); err != nil {
			return err
		}
	}
	if err := svc.dropScreenshots(ctx, o.ID, func(string) bool { return true }); err != nil {
		return err
	}
	err = svc.DB.Tx(ctx, func(ctx context.Context) error {
		for _, c := range copies {
			if c.Archive == "" {
				if err := svc.DB.RemoveSiteCopy(ctx, c.ID); err != nil {
					return err
				}
			}
		}
		if err := end(ctx, o.Site); err != nil {
			return err
		}
		return svc.DB.RemoveSecrets(ctx, "site", o.Name)
	})
	if err != nil {
		return err
	}
	return svc.cleanUp(ctx, run)
}
