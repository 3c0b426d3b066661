package httpapi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
	_ "nestseed/internal/core/sitedb/engines"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func hostOut(h records.Host) wire.Host {
	return wire.Host{Name: h.Name, Files: h.Files, WebRoot: h.WebRoot, Address: h.Address, Database: h.Database, Connect: h.Connect,
		Runtimes: runtimesOut(h.Runtimes)}
}

func runtimesOut(runtimes []provision.Runtime) []wire.Runtime {
	out := make([]wire.Runtime, len(runtimes))
	for i, r := range runtimes {
		out[i] = wire.Runtime(r)
	}
	return out
}

// splitPassword takes the password out of a database address; one given beside it counts more.
func splitPassword(address, beside string) (without, password string, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme == "" {
		return "", "", wrong(errors.New("the database address cannot be read; write it like mysql://admin@127.0.0.1:3306/"))
	}
	password, _ = u.User.Password()
	if beside != "" {
		password = beside
	}
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	return u.String(), password, nil
}

// validHost opens a host's files and server once, so that a mistake shows when it is made.
func validHost(ctx context.Context, h wire.NewHost, database, password string) error {
	if !strings.Contains(h.WebRoot, "{name}") && !strings.Contains(h.WebRoot, "{host}") {
		return wrong(fmt.Errorf("web root %q has neither {name} nor {host}; every site needs a folder of its own, like {name}", h.WebRoot))
	}
	if _, err := rewrite.ParseAddress(strings.ReplaceAll(h.Address, "{name}", "x")); err != nil || !strings.Contains(h.Address, "{name}") {
		return wrong(fmt.Errorf("address %q should be a site's address with {name} in it, like https://{name}.preview.example", h.Address))
	}
	fsys, err := hostfs.Open(h.Files)
	if err != nil {
		return wrong(err)
	}
	defer fsys.Close()
	u, err := url.Parse(database)
	if err != nil {
		return wrong(err)
	}
	if password != "" {
		u.User = url.UserPassword(u.User.Username(), password)
	}
	server, err := sitedb.Connect(u.String())
	if err != nil {
		return wrong(err)
	}
	defer server.Close()
	_, err = server.Version(ctx)
	return wrong(err)
}

func (a *api) hostOperations(h huma.API) {
	operation(h, "GET", "/hosts", "list-hosts", "List hosts", func(ctx context.Context, _ *nothing) (*body[[]wire.Host], error) {
		hosts, err := a.db.Hosts(ctx)
		return list(hosts, err, hostOut)
	})
	operation(h, "GET", "/hosts/{name}", "show-host", "Show a host", func(ctx context.Context, in *Named) (*body[wire.Host], error) {
		host, err := a.db.Host(ctx, in.Name)
		return single(host, err, hostOut)
	})
	operation(h, "POST", "/hosts", "add-host", "Add a host", func(ctx context.Context, in *Put[wire.NewHost]) (*body[wire.Host], error) {
		// A host opens a part of this machine, or of another, to everyone who builds.
		if err := owner(ctx); err != nil {
			return nil, err
		}
		database, password, err := splitPassword(in.Body.Database, in.Body.DatabasePassword)
		if err != nil {
			return nil, err
		}
		if err := validHost(ctx, in.Body, database, password); err != nil {
			return nil, err
		}
		b := in.Body
		host, err := a.db.AddHost(ctx, records.Host{Name: b.Name, Files: b.Files, WebRoot: b.WebRoot, Address: b.Address, Database: database,
			Connect: b.Connect})
		if err == nil && password != "" {
			err = a.Vault.Put(ctx, "host", b.Name, "database", password)
		}
		if err == nil {
			host.Runtimes = a.firstAsked(ctx, host)
		}
		return single(host, err, hostOut)
	})
	operation(h, "PATCH", "/hosts/{name}", "change-host", "Change a host; what is not given stays", a.changeHost)
	operation(h, "POST", "/hosts/{name}/test", "test-host", "Test a host", a.testHost)
	operation(h, "DELETE", "/hosts/{name}", "remove-host", "Remove a host", func(ctx context.Context, in *Named) (*nothing, error) {
		if err := owner(ctx); err != nil {
			return nil, err
		}
		if err := a.db.RemoveHost(ctx, in.Name); err != nil {
			return nil, err
		}
		return nil, a.db.RemoveSecrets(ctx, "host", in.Name)
	})
}

// firstAsked asks a new host what runs on it. When it does not tell, that is no reason to refuse it: plans say so.
func (a *api) firstAsked(ctx context.Context, host records.Host) []provision.Runtime {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	fsys, err := hostfs.Open(host.Files)
	if err != nil {
		return nil
	}
	defer fsys.Close()
	told, _ := a.Hosts.AskRuntimes(ctx, host, fsys)
	return told
}

func (a *api) testHost(ctx context.Context, in *Named) (*body[wire.HostTest], error) {
	host, err := a.db.Host(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	fsys, server, err := a.Hosts.Open(ctx, host)
	if err != nil {
		return nil, wrong(err)
	}
	defer fsys.Close()
	defer server.Close()
	var out wire.HostTest
	if out.FreeBytes, err = hostfs.FreeBytes(ctx, fsys); err != nil && !errors.Is(err, hostfs.ErrSpaceUnknown) {
		return nil, err
	}
	probe := ".nestseed-test"
	if err := hostfs.WriteFile(ctx, fsys, probe, []byte("x"), 0o600); err == nil {
		out.Writable = fsys.RemoveAll(ctx, probe) == nil
	}
	v, err := server.Version(ctx)
	if err != nil {
		return nil, wrong(err)
	}
	out.Server = v.Engine + " " + v.Number
	out.Runtimes = []wire.Runtime{}
	if out.Writable {
		told, err := a.Hosts.AskRuntimes(ctx, host, fsys)
		if out.Runtimes = runtimesOut(told); err != nil {
			out.RuntimesError = err.Error()
		}
		for _, r := range told {
			out.Refuses = cmp.Or(out.Refuses, r.Refuses())
		}
	}
	return &body[wire.HostTest]{out}, nil
}
