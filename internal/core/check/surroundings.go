package check

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"time"
)

const (
	slowPage       = 2 * time.Second
	certificateEnd = 21 * 24 * time.Hour // from then on somebody should look after it
)

// responseTime tells how long pages took, as a visitor who comes first sees it: nothing was cached before.
func (r *runner) responseTime(ctx context.Context) {
	var took []time.Duration
	var slowest *page
	for _, p := range r.pages {
		if p.err != nil || p.status != http.StatusOK {
			continue
		}
		took = append(took, p.took)
		if slowest == nil || p.took > slowest.took {
			slowest = p
		}
	}
	if slowest == nil {
		return
	}
	slices.Sort(took)
	c := Check{Name: "response time", Result: Pass, Sentence: fmt.Sprintf("half of the pages answer within %d ms, all within %d ms",
		took[len(took)/2].Milliseconds(), slowest.took.Milliseconds())}
	if took[len(took)/2] > slowPage {
		c.Result, c.Evidence = Warn, []string{fmt.Sprintf("%s: %d ms", slowest.address, slowest.took.Milliseconds())}
		c.Remedy = "compare with the source on its own host; if that is quicker, look at the new host's cache and at extensions that call home"
	}
	if own, source, ok := r.besideSource(ctx); ok {
		c.Sentence += fmt.Sprintf("; its home page takes %d ms, the source's %d ms", own.Milliseconds(), source.Milliseconds())
		if own > slowBeside && own > 3*source {
			c.Result, c.Evidence = Warn, append(c.Evidence, fmt.Sprintf("%s is %.1f times as slow as %s", r.base, float64(own)/float64(source),
				r.site.Source.Address))
			c.Remedy = "look at the host's cache, and at extensions that call home"
		}
	}
	r.record(c)
}

const (
	slowBeside  = 500 * time.Millisecond // what is quicker is quick enough, whatever the source does
	besideTries = 3
)

// besideSource puts the home page's time beside that of the source's. The checks have opened it already; only when
// that looks slow are both opened again by turns, and the quicker times of each told: the first opening after a
// change is never a fair one.
func (r *runner) besideSource(ctx context.Context) (own, source time.Duration, ok bool) {
	u, err := url.Parse(r.site.Source.Address)
	if err != nil || r.site.Source.Address == "" || len(r.pages) == 0 {
		return 0, 0, false
	}
	there := &runner{client: client(r.site.Source.Dialer(u), nil)}
	there.client.Timeout = 10 * time.Second
	own = r.pages[0].took
	if source, ok = there.homeTook(ctx, r.site.Source.Address); !ok {
		return 0, 0, false
	}
	for try := 1; try < besideTries && own > slowBeside && own > 3*source; try++ {
		again, fine := r.homeTook(ctx, r.base.String())
		also, there := there.homeTook(ctx, r.site.Source.Address)
		if !fine || !there {
			break
		}
		own, source = min(own, again), min(source, also)
	}
	return own, source, true
}

// homeTook is how long the home page at an address takes; false when it does not open.
func (r *runner) homeTook(ctx context.Context, address string) (time.Duration, bool) {
	start := time.Now()
	res, _, err := r.get(ctx, address+"/")
	return time.Since(start), err == nil && res.StatusCode == http.StatusOK
}

// certificate looks at what an https site shows (RFC 5280 section 6.1, RFC 9525): the chain, the name, the dates.
func (r *runner) certificate(ctx context.Context) {
	if r.base.Scheme != "https" {
		return
	}
	fail := func(why string) {
		r.record(Check{Name: "certificate", Result: Fail, Sentence: "browsers refuse the site's certificate", Evidence: []string{why},
			Remedy: "have the host issue one for " + r.base.Hostname() + ", and check again"})
	}
	port := r.base.Port()
	if port == "" {
		port = "443"
	}
	conn, err := r.dial(ctx, "tcp", net.JoinHostPort(r.base.Hostname(), port))
	if err != nil {
		fail(err.Error())
		return
	}
	defer conn.Close()
	// The chain is verified below, so that what is wrong with it can be told.
	secure := tls.Client(conn, &tls.Config{ServerName: r.base.Hostname(), InsecureSkipVerify: true})
	if err := secure.HandshakeContext(ctx); err != nil {
		fail(err.Error())
		return
	}
	chain := secure.ConnectionState().PeerCertificates
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	if _, err := chain[0].Verify(x509.VerifyOptions{DNSName: r.base.Hostname(), Intermediates: between, Roots: r.site.Roots}); err != nil {
		fail(err.Error())
		return
	}
	r.report.CertificateEnds = &chain[0].NotAfter
	c := Check{Name: "certificate", Result: Pass, Sentence: "its certificate is valid until " + chain[0].NotAfter.Format("2 January 2006")}
	if time.Until(chain[0].NotAfter) < certificateEnd {
		c.Result, c.Evidence, c.Remedy = Warn, []string{chain[0].Subject.String()}, "see that the host renews it by itself"
	}
	r.record(c)
}

// held asks for the home page as a visitor does who has nothing: where the site is held, it must be the holding page.
func (r *runner) held(ctx context.Context) {
	if !r.site.Held {
		return
	}
	status, body, err := Visit(ctx, Reach{Address: r.base.String(), Connect: r.site.Connect, Private: r.site.Private}, "")
	var wrong []finding
	switch {
	case err != nil:
		wrong = []finding{{noAnswer, err.Error()}}
	case status != http.StatusServiceUnavailable:
		wrong = []finding{{"answer", fmt.Sprintf("%s/ answers a visitor with %d %s", r.base, status, http.StatusText(status))}}
	case r.site.Title != "" && len(r.pages) > 0 && len(body) >= len(r.pages[0].body):
		wrong = []finding{{"whole", fmt.Sprintf("%s/ shows a visitor as much as whoever may see the site", r.base)}}
	}
	r.result("holding page", "visitors see the holding page", "the site is held, and visitors do not see the holding page",
		"hold it again, and see whether a cache before the site shows something else", wrong)
}
