package sidebyside

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"nestseed/internal/core/check"
)

// proxy is the only way that the browser has out: it leads to the sites that are compared, and nowhere else. What a page
// asks for besides, on this machine, in private networks or on the internet, is refused.
type proxy struct {
	sites    map[string]site // by host:port
	listener net.Listener
	server   *http.Server
	lines    sync.WaitGroup // tunnels that are open
}

// site is where a host and port of the two are reached.
type site struct {
	dial func(ctx context.Context, network, addr string) (net.Conn, error)
}

// unreachable marks an answer that is the proxy's own, because the site gave none.
const unreachable = "Nestseed-Unreachable"

func newProxy(of ...check.Reach) (*proxy, error) {
	p := &proxy{sites: map[string]site{}}
	for _, r := range of {
		u, err := url.Parse(r.Address)
		if err != nil {
			return nil, err
		}
		p.sites[hostPort(u)] = site{r.Dialer(u)}
	}
	var err error
	if p.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	p.server = &http.Server{Handler: p, ReadHeaderTimeout: pageTime}
	go p.server.Serve(p.listener)
	return p, nil
}

func (p *proxy) address() string { return "http://" + p.listener.Addr().String() }

func (p *proxy) close() {
	p.server.Close()
	p.lines.Wait()
}

func hostPort(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return net.JoinHostPort(strings.ToLower(u.Hostname()), port)
}

// ServeHTTP implements http.Handler: requests in absolute form, and tunnels (RFC 9110, sections 7.1 and 9.3.6).
func (p *proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	to := strings.ToLower(r.Host)
	if r.Method != http.MethodConnect {
		if !r.URL.IsAbs() || r.URL.Scheme != "http" {
			http.Error(w, "this leads to two sites only", http.StatusForbidden)
			return
		}
		to = hostPort(r.URL)
	}
	s, ours := p.sites[to]
	if !ours {
		http.Error(w, "this leads to two sites only", http.StatusForbidden)
		return
	}
	if r.Method == http.MethodConnect {
		p.tunnel(w, r, s, to)
		return
	}
	p.forward(w, r, s)
}

func (p *proxy) forward(w http.ResponseWriter, r *http.Request, s site) {
	out := r.Clone(r.Context())
	out.RequestURI = ""
	for name := range out.Header {
		if strings.HasPrefix(name, "Proxy-") {
			out.Header.Del(name)
		}
	}
	transport := &http.Transport{DialContext: s.dial, DisableCompression: true, DisableKeepAlives: true, ResponseHeaderTimeout: pageTime}
	res, err := transport.RoundTrip(out)
	if err != nil {
		w.Header().Set(unreachable, "yes")
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer res.Body.Close()
	for name, values := range res.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(res.StatusCode)
	io.Copy(w, res.Body)
}

func (p *proxy) tunnel(w http.ResponseWriter, r *http.Request, s site, to string) {
	far, err := s.dial(r.Context(), "tcp", to)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer far.Close()
	w.WriteHeader(http.StatusOK)
	near, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer near.Close()
	near.SetDeadline(time.Time{})
	p.lines.Add(1)
	defer p.lines.Done()
	ended := make(chan error, 2)
	copying := func(to, from net.Conn) {
		_, err := io.Copy(to, from)
		ended <- err
	}
	go copying(far, near)
	go copying(near, far)
	if err := <-ended; err != nil && !errors.Is(err, net.ErrClosed) {
		return
	}
}
