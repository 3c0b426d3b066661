package httpapi

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

// openHandoverPath is open to whoever has a link; everything else asks for a login.
const openHandoverPath = "/api/v1/handovers/open"

const handoverDays = 7

func handoverOut(h records.Handover) wire.Handover {
	return wire.Handover{ID: h.ID, MadeAt: h.MadeAt, MadeBy: h.MadeBy, ExpiresAt: h.ExpiresAt, OpenedAt: h.OpenedAt,
		WithdrawnAt: h.WithdrawnAt}
}

func releasesText(n int) string {
	if n == 1 {
		return "1 release"
	}
	return fmt.Sprintf("%d releases", n)
}

func (a *api) handoverOperations(h huma.API) {
	operation(h, "POST", "/sites/{name}/handovers", "hand-over", "Make a link by which a client gets a site's address and login, once",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.NewHandover]
		}) (*body[wire.Handover], error) {
			s, err := a.db.Site(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			key, days := rand.Text()+rand.Text(), handoverDays
			if in.Body.Days > 0 {
				days = in.Body.Days
			}
			link, err := a.db.AddHandover(ctx, s.ID, HashSecret(key), who(ctx).Name, time.Now().Add(time.Duration(days)*24*time.Hour))
			if err == nil {
				err = a.db.Audit(ctx, who(ctx).Name, "made a handover link for site "+s.Name)
			}
			if err != nil {
				return nil, err
			}
			out := handoverOut(link)
			out.Path = "/handover#" + key
			return &body[wire.Handover]{out}, nil
		})
	operation(h, "DELETE", "/sites/{name}/handovers", "withdraw-handovers", "Make a site's links that were not opened useless",
		func(ctx context.Context, in *Named) (*nothing, error) {
			s, err := a.db.Site(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			_, err = a.db.WithdrawHandovers(ctx, s.ID)
			return nil, err
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
	out := wire.Sheet{Site: s.Name, Title: site.Title, Address: s.Address, LoginAt: site.LoginAt, Login: site.Admin, Held: s.Held,
		Visible: s.Visible, Values: []wire.Value{}, Tasks: []wire.LaunchTask{}, MadeAt: s.MadeAt}
	for _, v := range s.Plan.Values {
		if v.Value != "" {
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

// openHandover tells the password once. Its key is too long to be guessed, so tries are not slowed down. Whoever comes later
// learns when it was opened: if that was somebody else, the client knows it at once.
func (a *api) openHandover(ctx context.Context, in *Put[wire.OpenHandover]) (_ *body[wire.HandedOver], err error) {
	link, opened, err := a.db.OpenHandover(ctx, HashSecret(strings.TrimSpace(in.Body.Key)))
	if errors.Is(err, records.ErrNotFound) {
		return nil, huma.NewError(http.StatusNotFound, "this link does not work; copy it whole, with everything behind the #")
	}
	if err != nil {
		return nil, err
	}
	told := false
	defer func() {
		if opened && !told { // the next try may do
			err = errors.Join(err, a.db.NotHandedOver(context.WithoutCancel(ctx), link.ID))
		}
	}()
	s, err := a.db.SiteByID(ctx, link.SiteID)
	if err != nil {
		return nil, err
	}
	switch {
	case !opened:
		return nil, huma.NewError(http.StatusGone, closedLink(link))
	case s.RetiredAt != nil:
		return nil, huma.NewError(http.StatusGone, "the site that this link was for is not there any more; ask whoever sent it")
	}
	sheet, err := a.sheet(ctx, s)
	if err != nil {
		return nil, err
	}
	out := wire.HandedOver{Sheet: sheet}
	// Reveal writes into the audit log before it tells.
	out.Password, err = a.Vault.Reveal(ctx, fmt.Sprintf("whoever opened handover %d", link.ID), "site", s.Name, "administrator")
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	told = true
	return &body[wire.HandedOver]{out}, nil
}

func closedLink(h records.Handover) string {
	ask := "ask whoever sent it for a new one"
	switch {
	case h.OpenedAt != nil:
		return fmt.Sprintf("this link was opened on %s and works once; if that was not you, say so at once and %s",
			h.OpenedAt.UTC().Format("2 January 2006, 15:04 UTC"), ask)
	case h.WithdrawnAt != nil:
		return "this link was withdrawn, or a newer one was made; " + ask
	}
	return fmt.Sprintf("this link ended on %s; %s", h.ExpiresAt.UTC().Format("2 January 2006"), ask)
}
