package client

import (
	"context"
	"net/http"
	"net/url"

	"nestseed/internal/wire"
)

// Hosts lists hosts.
func (c *Client) Hosts(ctx context.Context) ([]wire.Host, error) {
	return get[[]wire.Host](ctx, c, "/hosts")
}

// Host shows a host.
func (c *Client) Host(ctx context.Context, name string) (wire.Host, error) {
	return get[wire.Host](ctx, c, "/hosts/"+seg(name))
}

// AddHost makes a host.
func (c *Client) AddHost(ctx context.Context, h wire.NewHost) (wire.Host, error) {
	return post[wire.Host](ctx, c, "/hosts", h)
}

// ChangeHost changes a host; what is empty stays as it is.
func (c *Client) ChangeHost(ctx context.Context, name string, h wire.ChangedHost) (out wire.Host, err error) {
	return out, c.do(ctx, http.MethodPatch, "/hosts/"+seg(name), h, &out)
}

// TestHost asks a host for its facts.
func (c *Client) TestHost(ctx context.Context, name string) (wire.HostTest, error) {
	return post[wire.HostTest](ctx, c, "/hosts/"+seg(name)+"/test", nil)
}

// Folders lists the folders in a folder of a host's files.
func (c *Client) Folders(ctx context.Context, host, path string) (wire.Folders, error) {
	return get[wire.Folders](ctx, c, "/hosts/"+seg(host)+"/folders?"+url.Values{"path": {path}}.Encode())
}

// ExamineHosts compares what the records say with what is on the hosts.
func (c *Client) ExamineHosts(ctx context.Context) (wire.HostsReport, error) {
	return get[wire.HostsReport](ctx, c, "/doctor/hosts")
}
