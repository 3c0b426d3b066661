package client

import (
	"context"

	"nestseed/internal/wire"
)

// Vault lists secrets by name.
func (c *Client) Vault(ctx context.Context) ([]wire.Secret, error) {
	return get[[]wire.Secret](ctx, c, "/vault")
}

// Reveal reveals a secret.
func (c *Client) Reveal(ctx context.Context, r wire.Reveal) (string, error) {
	out, err := post[wire.Revealed](ctx, c, "/vault/reveal", r)
	return out.Secret, err
}

// RotateKey seals every secret with a new key.
func (c *Client) RotateKey(ctx context.Context) (wire.Resealed, error) {
	return post[wire.Resealed](ctx, c, "/vault/rotate-key", nil)
}
