// Package zone asks DNS about a site's name: where its own name servers and several resolvers lead visitors, and which records
// would be lost, those for mail above all, when the name moves to other name servers.
//
//	r, err := zone.Look(ctx, zone.Options{Resolvers: []string{"9.9.9.9:53"}}, "www.alder-valley.example", want)
//	os.WriteFile("alder-valley.zone", []byte(r.File()), 0o644)
//
// It only asks. A zone cannot be listed from outside, unless its servers allow a transfer; otherwise the names are asked for that are
// known to be used, and the report says so.
package zone

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"nestseed/internal/core/parallel"
)

// Options say who is asked.
type Options struct {
	// Resolvers are host:port of servers that answer for everybody; the first finds the name servers of a zone. At least one.
	Resolvers []string
	// Private lets name servers be asked that are inside private networks, as DNS says where they are.
	Private bool
	// Compare are name servers (names or addresses) that the zone is to move to; "" for none.
	Compare []string
}

// Record is one record of a zone.
type Record struct {
	Name  string `json:"name"` // with a dot at its end
	Type  string `json:"type"`
	Value string `json:"value"` // as a zone file has it (RFC 1035, section 5.1)
	TTL   uint32 `json:"ttl"`   // in seconds
}

// Answer is where one server says that a name leads.
type Answer struct {
	Server    string   `json:"server"`
	Addresses []string `json:"addresses"`
	Error     string   `json:"error,omitempty"`
}

// Report is what DNS says of a name.
type Report struct {
	Name        string   `json:"name"`
	Zone        string   `json:"zone"`
	NameServers []Answer `json:"name_servers"`
	Resolvers   []Answer `json:"resolvers"`
	Want        []string `json:"want"` // where the name should lead; none where nobody says
	Records     []Record `json:"records"`
	Whole       bool     `json:"whole"` // the name servers have told all records
	// Lost are records that the servers that were compared do not have.
	Lost []Record `json:"lost,omitempty"`
	// Compared are the servers that the zone is to move to.
	Compared []string `json:"compared,omitempty"`
}

// ErrUnknown says that nobody knows a name.
var ErrUnknown = errors.New("no name server is known for it")

// patience is how long a server may take for one answer, and most how many records are taken of one zone.
const (
	patience = 3 * time.Second
	most     = 5000
)

// used are names below a zone that are asked for when the zone cannot be listed: visitors, mail, and what mail is signed with.
var used = []string{"", "www", "mail", "smtp", "imap", "pop", "pop3", "webmail", "mx", "mx1", "mx2", "autodiscover", "autoconfig", "ftp",
	"_dmarc",
	"_mta-sts", "_smtp._tls", "default._domainkey", "mail._domainkey", "dkim._domainkey", "selector1._domainkey", "selector2._domainkey",
	"s1._domainkey", "s2._domainkey", "k1._domainkey", "k2._domainkey", "_autodiscover._tcp", "_submission._tcp", "_submissions._tcp",
	"_imap._tcp",
	"_imaps._tcp", "_caldavs._tcp", "_carddavs._tcp"}

var types = []uint16{dns.TypeA, dns.TypeAAAA, dns.TypeCNAME, dns.TypeMX, dns.TypeTXT, dns.TypeSRV, dns.TypeCAA}

// Look asks about a name. want is where it should lead. Errors: ErrUnknown; one of the first resolver.
func Look(ctx context.Context, o Options, name string, want []string) (*Report, error) {
	if len(o.Resolvers) == 0 {
		return nil, errors.New("no DNS server is known that could be asked")
	}
	r := &Report{Name: dns.Fqdn(strings.ToLower(name)), Want: want, Records: []Record{}}
	l := &looker{o: o, r: r}
	servers, err := l.find(ctx)
	if err != nil {
		return nil, err
	}
	group, within := parallel.WithContext(ctx)
	group.Go(func() error {
		r.NameServers = l.addressesAt(within, servers, false)
		return nil
	})
	group.Go(func() error {
		var all []server
		for _, at := range o.Resolvers {
			all = append(all, server{name: at, at: at})
		}
		r.Resolvers = l.addressesAt(within, all, true)
		return nil
	})
	group.Go(func() error {
		r.Records, r.Whole = l.records(within, servers)
		return nil
	})
	if err := group.Wait(); err != nil {
		return nil, err
	}
	if len(o.Compare) > 0 {
		return r, l.compare(ctx)
	}
	return r, nil
}

// SystemResolvers are those of this machine (resolv.conf(5)), as host:port.
func SystemResolvers() ([]string, error) {
	c, err := dns.ClientConfigFromFile("/etc/resolv.conf")
	if err != nil {
		return nil, fmt.Errorf("the DNS servers of this machine are not known: %w; name one in the setting dns", err)
	}
	var out []string
	for _, s := range c.Servers {
		out = append(out, net.JoinHostPort(s, c.Port))
	}
	return out, nil
}

// server is one that is asked.
type server struct{ name, at string }

type looker struct {
	o Options
	r *Report
}

// ask sends one question, over TCP where the answer is too long for UDP (RFC 7766).
func ask(ctx context.Context, at, name string, t uint16, recurse bool) (*dns.Msg, error) {
	m := new(dns.Msg)
	m.SetQuestion(name, t)
	m.RecursionDesired = recurse
	m.SetEdns0(1232, false)
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	in, _, err := (&dns.Client{Timeout: patience}).ExchangeContext(ctx, m, at)
	if err == nil && in.Truncated {
		in, _, err = (&dns.Client{Net: "tcp", Timeout: patience}).ExchangeContext(ctx, m, at)
	}
	if err != nil {
		return nil, err
	}
	if in.Rcode != dns.RcodeSuccess && in.Rcode != dns.RcodeNameError {
		return nil, fmt.Errorf("%s answers %s", at, dns.RcodeToString[in.Rcode])
	}
	return in, nil
}

// find goes up from the name to the zone that it is in, and returns the zone's name servers.
func (l *looker) find(ctx context.Context) ([]server, error) {
	labels := dns.SplitDomainName(l.r.Name)
	for i := range labels {
		zone := dns.Fqdn(strings.Join(labels[i:], "."))
		in, err := ask(ctx, l.o.Resolvers[0], zone, dns.TypeNS, true)
		if err != nil {
			return nil, fmt.Errorf("ask %s for the name servers of %s: %w", l.o.Resolvers[0], zone, err)
		}
		var names []string
		for _, rr := range in.Answer {
			if ns, ok := rr.(*dns.NS); ok && strings.EqualFold(ns.Hdr.Name, zone) {
				names = append(names, strings.ToLower(ns.Ns))
			}
		}
		if len(names) > 0 {
			l.r.Zone = zone
			slices.Sort(names)
			return l.serversOf(ctx, names), nil
		}
	}
	return nil, fmt.Errorf("%s: %w", strings.TrimSuffix(l.r.Name, "."), ErrUnknown)
}

// serversOf finds where name servers are.
func (l *looker) serversOf(ctx context.Context, names []string) (out []server) {
	for _, name := range names {
		if a, err := netip.ParseAddr(name); err == nil {
			if l.o.Private || !inside(a) {
				out = append(out, server{name, l.port(a)})
			}
			continue
		}
		for _, a := range l.lookUp(ctx, l.o.Resolvers[0], dns.Fqdn(name), true).Addresses {
			addr, err := netip.ParseAddr(a)
			if err != nil {
				continue
			}
			if inside(addr) && !l.o.Private {
				continue // where a stranger's zone says that its servers are is not asked inside here
			}
			out = append(out, server{strings.TrimSuffix(name, "."), l.port(addr)})
			break
		}
	}
	return out
}

func inside(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() || a.IsUnspecified() || a.IsMulticast()
}

// port is where a name server is asked: at 53, and on this machine where the resolver is.
func (l *looker) port(a netip.Addr) string {
	port := "53"
	if a.IsLoopback() {
		if _, p, err := net.SplitHostPort(l.o.Resolvers[0]); err == nil {
			port = p
		}
	}
	return net.JoinHostPort(a.String(), port)
}

// lookUp asks a server where a name leads.
func (l *looker) lookUp(ctx context.Context, at, name string, recurse bool) Answer {
	a := Answer{Server: at, Addresses: []string{}}
	for _, t := range []uint16{dns.TypeA, dns.TypeAAAA} {
		in, err := ask(ctx, at, name, t, recurse)
		if err != nil {
			a.Error = err.Error()
			return a
		}
		for _, rr := range in.Answer {
			switch rr := rr.(type) {
			case *dns.A:
				a.Addresses = append(a.Addresses, rr.A.String())
			case *dns.AAAA:
				a.Addresses = append(a.Addresses, rr.AAAA.String())
			case *dns.CNAME:
				// Its own servers do not follow a name out of their zone.
				if !recurse && !slices.ContainsFunc(in.Answer, isAddress) && t == dns.TypeA {
					a.Addresses = append(a.Addresses, l.lookUp(ctx, l.o.Resolvers[0], rr.Target, true).Addresses...)
				}
			}
		}
	}
	slices.Sort(a.Addresses)
	a.Addresses = slices.Compact(a.Addresses)
	return a
}

func isAddress(rr dns.RR) bool {
	t := rr.Header().Rrtype
	return t == dns.TypeA || t == dns.TypeAAAA
}

func (l *looker) addressesAt(ctx context.Context, servers []server, recurse bool) []Answer {
	out := make([]Answer, len(servers))
	var group parallel.Group
	for i, s := range servers {
		group.Go(func() error {
			out[i] = l.lookUp(ctx, s.at, l.r.Name, recurse)
			out[i].Server = s.name
			return nil
		})
	}
	group.Wait() //nolint:errcheck // faults are in the answers
	return out
}

// records returns those of the zone: all, where a server allows a transfer (RFC 5936), else those of names that are used.
func (l *looker) records(ctx context.Context, servers []server) (out []Record, whole bool) {
	for _, s := range servers {
		if all := l.transfer(ctx, s.at); len(all) > 0 {
			return sorted(all), true
		}
	}
	for _, s := range servers {
		if found, err := l.known(ctx, s.at, l.names()); err == nil {
			return sorted(found), false
		}
	}
	return []Record{}, false
}

// names are those that are asked for, as full names.
func (l *looker) names() []string {
	names := make([]string, 0, len(used)+1)
	for _, n := range used {
		names = append(names, strings.TrimPrefix(n+"."+l.r.Zone, "."))
	}
	if !slices.Contains(names, l.r.Name) {
		names = append(names, l.r.Name)
	}
	return names
}

func (l *looker) transfer(ctx context.Context, at string) (out []Record) {
	m := new(dns.Msg)
	m.SetAxfr(l.r.Zone)
	conn, err := (&net.Dialer{Timeout: patience}).DialContext(ctx, "tcp", at)
	if err != nil {
		return nil
	}
	defer conn.Close()
	t := &dns.Transfer{Conn: &dns.Conn{Conn: conn}, ReadTimeout: patience, WriteTimeout: patience}
	in, err := t.In(m, at)
	if err != nil {
		return nil
	}
	for part := range in {
		if part.Error != nil || len(out) > most {
			conn.Close()
			for range in { // it ends with the connection
			}
			return nil
		}
		for _, rr := range part.RR {
			if t := rr.Header().Rrtype; t != dns.TypeSOA && t != dns.TypeNS && t != dns.TypeRRSIG && t != dns.TypeNSEC && t != dns.TypeDNSKEY {
				out = append(out, recordOf(rr))
			}
		}
	}
	return out
}

// known asks a server for every type of some names.
func (l *looker) known(ctx context.Context, at string, names []string) ([]Record, error) {
	found := make([][]Record, len(names)*len(types))
	group, ctx := parallel.WithContext(ctx)
	group.SetLimit(16)
	for i, name := range names {
		for j, t := range types {
			group.Go(func() error {
				in, err := ask(ctx, at, name, t, false)
				if err != nil {
					return err
				}
				for _, rr := range in.Answer {
					if rr.Header().Rrtype == t && strings.EqualFold(rr.Header().Name, name) {
						found[i*len(types)+j] = append(found[i*len(types)+j], recordOf(rr))
					}
				}
				return nil
			})
		}
	}
	err := group.Wait()
	return slices.Concat(found...), err
}

func recordOf(rr dns.RR) Record {
	h := rr.Header()
	return Record{Name: strings.ToLower(h.Name), Type: dns.TypeToString[h.Rrtype], TTL: h.Ttl,
		Value: strings.TrimSpace(strings.TrimPrefix(rr.String(), h.String()))}
}

func sorted(records []Record) []Record {
	slices.SortFunc(records, func(a, b Record) int {
		return cmp.Or(cmp.Compare(strings.Count(a.Name, "."), strings.Count(b.Name, ".")), cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.Type, b.Type),
			cmp.Compare(a.Value, b.Value))
	})
	return slices.Compact(records)
}

// compare finds what the servers that the zone is to move to do not have. Where the name itself leads is meant to change.
func (l *looker) compare(ctx context.Context) error {
	servers := l.serversOf(ctx, l.o.Compare)
	if len(servers) == 0 {
		return fmt.Errorf("none of the name servers %s is found", strings.Join(l.o.Compare, ", "))
	}
	var names []string
	for _, rec := range l.r.Records {
		names = append(names, rec.Name)
	}
	slices.Sort(names)
	there, err := l.known(ctx, servers[0].at, slices.Compact(names))
	if err != nil {
		return fmt.Errorf("ask the new name server %s: %w", servers[0].name, err)
	}
	l.r.Compared = l.o.Compare
	for _, rec := range l.r.Records {
		isPlace := rec.Name == l.r.Name && (rec.Type == "A" || rec.Type == "AAAA" || rec.Type == "CNAME")
		if !isPlace && !slices.ContainsFunc(there, func(t Record) bool {
			return t.Name == rec.Name && t.Type == rec.Type &&
				t.Value == rec.Value
		}) {
			l.r.Lost = append(l.r.Lost, rec)
		}
	}
	return nil
}

// Mail returns the records that mail depends on: where it goes, who may send, and what it is signed with.
func (r *Report) Mail() (out []Record) {
	for _, rec := range r.Records {
		first, _, _ := strings.Cut(rec.Name, ".")
		signs := strings.Contains(rec.Name, "._domainkey.") || slices.Contains([]string{"_dmarc", "_mta-sts", "autodiscover", "autoconfig"},
			first)
		sends := rec.Type == "TXT" && strings.Contains(rec.Value, "v=spf1")
		if rec.Type == "MX" || signs || sends || rec.Type == "SRV" {
			out = append(out, rec)
		}
	}
	return out
}

// Leads reports whether every server that answered leads to where the name should lead, and nowhere else.
func (r *Report) Leads() bool {
	some := false
	for _, a := range slices.Concat(r.NameServers, r.Resolvers) {
		if a.Error != "" {
			continue
		}
		some = true
		if len(a.Addresses) == 0 || slices.ContainsFunc(a.Addresses, func(at string) bool { return !slices.Contains(r.Want, at) }) {
			return false
		}
	}
	return some && len(r.Want) > 0
}

// Sentences say what the report means.
func (r *Report) Sentences() (out []string) {
	name, zone := strings.TrimSuffix(r.Name, "."), strings.TrimSuffix(r.Zone, ".")
	switch {
	case len(r.Want) == 0:
		out = append(out, fmt.Sprintf("where %s should lead is not known; say it with connect in the host's settings", name))
	case r.Leads():
		out = append(out, fmt.Sprintf("%s leads to the site's host, %s, wherever it was asked", name, strings.Join(r.Want, " and ")))
	default:
		out = append(out, fmt.Sprintf("%s does not lead to the site's host, %s, everywhere", name, strings.Join(r.Want, " and ")))
	}
	if n := len(r.Mail()); n > 0 {
		out = append(out, fmt.Sprintf("%d records are about mail of %s: where other name servers do not have them, mail is lost", n, zone))
	} else {
		out = append(out, fmt.Sprintf("no records about mail of %s were found", zone))
	}
	switch {
	case len(r.Lost) > 0:
		out = append(out, fmt.Sprintf("%d of %d records are not on %s: moving there now would lose them; hand over the zone file first",
			len(r.Lost),
			len(r.Records), strings.Join(r.Compared, ", ")))
	case len(r.Compared) > 0:
		out = append(out, fmt.Sprintf("all %d records are on %s too", len(r.Records), strings.Join(r.Compared, ", ")))
	}
	if !r.Whole {
		out = append(out, "the zone cannot be listed from outside: these are the names that are known to be used, and there may be others")
	}
	return out
}

// File returns the records as a zone file (RFC 1035, section 5).
func (r *Report) File() string {
	var text strings.Builder
	fmt.Fprintf(&text, "; records of %s as its name servers told them\n", strings.TrimSuffix(r.Zone, "."))
	if !r.Whole {
		text.WriteString("; the zone cannot be listed from outside: there may be names that are not here\n")
	}
	fmt.Fprintf(&text, "$ORIGIN %s\n", r.Zone)
	for _, rec := range r.Records {
		fmt.Fprintf(&text, "%s\t%d\tIN\t%s\t%s\n", rec.Name, rec.TTL, rec.Type, rec.Value)
	}
	return text.String()
}
