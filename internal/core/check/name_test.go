package check

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// names is a DNS of a few names; "down" does not answer.
type names map[string][]string

func (n names) LookupNetIP(_ context.Context, _, host string) ([]netip.Addr, error) {
	if host == "down.example" {
		return nil, errors.New("i/o timeout")
	}
	if _, known := n[host]; !known {
		return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
	}
	var out []netip.Addr
	for _, a := range n[host] {
		out = append(out, netip.MustParseAddr(a))
	}
	return out, nil
}

func TestANameLeadsToItsHostOrElsewhereOrNowhere(t *testing.T) {
	dns := names{"alder-valley.example": {"203.0.113.7"}, "both.example": {"203.0.113.7", "198.51.100.4"},
		"six.example": {"2001:db8::7", "203.0.113.7"}, "server.example": {"203.0.113.7", "2001:db8::7"}}
	for _, c := range []struct {
		address, connect string
		there            bool
		says             string
	}{
		{"https://alder-valley.example", "203.0.113.7", true, "alder-valley.example leads to the site's host, 203.0.113.7"},
		{"https://alder-valley.example/blog", "server.example:8443", true, "leads to the site's host"},
		{"https://six.example", "server.example", true, "leads to the site's host, 2001:db8::7 and 203.0.113.7"},
		{"https://alder-valley.example", "198.51.100.4:80", false, "leads to 203.0.113.7, and the site's host is 198.51.100.4"},
		{"https://both.example", "203.0.113.7", false, "leads to 198.51.100.4 and 203.0.113.7, and the site's host is 203.0.113.7"},
		{"https://new.example", "203.0.113.7", false, "new.example leads nowhere yet; the site's host is 203.0.113.7"},
		{"http://fern-bank.localhost:8480", "127.0.0.2", false, "leads to 127.0.0.1, and the site's host is 127.0.0.2"},
		{"http://fern-bank.localhost:8480", "127.0.0.1:8480", true, "leads to the site's host"},
		{"http://203.0.113.7", "203.0.113.7", true, "leads to the site's host"},
	} {
		l, err := Leads(t.Context(), dns, c.address, c.connect)
		require.NoError(t, err, c.address)
		require.Equal(t, c.there, l.There, c.says)
		require.Contains(t, l.Sentence(), c.says)
	}
	_, err := Leads(t.Context(), dns, "https://down.example", "203.0.113.7")
	require.ErrorContains(t, err, "timeout")
	_, err = Leads(t.Context(), dns, "down.example", "203.0.113.7")
	require.Error(t, err)

	first, err := Leads(t.Context(), dns, "https://new.example", "203.0.113.7")
	require.NoError(t, err)
	first.Since = first.Since.Add(-time.Hour)
	again, err := Leads(t.Context(), dns, "https://new.example", "203.0.113.7")
	require.NoError(t, err)
	require.Equal(t, first.Since, again.After(first).Since, "nothing has changed")
	dns["new.example"] = []string{"203.0.113.7"}
	now, err := Leads(t.Context(), dns, "https://new.example", "203.0.113.7")
	require.NoError(t, err)
	require.Equal(t, now.At, now.After(first).Since)
	require.True(t, now.There)
}
