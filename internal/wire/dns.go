package wire

// DNS is what DNS says of a site's name.
type DNS struct {
	Name        string      `json:"name"`
	Zone        string      `json:"zone"`
	Leads       bool        `json:"leads" doc:"every server that answered leads to the site's host, and nowhere else"`
	Want        []string    `json:"want" doc:"where the name should lead"`
	NameServers []DNSAnswer `json:"name_servers" doc:"the zone's own"`
	Resolvers   []DNSAnswer `json:"resolvers" doc:"servers that answer for everybody"`
	Mail        []DNSRecord `json:"mail" doc:"records that mail depends on"`
	Lost        []DNSRecord `json:"lost" doc:"records that the servers which were compared do not have"`
	Sentences   []string    `json:"sentences" format:"sentence"`
	ZoneFile    string      `json:"zone_file" doc:"the records, to hand over (RFC 1035, section 5)"`
}

// DNSAnswer is where one server says that a name leads.
type DNSAnswer struct {
	Server    string   `json:"server"`
	Addresses []string `json:"addresses"`
	Error     string   `json:"error,omitempty" format:"sentence"`
}

// DNSRecord is one record of a zone.
type DNSRecord struct {
	Name  string `json:"name"`
	Type  string `json:"type"`
	Value string `json:"value"`
	TTL   uint32 `json:"ttl"`
}
