package client

import (
	"context"

	"nestseed/internal/wire"
)

// Today returns what there is and what needs attention.
func (c *Client) Today(ctx context.Context) (wire.Today, error) {
	return get[wire.Today](ctx, c, "/today")
}
