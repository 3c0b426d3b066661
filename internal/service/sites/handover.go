package sites

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"nestseed/internal/service/records"
	"nestseed/internal/service/users"
)

const handoverDays = 7

// ErrNoLink says that a text is not the key of a handover link.
var ErrNoLink = errors.New("this link does not work; copy it whole, with everything behind the #")

// ErrLinkClosed says that a handover link does not open any more; the error around it says why.
var ErrLinkClosed = errors.New("this link does not open any more")

// closedLinkError is a handover link that does not open any more, as told to whoever has it.
type closedLinkError string

func (e closedLinkError) Error() string { return string(e) }

func (closedLinkError) Unwrap() error { return ErrLinkClosed }

// HandOver makes the key of a link by which a client gets a site's address and login, once, within so many days (0 for the usual
// number). Links that were made before and not opened are withdrawn. Errors: records.ErrNotFound.
func (svc *Sites) HandOver(ctx context.Context, name, who string, days int) (key string, link records.Handover, err error) {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return "", link, err
	}
	if days == 0 {
		days = handoverDays
	}
	key = rand.Text() + rand.Text()
	link, err = svc.DB.AddHandover(ctx, s.ID, users.HashSecret(key), who, time.Now().Add(time.Duration(days)*24*time.Hour))
	if err != nil {
		return "", link, err
	}
	return key, link, svc.DB.Audit(ctx, who, "made a handover link for site "+s.Name)
}

// WithdrawHandovers makes a site's links that were not opened useless. Errors: records.ErrNotFound.
func (svc *Sites) WithdrawHandovers(ctx context.Context, name string) error {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return err
	}
	_, err = svc.DB.WithdrawHandovers(ctx, s.ID)
	return err
}

// OpenHandover opens a link, once, and returns its site with the password for its login, which is "" when the vault has none. tell
// says the rest; when it cannot, the link opens again. A key is too long to be guessed, so tries are not slowed down. Errors:
// ErrNoLink, ErrLinkClosed.
func (svc *Sites) OpenHandover(ctx context.Context, key string, tell func(s records.Site, password string) error) (err error) {
	link, opened, err := svc.DB.OpenHandover(ctx, users.HashSecret(strings.TrimSpace(key)))
	if errors.Is(err, records.ErrNotFound) {
		return ErrNoLink
	}
	if err != nil {
		return err
	}
	if !opened {
		return closedLinkError(closedLink(link))
	}
	defer func() {
		if err != nil { // the next try may do
			err = errors.Join(err, svc.DB.NotHandedOver(context.WithoutCancel(ctx), link.ID))
		}
	}()
	s, err := svc.DB.SiteByID(ctx, link.SiteID)
	if err != nil {
		return err
	}
	if s.RetiredAt != nil {
		return closedLinkError("the site that this link was for is not there any more; ask whoever sent it")
	}
	// Reveal writes into the audit log before it tells.
	password, err := svc.Vault.Reveal(ctx, fmt.Sprintf("whoever opened handover %d", link.ID), "site", s.Name, "administrator")
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	return tell(s, password)
}

// closedLink says why a link does not open: whoever comes later learns when it was opened, so that a client knows at once if that
// was somebody else.
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
