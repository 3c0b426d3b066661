package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func acceptanceOut(a records.Acceptance) wire.Acceptance {
	return wire.Acceptance{What: a.What, Reason: a.Reason, Who: a.Who, At: a.At, Until: a.Until, Everywhere: a.StarterID != nil}
}

type accepting struct {
	Named
	Put[wire.Accept]
}

type unaccepting struct {
	Named
	What  string `query:"what" required:"true"`
	Where string `query:"where"`
}

// acceptOperations accept what is known and harmless, and take that back.
func (a *api) acceptOperations(h huma.API) {
	operation(h, "PUT", "/sites/{name}/accepted", "accept-check",
		"Accept what a check of a site warns of or fails by, until it finds something else",
		func(ctx context.Context, in *accepting) (*body[wire.Site], error) {
			b := in.Body
			if err := a.Sites.AcceptCheck(ctx, in.Name, b.What, b.Reason, who(ctx).Name, b.Everywhere, b.Until); err != nil {
				return nil, err
			}
			return a.showSite(ctx, in.Name)
		})
	operation(h, "DELETE", "/sites/{name}/accepted", "unaccept-check", "Accept it no more",
		func(ctx context.Context, in *unaccepting) (*body[wire.Site], error) {
			if err := a.Sites.UnacceptCheck(ctx, in.Name, in.What); err != nil {
				return nil, err
			}
			return a.showSite(ctx, in.Name)
		})
	operation(h, "PUT", "/sources/{name}/accepted", "accept-finding", "Accept a finding of a source",
		func(ctx context.Context, in *accepting) (*body[wire.Source], error) {
			b := in.Body
			if err := a.Sources.AcceptFinding(ctx, in.Name, b.What, b.Where, b.Reason, who(ctx).Name); err != nil {
				return nil, err
			}
			return a.showSource(ctx, in.Name)
		})
	operation(h, "DELETE", "/sources/{name}/accepted", "unaccept-finding", "Accept it no more",
		func(ctx context.Context, in *unaccepting) (*body[wire.Source], error) {
			if err := a.Sources.UnacceptFinding(ctx, in.Name, in.What, in.Where); err != nil {
				return nil, err
			}
			return a.showSource(ctx, in.Name)
		})
}
