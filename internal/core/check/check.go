// Package check visits a live site and judges what people look at.
//
// Run opens pages, follows their links and images within bounds, looks for traces of the address the
// site came from in pages, rows and text files, logs in, and asks for what must not be public. Each
// judgement is a Check: pass, warn or fail, with evidence and a remedy.
//
//	report, err := check.Run(ctx, check.Site{Address: "https://alder-valley.example", …}, reporter)
//	for _, c := range report.Checks { … }
//
// Requests go to the host itself where Connect names it, whatever DNS says. The package only reads, but for a page that the site is
// asked by and that is taken away again (see Kind.Report); what it sends is a login, and one form with nothing filled in. How it
// looks for traces is its own: it shares nothing with what has replaced them.
package check

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"nestseed/internal/core/fetch"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitepage"
)

// Site is what is checked. Parts that are nil or empty are not judged.
type Site struct {
	Address  string
	Cookie   string         // lets the checks into a site that is held: name=value
	Connect  string         // host[:port] to connect to in place of the address's own
	Private  bool           // it may be inside a private network: somebody has said so
	DNS      Resolver       // asked where the site's name leads, where Connect is given
	Roots    *x509.CertPool // whose certificates are trusted; the machine's when nil
	Kind     *kind.Kind
	Title    string
	Visible  bool
	AsItIs   bool   // what search engines see is told and not judged: nobody asked for anything
	Quiet    bool   // its mail is to be kept from going out
	Held     bool   // visitors are to see a holding page
	Database string // the one that it is to work on; "" where that is not judged
	User     string // the account that it is to work there with
	Login    string
	Password string
	Origin   rewrite.Rules // what must not be found any more
	DB       sitedb.DB
	Prefix   string
	FS       hostfs.FS
	Folder   string
	// Placed returns the files of a release in which nothing is found (see Search), where the site has just been made from it; nil
	// otherwise.
	Placed func(context.Context) (*Searched, error)
	// Searched are the files in which earlier checks of this site found nothing.
	Searched *Searched
	// Full opens all pages and reads all files again.
	Full bool
	// Templates tells by which template a page was made when it was last opened, on this site or its source, by its path below the address.
	// Of each template some pages are opened.
	Templates map[string]string
	// Pages is the journal of pages that are placed in Folder; nil where no record names the site.
	Pages    sitepage.Journal
	MaxPages int // 0 means 40, and some more for each sub-site
	// Like is one that this site is like; nil where all of this one's pages are opened.
	Like *Like
	// SubSites are the sites of a network that the site is.
	SubSites []kind.SubSite
	// Source is where the site comes from: its response time is compared with the site's, and pages and images that do not open are asked
	// for there too, unless Baseline knows them.
	Source Reach
	// Baseline returns what was found on the source: what is the same there is told and is no fault. It is called when something was
	// found; nil where nothing is known of the source.
	Baseline func() *Baseline
}

// Reach is how a site is reached.
type Reach struct {
	Address string
	Connect string // host[:port] to connect to in place of the address's own
	Private bool   // it may be inside a private network
	Cookie  string // lets somebody into a site that is held: name=value
}

// Dialer returns what connects to the site whose address is base, and to no other host inside a private network.
func (r Reach) Dialer(base *url.URL) func(ctx context.Context, network, addr string) (net.Conn, error) {
	return dialer(base, r.Connect, r.Private)
}

const (
	defaultPages  = 40
	pagesOfSub    = 3
	mostPagesMore = 120
	maxBodyBytes  = 8 << 20
	requestLimit  = 400
)

// Run checks a site. An error means that the checks could not be made, not that they found faults.
func Run(ctx context.Context, site Site, report progress.Reporter) (*Report, error) {
	start := time.Now()
	address, err := rewrite.ParseAddress(site.Address)
	if err != nil {
		return nil, err
	}
	if site.Like != nil {
		site.MaxPages = 1 + len(site.Like.Pages)
	} else if site.MaxPages == 0 {
		site.MaxPages = defaultPages + min(pagesOfSub*len(site.SubSites), mostPagesMore)
	}
	also := addressesOf(site.SubSites)
	dial := dialer(address, site.Connect, site.Private, also...)
	r := &runner{
		site: site, base: address, also: also, traces: newTraces(site.Origin), client: client(dial, site.Roots), dial: dial,
		report: &Report{Address: site.Address, At: start.UTC()}, start: start, progress: report,
	}
	if site.Baseline != nil {
		r.ofSource = sync.OnceValue(site.Baseline)
	}
	if site.Pages == nil {
		r.site.Pages = sitepage.Unrecorded{}
	}
	if site.FS != nil {
		if r.folder, err = site.FS.Sub(ctx, site.Folder); err != nil {
			return nil, fmt.Errorf("read the site's files: %w", err)
		}
		defer r.folder.Close()
	}
	// Pages, rows and files are looked at beside each other; what asks for files by their addresses comes after both.
	progress.Stage(report, 0, 0.9)
	report.Step("Open pages, read rows and text files", progress.Amount{Files: int64(site.MaxPages)})
	group, within := parallel.WithContext(ctx)
	var inFiles *inFiles
	group.Go(func() error { return r.visit(within) })
	group.Go(func() error { return r.rows(within) })
	group.Go(func() (err error) { inFiles, err = r.files(within); return err })
	if err := group.Wait(); err != nil {
		return nil, errors.Join(ctx.Err(), err)
	}
	progress.Stage(report, 0.9, 1)
	if inFiles != nil {
		r.serverRules(ctx, inFiles.rules)
		r.checkLeft(ctx, inFiles.left)
		r.checkTold(ctx, inFiles.pages)
	}
	r.private(ctx)
	if site.Login != "" {
		report.Step("Log in", progress.Amount{})
		r.login(ctx)
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	r.report.sort()
	r.report.TookMillis = time.Since(start).Milliseconds()
	return r.report, nil
}

// visit does what a visitor does, and more slowly: it opens pages and what they load, and sends one form.
func (r *runner) visit(ctx context.Context) error {
	if err := r.crawl(ctx); err != nil {
		return err
	}
	r.askSource(ctx)
	r.checkPages()
	r.subSites()
	r.responseTime(ctx)
	if r.site.Like == nil {
		r.postForm(ctx)
	}
	r.certificate(ctx)
	r.name(ctx)
	r.visibility(ctx)
	r.held(ctx)
	return nil
}

type runner struct {
	site     Site
	base     *url.URL
	also     []*url.URL // where the other sites of a network are
	folder   hostfs.FS  // the site's; nil where it is not looked at
	traces   *traces
	client   *http.Client
	dial     func(ctx context.Context, network, address string) (net.Conn, error)
	report   *Report
	start    time.Time
	pace     pace       // of pages
	mu       sync.Mutex // of the report's checks
	progress progress.Reporter
	pages    []*page
	answers  []*page // that programs ask for
	runs     string  // the ending of a file of the site's that the web server has run, and not shown
	assets   map[string]*asset
	// alsoInSource has what the source was asked for and has too, by check and key.
	alsoInSource map[string]bool
	ofSource     func() *Baseline
	ofTemplate   map[string]int // how many pages are opened
	waiting      map[string]bool
}

// ErrPrivate says that a name leads into a private network, where nobody has said that the site is.
var ErrPrivate = errors.New("leads into a private network")

// dialer connects to the host itself: to Connect where it is given, to this machine for names under
// .localhost (RFC 6761 section 6.3), else where DNS says. What DNS says is somebody else's word: an address inside a private
// network is reached only where private says that the site may be there.
func dialer(address *url.URL, connect string, private bool, also ...*url.URL) func(ctx context.Context, network, addr string) (net.Conn,
	error) {
	own := func(host string) bool {
		return host == address.Hostname() || slices.ContainsFunc(also, func(u *url.URL) bool { return u.Hostname() == host })
	}
	return func(ctx context.Context, network, addr string) (net.Conn, error) {
		host, port, err := net.SplitHostPort(addr)
		if err != nil {
			return nil, err
		}
		told := private && own(host)
		switch {
		case own(host) && connect != "":
			told = true
			if addr = connect; !strings.Contains(connect, ":") {
				addr = net.JoinHostPort(connect, port)
			}
		case told && (host == "localhost" || strings.HasSuffix(host, ".localhost")):
			addr = net.JoinHostPort("127.0.0.1", port)
		}
		d := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, to string, _ syscall.RawConn) error {
			if ap, err := netip.ParseAddrPort(to); !told && (err != nil || !fetch.Public(ap.Addr())) {
				return fmt.Errorf("%s %w, at %s; say what to connect to when you add the host, if the site is there", host, ErrPrivate, to)
			}
			return nil
		}}
		return d.DialContext(ctx, network, addr)
	}
}

// client keeps cookies and does not follow redirects.
func client(dial func(ctx context.Context, network, addr string) (net.Conn, error), roots *x509.CertPool) *http.Client {
	jar, _ := cookiejar.New(nil)
	return &http.Client{
		Timeout:       30 * time.Second,
		Jar:           jar,
		Transport:     &http.Transport{MaxIdleConnsPerHost: 8, DialContext: dial, TLSClientConfig: &tls.Config{RootCAs: roots}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}
