package sites

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

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
	r, err := svc.askZone(ctx, u.Hostname(), compare, want)
	if errors.Is(err, zone.ErrUnknown) {
		return nil, input.Wrong(err)
	}
	return r, err
}

// askZone asks the resolvers of the settings, or else those of this machine.
func (svc *Sites) askZone(ctx context.Context, name string, compare, want []string) (*zone.Report, error) {
	servers := svc.DNSServers
	named := len(servers) > 0
	if !named {
		var err error
		if servers, err = zone.SystemResolvers(); err != nil {
			return nil, err
		}
	}
	return zone.Look(ctx, zone.Options{Resolvers: servers, Private: named, Compare: compare}, name, want)
}

// mailTime is how long a plan waits for what DNS says of mail.
const mailTime = 4 * time.Second

// mailSentence says before a move which mail records belong to the name of an address, as they are lost when its name servers change
// and nobody takes them along; "" where there are none, or DNS does not say.
func (svc *Sites) mailSentence(ctx context.Context, site, address string) string {
	u, err := rewrite.ParseAddress(address)
	if err != nil || net.ParseIP(u.Hostname()) != nil || strings.HasSuffix(u.Hostname(), ".localhost") && len(svc.DNSServers) == 0 {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, mailTime)
	defer cancel()
	r, err := svc.askZone(ctx, u.Hostname(), nil, nil)
	if err != nil {
		return ""
	}
	mail := r.Mail()
	if len(mail) == 0 {
		return ""
	}
	of := strings.TrimSuffix(r.Zone, ".")
	return fmt.Sprintf("mail of %s has records in DNS (%s %s), and nothing here changes them. If the name servers are to change too, "+
		"take them "+
		"along: all %d of %s can be saved as a zone file for whoever runs the new ones", of, mail[0].Type, mail[0].Value, len(r.Records), of)
}
