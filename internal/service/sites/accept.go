package sites

import (
	"context"
	"slices"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// AcceptCheck accepts what a check of a site warns of or fails by, until it finds something else, or until a day: on that site, or
// everywhere, on all sites of its starter where just the same is found. Errors: input.ErrWrong, records.ErrNotFound.
func (svc *Sites) AcceptCheck(ctx context.Context, name, what, reason, who string, everywhere bool, until *time.Time) error {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return err
	}
	at := -1
	if s.Report != nil {
		at = slices.IndexFunc(s.Report.Checks, func(c check.Check) bool { return c.Name == what })
	}
	if at < 0 {
		return input.Wrongf("the checks of %s know no %q; check it again", s.Name, what)
	}
	c := &s.Report.Checks[at]
	switch {
	case c.Result == check.Pass:
		return input.Wrongf("%s passes; there is nothing to accept", c.Name)
	case until != nil && until.Before(time.Now()):
		return input.Wrongf("%s is over; name a later day", until.Format(time.DateOnly))
	}
	a := records.Acceptance{SiteID: &s.ID, What: c.Name, Mark: c.Mark(), Reason: reason, Who: who, Until: until}
	if everywhere {
		r, err := svc.DB.ReleaseByID(ctx, s.ReleaseID)
		if err != nil {
			return err
		}
		a.SiteID, a.StarterID, a.Mark = nil, &r.StarterID, c.MarkEverywhere()
	}
	return svc.DB.Accept(ctx, a)
}

// UnacceptCheck accepts it no more. Errors: input.ErrWrong, records.ErrNotFound.
func (svc *Sites) UnacceptCheck(ctx context.Context, name, what string) error {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return err
	}
	accepted, err := svc.DB.AcceptedOn(ctx, s.ID)
	if err != nil {
		return err
	}
	for _, a := range accepted {
		if a.What == what {
			return svc.DB.Unaccept(ctx, a)
		}
	}
	return input.Wrongf("%q is not accepted on %s", what, s.Name)
}
