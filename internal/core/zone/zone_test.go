package zone

import (
	"fmt"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"nestseed/internal/core/zone/zonetest"
)

const alder = `
alder-valley.example. 3600 IN SOA ns1.alder-valley.example. office.alder-valley.example. 1 3600 600 86400 300
alder-valley.example. 3600 IN NS ns1.alder-valley.example.
alder-valley.example. 300 IN A 203.0.113.7
alder-valley.example. 3600 IN MX 10 mail.post.example.
alder-valley.example. 3600 IN TXT "v=spf1 mx -all"
ns1.alder-valley.example. 3600 IN A 127.0.0.1
www.alder-valley.example. 300 IN CNAME alder-valley.example.
_dmarc.alder-valley.example. 3600 IN TXT "v=DMARC1; p=reject"
s1._domainkey.alder-valley.example. 3600 IN TXT "v=DKIM1; k=rsa; p=%s"
pupils.alder-valley.example. 300 IN A 203.0.113.9
`

func alderZone() string { return fmt.Sprintf(alder, strings.Repeat("A", 200)) }

func look(t *testing.T, transfers bool, name string, compare ...string) *Report {
	t.Helper()
	at := zonetest.Serve(t, transfers, map[string]string{"alder-valley.example": alderZone()})
	r, err := Look(t.Context(), Options{Resolvers: []string{at}, Private: true, Compare: compare}, name, []string{"203.0.113.7"})
	require.NoError(t, err)
	return r
}

func TestEveryServerIsAskedWhereANameLeads(t *testing.T) {
	r := look(t, false, "alder-valley.example")
	require.Equal(t, "alder-valley.example.", r.Zone)
	require.Equal(t, []Answer{{Server: "ns1.alder-valley.example", Addresses: []string{"203.0.113.7"}}}, r.NameServers)
	require.Len(t, r.Resolvers, 1)
	require.True(t, r.Leads())
	require.Contains(t, r.Sentences()[0], "wherever it was asked")
	r.Want = []string{"203.0.113.8"}
	require.False(t, r.Leads())
	require.Contains(t, r.Sentences()[0], "does not lead")
	r.Want = nil
	require.False(t, r.Leads())
	require.Contains(t, r.Sentences()[0], "not known")

	www := look(t, false, "www.alder-valley.example")
	require.Equal(t, "alder-valley.example.", www.Zone)
	require.Equal(t, []string{"203.0.113.7"}, www.NameServers[0].Addresses, "a name of another name")
}

func TestRecordsOfMailAreFound(t *testing.T) {
	for _, transfers := range []bool{false, true} {
		r := look(t, transfers, "alder-valley.example")
		require.Equal(t, transfers, r.Whole)
		var mail []string
		for _, rec := range r.Mail() {
			mail = append(mail, rec.Name+" "+rec.Type)
		}
		require.ElementsMatch(t, []string{"alder-valley.example. MX", "alder-valley.example. TXT", "_dmarc.alder-valley.example. TXT",
			"s1._domainkey.alder-valley.example. TXT"}, mail)
		require.Equal(t, transfers, strings.Contains(r.File(), "pupils."), "what nobody can guess is found only where the zone is told whole")
		require.Equal(t, !transfers, strings.Contains(r.File(), "there may be names that are not here"))

		// A zone file that is handed over is one.
		p := dns.NewZoneParser(strings.NewReader(r.File()), "", "")
		n := 0
		for _, ok := p.Next(); ok; _, ok = p.Next() {
			n++
		}
		require.NoError(t, p.Err())
		require.Equal(t, len(r.Records), n)
	}
}

func TestWhatOtherNameServersDoNotHaveIsNamed(t *testing.T) {
	moved := map[string]string{
		"alder-valley.example": alderZone(),
		"new.example": `new.example. 300 IN SOA ns.new.example. office.new.example. 1 3600 600 86400 300
new.example. 300 IN NS ns.new.example.
ns.new.example. 300 IN A 127.0.0.1`,
	}
	at := zonetest.Serve(t, false, moved)
	r, err := Look(t.Context(), Options{Resolvers: []string{at}, Private: true, Compare: []string{"ns.new.example"}}, "alder-valley.example", nil)
	require.NoError(t, err)
	require.Empty(t, r.Lost, "the same server has all of it")
	require.Contains(t, strings.Join(r.Sentences(), "\n"), "are on ns.new.example too")

	// Servers that have the visitors' address alone would lose the mail.
	l := &looker{o: Options{Resolvers: []string{zonetest.Serve(t, false, map[string]string{
		"alder-valley.example": "alder-valley.example. 300 IN SOA ns. office. 1 3600 600 86400 300\nalder-valley.example. 300 IN A 203.0.113.8"})},
		Private: true, Compare: []string{"127.0.0.1"}}, r: r}
	r.Lost = nil
	require.NoError(t, l.compare(t.Context()))
	var lost []string
	for _, rec := range r.Lost {
		lost = append(lost, rec.Name+" "+rec.Type)
	}
	require.Contains(t, lost, "alder-valley.example. MX")
	require.Contains(t, lost, "_dmarc.alder-valley.example. TXT")
	require.NotContains(t, lost, "alder-valley.example. A", "where the name leads is meant to change")
	require.Contains(t, strings.Join(r.Sentences(), "\n"), "hand over the zone file first")
}

func TestNamesThatNobodyKnowsAndServersThatDoNotAnswer(t *testing.T) {
	at := zonetest.Serve(t, false, map[string]string{"alder-valley.example": alderZone()})
	_, err := Look(t.Context(), Options{Resolvers: []string{at}}, "nobody.invalid", nil)
	require.ErrorIs(t, err, ErrUnknown)
	_, err = Look(t.Context(), Options{Resolvers: []string{"127.0.0.1:1"}}, "alder-valley.example", nil)
	require.ErrorContains(t, err, "127.0.0.1:1")
	_, err = Look(t.Context(), Options{}, "alder-valley.example", nil)
	require.Error(t, err)
	r, err := Look(t.Context(), Options{Resolvers: []string{at, "127.0.0.1:1"}}, "alder-valley.example", []string{"203.0.113.7"})
	require.NoError(t, err)
	require.Empty(t, r.NameServers, "servers inside here, as a stranger's zone says, are not asked")
	require.NotEmpty(t, r.Resolvers[1].Error)
	require.True(t, r.Leads(), "who does not answer says nothing")
}
