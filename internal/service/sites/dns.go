package sites

import (
	"context"
	"errors"
	"fmt"
	"net"

	"nestseed/internal/core/check"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/zone"
	"nestseed/internal/service/input"
)

// LookAtDNS asks DNS about a site's name, and compares the name servers that it is to move to, if any are given. Errors:
// input.ErrWrong, records.ErrNotFound.
func (svc *Sites) LookAtDNS(ctx context.Context, name string, compare []string) (*zone.Report, error) {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return nil, err
	}
	h, err := svc.DB.HostByID(ctx, s.HostID)
	if err != nil {
		return nil, err
	}
	u, err := rewrite.ParseAddress(s.Address)
	if err != nil {
		return nil, err
	}
	if net.ParseIP(u.Hostname()) != nil {
		return nil, input.Wrongf("the address of site %s is a number; DNS has nothing to say of it", name)
	}
	var want []string
	if h.Connect != "" {
		lead, err := check.Leads(ctx, svc.DNS, s.Address, h.Connect)
		if err != nil {
			return nil, fmt.Errorf("where host %s is: %w", h.Name, err)
		}
		want = lead.Want
	}
	servers := svc.DNSServers
	named := len(servers) > 0
	if !named {
		if servers, err = zone.SystemResolvers(); err != nil {
			return nil, err
		}
	}
	r, err := zone.Look(ctx, zone.Options{Resolvers: servers, Private: named, Compare: compare}, u.Hostname(), want)
	if errors.Is(err, zone.ErrUnknown) {
		return nil, input.Wrong(err)
	}
	return r, err
}
