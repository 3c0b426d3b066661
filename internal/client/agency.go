package client

import (
	"context"
	"net/http"

	"nestseed/internal/wire"
)

// Agency shows what clients see of the agency.
func (c *Client) Agency(ctx context.Context) (wire.Agency, error) {
	return get[wire.Agency](ctx, c, "/agency")
}

// SetAgency says what clients see of the agency.
func (c *Client) SetAgency(ctx context.Context, a wire.NewAgency) (out wire.Agency, err error) {
	return out, c.do(ctx, http.MethodPut, "/agency", a, &out)
}
