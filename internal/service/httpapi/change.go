package httpapi

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

// changed is the input of an operation that changes a thing by its name; what is empty stays as it is.
type changed[T any] struct {
	Named
	Put[T]
}

// orElse is what was given, or else what is there.
func orElse[T any](given *T, there T) T {
	if given == nil {
		return there
	}
	return *given
}

// changeHost changes a host once what it would be answers and holds the sites that are on it: a mistake must not
// strand them.
func (a *api) changeHost(ctx context.Context, in *changed[wire.ChangedHost]) (*body[wire.Host], error) {
	if err := owner(ctx); err != nil {
		return nil, err
	}
	host, err := a.db.Host(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	b := in.Body
	host.Files, host.WebRoot, host.Address = cmp.Or(b.Files, host.Files), cmp.Or(b.WebRoot, host.WebRoot), cmp.Or(b.Address, host.Address)
	host.Connect = orElse(b.Connect, host.Connect)
	database, password, err := splitPassword(cmp.Or(b.Database, host.Database), b.DatabasePassword)
	if err != nil {
		return nil, err
	}
	host.Database = database
	err = a.tryingPassword(ctx, "host", host.Name, password, func(tried string) error {
		if err := validHost(ctx, wire.NewHost{Files: host.Files, WebRoot: host.WebRoot, Address: host.Address}, database, tried); err != nil {
			return err
		}
		if err := a.holdsItsSites(ctx, host); err != nil {
			return err
		}
		return a.db.ChangeHost(ctx, host)
	})
	if err != nil {
		return nil, err
	}
	host.Runtimes = a.firstAsked(ctx, host)
	return single(host, a.db.Audit(ctx, who(ctx).Name, "changed host "+host.Name), hostOut)
}

// holdsItsSites says whether a host's files hold every site and source that the records place there.
func (a *api) holdsItsSites(ctx context.Context, host records.Host) error {
	fsys, err := hostfs.Open(host.Files)
	if err != nil {
		return wrong(err)
	}
	defer fsys.Close()
	all, err := a.db.Sites(ctx)
	if err != nil {
		return err
	}
	for _, s := range all {
		if s.HostID != host.ID {
			continue
		}
		if _, err := fsys.Stat(ctx, s.Folder); err != nil {
			return wrong(fmt.Errorf("site %s is not in the files at %s: %w; nothing was changed", s.Name, host.Files, err))
		}
	}
	sources, err := a.db.Sources(ctx)
	if err != nil {
		return err
	}
	for _, s := range sources {
		if s.HostID != host.ID {
			continue
		}
		if _, err := fsys.Stat(ctx, s.Path); err != nil {
			return wrong(fmt.Errorf("source %s is not in the files at %s: %w; nothing was changed", s.Name, host.Files, err))
		}
	}
	return nil
}

// tryingPassword puts a new password into the vault for as long as a change is tried, and leaves it there when the
// change is made; else the one that was there comes back. Without a new one, the one that is there is tried.
func (a *api) tryingPassword(ctx context.Context, owner, name, password string, change func(password string) error) error {
	before, err := a.Vault.Get(ctx, owner, name, "database")
	none := errors.Is(err, records.ErrNotFound)
	if err != nil && !none {
		return err
	}
	if password == "" {
		return change(before)
	}
	if err := a.Vault.Put(ctx, owner, name, "database", password); err != nil {
		return err
	}
	err = change(password)
	if err == nil {
		return nil
	}
	ctx = context.WithoutCancel(ctx)
	if none {
		return errors.Join(err, a.db.RemoveSecrets(ctx, owner, name, "database"))
	}
	return errors.Join(err, a.Vault.Put(ctx, owner, name, "database", before))
}

// changeSource changes where a source is read, once what it would be has been read. It stays of its kind, as packing
// lists are written for one.
func (a *api) changeSource(ctx context.Context, in *changed[wire.ChangedSource]) (*body[wire.Source], error) {
	s, err := a.db.Source(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	host, err := a.db.HostByID(ctx, s.HostID)
	if err != nil {
		return nil, err
	}
	b := in.Body
	database, password := s.Database, ""
	if b.Database != "" || b.DatabasePassword != "" {
		if cmp.Or(b.Database, s.Database) == "" {
			return nil, wrong(errors.New("the database is read from the site's settings file, with the password there; give the database address " +
				"with the password"))
		}
		if database, password, err = splitPassword(cmp.Or(b.Database, s.Database), b.DatabasePassword); err != nil {
			return nil, err
		}
	}
	if b.Path = cmp.Or(b.Path, s.Path); b.Path == s.Path && database == s.Database {
		b.Address = cmp.Or(b.Address, s.Address) // else it is read again
	}
	err = a.tryingPassword(ctx, "source", s.Name, password, func(string) error {
		found, err := a.identified(ctx, host, wire.NewSource{Name: s.Name, Path: b.Path, Kind: s.Kind, Address: b.Address}, database)
		if err != nil {
			return err
		}
		found.ID = s.ID
		if found.FromSite, err = a.db.SiteAt(ctx, s.HostID, b.Path); err != nil {
			return err
		}
		return a.db.ChangeSource(ctx, found)
	})
	if err == nil {
		err = a.db.Audit(ctx, who(ctx).Name, "changed source "+s.Name)
	}
	if err != nil {
		return nil, err
	}
	s, err = a.db.Source(ctx, s.Name)
	return single(s, err, sourceOut)
}

// changeStarter says which source a starter is built from.
func (a *api) changeStarter(ctx context.Context, in *changed[wire.ChangedStarter]) (*body[wire.Starter], error) {
	t, err := a.db.Starter(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	s, err := a.db.Source(ctx, in.Body.Source)
	if err != nil {
		return nil, err
	}
	if s.Kind != t.Kind {
		return nil, wrong(fmt.Errorf("source %s is %s and starter %s is made for %s; create a starter for it", s.Name, s.Kind, t.Name, t.Kind))
	}
	if err := a.db.SetStarterSource(ctx, t.Name, s.ID); err != nil {
		return nil, err
	}
	if err := a.db.Audit(ctx, who(ctx).Name, fmt.Sprintf("starter %s is built from source %s", t.Name, s.Name)); err != nil {
		return nil, err
	}
	t, err = a.db.Starter(ctx, t.Name)
	return single(t, err, starterOut)
}
