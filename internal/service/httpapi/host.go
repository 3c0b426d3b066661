package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/provision"
	_ "nestseed/internal/core/sitedb/engines"
	"nestseed/internal/service/doctor"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func hostOut(h records.Host) wire.Host {
	return wire.Host{Room: as[*wire.Room](h.Room),
		Name: h.Name, Files: h.Files, WebRoot: h.WebRoot, Address: h.Address, Database: h.Database, Connect: h.Connect,
		Runtimes: runtimesOut(h.Runtimes), HostKey: hostfs.Fingerprint(h.HostKey)}
}

func runtimesOut(runtimes []provision.Runtime) []wire.Runtime {
	out := make([]wire.Runtime, len(runtimes))
	for i, r := range runtimes {
		out[i] = wire.Runtime{Name: r.Name, Version: r.Version, Parts: r.Parts, AskedAt: r.AskedAt, Account: r.Account, Folder: r.Folder,
			Clock: r.Clock, Unreadable: r.Unreadable, Writes: string(r.Writes), Stays: r.Stays, Apart: r.Apart}
	}
	return out
}

func (a *api) hostOperations(h huma.API) {
	operation(h, "GET", "/doctor/hosts", "examine-hosts", "Compare what the records say with what is on the hosts; nothing is touched",
		func(ctx context.Context, _ *struct{}) (*body[wire.HostsReport], error) {
			r, err := (&doctor.Doctor{DB: a.db, Hosts: a.Hosts}).Look(ctx)
			if err != nil {
				return nil, err
			}
			out := wire.HostsReport{Hosts: append([]string{}, r.Hosts...), Unreached: append([]string{}, r.Unreached...), Things: r.Things,
				Faults: []wire.HostsFault{}}
			for _, f := range r.Faults {
				out.Faults = append(out.Faults, wire.HostsFault{Sentence: f.Sentence, Remedy: f.Remedy, Run: f.Run})
			}
			return &body[wire.HostsReport]{out}, nil
		})
	operation(h, "GET", "/hosts", "list-hosts", "List hosts", func(ctx context.Context, _ *nothing) (*body[[]wire.Host], error) {
		hosts, err := a.db.Hosts(ctx)
		return list(hosts, err, hostOut)
	})
	operation(h, "GET", "/hosts/{name}", "show-host", "Show a host", func(ctx context.Context, in *Named) (*body[wire.Host], error) {
		host, err := a.db.Host(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		uses, err := a.db.HostUses(ctx)
		return single(host, err, func(h records.Host) wire.Host {
			out := hostOut(h)
			u := uses[h.ID]
			out.Use = &wire.HostUse{Sites: u.Sites, Bytes: u.Bytes, Largest: u.Largest}
			return out
		})
	})
	// A host opens a part of this machine, or of another, to everyone who builds.
	operation(h, "POST", "/hosts", "add-host", "Add a host", func(ctx context.Context, in *Put[wire.NewHost]) (*body[wire.Host], error) {
		if err := owner(ctx); err != nil {
			return nil, err
		}
		host, err := a.addHost(ctx, &in.Body)
		return single(host, err, hostOut)
	})
	operation(h, "PATCH", "/hosts/{name}", "change-host", "Change a host; what is not given stays",
		func(ctx context.Context, in *changed[wire.ChangedHost]) (*body[wire.Host], error) {
			if err := owner(ctx); err != nil {
				return nil, err
			}
			b := in.Body
			host, err := a.Hosts.Change(ctx, in.Name, hosts.Change{Files: b.Files, WebRoot: b.WebRoot, Address: b.Address, Database: b.Database,
				Secrets:    hosts.Secrets{Database: b.DatabasePassword, Files: b.FilesPassword, Key: b.FilesKey},
				NewHostKey: b.NewHostKey, Connect: b.Connect})
			if err == nil {
				err = a.db.Audit(ctx, who(ctx).Name, "changed host "+host.Name)
			}
			return single(host, err, hostOut)
		})
	operation(h, "POST", "/hosts/{name}/test", "test-host", "Test a host", func(ctx context.Context, in *Named) (*body[wire.HostTest], error) {
		t, err := a.Hosts.Test(ctx, in.Name)
		return single(t, err, func(t hosts.Test) wire.HostTest {
			return wire.HostTest{Steps: as[[]wire.Check](t.Steps), Runtimes: runtimesOut(t.Runtimes), Files: t.Files}
		})
	})
	operation(h, "GET", "/hosts/{name}/folders", "list-folders", "List the folders in a folder of a host's files, and which look like a site",
		func(ctx context.Context, in *struct {
			Named
			Path string `query:"path" maxLength:"4000" doc:"relative to the host's files; empty for those themselves"`
		}) (*body[wire.Folders], error) {
			if err := builder(ctx); err != nil {
				return nil, err
			}
			folders, more, err := a.Hosts.Folders(ctx, in.Name, in.Path)
			return &body[wire.Folders]{wire.Folders{Folders: filled(as[[]wire.Folder](folders)), More: more}}, err
		})
	operation(h, "DELETE", "/hosts/{name}", "remove-host", "Remove a host", func(ctx context.Context, in *Named) (*nothing, error) {
		if err := owner(ctx); err != nil {
			return nil, err
		}
		return nil, a.Hosts.Remove(ctx, in.Name)
	})
}

func (a *api) addHost(ctx context.Context, b *wire.NewHost) (records.Host, error) {
	return a.Hosts.Add(ctx, records.Host{Name: b.Name, Files: b.Files, WebRoot: b.WebRoot, Address: b.Address, Database: b.Database,
		Connect: b.Connect}, hosts.Secrets{Database: b.DatabasePassword, Files: b.FilesPassword, Key: b.FilesKey})
}
