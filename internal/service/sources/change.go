package sources

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"nestseed/internal/core/check"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/vault"
)

// New is what is said of a source when it is added. Kind, database, table prefix and address are found out where they are not given.
type New struct {
	Name, Host, Path, Kind, Address, Database, Password, Prefix string
	SubSite                                                     string // of a network: the source is only that

	// Ask lets the source be asked how it reaches its database, by a page that is placed in its folder for one request.
	Ask bool
	// Confirm takes the account of the database though it may read other databases. An owner says so.
	Confirm bool
}

// Add adds a source and looks at it at once. One that is there already keeps its password, and one that cannot be added leaves
// none behind. Errors: input.ErrWrong, records.ErrTaken, records.ErrNotFound.
func (svc *Sources) Add(ctx context.Context, n New) (src records.Source, err error) {
	host, err := svc.DB.Host(ctx, n.Host)
	if err != nil {
		return src, err
	}
	if n.Ask {
		if err := svc.askConnection(ctx, host, &n); err != nil {
			return src, err
		}
	}
	database, password := "", ""
	if n.Database != "" {
		if database, password, err = hosts.SplitPassword(n.Database, n.Password); err != nil {
			return src, err
		}
	}
	err = svc.Engine.WithLock(ctx, engine.Target("source", n.Name), func(ctx context.Context) error {
		if _, err := svc.DB.Source(ctx, n.Name); err == nil {
			return fmt.Errorf("there is a source %q already: %w; choose another name", n.Name, records.ErrTaken)
		}
		if src, err = svc.identified(vault.Trying(ctx, "source", n.Name, "database", password), host, n, database, ""); err != nil {
			return err
		}
		return svc.DB.Tx(ctx, func(ctx context.Context) error {
			if src, err = svc.DB.AddSource(ctx, src); err != nil {
				return err
			}
			return svc.Hosts.Vault.Keep(ctx, "source", n.Name, map[string]string{"database": password})
		})
	})
	return src, err
}

// askConnection asks a source how it reaches its database, and takes what it tells for what was given.
func (svc *Sources) askConnection(ctx context.Context, host records.Host, n *New) error {
	if n.Address == "" {
		return input.Wrongf("say at which address the source is, so that it can be asked")
	}
	fsys, err := svc.Hosts.Files(ctx, host)
	if err != nil {
		return input.Wrong(err)
	}
	defer fsys.Close()
	all, err := svc.Kinds.Among(ctx, n.Kind)
	if err != nil {
		return input.Wrong(err)
	}
	id, err := kind.Identify(ctx, fsys, n.Path, all)
	if err != nil {
		return input.Wrong(err)
	}
	site, err := fsys.Sub(ctx, n.Path)
	if err != nil {
		return input.Wrong(err)
	}
	defer site.Close()
	told, err := check.AskConnection(ctx, id.Kind, sitepage.Spot{Folder: site, Journal: svc.Hosts.Pages(host.ID, n.Path)},
		hosts.Reach(host, strings.TrimRight(n.Address, "/")))
	if err != nil {
		return input.Wrong(err)
	}
	found, err := sitedb.InSettings(cmp.Or(told.Engine, id.Kind.Settings.Database.Engine), told.Host, told.User, told.Password)
	if err != nil {
		return input.Wrong(err)
	}
	address, err := url.Parse(hosts.AsFound(fsys, found))
	if err != nil {
		return input.Wrong(err)
	}
	address.Path = "/" + told.Name
	n.Database, n.Password, n.Prefix = address.String(), told.Password, cmp.Or(n.Prefix, told.Prefix)
	return nil
}

// Change is what becomes of a source; what is empty stays as it is.
type Change struct {
	Path, Address, Database, Password, Prefix, SubSite string
	Confirm                                            bool // as in New
}

// Change changes where a source is read, once what it would be has been read. It stays of its kind, as packing lists are
// written for one. Errors: input.ErrWrong, records.ErrNotFound, engine.ErrBusy.
func (svc *Sources) Change(ctx context.Context, name string, to Change) (src records.Source, err error) {
	err = svc.Engine.WithLock(ctx, engine.Target("source", name), func(ctx context.Context) error {
		s, err := svc.DB.Source(ctx, name)
		if err != nil {
			return err
		}
		host, err := svc.DB.HostByID(ctx, s.HostID)
		if err != nil {
			return err
		}
		database, password := s.Database, ""
		if to.Database != "" || to.Password != "" {
			if cmp.Or(to.Database, s.Database) == "" {
				return input.Wrong(errors.New("the database is read from the site's settings file, with the password there; give the database " +
					"address with the password"))
			}
			if database, password, err = hosts.SplitPassword(cmp.Or(to.Database, s.Database), to.Password); err != nil {
				return err
			}
		}
		n := New{Name: s.Name, Path: cmp.Or(to.Path, s.Path), Kind: s.Kind, Address: to.Address, Prefix: cmp.Or(to.Prefix, s.Prefix),
			SubSite: cmp.Or(to.SubSite, s.SubSite), Confirm: to.Confirm}
		if n.Path == s.Path && database == s.Database && n.SubSite == s.SubSite {
			n.Address = cmp.Or(to.Address, s.Address) // else it is read again
		}
		found, err := svc.identified(vault.Trying(ctx, "source", s.Name, "database", password), host, n, database, s.Account)
		if err != nil {
			return err
		}
		found.ID = s.ID
		return svc.DB.Tx(ctx, func(ctx context.Context) error {
			if err := svc.DB.ChangeSource(ctx, found); err != nil {
				return err
			}
			return svc.Hosts.Vault.Keep(ctx, "source", s.Name, map[string]string{"database": password})
		})
	})
	if err != nil {
		return src, err
	}
	return svc.DB.Source(ctx, name)
}

// Remove removes a source that no starter uses, and its password; the site itself is not touched. Errors: records.ErrInUse,
// records.ErrNotFound, engine.ErrBusy.
func (svc *Sources) Remove(ctx context.Context, name string) error {
	return svc.Engine.WithLock(ctx, engine.Target("source", name), func(ctx context.Context) error {
		if err := svc.DB.RemoveSource(ctx, name); err != nil {
			return err
		}
		return svc.DB.RemoveSecrets(ctx, "source", name)
	})
}

// AlsoFit names the sources of other kinds that the signs of a kind fit, too. Hosts that do not answer are passed over.
func (svc *Sources) AlsoFit(ctx context.Context, k *kind.Kind) (names []string, err error) {
	all, err := svc.DB.Sources(ctx)
	for _, src := range all {
		if src.Kind == k.Name {
			continue
		}
		h, err := svc.DB.HostByID(ctx, src.HostID)
		if err != nil {
			return nil, err
		}
		if fsys, err := svc.Hosts.Files(ctx, h); err == nil {
			if k.In(ctx, fsys, src.Path) {
				names = append(names, src.Name)
			}
			fsys.Close()
		}
	}
	return names, err
}

// identified finds out what a source is.
func (svc *Sources) identified(ctx context.Context, host records.Host, n New, database, account string) (src records.Source, err error) {
	if n.Confirm {
		account = AnyAccount
	}
	src = records.Source{Name: n.Name, Path: n.Path, Kind: n.Kind, Database: database, Prefix: n.Prefix, SubSite: n.SubSite, Account: account}
	open, err := svc.OpenAt(ctx, host, src)
	if below := (*kind.BelowError)(nil); errors.As(err, &below) {
		// A folder above the site was given: the site is what people mean.
		n.Path = below.Path
		src.Path = n.Path
		open, err = svc.OpenAt(ctx, host, src)
	}
	if err != nil {
		return src, input.Wrong(err)
	}
	defer open.Close()
	n.Address = strings.TrimRight(n.Address, "/")
	if n.Address == "" {
		all, err := survey.Addresses(ctx, open.DB, open.Identity)
		if err != nil {
			return src, input.Wrong(err)
		}
		n.Address = all[0]
	}
	src = records.Source{Name: n.Name, HostID: host.ID, Path: n.Path, Kind: open.Identity.Kind.Name, Version: open.Identity.Version,
		Address: n.Address, Database: database, Prefix: n.Prefix, Network: len(open.Identity.SubSites) > 0, SubSite: n.SubSite,
		Account: account}
	if n.Confirm {
		src.Account = open.account
	}
	src.FromSite, err = svc.DB.SiteAt(ctx, host.ID, n.Path)
	return src, err
}
