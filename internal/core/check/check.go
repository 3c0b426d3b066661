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
	"syscall"
	"time"

	"nestseed/internal/core/fetch"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
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
	// Pages is the journal of pages that are placed in Folder; nil where no record names the site.
	Pages    sitepage.Journal
	MaxPages int // 0 means 40, and some more for each sub-site
	// Like is one that this site is like; nil where all of this one's pages are opened.
	Like *Like
	// SubSites are the sites of a network that the site is.
	SubSites []kind.SubSite
	// Source is where the site comes from; its response time is put beside the site's. Nothing else of it is judged.
	Source Reach
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

// Result of a check.
type Result string

// The results.
const (
	Pass Result = "pass"
	Warn Result = "warn"
	Fail Result = "fail"
)

// Check is one judgement.
type Check struct {
	Name     string   `json:"name"`
	Result   Result   `json:"result" enum:"pass,warn,fail"`
	Sentence string   `json:"sentence"`
	Evidence []string `json:"evidence,omitempty"`
	Remedy   string   `json:"remedy,omitempty"`
}

// Report is what all checks of a site found.
type Report struct {
	Address    string    `json:"address"`
	At         time.Time `json:"at"`
	TookMillis int64     `json:"took_ms"`
	Pages      int       `json:"pages"`
	Requests   int       `json:"requests"`
	Opened     []string  `json:"opened,omitempty"`   // the paths of what answered, below the address, where all pages were opened
	Like       string    `json:"like,omitempty"`     // the site of the same code whose pages were all opened, where of this one some were
	LoginAt    string    `json:"login_at,omitempty"` // where people log in, when the site has moved it
	// CertificateEnds is when its certificate does, where browsers accept it.
	CertificateEnds *time.Time `json:"certificate_ends,omitempty"`
	Checks          []Check    `json:"checks"`
}

// Faults counts the checks that failed.
func (r *Report) Faults() (n int) {
	for _, c := range r.Checks {
		if c.Result == Fail {
			n++
		}
	}
	return n
}

// Warnings counts the checks that warn.
func (r *Report) Warnings() (n int) {
	for _, c := range r.Checks {
		if c.Result == Warn {
			n++
		}
	}
	return n
}

const (
	defaultPages  = 40
	pagesOfSub    = 3
	mostPagesMore = 120
	maxBodyBytes  = 8 << 20
	requestLimit  = 400
	evidenceLines = 8
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
		report: &Report{Address: site.Address, At: start.UTC()}, progress: report,
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
	progress.Stage(report, 0, 0.6)
	report.Step("Open pages", progress.Amount{Files: int64(site.MaxPages)})
	if err := r.crawl(ctx); err != nil {
		return nil, err
	}
	r.checkPages()
	r.subSites()
	r.responseTime(ctx)
	if site.Like == nil {
		r.postForm(ctx)
	}
	r.certificate(ctx)
	r.name(ctx)
	r.visibility(ctx)
	r.held(ctx)
	if site.DB != nil {
		progress.Stage(report, 0.6, 0.75)
		report.Step("Read rows", progress.Amount{})
		if err := r.rows(ctx); err != nil {
			return nil, err
		}
	}
	if site.FS != nil {
		progress.Stage(report, 0.75, 0.95)
		report.Step("Read text files", progress.Amount{})
		if err := r.files(ctx); err != nil {
			return nil, err
		}
		r.checkTold(ctx)
	}
	r.private(ctx)
	if site.Login != "" {
		progress.Stage(report, 0.95, 1)
		report.Step("Log in", progress.Amount{})
		r.login(ctx)
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	r.report.TookMillis = time.Since(start).Milliseconds()
	return r.report, nil
}

type runner struct {
	site     Site
	base     *url.URL
	also     []*url.URL // where the other sites of a network are
	folder   hostfs.FS  // the site's; nil where it is not looked at
	traces   *traces
	oldAsks  []string // pages that somebody was killed over
	client   *http.Client
	dial     func(ctx context.Context, network, address string) (net.Conn, error)
	report   *Report
	progress progress.Reporter
	pages    []*page
	answers  []*page // that programs ask for
	runs     string  // the ending of a file of the site's that the web server has run, and not shown
	assets   map[string]*asset
}

func (r *runner) record(c Check) {
	if len(c.Evidence) > evidenceLines {
		c.Evidence = append(c.Evidence[:evidenceLines:evidenceLines], fmt.Sprintf("and %d more", len(c.Evidence)-evidenceLines))
	}
	r.report.Checks = append(r.report.Checks, c)
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
