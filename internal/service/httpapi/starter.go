package httpapi

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/packing"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/starters"
	"nestseed/internal/wire"
)

func starterOut(t records.Starter) wire.Starter {
	out := wire.Starter{Name: t.Name, Source: t.Source, Kind: t.Kind, Releases: t.Releases, CreatedAt: t.CreatedAt,
		Retention: wire.Retention{Last: t.KeepLast, Weeks: t.KeepWeeks}}
	if t.Newest != nil {
		out.Newest = *t.Newest
	}
	return out
}

func (a *api) starterOperations(h huma.API) {
	operation(h, "GET", "/starters", "list-starters", "List starters", func(ctx context.Context, _ *nothing) (*body[[]wire.Starter], error) {
		starters, err := a.db.Starters(ctx)
		return list(starters, err, starterOut)
	})
	operation(h, "GET", "/starters/{name}", "show-starter", "Show a starter",
		func(ctx context.Context, in *Named) (*body[wire.Starter], error) {
			t, err := a.db.Starter(ctx, in.Name)
			return single(t, err, starterOut)
		})
	operation(h, "POST", "/starters", "create-starter", "Create a starter",
		func(ctx context.Context, in *Put[wire.NewStarter]) (*body[wire.Starter], error) {
			b := in.Body
			t, err := a.Starters.Create(ctx, b.Name, b.Source, b.List, as[[]packing.Field](b.Fields), as[[]packing.LaunchTask](b.Tasks))
			return single(t, err, starterOut)
		})
	operation(h, "PATCH", "/starters/{name}", "change-starter", "Change what a starter is built from",
		func(ctx context.Context, in *changed[wire.ChangedStarter]) (*body[wire.Starter], error) {
			t, err := a.Starters.SetSource(ctx, in.Name, in.Body.Source)
			if err == nil {
				err = a.db.Audit(ctx, who(ctx).Name, fmt.Sprintf("starter %s is built from source %s", t.Name, t.Source))
			}
			return single(t, err, starterOut)
		})
	operation(h, "DELETE", "/starters/{name}", "remove-starter", "Remove a starter without releases",
		func(ctx context.Context, in *Named) (*nothing, error) {
			return nil, a.Starters.Remove(ctx, in.Name)
		})
	a.packingOperations(h)
	operation(h, "POST", "/starters/{name}/releases", "build-release", "Start a build of a release", a.build)
	operation(h, "PUT", "/starters/{name}/retention", "set-retention", "Say which archives of a starter are kept", a.setRetention)
}

func (a *api) build(ctx context.Context, in *struct {
	Named
	Put[wire.NewRelease]
}) (*begun, error) {
	t, err := a.db.Starter(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	number, err := a.db.NextNumber(ctx, t.ID)
	if err != nil {
		return nil, err
	}
	return a.start(ctx, records.Run{Job: "build", Title: fmt.Sprintf("Build %s@%d", t.Name, number),
		Target: engine.Target("starter", t.Name)},
		releases.BuildArgs{Starter: t.Name, Note: in.Body.Note, Full: in.Body.Full})
}

// packingOperations look at packing lists, and change them.
func (a *api) packingOperations(h huma.API) {
	operation(h, "GET", "/starters/{name}/packing", "show-packing", "Show a packing list with what it would take",
		func(ctx context.Context, in *Named) (*body[wire.Packing], error) {
			t, err := a.db.Starter(ctx, in.Name)
			return a.packing(ctx, t, err)
		})
	operation(h, "PUT", "/starters/{name}/packing", "set-packing", "Replace a packing list", func(ctx context.Context, in *struct {
		Named
		Put[wire.PackingText]
	}) (*body[wire.Packing], error) {
		t, err := a.Starters.SetList(ctx, in.Name, in.Body.Text)
		return a.packing(ctx, t, err)
	})
	operation(h, "POST", "/starters/{name}/packing", "edit-packing", "Edit a packing list", func(ctx context.Context, in *struct {
		Named
		Put[wire.ListEdit]
	}) (*body[wire.Packing], error) {
		t, err := a.Starters.EditList(ctx, in.Name, as[packing.Edit](in.Body))
		return a.packing(ctx, t, err)
	})
	operation(h, "POST", "/starters/{name}/packing/try", "try-packing",
		"Say what a packing list would take, edited or not, without keeping it",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.TriedList]
		}) (*body[wire.Packing], error) {
			t, err := a.db.Starter(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			t, err = a.Starters.Edited(t, in.Body.Text, as[*packing.Edit](in.Body.Edit))
			return a.packing(ctx, t, err)
		})
	operation(h, "POST", "/starters/{name}/packing/level", "packing-level", "Say what a packing list does with a folder of the source",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.ListLevel]
		}) (*body[wire.PackedLevel], error) {
			t, err := a.db.Starter(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			t.List = in.Body.Text
			level, err := a.Starters.Level(ctx, t, in.Body.Path, in.Body.Find)
			return &body[wire.PackedLevel]{wire.PackedLevel{Nodes: filled(as[[]wire.PackedNode](level.Nodes)), All: level.All,
				Tables: filled(as[[]wire.PackedTable](level.Tables))}}, err
		})
}

func (a *api) setRetention(ctx context.Context, in *struct {
	Named
	Put[wire.Retention]
}) (*body[wire.Starter], error) {
	t, err := a.Starters.SetRetention(ctx, in.Name, in.Body.Last, in.Body.Weeks)
	if err == nil {
		err = a.db.Audit(ctx, who(ctx).Name,
			fmt.Sprintf("set the rules for archives of %s: last %d, one a week for %d weeks", in.Name, in.Body.Last, in.Body.Weeks))
	}
	return single(t, err, starterOut)
}

// packing totals a list against the source's newest survey.
func (a *api) packing(ctx context.Context, t records.Starter, err error) (*body[wire.Packing], error) {
	if err != nil {
		return nil, err
	}
	p, err := a.Starters.Packing(ctx, t)
	return single(p, err, func(p *starters.Packing) wire.Packing {
		out := wire.Packing{Text: t.List, List: as[*wire.PackingList](p.List), Surveyed: p.Surveyed, In: wire.Share(p.In),
			Out: wire.Share(p.Out), Saved: as[map[string]wire.Share](p.Saved)}
		out.Problems = filled(as[[]wire.ListProblem](p.Problems))
		return out
	})
}
