package httpapi

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/packing"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

// openHandoverPath is open to whoever has a link; everything else asks for a login.
const openHandoverPath = "/api/v1/handovers/open"

func handoverOut(h records.Handover) wire.Handover {
	return wire.Handover{ID: h.ID, MadeAt: h.MadeAt, MadeBy: h.MadeBy, ExpiresAt: h.ExpiresAt, OpenedAt: h.OpenedAt,
		WithdrawnAt: h.WithdrawnAt}
}

func (a *api) handoverOperations(h huma.API) {
	operation(h, "POST", "/sites/{name}/handovers", "hand-over", "Make a link by which a client gets a site's address and login, once",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.NewHandover]
		}) (*body[wire.Handover], error) {
			key, link, err := a.Sites.HandOver(ctx, in.Name, who(ctx).Name, in.Body.Days)
			if err != nil {
				return nil, err
			}
			out := handoverOut(link)
			out.Path = "/handover#" + key
			return &body[wire.Handover]{out}, nil
		})
	operation(h, "DELETE", "/sites/{name}/handovers", "withdraw-handovers", "Make a site's links that were not opened useless",
		func(ctx context.Context, in *Named) (*nothing, error) {
			return nil, a.Sites.WithdrawHandovers(ctx, in.Name)
		})
	operation(h, "GET", "/sites/{name}/sheet", "site-sheet", "What is said of a site to its client; no secrets",
		func(ctx context.Context, in *Named) (*body[wire.Sheet], error) {
			s, err := a.db.Site(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			sheet, err := a.sheet(ctx, s)
			return &body[wire.Sheet]{sheet}, err
		})
	operation(h, "POST", "/handovers/open", "open-handover", "Open a handover link; it works once", a.openHandover)
}

// sheet says what a client must know of a site, and what to do.
func (a *api) sheet(ctx context.Context, s records.Site) (wire.Sheet, error) {
	site := a.siteOut(s)
	tasks, err := a.tasksOf(ctx, s)
	if err != nil {
		return wire.Sheet{}, err
	}
	agency, err := a.db.Agency(ctx)
	if err != nil {
		return wire.Sheet{}, err
	}
	out := wire.Sheet{Agency: agencyOut(agency), Site: s.Name, Title: site.Title, Address: s.Address, LoginAt: site.LoginAt, Login: site.Admin,
		Held:    s.Held,
		Visible: s.Visible, Values: []wire.Value{}, Tasks: []wire.LaunchTask{}, MadeAt: s.MadeAt}
	for _, v := range s.Plan.Values {
		if v.Value != "" {
			if _, file := packing.AsFile(v.Value); file != "" {
				v.Value = file
			}
			out.Values = append(out.Values, as[wire.Value](v))
		}
	}
	for _, t := range tasks {
		if t.DoneAt == nil {
			out.Tasks = append(out.Tasks, t)
		}
	}
	out.ToDo = []string{fmt.Sprintf("Open %s and log in as %s.", out.LoginAt, out.Login),
		"Change the password to one that only you know, in your profile."}
	if s.Held {
		out.ToDo = append(out.ToDo, "Look at the site and say whether it may open: until then visitors see a holding page.")
	}
	out.ToDo = append(out.ToDo, "Read through your pages: name, address, telephone and e-mail.")
	if len(out.Tasks) > 0 {
		out.ToDo = append(out.ToDo, "See the list of what is still to be done before the site is complete.")
	}
	if !s.Visible {
		out.ToDo = append(out.ToDo, "Tell us when search engines may find the site; they are kept out until then.")
	}
	return out, nil
}

// openHandover tells the password, once.
func (a *api) openHandover(ctx context.Context, in *Put[wire.OpenHandover]) (*body[wire.HandedOver], error) {
	var out wire.HandedOver
	err := a.Sites.OpenHandover(ctx, in.Body.Key, func(s records.Site, password string) (err error) {
		out.Password = password
		out.Sheet, err = a.sheet(ctx, s)
		return err
	})
	if err != nil {
		return nil, err
	}
	return &body[wire.HandedOver]{out}, nil
}
