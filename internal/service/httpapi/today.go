package httpapi

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/today"
	"nestseed/internal/wire"
)

func siteRowOut(s records.SiteRow) wire.SiteRow {
	picture := ""
	if s.Picture != "" && s.SeenAt != nil {
		picture = fmt.Sprintf("/sites/%s/side-by-side/%s?at=%d", s.Name, s.Picture, s.SeenAt.Unix())
	}
	return wire.SiteRow{Picture: picture, Name: s.Name, Title: s.Title, Client: s.Client, Host: s.Host, Release: s.Release, Install: s.Install,
		Address: s.Address, Bytes: s.Bytes, MadeAt: s.MadeAt, RunID: s.RunID, Held: s.Held, Visible: s.Visible,
		RetiredAt: s.RetiredAt, Behind: s.Behind,
		Tasks: s.Tasks, Leads: s.Leads,
		Checks: wire.CheckCounts{At: s.CheckedAt, Passed: s.Passed, Warned: s.Warned, Failed: s.Failed, Accepted: s.Accepted}}
}

func siteRowsOut(rows []records.SiteRow) []wire.SiteRow {
	out := make([]wire.SiteRow, len(rows))
	for i, r := range rows {
		out[i] = siteRowOut(r)
	}
	return out
}

func (a *api) listSites(ctx context.Context, in *struct {
	Retired bool   `query:"retired" doc:"those that are gone"`
	State   string `query:"state" enum:"attention,failed,warned,passed,unchecked,held,behind,to-do,elsewhere,leading"`
	Client  string `query:"client"`
	Host    string `query:"host"`
	Starter string `query:"starter"`
	Find    string `query:"find" maxLength:"200" doc:"a part of name, title, address or client"`
	Sort    string `query:"sort" enum:"name,title,attention,newest,size,checked,retired" default:"name"`
	Cursor  string `query:"cursor" maxLength:"1000" doc:"next of the page before"`
	Limit   int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}) (*body[wire.SitePage], error) {
	f := records.SiteFilter{Retired: in.Retired, State: in.State, Client: in.Client, Host: in.Host, Starter: in.Starter, Find: in.Find,
		Sort: in.Sort, Cursor: in.Cursor, Limit: in.Limit}
	rows, next, err := a.db.SiteRows(ctx, f)
	if err != nil {
		return nil, err
	}
	out := wire.SitePage{Sites: siteRowsOut(rows), Next: next}
	out.Total, out.States, err = a.db.SiteStates(ctx, f)
	return &body[wire.SitePage]{out}, err
}

func (a *api) today(ctx context.Context, _ *nothing) (*body[wire.Today], error) {
	p, err := today.Gather(ctx, a.db)
	if err != nil {
		return nil, err
	}
	c := p.Counts
	out := wire.Today{Sources: c.Sources, Starters: c.Starters, Clients: c.Clients, Sites: c.Sites, Hosts: c.Hosts, Working: c.Working,
		More: p.More, AllTasks: p.AllTasks, Groups: []wire.TodayGroup{}, Tasks: []wire.TodayTask{}, Held: siteRowsOut(p.Held),
		Leading: siteRowsOut(p.Leading), Behind: filled(as[[]wire.Behind](p.Behind))}
	for _, g := range p.Groups {
		out.Groups = append(out.Groups, wire.TodayGroup{Noun: g.Noun, Name: g.Name, Title: g.Title, Severity: g.Severity(),
			Items: as[[]wire.TodayItem](g.Items)})
	}
	for _, t := range p.Tasks {
		out.Tasks = append(out.Tasks, wire.TodayTask{Site: t.Site, Title: t.Title, Key: t.Key, Task: t.Task, Page: pageOf(t.Address, t.Page),
			Due: t.Due})
	}
	return &body[wire.Today]{out}, nil
}

// pageOf is a page of a site as a whole address, or "" for none.
func pageOf(address, page string) string {
	if page == "" {
		return ""
	}
	return address + "/" + strings.TrimPrefix(page, "/")
}

// dueDay is the day that a request names; nil where it names none, and the zero time for "none any more".
func dueDay(given *string) (*time.Time, error) {
	if given == nil {
		return nil, nil
	}
	day, err := time.Parse(time.DateOnly, *given)
	if err != nil {
		return nil, input.Wrongf("%q is not a day like 2026-12-01", *given)
	}
	return &day, nil
}

func acceptanceOut(a records.Acceptance) wire.Acceptance {
	return wire.Acceptance{What: a.What, Reason: a.Reason, Who: a.Who, At: a.At, Everywhere: a.StarterID != nil}
}

type accepting struct {
	Named
	Put[wire.Accept]
}

type unaccepting struct {
	Named
	What  string `query:"what" required:"true"`
	Where string `query:"where"`
}

// acceptOperations accept what is known and harmless, and take that back.
func (a *api) acceptOperations(h huma.API) {
	operation(h, "PUT", "/sites/{name}/accepted", "accept-check", "Accept what a check of a site warns of, until it finds something else",
		func(ctx context.Context, in *accepting) (*body[wire.Site], error) {
			b := in.Body
			if err := a.Sites.AcceptCheck(ctx, in.Name, b.What, b.Reason, who(ctx).Name, b.Everywhere); err != nil {
				return nil, err
			}
			return a.showSite(ctx, in.Name)
		})
	operation(h, "DELETE", "/sites/{name}/accepted", "unaccept-check", "Accept it no more",
		func(ctx context.Context, in *unaccepting) (*body[wire.Site], error) {
			if err := a.Sites.UnacceptCheck(ctx, in.Name, in.What); err != nil {
				return nil, err
			}
			return a.showSite(ctx, in.Name)
		})
	operation(h, "PUT", "/sources/{name}/accepted", "accept-finding", "Accept a finding of a source",
		func(ctx context.Context, in *accepting) (*body[wire.Source], error) {
			b := in.Body
			if err := a.Sources.AcceptFinding(ctx, in.Name, b.What, b.Where, b.Reason, who(ctx).Name); err != nil {
				return nil, err
			}
			return a.showSource(ctx, in.Name)
		})
	operation(h, "DELETE", "/sources/{name}/accepted", "unaccept-finding", "Accept it no more",
		func(ctx context.Context, in *unaccepting) (*body[wire.Source], error) {
			if err := a.Sources.UnacceptFinding(ctx, in.Name, in.What, in.Where); err != nil {
				return nil, err
			}
			return a.showSource(ctx, in.Name)
		})
}

func (a *api) showSource(ctx context.Context, name string) (*body[wire.Source], error) {
	s, err := a.db.Source(ctx, name)
	if err != nil {
		return nil, err
	}
	out := sourceOut(s)
	accepted, err := a.db.AcceptedOf(ctx, s.ID)
	for _, of := range accepted {
		out.Accepted = append(out.Accepted, acceptanceOut(of))
	}
	return &body[wire.Source]{out}, err
}
