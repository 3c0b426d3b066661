package sources

import (
	"context"
	"errors"
	"net/url"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/kinddraft"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/input"
)

// DraftKind proposes the definition of a kind from a folder of a host, which is only read. The database is the one at the address that
// is given, or else the one that the settings tell. Errors: input.ErrWrong, records.ErrNotFound.
func (svc *Sources) DraftKind(ctx context.Context, name string, n New) (text []byte, err error) {
	host, err := svc.DB.Host(ctx, n.Host)
	if err != nil {
		return nil, err
	}
	fsys, err := svc.Hosts.Files(ctx, host)
	if err != nil {
		return nil, input.Wrong(err)
	}
	defer fsys.Close()
	site, err := fsys.Sub(ctx, n.Path)
	if err != nil {
		return nil, input.Wrong(err)
	}
	defer site.Close()
	in := kinddraft.Input{Site: site, Name: name, Address: strings.TrimRight(n.Address, "/")}
	var servers []sitedb.Server
	defer func() {
		for _, s := range servers {
			s.Close()
		}
	}()
	open := func(address, database string) (sitedb.DB, error) {
		u, err := url.Parse(address)
		if err != nil {
			return nil, errors.New("the database address cannot be read")
		}
		if err := sitedb.Unconfirmed(u); err != nil {
			return nil, err
		}
		page := svc.Hosts.PageOf(host)
		page.Admin = false
		server, err := hosts.Database(fsys, address, page)
		if err != nil {
			return nil, err
		}
		servers = append(servers, server)
		db, err := server.Open(ctx, database)
		if err != nil {
			return nil, err
		}
		if err := bounded(ctx, db, u.User.Username(), ""); err != nil {
			db.Close()
			return nil, err
		}
		return sitedb.Guard(db), nil
	}
	in.Open = func(a kind.Access) (sitedb.DB, error) {
		address, err := sitedb.InSettings(a.Engine, a.Host, a.User, a.Password)
		if err != nil {
			return nil, err
		}
		return open(hosts.AsFound(fsys, address), a.Name)
	}
	if n.Database != "" {
		u, err := url.Parse(n.Database)
		if err != nil {
			return nil, input.Wrong(errors.New("the database address cannot be read"))
		}
		if n.Password != "" {
			u.User = url.UserPassword(u.User.Username(), n.Password)
		}
		if in.DB, err = open(u.String(), strings.Trim(u.Path, "/")); err != nil {
			return nil, input.Wrong(err)
		}
		defer in.DB.Close()
	}
	text, err = kinddraft.Propose(ctx, in)
	return text, input.Wrong(err)
}
