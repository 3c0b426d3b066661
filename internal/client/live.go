package client

import (
	"context"

	"nestseed/internal/wire"
)

// PlanRefresh tells what giving a site the code of a release will do.
func (c *Client) PlanRefresh(ctx context.Context, name string, n wire.NewCode) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/sites/"+seg(name)+"/refresh/plan", n)
}

// RefreshSite starts giving a site the code of a release.
func (c *Client) RefreshSite(ctx context.Context, name string, n wire.NewCode) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/refresh", n)
}
