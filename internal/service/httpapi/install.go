package httpapi

import (
	"context"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/provision"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/installs"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sites"
	"nestseed/internal/wire"
)

func installOut(i records.Install) wire.Install {
	return wire.Install{Name: i.Name, Host: i.Host, MadeAt: i.MadeAt, Tenants: i.Tenants}
}

func (a *api) showInstall(ctx context.Context, name string) (*body[wire.Install], error) {
	i, err := a.db.Install(ctx, name)
	if err != nil {
		return nil, err
	}
	out := installOut(i)
	codes, err := a.db.InstallCodes(ctx, i.ID)
	if err != nil {
		return nil, err
	}
	releases := map[int64]string{}
	for _, c := range codes {
		releases[c.ID] = c.Release
		out.Codes = append(out.Codes, wire.InstallCode{Release: c.Release, Folder: c.Folder, Files: c.Files, Bytes: c.Bytes, MadeAt: c.MadeAt,
			Tenants: c.Tenants, Copies: c.Copies})
	}
	tenants, err := a.db.Tenants(ctx, i.ID)
	if err != nil {
		return nil, err
	}
	listed, _, err := a.db.SiteRows(ctx, records.SiteFilter{Install: name, Limit: len(tenants) + 1})
	if err != nil {
		return nil, err
	}
	checks := map[string]wire.CheckCounts{}
	for _, row := range listed {
		checks[row.Name] = countsOut(row)
	}
	for _, s := range tenants {
		out.Sites = append(out.Sites, wire.Tenant{Site: s.Name, Address: s.Address, Release: releases[*s.CodeID], Checks: checks[s.Name]})
	}
	return &body[wire.Install]{out}, nil
}

// installing is a request about the sites of an install.
type installing struct {
	Named
	Put[wire.NewInstallCode]
}

func (a *api) installPlan(p *installs.Plan, err error) (wire.InstallPlan, error) {
	if err != nil {
		return wire.InstallPlan{}, err
	}
	out := wire.InstallPlan{Install: p.Install, Host: p.Host, Release: p.Release, Place: p.Place, Sites: []wire.TenantPlan{},
		Problems: p.Problems, Ready: len(p.Problems) == 0}
	for _, s := range p.Sites {
		out.Sites = append(out.Sites, wire.TenantPlan{Site: s.Site, Address: s.Address, From: s.From, To: s.To, There: s.There})
	}
	out.Mark, err = digest(out)
	return out, err
}

// startInstall starts what a plan says, unless things have changed since it was looked at.
func (a *api) startInstall(ctx context.Context, p wire.InstallPlan, err error, mark string, run records.Run, args any) (*begun, error) {
	switch {
	case err != nil:
		return nil, err
	case !p.Ready:
		return nil, &provision.PlanError{Problems: p.Problems}
	case mark != "" && mark != p.Mark:
		return nil, errStale("install " + p.Install)
	}
	run.Target = engine.Target("install", p.Install)
	return a.start(ctx, run, args)
}

func (a *api) installOperations(h huma.API) {
	operation(h, "GET", "/installs", "list-installs", "List installs", func(ctx context.Context, _ *nothing) (*body[[]wire.Install], error) {
		all, err := a.db.Installs(ctx)
		return list(all, err, installOut)
	})
	operation(h, "GET", "/installs/{name}", "show-install", "Show an install with its code and its sites",
		func(ctx context.Context, in *Named) (*body[wire.Install], error) { return a.showInstall(ctx, in.Name) })
	operation(h, "POST", "/installs", "add-install", "Start placing the code of a release on a host, for sites to share", a.addInstall)
	operation(h, "POST", "/installs/{name}/refresh/plan", "plan-install-refresh",
		"Plan the bringing of all sites of an install to the code of a release; nothing is touched",
		func(ctx context.Context, in *installing) (*body[wire.InstallPlan], error) {
			p, err := a.installPlan(a.Installs.RefreshPlan(ctx, installArgs(in)))
			return &body[wire.InstallPlan]{p}, err
		})
	operation(h, "POST", "/installs/{name}/refresh", "refresh-install", "Start bringing all sites of an install to the code of a release",
		func(ctx context.Context, in *installing) (*begun, error) {
			args := installArgs(in)
			if err := args.Despite.Valid(); err != nil {
				return nil, err
			}
			p, err := a.installPlan(a.Installs.RefreshPlan(ctx, args))
			args.Release = p.Release
			return a.startInstall(ctx, p, err, in.Body.Mark, records.Run{Job: "install-refresh", Title: "Refresh install " + in.Name}, args)
		})
	operation(h, "POST", "/installs/{name}/undo/plan", "plan-install-undo",
		"Plan the bringing of the sites of an install back to the code they had before; nothing is touched",
		func(ctx context.Context, in *installing) (*body[wire.InstallPlan], error) {
			p, err := a.installPlan(a.Installs.UndoPlan(ctx, installArgs(in)))
			return &body[wire.InstallPlan]{p}, err
		})
	operation(h, "POST", "/installs/{name}/undo", "undo-install", "Start bringing the sites of an install back to the code they had before",
		func(ctx context.Context, in *installing) (*begun, error) {
			args := installArgs(in)
			p, err := a.installPlan(a.Installs.UndoPlan(ctx, args))
			return a.startInstall(ctx, p, err, in.Body.Mark, records.Run{Job: "install-undo", Title: "Undo install " + in.Name}, args)
		})
	operation(h, "DELETE", "/installs/{name}", "remove-install", "Start removing code of an install that no site shares",
		func(ctx context.Context, in *struct {
			Named
			Release string `query:"release" doc:"whose code; all of it, and the install, unless given"`
		}) (*begun, error) {
			args := installs.RemoveArgs{Install: in.Name, Release: in.Release}
			if _, err := a.Installs.Removable(ctx, args); err != nil {
				return nil, err
			}
			return a.start(ctx, records.Run{Job: "install-remove", Title: "Remove code of install " + in.Name,
				Target: engine.Target("install", in.Name)}, args)
		})
}

func installArgs(in *installing) installs.RefreshArgs {
	return installs.RefreshArgs{Install: in.Name, Release: in.Body.To, First: in.Body.First, Despite: sites.Despite(in.Body.Despite)}
}

// addInstall refuses what cannot be placed before a run is started.
func (a *api) addInstall(ctx context.Context, in *Put[wire.NewInstall]) (*begun, error) {
	switch i, err := a.db.Install(ctx, in.Body.Name); {
	case err == nil && i.Host != in.Body.Host:
		return nil, fmt.Errorf("there is an install %s already, on host %s: %w; choose another name", i.Name, i.Host, records.ErrTaken)
	case err != nil && !errors.Is(err, records.ErrNotFound):
		return nil, err
	}
	args, err := a.Installs.Check(ctx, installs.PlaceArgs{Install: in.Body.Name, Host: in.Body.Host, Release: in.Body.From})
	if err != nil {
		return nil, err
	}
	return a.start(ctx, records.Run{Job: "install-code", Title: "Place code of " + args.Release + " for install " + args.Install,
		Target: engine.Target("install", args.Install)}, args)
}
