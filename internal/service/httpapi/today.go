package httpapi

import (
	"context"
	"strings"

	"nestseed/internal/service/today"
	"nestseed/internal/wire"
)

func (a *api) today(ctx context.Context, _ *nothing) (*body[wire.Today], error) {
	p, err := today.Gather(ctx, a.db, today.Disk{FreeBytes: a.Releases.FreeBytes})
	if err != nil {
		return nil, err
	}
	c := p.Counts
	out := wire.Today{Sources: c.Sources, Starters: c.Starters, Clients: c.Clients, Sites: c.Sites, Hosts: c.Hosts, Working: c.Working,
		More: p.More, AllTasks: p.AllTasks, Groups: []wire.TodayGroup{}, Tasks: []wire.TodayTask{}, Held: siteRowsOut(p.Held),
		Leading: siteRowsOut(p.Leading), Behind: filled(as[[]wire.Behind](p.Behind)),
		Ending: siteRowsOut(p.Ending), Uncopied: p.Uncopied}
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
