// Package network is about sites that are networks: several sites, their sub-sites, in one folder and one database. Read tells which there
// are, so that the whole can be packed and made again; Alone shows one of them as if it were a site of its own.
//
//	if err := network.Read(ctx, db, identity); err != nil { … }        // identity.SubSites
//	fsys, db, err := network.Alone(ctx, fsys, "branches", db, identity, "drums.school.example")
package network

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitevalue"
)

// Read finds out which sub-sites a site has that is a network; of any other it does nothing. Errors: kind.ErrCannotRead.
func Read(ctx context.Context, db sitedb.Reader, id *kind.Identity) error {
	if !id.IsNetwork() {
		return nil
	}
	n := id.Kind.Network
	var all []kind.SubSite
	err := sitedb.EachRow(ctx, db, id.Prefix+n.Sites.Table, []string{n.Sites.ID, n.Sites.Host, n.Sites.Path}, func(row [][]byte) error {
		number, err := strconv.ParseInt(string(row[0]), 10, 32)
		if err != nil || number < 1 || len(all) == archive.MostSubSites {
			return fmt.Errorf("%w: its table of sub-sites has more than %d of them, or a number that is none: %q", kind.ErrCannotRead,
				archive.MostSubSites, row[0])
		}
		all = append(all, kind.SubSite{ID: strconv.FormatInt(number, 10), Address: "http://" + string(row[1]) + string(row[2])})
		return nil
	})
	if err != nil {
		return fmt.Errorf("read the sub-sites of the network: %w", err)
	}
	main := Main(id)
	for i := range all {
		if err := complete(ctx, db, id, &all[i], main); err != nil {
			return err
		}
	}
	slices.SortFunc(all, func(a, b kind.SubSite) int {
		return cmp.Or(cmp.Compare(len(a.ID), len(b.ID)), strings.Compare(a.ID, b.ID))
	})
	if !slices.ContainsFunc(all, func(s kind.SubSite) bool { return s.ID == main }) {
		return fmt.Errorf("%w: it is a network, and its main sub-site %s is not in table %s", kind.ErrCannotRead, main, id.Prefix+n.Sites.Table)
	}
	id.SubSites = all
	id.Kind = id.Kind.OfNetwork(all)
	return nil
}

// complete adds what a sub-site says of itself.
func complete(ctx context.Context, db sitedb.Reader, id *kind.Identity, s *kind.SubSite, main string) error {
	site := sitevalue.Site{Kind: id.Kind, Prefix: id.Prefix, DB: db}
	if s.Main = s.ID == main; !s.Main {
		site.Prefix += id.Kind.Network.Before(s.ID)
	}
	for _, v := range slices.Backward(id.Kind.Address) {
		if address, found, err := site.Get(ctx, v); err != nil && !errors.Is(err, sitevalue.ErrInside) {
			return fmt.Errorf("%w: sub-site %s of the network has no tables that can be read: %w", kind.ErrCannotRead, s.Address, err)
		} else if found && address != "" {
			s.Address = address
		}
	}
	s.Address = strings.TrimRight(s.Address, "/")
	var err error
	s.Title, err = site.Title(ctx)
	return err
}

// Main returns the number of the main sub-site, whose tables have none in their names.
func Main(id *kind.Identity) string {
	if n, err := id.Settings.Get(id.Kind.Network.Main); err == nil && n != "" {
		return n
	}
	return "1"
}

// Find returns the sub-site that somebody means: by its number, its host name, its address, or the name of its folder. Errors:
// kind.ErrCannotRead, with those that there are.
func Find(all []kind.SubSite, name string) (kind.SubSite, error) {
	name = strings.TrimRight(name, "/")
	var names []string
	for _, s := range all {
		u, err := url.Parse(s.Address)
		if err != nil {
			continue
		}
		short := cmp.Or(strings.Trim(u.Path, "/"), u.Hostname())
		if slices.Contains([]string{s.ID, s.Address, u.Host, u.Hostname(), u.Host + u.Path, u.Hostname() + u.Path}, name) && (u.Path == "" ||
			name != u.Host && name != u.Hostname()) || name == short {
			return s, nil
		}
		names = append(names, short)
	}
	if len(names) == 0 {
		return kind.SubSite{}, fmt.Errorf("%w: it is no network, so it has no sub-site %q", kind.ErrCannotRead, name)
	}
	return kind.SubSite{}, fmt.Errorf("%w: the network has no sub-site %q; it has %s", kind.ErrCannotRead, name, strings.Join(names, ", "))
}
