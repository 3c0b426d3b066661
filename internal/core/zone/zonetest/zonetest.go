// Package zonetest is a small DNS server on loopback for tests: it has the zones that it is given, and answers for everything else
// that it does not know it.
package zonetest

import (
	"net"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// Serve answers from zones, each a zone file by its name, over UDP and TCP, until the test ends, and returns where. Zones are
// transferred to whoever asks only with transfers.
func Serve(t testing.TB, transfers bool, zones map[string]string) (at string) {
	t.Helper()
	records := map[string][]dns.RR{}
	for zone, text := range zones {
		p := dns.NewZoneParser(strings.NewReader(text+"\n"), dns.Fqdn(zone), "")
		for rr, ok := p.Next(); ok; rr, ok = p.Next() {
			records[dns.Fqdn(zone)] = append(records[dns.Fqdn(zone)], rr)
		}
		require.NoError(t, p.Err())
	}
	var udp net.PacketConn
	var tcp net.Listener
	for tried := 0; tcp == nil; tried++ { // a port that is free for the one may be taken for the other
		var err error
		udp, err = net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		if tcp, err = net.Listen("tcp", udp.LocalAddr().String()); err != nil {
			udp.Close()
			require.Less(t, tried, 20, err)
			tcp = nil
		}
	}
	answer := dns.HandlerFunc(func(w dns.ResponseWriter, in *dns.Msg) {
		q := in.Question[0]
		if q.Qtype == dns.TypeAXFR {
			all := records[q.Name]
			if m := new(dns.Msg); !transfers || len(all) == 0 {
				m.SetRcode(in, dns.RcodeRefused)
				w.WriteMsg(m) //nolint:errcheck // who asked sees that nothing comes
				return
			}
			m := new(dns.Msg)
			m.SetReply(in)
			m.Answer = append(append([]dns.RR{}, all...), all[0])
			w.WriteMsg(m) //nolint:errcheck // who asked sees that nothing comes
			return
		}
		m := new(dns.Msg)
		m.SetReply(in)
		known := false
		for _, all := range records {
			for _, rr := range all {
				if !strings.EqualFold(rr.Header().Name, q.Name) {
					continue
				}
				known = true
				if t := rr.Header().Rrtype; t == q.Qtype || t == dns.TypeCNAME {
					m.Answer = append(m.Answer, rr)
				}
			}
		}
		if !known {
			m.Rcode = dns.RcodeNameError
		}
		if size := in.IsEdns0(); w.RemoteAddr().Network() == "udp" {
			limit := dns.MinMsgSize
			if size != nil {
				limit = int(size.UDPSize())
			}
			m.Truncate(limit)
		}
		w.WriteMsg(m) //nolint:errcheck // who asked sees that nothing comes
	})
	for _, s := range []*dns.Server{{PacketConn: udp, Handler: answer}, {Listener: tcp, Handler: answer}} {
		go s.ActivateAndServe()            //nolint:errcheck // it ends with the test
		t.Cleanup(func() { s.Shutdown() }) //nolint:errcheck // it ends with the test
	}
	return udp.LocalAddr().String()
}
