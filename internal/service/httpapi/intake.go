package httpapi

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/fetch"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/wire"
)

// given turns what a request names into what a run takes.
func (a *api) given(ctx context.Context, g wire.GivenFile) (releases.Given, error) {
	switch {
	case (g.Upload == "") == (g.Link == ""):
		return releases.Given{}, input.Wrongf("each file is an upload or a link")
	case g.Link != "":
		// It is looked at before a run is started, with all that is in it.
		opts, err := a.Releases.FetchOptions(ctx)
		if err == nil {
			_, err = fetch.Look(ctx, g.Link, opts)
		}
		if err != nil {
			return releases.Given{}, err
		}
		return a.Releases.SealLink(g.Link)
	}
	info, err := a.upload(ctx, g.Upload)
	if err != nil {
		return releases.Given{}, err
	}
	if info.Offset != info.Size {
		return releases.Given{}, input.Wrong(fmt.Errorf("the upload %s has %d of %d bytes; go on with it first", info.MetaData["name"],
			info.Offset,
			info.Size))
	}
	return releases.Given{Upload: filepath.Base(g.Upload), Name: info.MetaData["name"]}, nil
}

func (a *api) importOperations(h huma.API) {
	operation(h, "POST", "/starters/{name}/imports", "import-release", "Start importing a release", func(ctx context.Context, in *struct {
		Name string `path:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"60"`
		Put[wire.NewImport]
	}) (*begun, error) {
		b := in.Body
		if b.Trust {
			if err := owner(ctx); err != nil {
				return nil, err
			}
		}
		args := releases.ImportArgs{Starter: in.Name, List: b.List, Note: b.Note, Trust: b.Trust}
		var names []string
		for _, f := range b.Files {
			g, err := a.given(ctx, f)
			if err != nil {
				return nil, err
			}
			args.Files = append(args.Files, g)
			names = append(names, nameOf(g))
		}
		if b.Database != nil {
			g, err := a.given(ctx, *b.Database)
			if err != nil {
				return nil, err
			}
			args.Database = &g
		}
		if err := a.Releases.SealKey(&args, b.Key); err != nil {
			return nil, err
		}
		title := "Import " + names[0]
		if len(names) > 1 {
			title += fmt.Sprintf(" and %d more", len(names)-1)
		}
		return a.start(ctx, records.Run{Job: "import", Title: title, Target: engine.Target("starter", in.Name)}, args)
	})
	operation(h, "POST", "/links/check", "check-link", "Say what a link leads to, without fetching it",
		func(ctx context.Context, in *Put[wire.LinkCheck]) (*body[*wire.LinkInfo], error) {
			opts, err := a.Releases.FetchOptions(ctx)
			if err != nil {
				return nil, err
			}
			info, err := fetch.Look(ctx, in.Body.Link, opts)
			return &body[*wire.LinkInfo]{as[*wire.LinkInfo](info)}, err
		})
}

func nameOf(g releases.Given) string {
	if g.Name != "" {
		return g.Name
	}
	return g.Link
}
