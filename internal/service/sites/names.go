package sites

import (
	"context"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/service/records"
)

// leadStays is how long it is believed that a name still leads to its host.
const leadStays = time.Hour

// WatchNames asks where the names of sites lead, of all that are not known to lead to their hosts, and records what has
// changed. It is for hosts that say what to connect to: of others nobody knows where their names should lead. It goes on
// when DNS does not answer for some, and returns the sites whose names lead to their hosts since this time.
func (svc *Sites) WatchNames(ctx context.Context) (arrived []records.Watched, err error) {
	sites, err := svc.DB.Watched(ctx, time.Now().Add(-leadStays))
	if err != nil {
		return nil, err
	}
	for _, s := range sites {
		lead, asked := svc.lead(ctx, s)
		if asked != nil {
			continue // DNS may answer the next time
		}
		if err := svc.DB.SetLead(ctx, s.ID, s.Address, lead); err != nil {
			return arrived, err
		}
		if lead.There && s.Lead != nil && !s.Lead.There {
			arrived = append(arrived, s)
		}
	}
	return arrived, nil
}

// askName asks where a site's name leads and records it, where that can be said and DNS answers.
func (svc *Sites) askName(ctx context.Context, s records.Site) error {
	h, err := svc.DB.HostByID(ctx, s.HostID)
	if err != nil || h.Connect == "" {
		return err
	}
	lead, asked := svc.lead(ctx, records.Watched{Address: s.Address, Connect: h.Connect, Lead: s.Lead})
	if asked != nil {
		return nil // the watch asks again
	}
	return svc.DB.SetLead(ctx, s.ID, s.Address, lead)
}

func (svc *Sites) lead(ctx context.Context, s records.Watched) (*check.Lead, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	lead, err := check.Leads(ctx, svc.DNS, s.Address, s.Connect)
	if err != nil {
		return nil, err
	}
	return lead.After(s.Lead), nil
}
