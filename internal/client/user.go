package client

import (
	"context"
	"net/http"

	"nestseed/internal/wire"
)

// Me returns who the token belongs to.
func (c *Client) Me(ctx context.Context) (wire.Me, error) { return get[wire.Me](ctx, c, "/me") }

// AddToken makes a token.
func (c *Client) AddToken(ctx context.Context, t wire.NewToken) (wire.Token, error) {
	return post[wire.Token](ctx, c, "/tokens", t)
}

// SetPassword changes a password.
func (c *Client) SetPassword(ctx context.Context, name string, p wire.NewPassword) error {
	return c.do(ctx, http.MethodPut, "/users/"+seg(name)+"/password", p, nil)
}

// Tokens lists one's own tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.TokenName, error) {
	return get[[]wire.TokenName](ctx, c, "/tokens")
}

// Users lists users.
func (c *Client) Users(ctx context.Context) ([]wire.User, error) {
	return get[[]wire.User](ctx, c, "/users")
}

// AddUser makes a user.
func (c *Client) AddUser(ctx context.Context, u wire.NewUser) (wire.User, error) {
	return post[wire.User](ctx, c, "/users", u)
}
