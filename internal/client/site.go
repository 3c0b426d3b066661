package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strings"

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

// HandOver makes a link by which a client gets a site's login once; its path is told here and never again.
func (c *Client) HandOver(ctx context.Context, name string, n wire.NewHandover) (wire.Handover, error) {
	return post[wire.Handover](ctx, c, "/sites/"+seg(name)+"/handovers", n)
}

// WithdrawHandovers makes links that were not opened useless.
func (c *Client) WithdrawHandovers(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/sites/"+seg(name)+"/handovers", nil, nil)
}

// OpenHandover opens a link by what follows its #.
func (c *Client) OpenHandover(ctx context.Context, key string) (wire.HandedOver, error) {
	return post[wire.HandedOver](ctx, c, "/handovers/open", wire.OpenHandover{Key: key})
}

// DNS asks DNS about a site's name, and compares the name servers that its zone is to move to.
func (c *Client) DNS(ctx context.Context, name string, nameServers []string) (wire.DNS, error) {
	path := "/sites/" + seg(name) + "/dns"
	if len(nameServers) > 0 {
		path += "?" + url.Values{"name_servers": {strings.Join(nameServers, ",")}}.Encode()
	}
	return post[wire.DNS](ctx, c, path, nil)
}

// Sheet returns what a client must know of a site; it holds no secret.
func (c *Client) Sheet(ctx context.Context, name string) (wire.Sheet, error) {
	return get[wire.Sheet](ctx, c, "/sites/"+seg(name)+"/sheet")
}

// SetCopyRule says which safety copies of a site are kept.
func (c *Client) SetCopyRule(ctx context.Context, name string, r wire.CopyRule) (out wire.Site, err error) {
	return out, c.do(ctx, http.MethodPut, "/sites/"+seg(name)+"/copy-rule", r, &out)
}

// LookSideBySide starts looking at pages of a site beside its source's.
func (c *Client) LookSideBySide(ctx context.Context, name string, pages int) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/side-by-side", wire.Screenshots{Pages: pages})
}

// Picture copies one picture of a site beside its source, as PNG.
func (c *Client) Picture(ctx context.Context, name, file string, to io.Writer) error {
	res, err := c.send(ctx, http.MethodGet, "/sites/"+seg(name)+"/side-by-side/"+seg(file), nil, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(to, res.Body)
	return err
}

// CheckSource starts checking a source as a site that people visit.
func (c *Client) CheckSource(ctx context.Context, name string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sources/"+seg(name)+"/check", nil)
}

// PlanTable tells what making a site for each row will do.
func (c *Client) PlanTable(ctx context.Context, t wire.NewTable) (wire.TablePlan, error) {
	return post[wire.TablePlan](ctx, c, "/sites/table/plan", t)
}
