package client

import (
	"context"
	"net/http"
	"net/url"

	"nestseed/internal/wire"
)

// Clients lists all clients, page by page.
func (c *Client) Clients(ctx context.Context) (all []wire.ClientRow, err error) {
	all = []wire.ClientRow{}
	q := url.Values{"limit": {perPage}}
	for {
		page, err := get[wire.ClientPage](ctx, c, "/clients?"+q.Encode())
		all = append(all, page.Clients...)
		if err != nil || page.Next == "" {
			return all, err
		}
		q.Set("cursor", page.Next)
	}
}

// Client shows a client.
func (c *Client) Client(ctx context.Context, name string) (wire.Client, error) {
	return get[wire.Client](ctx, c, "/clients/"+seg(name))
}

// AddClient makes a client.
func (c *Client) AddClient(ctx context.Context, n wire.NewClient) (wire.Client, error) {
	return post[wire.Client](ctx, c, "/clients", n)
}

// SetClient sets settings of a client.
func (c *Client) SetClient(ctx context.Context, name string, s wire.Settings) (out wire.Client, err error) {
	return out, c.do(ctx, http.MethodPatch, "/clients/"+seg(name)+"/settings", s, &out)
}

// AddClientFile gives a client a picture or a file.
func (c *Client) AddClientFile(ctx context.Context, client, name string, content []byte) (out wire.ClientFile, err error) {
	return out, c.do(ctx, http.MethodPost, "/clients/"+seg(client)+"/files", wire.NewClientFile{Name: name, Content: content}, &out)
}
