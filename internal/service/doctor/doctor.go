// Package doctor compares what the records say with what is on the hosts.
//
//	report, err := (&doctor.Doctor{DB: db, Hosts: hosts}).Look(ctx)
//
// It gathers; what must hold is in package invariants. It changes nothing.
package doctor

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/invariants"
	"nestseed/internal/service/records"
)

// Doctor looks at hosts.
type Doctor struct {
	DB    *records.DB
	Hosts *hosts.Hosts
}

// Report is what was found.
type Report struct {
	Hosts     []string // that were looked at
	Unreached []string // why others were not, in sentences
	Things    int      // how many folders, databases and accounts the records name
	Faults    []invariants.Fault
}

// Look compares the records with all hosts. A run that seems to stand still is looked at once more after a takeover could have come.
func (d *Doctor) Look(ctx context.Context) (*Report, error) {
	view, out := invariants.View{}, &Report{}
	if err := d.believed(ctx, &view); err != nil {
		return nil, err
	}
	out.Things = len(view.Must)
	all, err := d.DB.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	unreached := map[string]bool{}
	for _, h := range all {
		if err := d.lookAt(ctx, h, &view); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			unreached[h.Name] = true
			out.Unreached = append(out.Unreached, fmt.Sprintf("host %s: %v", h.Name, err))
			continue
		}
		out.Hosts = append(out.Hosts, h.Name)
	}
	view.Must = slices.DeleteFunc(view.Must, func(t invariants.Thing) bool { return unreached[t.Host] })
	d.share(all, &view)
	if view.Runs, err = d.DB.OpenRuns(ctx); err != nil {
		return nil, err
	}
	if len(invariants.Check(invariants.View{Runs: view.Runs})) > 0 {
		select {
		case <-time.After(2 * records.LeaseFor):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		if view.Runs, err = d.DB.OpenRuns(ctx); err != nil {
			return nil, err
		}
	}
	out.Faults = invariants.Check(view)
	return out, nil
}

// believed gathers what the records and the journals of open runs name.
func (d *Doctor) believed(ctx context.Context, v *invariants.View) error {
	sites, err := d.DB.Sites(ctx)
	if err != nil {
		return err
	}
	names := map[int64]string{}
	hostsByID, err := d.DB.Hosts(ctx)
	if err != nil {
		return err
	}
	for _, h := range hostsByID {
		names[h.ID] = h.Name
	}
	must := func(host, by, engine, folder, database, user string) {
		v.Must = append(v.Must, invariants.Thing{Host: host, What: "folder", Name: folder, By: by})
		if database != "" && (engine == "" || sitedb.HasAccounts(engine)) {
			v.Must = append(v.Must, invariants.Thing{Host: host, What: "database", Name: database, By: by},
				invariants.Thing{Host: host, What: "user", Name: user, By: by})
		}
	}
	for _, s := range sites {
		must(s.Host, "site "+s.Name, s.Plan.Engine, s.Folder, s.Database, s.DBUser)
		copies, err := d.DB.SiteCopies(ctx, s.ID)
		if err != nil {
			return err
		}
		for _, c := range copies {
			if c.Archive != "" {
				continue
			}
			host := s.Host
			if c.HostID != nil {
				host = names[*c.HostID]
			}
			by := fmt.Sprintf("safety copy %d of site %s", c.ID, s.Name)
			if c.DBUser == s.DBUser && c.Database == s.Database {
				must(host, by, "none", c.Folder, "", "") // of code alone: the database is the site's
				continue
			}
			must(host, by, s.Plan.Engine, c.Folder, c.Database, c.DBUser)
		}
	}
	pages, err := d.DB.Pages(ctx, false)
	if err != nil {
		return err
	}
	for _, p := range pages {
		v.May = append(v.May, invariants.Thing{Host: names[p.HostID], What: "page", Name: path.Join(p.Folder, p.Name),
			By: "the journal of pages"})
	}
	open, err := d.DB.OpenJournals(ctx)
	if err != nil {
		return err
	}
	for run, made := range open {
		for _, m := range made {
			v.May = append(v.May, may(run, m, names)...)
		}
	}
	return nil
}

// may is what an entry of a run's journal names, on the host that it tells, or on any.
func may(run int64, m provision.Made, names map[int64]string) (out []invariants.Thing) {
	what := m.What
	if what == "staging" {
		what = "folder"
	}
	number, _, _ := strings.Cut(m.Where, "/")
	id, err := strconv.ParseInt(number, 10, 64)
	for host, name := range names {
		if err != nil || host == id {
			for _, called := range m.Names() {
				out = append(out, invariants.Thing{Host: name, What: what, Name: called, ID: m.ID, By: fmt.Sprintf("run %d", run)})
			}
		}
	}
	return out
}

// lookAt looks at a host: at what the records name there, and for what bears the mark of this service.
func (d *Doctor) lookAt(ctx context.Context, h records.Host, v *invariants.View) error {
	fsys, err := d.Hosts.Files(ctx, h)
	if err != nil {
		return err
	}
	defer fsys.Close()
	folders := map[string]bool{path.Dir(strings.SplitN(h.WebRoot, "{", 2)[0] + "x"): true}
	engines := map[string]bool{}
	for _, m := range v.Must {
		switch {
		case m.Host != h.Name:
		case m.What == "folder":
			folders[path.Dir(m.Name)] = true
			if _, err := fsys.Stat(ctx, m.Name); err == nil {
				v.There = append(v.There, invariants.Thing{Host: h.Name, What: "folder", Name: m.Name})
			} else if !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	for folder := range folders {
		if err := marked(ctx, fsys, h.Name, folder, v); err != nil {
			return err
		}
	}
	if err := d.pagesOn(ctx, h, fsys, v); err != nil {
		return err
	}
	for address := range strings.FieldsSeq(h.Database) {
		scheme, _, _ := strings.Cut(address, ":")
		engines[scheme] = true
	}
	for engine := range engines {
		if err := d.onServer(ctx, h, engine, v); err != nil {
			return err
		}
	}
	return nil
}

// pagesOn finds pages of this service in the folders of a host's sites and sources.
func (d *Doctor) pagesOn(ctx context.Context, h records.Host, fsys hostfs.FS, v *invariants.View) error {
	folders := map[string]bool{d.Hosts.PageOf(h).Folder: true}
	sources, err := d.DB.Sources(ctx)
	if err != nil {
		return err
	}
	for _, s := range sources {
		if s.HostID == h.ID {
			folders[path.Clean(s.Path)] = true
		}
	}
	for _, m := range v.Must {
		if m.Host == h.Name && m.What == "folder" {
			folders[path.Clean(m.Name)] = true
		}
	}
	for folder := range folders {
		entries, err := fsys.List(ctx, folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, e := range entries {
			if sitepage.Is(path.Base(e.Path)) {
				v.There = append(v.There, invariants.Thing{Host: h.Name, What: "page", Name: path.Join(folder, path.Base(e.Path))})
			}
		}
	}
	return nil
}

// marked finds what lies in a folder under a name that only this service gives.
func marked(ctx context.Context, fsys hostfs.FS, host, folder string, v *invariants.View) error {
	entries, err := fsys.List(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		known := slices.ContainsFunc(v.There, func(t invariants.Thing) bool { return t.Host == host && t.What == "folder" && t.Name == e.Path })
		if strings.Contains(path.Base(e.Path), ".nestseed-") && !known {
			v.There = append(v.There, invariants.Thing{Host: host, What: "folder", Name: e.Path})
		}
	}
	return err
}

// onServer finds the databases and accounts on a server that bear the mark of this service, and those that the records name.
func (d *Doctor) onServer(ctx context.Context, h records.Host, engine string, v *invariants.View) error {
	fsys, server, err := d.Hosts.Open(ctx, h, engine)
	if err != nil {
		return err
	}
	defer fsys.Close()
	defer server.Close()
	there := map[[2]string]bool{}
	if l, can := server.(sitedb.Lister); can {
		databases, users, err := l.Named(ctx, provision.NamePrefix)
		if err != nil {
			return err
		}
		for _, name := range databases {
			there[[2]string{"database", name}] = true
		}
		for _, name := range users {
			there[[2]string{"user", name}] = true
		}
	}
	for _, m := range v.Must {
		if m.Host != h.Name || m.What == "folder" || there[[2]string{m.What, m.Name}] {
			continue
		}
		ask := server.DatabaseExists
		if m.What == "user" {
			ask = server.UserExists
			if _, given := server.(sitedb.Giver); given {
				ask = func(context.Context, string) (bool, error) { return true, nil } // whoever has made it sees to that
			}
		}
		is, err := ask(ctx, m.Name)
		if err != nil {
			return err
		}
		if is {
			there[[2]string{m.What, m.Name}] = true
		}
	}
	for t := range there {
		v.There = append(v.There, invariants.Thing{Host: h.Name, What: t[0], Name: t[1]})
	}
	return nil
}

// share makes one host of those that have the same files, and of those that have the same database servers: what is on one is on all.
func (d *Doctor) share(all []records.Host, v *invariants.View) {
	first := map[string]string{}
	for _, h := range all {
		files, _, _ := strings.Cut(h.Files, "?")
		for _, place := range []string{"folder " + files, "database " + h.Database} {
			if first[place] == "" {
				first[place] = h.Name
			}
		}
	}
	of := map[string]records.Host{}
	for _, h := range all {
		of[h.Name] = h
	}
	for _, things := range [][]invariants.Thing{v.Must, v.May, v.There} {
		for i := range things {
			h := of[things[i].Host]
			files, _, _ := strings.Cut(h.Files, "?")
			place := "database " + h.Database
			if things[i].What == "folder" {
				place = "folder " + files
			}
			things[i].Host = first[place]
		}
	}
}
