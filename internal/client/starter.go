package client

import (
	"context"
	"net/http"

	"nestseed/internal/wire"
)

// Starters lists starters.
func (c *Client) Starters(ctx context.Context) ([]wire.Starter, error) {
	return get[[]wire.Starter](ctx, c, "/starters")
}

// Starter shows a starter.
func (c *Client) Starter(ctx context.Context, name string) (wire.Starter, error) {
	return get[wire.Starter](ctx, c, "/starters/"+seg(name))
}

// CreateStarter makes a starter.
func (c *Client) CreateStarter(ctx context.Context, s wire.NewStarter) (wire.Starter, error) {
	return post[wire.Starter](ctx, c, "/starters", s)
}

// ChangeStarter changes what a starter is built from.
func (c *Client) ChangeStarter(ctx context.Context, name string, t wire.ChangedStarter) (out wire.Starter, err error) {
	return out, c.do(ctx, http.MethodPatch, "/starters/"+seg(name), t, &out)
}

// Packing shows a packing list.
func (c *Client) Packing(ctx context.Context, starter string) (wire.Packing, error) {
	return get[wire.Packing](ctx, c, "/starters/"+seg(starter)+"/packing")
}

// SetPacking replaces a packing list.
func (c *Client) SetPacking(ctx context.Context, starter, text string) (out wire.Packing, err error) {
	return out, c.do(ctx, http.MethodPut, "/starters/"+seg(starter)+"/packing", wire.PackingText{Text: text}, &out)
}

// EditPacking edits a packing list.
func (c *Client) EditPacking(ctx context.Context, starter string, e wire.ListEdit) (wire.Packing, error) {
	return post[wire.Packing](ctx, c, "/starters/"+seg(starter)+"/packing", e)
}

// SetRetention says which archives of a starter are kept.
func (c *Client) SetRetention(ctx context.Context, starter string, r wire.Retention) (out wire.Starter, err error) {
	return out, c.do(ctx, http.MethodPut, "/starters/"+seg(starter)+"/retention", r, &out)
}

// TryPacking says what a packing list would take, without keeping it.
func (c *Client) TryPacking(ctx context.Context, starter, text string) (wire.Packing, error) {
	return post[wire.Packing](ctx, c, "/starters/"+seg(starter)+"/packing/try", wire.PackingText{Text: text})
}
