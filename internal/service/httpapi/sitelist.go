package httpapi

import (
	"context"
	"fmt"

	"nestseed/internal/service/records"
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
		Tasks: s.Tasks, Leads: s.Leads, Ends: s.Ends,
		Checks: countsOut(s)}
}

func countsOut(s records.SiteRow) wire.CheckCounts {
	return wire.CheckCounts{At: s.CheckedAt, Passed: s.Passed, Warned: s.Warned, Failed: s.Failed, Accepted: s.Accepted}
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
	State   string `query:"state" enum:"attention,failed,warned,passed,unchecked,held,behind,to-do,elsewhere,leading,ending,uncopied"`
	Client  string `query:"client"`
	Host    string `query:"host"`
	Starter string `query:"starter"`
	Find    string `query:"find" maxLength:"200" doc:"a part of name, title, address or client"`
	Sort    string `query:"sort" enum:"name,title,attention,newest,size,checked,ending,retired" default:"name"`
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
