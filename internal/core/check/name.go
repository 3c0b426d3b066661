package check

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/rewrite"
)

// Resolver asks DNS, as net.Resolver does.
type Resolver interface {
	LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error)
}

// Lead is where the name in a site's address leads.
type Lead struct {
	Host  string    `json:"host"`
	To    []string  `json:"to"`    // IP addresses, in order; none when nobody knows the name
	Want  []string  `json:"want"`  // those of the machine that the site is on
	There bool      `json:"there"` // it leads there, and nowhere else
	Since time.Time `json:"since"` // when it was first seen to lead where it does
	At    time.Time `json:"at"`    // when it was asked for last
}

// Leads asks where a site's name leads, for a site on the machine that connect names (host or host:port). An error
// means that DNS did not answer; a name that is not known is none.
func Leads(ctx context.Context, dns Resolver, address, connect string) (*Lead, error) {
	u, err := rewrite.ParseAddress(address)
	if err != nil {
		return nil, err
	}
	machine := connect
	if host, _, err := net.SplitHostPort(connect); err == nil {
		machine = host
	}
	l := &Lead{Host: u.Hostname(), At: time.Now().UTC().Truncate(time.Second)}
	l.Since = l.At
	if l.To, err = addresses(ctx, dns, l.Host); err != nil {
		return nil, err
	}
	if l.Want, err = addresses(ctx, dns, machine); err != nil {
		return nil, err
	}
	l.There = len(l.To) > 0 && !slices.ContainsFunc(l.To, func(a string) bool { return !slices.Contains(l.Want, a) })
	return l, nil
}

// addresses are those of a name, or the one that it is; of names under .localhost, this machine's (RFC 6761 section 6.3).
func addresses(ctx context.Context, dns Resolver, name string) ([]string, error) {
	if a, err := netip.ParseAddr(name); err == nil {
		return []string{a.Unmap().String()}, nil
	}
	if name == "localhost" || strings.HasSuffix(name, ".localhost") {
		return []string{"127.0.0.1"}, nil
	}
	found, err := dns.LookupNetIP(ctx, "ip", name)
	var unknown *net.DNSError
	if errors.As(err, &unknown) && unknown.IsNotFound {
		return []string{}, nil
	}
	if err != nil {
		return nil, err
	}
	out := make([]string, len(found))
	for i, a := range found {
		out[i] = a.Unmap().String()
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// After is the lead as it is known when it was was before: since when it has led where it does.
func (l Lead) After(was *Lead) *Lead {
	if was != nil && was.Host == l.Host && was.There == l.There && slices.Equal(was.To, l.To) {
		l.Since = was.Since
	}
	return &l
}

// Sentence says where the name leads.
func (l *Lead) Sentence() string {
	to, want := strings.Join(l.To, " and "), strings.Join(l.Want, " and ")
	switch {
	case l.There:
		return fmt.Sprintf("%s leads to the site's host, %s", l.Host, to)
	case len(l.To) == 0:
		return fmt.Sprintf("%s leads nowhere yet; the site's host is %s", l.Host, want)
	}
	return fmt.Sprintf("%s leads to %s, and the site's host is %s", l.Host, to, want)
}

// name judges where the site's name leads.
func (r *runner) name(ctx context.Context) {
	if r.site.DNS == nil || r.site.Connect == "" {
		return
	}
	lead, err := Leads(ctx, r.site.DNS, r.site.Address, r.site.Connect)
	switch {
	case err != nil:
		r.record(Check{Name: "name", Result: Warn, Sentence: "where the name leads could not be asked: " + err.Error(),
			Remedy: "check again when DNS answers"})
	case lead.There:
		r.record(Check{Name: "name", Result: Pass, Sentence: lead.Sentence()})
	default:
		r.record(Check{Name: "name", Result: Warn, Sentence: lead.Sentence(),
			Remedy: "point the name at the host when visitors are to come; until then only the checks see the site there"})
	}
}
