package httpapi

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/kind"
	"nestseed/internal/service/input"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sources"
	"nestseed/internal/wire"
)

func (a *api) kindOut(k *kind.Kind) wire.Kind {
	out := wire.Kind{Name: k.Name, Title: k.Title, Lists: slices.Sorted(maps.Keys(k.Lists)), Keep: []wire.Part{}, Stock: a.Kinds.Comes(k.Name),
		Holds: k.Hold.File != ""}
	for _, p := range k.Keep {
		out.Keep = append(out.Keep, wire.Part{What: p.What, Title: p.Title})
	}
	return out
}

func (a *api) kindOperations(h huma.API) {
	operation(h, "GET", "/kinds", "list-kinds", "List kinds", func(ctx context.Context, _ *nothing) (*body[[]wire.Kind], error) {
		all, err := a.Kinds.All(ctx)
		return list(all, err, a.kindOut)
	})
	operation(h, "GET", "/kinds/{name}", "show-kind", "Show a kind with its definition",
		func(ctx context.Context, in *Named) (*body[wire.Kind], error) {
			k, err := a.Kinds.Named(ctx, in.Name)
			if errors.Is(err, kind.ErrUnknown) {
				return nil, fmt.Errorf("there is no kind %q: %w", in.Name, records.ErrNotFound)
			}
			if err != nil {
				return nil, err
			}
			out := a.kindOut(k)
			out.Definition = k.Text()
			return &body[wire.Kind]{out}, nil
		})
	operation(h, "POST", "/kinds", "add-kind", "Add a kind, or give one that was added another definition",
		func(ctx context.Context, in *Put[wire.NewKind]) (*body[wire.Kind], error) {
			if err := owner(ctx); err != nil {
				return nil, err // it holds programs that are placed on sites
			}
			k, err := a.Kinds.Add(ctx, in.Body.Definition, who(ctx).Name)
			if err != nil {
				return nil, err
			}
			out := a.kindOut(k)
			out.AlsoFits, err = a.Sources.AlsoFit(ctx, k)
			return &body[wire.Kind]{out}, err
		})
	operation(h, "POST", "/kinds/check", "check-kind", "Read the definition of a kind and keep nothing",
		func(_ context.Context, in *Put[wire.NewKind]) (*body[wire.Kind], error) {
			k, err := kinds.Check([]byte(in.Body.Definition))
			return single(k, input.Wrong(err), a.kindOut)
		})
	operation(h, "POST", "/kinds/draft", "draft-kind",
		"Propose the definition of a kind, from what is in a folder of a host and in a database",
		func(ctx context.Context, in *Put[wire.NewDraft]) (*body[wire.KindDraft], error) {
			b := in.Body
			text, err := a.Sources.DraftKind(ctx, b.Name, sources.New{Host: b.Host, Path: b.Path, Address: b.Address, Database: b.Database,
				Password: b.Password})
			return single(text, err, func(t []byte) wire.KindDraft { return wire.KindDraft{Definition: string(t)} })
		})
	operation(h, "DELETE", "/kinds/{name}", "remove-kind", "Remove a kind that was added", func(ctx context.Context, in *Named) (*nothing,
		error) {
		if err := owner(ctx); err != nil {
			return nil, err
		}
		return nil, a.Kinds.Remove(ctx, in.Name)
	})
}
