package httpapi

import (
	"context"
	"encoding/base64"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func agencyOut(a records.Agency) wire.Agency {
	out := wire.Agency{Name: a.Name, Contact: a.Contact, Colour: a.Colour}
	if len(a.Logo) > 0 {
		out.Logo = "data:" + http.DetectContentType(a.Logo) + ";base64," + base64.StdEncoding.EncodeToString(a.Logo)
	}
	return out
}

func (a *api) agencyOperations(h huma.API) {
	operation(h, "GET", "/agency", "show-agency", "What clients see of the agency",
		func(ctx context.Context, _ *nothing) (*body[wire.Agency], error) {
			of, err := a.db.Agency(ctx)
			return single(of, err, agencyOut)
		})
	operation(h, "PUT", "/agency", "set-agency", "Say what clients see of the agency",
		func(ctx context.Context, in *Put[wire.NewAgency]) (*body[wire.Agency], error) {
			if err := owner(ctx); err != nil {
				return nil, err
			}
			b := in.Body
			next := records.Agency{Name: b.Name, Contact: b.Contact, Colour: b.Colour, Logo: b.Logo}
			if b.NoLogo {
				next.Logo = []byte{}
			}
			if err := a.Agency.Set(ctx, who(ctx).Name, next); err != nil {
				return nil, err
			}
			of, err := a.db.Agency(ctx)
			return single(of, err, agencyOut)
		})
}
