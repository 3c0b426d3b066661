package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"nestseed/internal/wire"
)

// SitesBy are conditions on the sites that are listed, and their order; what is empty leaves nothing out.
type SitesBy struct {
	Retired                                  bool
	State, Client, Host, Starter, Find, Sort string
}

// Sites lists all sites of which that is so, page by page.
func (c *Client) Sites(ctx context.Context, by SitesBy) (all []wire.SiteRow, err error) {
	all = []wire.SiteRow{}
	q := url.Values{"limit": {perPage}}
	for name, v := range map[string]string{"state": by.State, "client": by.Client, "host": by.Host, "starter": by.Starter, "find": by.Find,
		"sort": by.Sort} {
		if v != "" {
			q.Set(name, v)
		}
	}
	if by.Retired {
		q.Set("retired", "true")
	}
	for {
		page, err := get[wire.SitePage](ctx, c, "/sites?"+q.Encode())
		all = append(all, page.Sites...)
		if err != nil || page.Next == "" {
			return all, err
		}
		q.Set("cursor", page.Next)
	}
}

// Site shows a site.
func (c *Client) Site(ctx context.Context, name string) (wire.Site, error) {
	return get[wire.Site](ctx, c, "/sites/"+seg(name))
}

// PlanSite makes a plan.
func (c *Client) PlanSite(ctx context.Context, s wire.NewSite) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/sites/plan", s)
}

// ProvisionSite starts making a site.
func (c *Client) ProvisionSite(ctx context.Context, s wire.NewSite) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites", s)
}

// CheckSite starts checking a site; full opens all pages and reads all files again.
func (c *Client) CheckSite(ctx context.Context, name string, full bool) (wire.Run, error) {
	path := "/sites/" + seg(name) + "/check"
	if full {
		path += "?full=true"
	}
	return post[wire.Run](ctx, c, path, nil)
}

// ProvisionTable starts the making of a site for each row.
func (c *Client) ProvisionTable(ctx context.Context, t wire.NewTable) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/table", t)
}

// PlanUndo tells what undoing the last provisioning of a site will do.
func (c *Client) PlanUndo(ctx context.Context, name string) (wire.UndoPlan, error) {
	return get[wire.UndoPlan](ctx, c, "/sites/"+seg(name)+"/undo")
}

// UndoSite starts undoing the last provisioning of a site.
func (c *Client) UndoSite(ctx context.Context, name, mark string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/undo", wire.Undo{Mark: mark})
}

// KeepCopy starts making a safety copy of a site.
func (c *Client) KeepCopy(ctx context.Context, name string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/copies", nil)
}

// PutBackCopy starts putting a safety copy back.
func (c *Client) PutBackCopy(ctx context.Context, name string, id int64) (wire.Run, error) {
	return post[wire.Run](ctx, c, fmt.Sprintf("/sites/%s/copies/%d/put-back", seg(name), id), nil)
}

// DropCopy starts removing a safety copy.
func (c *Client) DropCopy(ctx context.Context, name string, id int64) (run wire.Run, err error) {
	return run, c.do(ctx, http.MethodDelete, fmt.Sprintf("/sites/%s/copies/%d", seg(name), id), nil, &run)
}

// RetireSite starts taking a site off its host.
func (c *Client) RetireSite(ctx context.Context, name string, noCopy bool) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/retire", wire.Retire{NoCopy: noCopy})
}

// HoldSite keeps visitors out of a site, or lets them in.
func (c *Client) HoldSite(ctx context.Context, name string, h wire.Held) (out wire.Held, err error) {
	return out, c.do(ctx, http.MethodPut, "/sites/"+seg(name)+"/held", h, &out)
}

// RotateSite starts giving a site new credentials.
func (c *Client) RotateSite(ctx context.Context, name string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/rotate", nil)
}

// PlanMove tells what moving a site will do.
func (c *Client) PlanMove(ctx context.Context, name string, m wire.Move) (wire.MovePlan, error) {
	return post[wire.MovePlan](ctx, c, "/sites/"+seg(name)+"/move/plan", m)
}

// MoveSite starts moving a site to another host.
func (c *Client) MoveSite(ctx context.Context, name string, m wire.Move) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/move", m)
}

// TickTask ticks a launch task off, or puts it back.
func (c *Client) TickTask(ctx context.Context, site, key string, t wire.Tick) (out wire.Site, err error) {
	return out, c.do(ctx, http.MethodPut, "/sites/"+seg(site)+"/tasks/"+seg(key), t, &out)
}

// AcceptCheck accepts what a check of a site warns of, until it finds something else.
func (c *Client) AcceptCheck(ctx context.Context, site string, a wire.Accept) (out wire.Site, err error) {
	return out, c.do(ctx, http.MethodPut, "/sites/"+seg(site)+"/accepted", a, &out)
}

// UnacceptCheck accepts it no more.
func (c *Client) UnacceptCheck(ctx context.Context, site, check string) (out wire.Site, err error) {
	return out, c.do(ctx, http.MethodDelete, "/sites/"+seg(site)+"/accepted?"+url.Values{"what": {check}}.Encode(), nil, &out)
}

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
