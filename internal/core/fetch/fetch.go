// Package fetch gets a file that somebody gave a link to.
//
// A link is looked at first (Look): does it answer, with what, how large. Then it is fetched (Get), by ranges
// when the connection breaks, within a size and a time. Addresses inside private networks are refused, also
// when a name leads there or a redirect does, unless the host is one of ours: nobody should reach what only the
// service can reach by giving it a link.
//
//	info, err := fetch.Look(ctx, "https://files.example/site.tar.bz2", opts)
//	n, err := fetch.Get(ctx, link, file, opts, reporter)
//
// HTTP is RFC 9110; ranges are its section 14, with If-Range so that a file that changed meanwhile is noticed.
package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"
	"syscall"
	"time"

	"nestseed/internal/core/progress"
)

// Options bound what is fetched.
type Options struct {
	// Ours reports whether a host, with its port, is one of ours, so that private addresses are allowed.
	Ours     func(hostport string) bool
	MaxBytes int64
	MaxTime  time.Duration
	Stall    time.Duration // how long nothing may come before the connection is made again
}

// Defaults of options that are not set.
const (
	defaultTime  = 12 * time.Hour
	defaultStall = 60 * time.Second
	tries        = 8
	redirects    = 5
)

// ErrRefused says that a link is not fetched; the sentence says why.
var ErrRefused = errors.New("the link is not fetched")

// Info is what a link answers.
type Info struct {
	Name      string `json:"name"`
	Bytes     int64  `json:"bytes"` // -1 when the server does not say
	Type      string `json:"type"`
	Resumable bool   `json:"resumable"`
	tag       string
}

func (o Options) normal() Options {
	if o.MaxTime <= 0 {
		o.MaxTime = defaultTime
	}
	if o.Stall <= 0 {
		o.Stall = defaultStall
	}
	if o.Ours == nil {
		o.Ours = func(string) bool { return false }
	}
	return o
}

// parse refuses links that are none.
func parse(link string) (*url.URL, error) {
	u, err := url.Parse(link)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%w: %q is not a link; write it like https://files.example/site.tar.gz", ErrRefused, link)
	}
	if u.User != nil {
		return nil, fmt.Errorf("%w: it has a user and password in it, which would be seen in logs", ErrRefused)
	}
	return u, nil
}

// client makes connections that end where they may: the address is judged when the name has been resolved, so
// that no name can lead elsewhere in between.
func client(o Options) *http.Client {
	ours := false // of the request at hand; connections are not shared between hosts
	transport := &http.Transport{
		DisableKeepAlives:     true,
		ResponseHeaderTimeout: 30 * time.Second,
		TLSHandshakeTimeout:   15 * time.Second,
		Proxy:                 nil,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			ours = o.Ours(strings.ToLower(address))
			// Names under .localhost are this machine (RFC 6761 section 6.3), whatever the resolver knows.
			if host, port, err := net.SplitHostPort(address); err == nil && (host == "localhost" || strings.HasSuffix(host, ".localhost")) {
				address = net.JoinHostPort("127.0.0.1", port)
			}
			d := net.Dialer{Timeout: 15 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
				if ours {
					return nil
				}
				ap, err := netip.ParseAddrPort(address)
				if err != nil || !Public(ap.Addr()) {
					return fmt.Errorf("%w: it leads to %s, inside a private network; only hosts of yours may be there", ErrRefused, address)
				}
				return nil
			}}
			return d.DialContext(ctx, network, address)
		},
	}
	return &http.Client{Transport: transport, CheckRedirect: func(req *http.Request, via []*http.Request) error {
		if len(via) > redirects {
			return fmt.Errorf("%w: it leads from one address to the next more than %d times", ErrRefused, redirects)
		}
		if _, err := parse(req.URL.String()); err != nil {
			return err
		}
		if via[0].URL.Scheme == "https" && req.URL.Scheme != "https" {
			return fmt.Errorf("%w: it leads from https to http", ErrRefused)
		}
		return nil
	}}
}

// special are ranges that are not private in the sense of RFC 1918 and yet are nobody's public address
// (IANA special-purpose address registries).
var special = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2001:db8::/32"),
	netip.MustParsePrefix("2002::/16"), netip.MustParsePrefix("2001::/32"),
}

// Public reports whether an address is one that anybody may have.
func Public(a netip.Addr) bool {
	a = a.Unmap()
	if !a.IsValid() || a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsUnspecified() ||
		a.IsInterfaceLocalMulticast() {
		return false
	}
	for _, p := range special {
		if p.Contains(a) {
			return false
		}
	}
	return true
}

// explain makes a sentence of what went wrong with a connection.
func explain(u *url.URL, err error) error {
	if errors.Is(err, ErrRefused) {
		var inner *url.Error
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return err
	}
	var dns *net.DNSError
	if errors.As(err, &dns) {
		return fmt.Errorf("%w: nothing is known of a host %s", ErrRefused, u.Hostname())
	}
	return fmt.Errorf("%w: %s does not answer: %v", ErrRefused, u.Host, errors.Unwrap(err))
}

// Look asks what a link leads to, without fetching it.
func Look(ctx context.Context, link string, o Options) (*Info, error) {
	o = o.normal()
	u, err := parse(link)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, o.Stall)
	defer cancel()
	// A request for the first byte says more than HEAD, which many servers answer badly.
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Range", "bytes=0-0")
	req.Header.Set("Accept-Encoding", "identity")
	res, err := client(o).Do(req)
	if err != nil {
		return nil, explain(u, err)
	}
	defer res.Body.Close()
	return infoOf(res, o)
}

func infoOf(res *http.Response, o Options) (*Info, error) {
	if res.StatusCode != http.StatusOK && res.StatusCode != http.StatusPartialContent {
		return nil, fmt.Errorf("%w: the server answers %s", ErrRefused, res.Status)
	}
	info := &Info{Bytes: res.ContentLength, Type: res.Header.Get("Content-Type"), Name: nameOf(res)}
	if res.StatusCode == http.StatusPartialContent {
		info.Bytes = -1
		if _, total, found := strings.Cut(res.Header.Get("Content-Range"), "/"); found {
			if n, err := strconv.ParseInt(total, 10, 64); err == nil {
				info.Bytes = n
			}
		}
		if info.tag = res.Header.Get("ETag"); info.tag == "" || strings.HasPrefix(info.tag, "W/") {
			info.tag = res.Header.Get("Last-Modified")
		}
		info.Resumable = info.tag != "" && info.Bytes > 0
	}
	if kind, _, _ := mime.ParseMediaType(info.Type); kind == "text/html" {
		return nil, fmt.Errorf("%w: it leads to a page and not to a file; give the link of the file itself", ErrRefused)
	}
	if o.MaxBytes > 0 && info.Bytes > o.MaxBytes {
		return nil, fmt.Errorf("%w: it has %d MB, and there is room for %d MB", ErrRefused, info.Bytes>>20, o.MaxBytes>>20)
	}
	return info, nil
}

// nameOf is the file's name: what the server calls it, else the end of the address.
func nameOf(res *http.Response) string {
	if _, params, err := mime.ParseMediaType(res.Header.Get("Content-Disposition")); err == nil && params["filename"] != "" {
		return path.Base(path.Clean("/" + strings.ReplaceAll(params["filename"], `\`, "/")))
	}
	if base := path.Base(res.Request.URL.Path); base != "/" && base != "." {
		return base
	}
	return "download"
}

// Get fetches a link into a file and returns what it was. A connection that breaks or stalls is taken up where
// it ended; where the server cannot do that, the file is fetched from the beginning.
func Get(ctx context.Context, link string, to *os.File, o Options, report progress.Reporter) (*Info, int64, error) {
	o = o.normal()
	u, err := parse(link)
	if err != nil {
		return nil, 0, err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, o.MaxTime, fmt.Errorf("%w: it took longer than %s", ErrRefused, o.MaxTime))
	defer cancel()
	info, err := Look(ctx, link, o)
	if err != nil {
		return nil, 0, err
	}
	report.Step("Fetch "+info.Name, progress.Amount{Bytes: max(0, info.Bytes)})
	g := &getter{u: u, to: to, o: o, info: info, report: report}
	for try := 1; ; try++ {
		before := g.have
		err := g.some(ctx)
		if err == nil {
			return info, g.have, nil
		}
		if ctx.Err() != nil {
			return info, g.have, context.Cause(ctx)
		}
		if errors.Is(err, errFinal) || errors.Is(err, ErrRefused) {
			return info, g.have, err
		}
		if g.have > before {
			try = 1 // it goes on, if slowly
		}
		if try == tries {
			return info, g.have, fmt.Errorf("%w after %d bytes, %d tries in a row", err, g.have, tries)
		}
		report.Note(fmt.Sprintf("%v; taken up again at byte %d", err, g.have))
		select {
		case <-time.After(time.Duration(try) * 200 * time.Millisecond):
		case <-ctx.Done():
			return info, g.have, context.Cause(ctx)
		}
	}
}

// errFinal marks what another try would not mend.
var errFinal = errors.New("the file cannot be fetched")

type getter struct {
	u      *url.URL
	to     *os.File
	o      Options
	info   *Info
	report progress.Reporter
	have   int64
}

// some fetches as much as one connection gives.
func (g *getter) some(ctx context.Context) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, g.u.String(), nil)
	if err != nil {
		return err
	}
	req.Header.Set("Accept-Encoding", "identity")
	if g.have > 0 && g.info.Resumable {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", g.have))
		req.Header.Set("If-Range", g.info.tag)
	}
	res, err := client(g.o).Do(req)
	if err != nil {
		return explain(g.u, err)
	}
	defer res.Body.Close()
	switch {
	case res.StatusCode == http.StatusPartialContent && g.have > 0:
	case res.StatusCode == http.StatusOK:
		if g.have > 0 {
			g.report.Add(progress.Amount{Bytes: -g.have})
		}
		g.have = 0
	case res.StatusCode >= 500:
		return fmt.Errorf("the server answers %s", res.Status)
	default:
		return fmt.Errorf("%w: the server answers %s", errFinal, res.Status)
	}
	stall := time.AfterFunc(g.o.Stall, func() { cancel(fmt.Errorf("nothing came for %s", g.o.Stall)) })
	defer stall.Stop()
	buf := make([]byte, 256<<10)
	for {
		n, err := res.Body.Read(buf)
		stall.Reset(g.o.Stall)
		if n > 0 {
			if g.o.MaxBytes > 0 && g.have+int64(n) > g.o.MaxBytes {
				return fmt.Errorf("%w: it has more than %d MB, for which there is room", ErrRefused, g.o.MaxBytes>>20)
			}
			if _, err := g.to.WriteAt(buf[:n], g.have); err != nil {
				return fmt.Errorf("%w: %w", errFinal, err)
			}
			g.have += int64(n)
			g.report.Add(progress.Amount{Bytes: int64(n)})
		}
		if errors.Is(err, io.EOF) {
			if g.info.Bytes >= 0 && g.have != g.info.Bytes {
				return fmt.Errorf("the connection ended early")
			}
			return g.to.Truncate(g.have)
		}
		if err != nil {
			if cause := context.Cause(ctx); cause != nil {
				return cause
			}
			return fmt.Errorf("the connection broke: %w", err)
		}
	}
}
