package client

import (
	"context"

	"nestseed/internal/wire"
)

// AddKind adds a kind.
func (c *Client) AddKind(ctx context.Context, k wire.NewKind) (wire.Kind, error) {
	return post[wire.Kind](ctx, c, "/kinds", k)
}

// DraftKind asks for a draft of a kind.
func (c *Client) DraftKind(ctx context.Context, d wire.NewDraft) (wire.KindDraft, error) {
	return post[wire.KindDraft](ctx, c, "/kinds/draft", d)
}

// CheckKind reads the definition of a kind and keeps nothing.
func (c *Client) CheckKind(ctx context.Context, k wire.NewKind) (wire.Kind, error) {
	return post[wire.Kind](ctx, c, "/kinds/check", k)
}

// Kind shows a kind.
func (c *Client) Kind(ctx context.Context, name string) (wire.Kind, error) {
	return get[wire.Kind](ctx, c, "/kinds/"+seg(name))
}

// Kinds lists kinds.
func (c *Client) Kinds(ctx context.Context) ([]wire.Kind, error) {
	return get[[]wire.Kind](ctx, c, "/kinds")
}
