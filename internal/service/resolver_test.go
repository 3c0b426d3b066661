package service

import (
	"net"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"
)

// The DNS server that the settings name is the one that is asked.
func TestTheDNSServerOfTheSettingsIsAsked(t *testing.T) {
	server, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer server.Close()
	go func() {
		in := make([]byte, 1500)
		for {
			n, from, err := server.ReadFrom(in)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(in[:n]) != nil || len(m.Questions) == 0 {
				continue
			}
			q := m.Questions[0]
			m.Response, m.Additionals = true, nil
			if q.Name.String() != "alder-valley.example." {
				m.RCode = dnsmessage.RCodeNameError
			} else if q.Type == dnsmessage.TypeA {
				m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Class: dnsmessage.ClassINET, TTL: 60},
					Body: &dnsmessage.AResource{A: [4]byte{203, 0, 113, 7}}}}
			}
			if out, err := m.Pack(); err == nil {
				server.WriteTo(out, from)
			}
		}
	}()
	dns := (&Service{settings: Settings{DNS: server.LocalAddr().String()}}).resolver()
	found, err := dns.LookupNetIP(t.Context(), "ip", "alder-valley.example")
	require.NoError(t, err)
	require.Len(t, found, 1)
	require.Equal(t, "203.0.113.7", found[0].Unmap().String())
	_, err = dns.LookupNetIP(t.Context(), "ip", "brook-lane.example")
	var unknown *net.DNSError
	require.ErrorAs(t, err, &unknown)
	require.True(t, unknown.IsNotFound)
}
