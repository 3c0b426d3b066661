package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/zone"
	"nestseed/internal/wire"
)

func (a *api) dnsOperations(h huma.API) {
	operation(h, "POST", "/sites/{name}/dns", "ask-dns", "Ask DNS about a site's name", func(ctx context.Context, in *struct {
		Named
		NameServers []string `query:"name_servers" doc:"that the zone is to move to, with commas between"`
	}) (*body[wire.DNS], error) {
		r, err := a.Sites.LookAtDNS(ctx, in.Name, in.NameServers)
		return single(r, err, dnsOut)
	})
}

func dnsOut(r *zone.Report) wire.DNS {
	out := wire.DNS{Name: r.Name, Zone: r.Zone, Leads: r.Leads(), Want: []string{}, NameServers: as[[]wire.DNSAnswer](r.NameServers),
		Resolvers: as[[]wire.DNSAnswer](r.Resolvers), Mail: []wire.DNSRecord{}, Lost: []wire.DNSRecord{}, Sentences: r.Sentences(),
		ZoneFile: r.File()}
	out.Want = append(out.Want, r.Want...)
	for _, rec := range r.Mail() {
		out.Mail = append(out.Mail, wire.DNSRecord(rec))
	}
	for _, rec := range r.Lost {
		out.Lost = append(out.Lost, wire.DNSRecord(rec))
	}
	return out
}
