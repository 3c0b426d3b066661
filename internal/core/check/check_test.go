package check

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
)

// school is a stand-in for a site: pages by path, each a function of the request.
type school map[string]func(w http.ResponseWriter, r *http.Request)

func (s school) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if h := s[r.URL.Path]; h != nil {
		h(w, r)
		return
	}
	if h := s["*"]; h != nil {
		h(w, r)
		return
	}
	http.NotFound(w, r)
}

func answer(html string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, html)
	}
}

// healthy is a site that passes everything.
func healthy() school {
	return school{
		"/":         answer(`<title>Alder &amp; Valley – Music</title><meta name="robots" content="noindex"><a href="/lessons/">x</a><img src="/a.jpg"><link rel="stylesheet" href="/s.css">`),
		"/feed/":    answer(`<rss></rss>`),
		"/lessons/": answer(`<title>Lessons</title><a href="https://elsewhere.example/">away</a>`),
		"/a.jpg":    answer("jpg"), "/s.css": answer("css"),
		"/wp-login.php": func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodPost && r.FormValue("log") == "admin" && r.FormValue("pwd") == "right" {
				http.SetCookie(w, &http.Cookie{Name: "wordpress_logged_in_x", Value: "1", Path: "/"})
				http.Redirect(w, r, "/wp-admin/", http.StatusFound)
				return
			}
			answer(`<title>Log in</title>`)(w, r)
		},
		"/wp-admin/profile.php": func(w http.ResponseWriter, r *http.Request) {
			if _, err := r.Cookie("wordpress_logged_in_x"); err != nil {
				http.Redirect(w, r, "/wp-login.php", http.StatusFound)
				return
			}
			answer("profile")(w, r)
		},
	}
}

// reportOn checks a site.
func reportOn(t *testing.T, s school, change func(*Site)) *Report {
	t.Helper()
	web := httptest.NewServer(s)
	t.Cleanup(web.Close)
	u, err := url.Parse(web.URL)
	require.NoError(t, err)
	// The name leads nowhere: checks connect to where they are told.
	site := Site{Address: "http://alder-valley.example:" + u.Port(), Connect: u.Host, Kind: kindtest.Named(t, "wordpress"), Title: "Alder & Valley", Login: "admin",
		Password: "right",
		Origin:   rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "http://alder-valley.example:" + u.Port()}}}}
	if change != nil {
		change(&site)
	}
	rep, err := Run(context.Background(), site, progress.Discard)
	require.NoError(t, err)
	return rep
}

func visit(t *testing.T, s school, change func(*Site)) map[string]Check {
	t.Helper()
	rep := reportOn(t, s, change)
	out := map[string]Check{}
	faults := 0
	for _, c := range rep.Checks {
		out[c.Name] = c
		if c.Result == Fail {
			faults++
			require.NotEmpty(t, c.Remedy, c.Name)
		}
	}
	require.Equal(t, rep.Faults(), faults)
	return out
}

func TestAHealthySitePasses(t *testing.T) {
	for name, c := range visit(t, healthy(), nil) {
		require.Equal(t, Pass, c.Result, "%s: %s %v", name, c.Sentence, c.Evidence)
	}
}

func TestEachFaultIsFoundWithItsEvidence(t *testing.T) {
	for name, c := range map[string]struct {
		spoil    func(school)
		site     func(*Site)
		check    string
		evidence string
	}{
		"a page is missing": {func(s school) { delete(s, "/lessons/") }, nil, "pages", "/lessons/: 404, linked from"},
		"a page shows an error": {func(s school) { s["/lessons/"] = answer("There has been a critical error on this website") }, nil, "pages",
			"program error"},
		"a page is empty":     {func(s school) { s["/lessons/"] = answer("") }, nil, "pages", "/lessons/"},
		"an image is missing": {func(s school) { delete(s, "/a.jpg") }, nil, "images and styles", "/a.jpg: 404"},
		"the old address is left": {func(s school) { s["/lessons/"] = answer(`<a href="http:\/\/base.localhost\/x">`) }, nil,
			"old address in pages", "once"},
		"a page leads away": {func(s school) {
			s["/lessons/"] = func(w http.ResponseWriter, r *http.Request) {
				http.Redirect(w, r, "http://base.localhost/", http.StatusMovedPermanently)
			}
		}, nil, "redirects", "leads to http://base.localhost/"},
		"the title is not the client's": {nil, func(s *Site) { s.Title = "Brook Lane" }, "title", "not \"Brook Lane\""},
		"search engines are let in":     {func(s school) { s["/"] = answer("<title>Alder & Valley</title>") }, nil, "search engines", ""},
		"search engines are kept out":   {nil, func(s *Site) { s.Visible = true }, "search engines", ""},
		"robots.txt keeps them out": {func(s school) {
			s["/"] = answer("<title>Alder & Valley</title>")
			s["/robots.txt"] = answer("User-agent: *\nDisallow: /\n")
		}, func(s *Site) { s.Visible = true }, "search engines", ""},
		"settings can be read": {func(s school) { s["/wp-config.php"] = answer("<?php define('DB_PASSWORD', 'x');") }, func(s *Site) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "wp-config.php"), []byte("<?php define('DB_PASSWORD', 'x');\n"), 0o600))
			var err error
			s.FS, err = hostfs.Open(context.Background(), hostfs.Access{Address: "file://" + dir})
			require.NoError(t, err)
			s.Folder = "."
		}, "private files",
			"/wp-config.php"},
		"the password is wrong":   {nil, func(s *Site) { s.Password = "wrong" }, "login", ""},
		"the login leads nowhere": {func(s school) { delete(s, "/wp-admin/profile.php") }, nil, "login", ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := healthy()
			if c.spoil != nil {
				c.spoil(s)
			}
			got := visit(t, s, c.site)[c.check]
			require.Equal(t, Fail, got.Result, got.Sentence)
			if c.evidence != "" {
				require.Contains(t, fmt.Sprint(got.Evidence), c.evidence)
			}
		})
	}
}

func TestTracesInTextFilesAreFoundAndPicturesAreNotRead(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"a.css": "url(http://base.localhost/x)", "b.jpg": "\x00http://base.localhost/",
		"c.txt": "http://base.localhost.example/"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	defer fsys.Close()
	c := visit(t, healthy(), func(s *Site) { s.FS, s.Folder = fsys, "." })["old address in files"]
	require.Equal(t, Fail, c.Result)
	require.Len(t, c.Evidence, 1)
	require.Contains(t, c.Evidence[0], "a.css")
}

func TestTheCrawlStaysWithinItsBounds(t *testing.T) {
	s := healthy()
	opened := 0
	for i := range 200 {
		s[fmt.Sprintf("/p%d", i)] = func(w http.ResponseWriter, r *http.Request) {
			opened++
			answer(fmt.Sprintf(`<a href="/p%d">next</a><a href="/p%d?action=logout">out</a>`, i+1, i))(w, r)
		}
	}
	s["/"] = answer(`<title>Alder & Valley</title><meta name="robots" content="noindex"><a href="/p0">x</a>`)
	visit(t, s, func(site *Site) { site.MaxPages = 10 })
	require.LessOrEqual(t, opened, 10)
}

func TestASiteThatDoesNotAnswerIsAFaultNotAnError(t *testing.T) {
	rep, err := Run(context.Background(), Site{Address: "http://alder-valley.example", Connect: "127.0.0.1:1", Kind: kindtest.Named(t, "wordpress"), Login: "a",
		Password: "b"}, progress.Discard)
	require.NoError(t, err)
	require.Positive(t, rep.Faults())
}

func TestWhatWasLeftBehindMattersWhenItIsServed(t *testing.T) {
	dir := t.TempDir()
	files := map[string]string{"backup.sql.gz": "\x1f\x8bx", "site.old": "PK\x03\x04x", "wp-content/tell.php": "<?php phpinfo();", "wp-content/uploads/brochure.zip": "PK\x03\x04x",
		"wp-content/install.php": "<?php install();", "our-Installer-2.php": "<?php", "wp-content/notes.txt": "-- MariaDB dump 10.19\n",
		"wp-content/readme.txt": "How to create table reservations", "wp-content/d": "SQLite format 3\x00", "b.tar": strings.Repeat("\x00", 257) + "ustar\x00",
		"wp-content/c": "INSERT INTO `wp_users` VALUES (1);", "wp-content/style.css": "insert into", "console.php": "<?php $db->query('show databases');"}
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	defer fsys.Close()
	in := func(s *Site) { s.FS, s.Folder = fsys, "." }
	require.Equal(t, Pass, visit(t, healthy(), in)["left behind"].Result, "none of it is served")
	s := healthy()
	for p := range files {
		s["/"+p] = answer("x")
	}
	c := visit(t, s, in)["left behind"]
	require.Equal(t, Fail, c.Result)
	require.Equal(t, []string{"b.tar", "backup.sql.gz", "console.php", "our-Installer-2.php", "site.old", "wp-content/c", "wp-content/d", "wp-content/notes.txt",
		"wp-content/tell.php"}, c.Found, "what is handed to visitors on purpose is not told")
}

func TestCertificatesAndMixedContentOfSecureSites(t *testing.T) {
	s := healthy()
	web := httptest.NewTLSServer(s)
	defer web.Close()
	u, err := url.Parse(web.URL)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AddCert(web.Certificate())
	secure := func(host string) func(*Site) {
		return func(site *Site) {
			site.Address, site.Connect, site.Roots = "https://"+host+":"+u.Port(), u.Host, pool
			site.Origin.Addresses[0].New = site.Address
		}
	}
	// The server's certificate is for example.com.
	got := visit(t, s, secure("example.com"))
	require.Equal(t, Pass, got["certificate"].Result, got["certificate"].Evidence)
	require.Equal(t, Pass, got["mixed content"].Result)
	got = visit(t, s, secure("alder-valley.example"))
	require.Equal(t, Fail, got["certificate"].Result)
	require.Contains(t, got["certificate"].Evidence[0], "alder-valley.example")
	s["/lessons/"] = answer(`<title>Lessons</title><img src="http://example.com/a.jpg">`)
	got = visit(t, s, secure("example.com"))
	require.Equal(t, Fail, got["mixed content"].Result)
}

func TestATitleIsKnownThoughItsMarksAreSetAsPrintersDo(t *testing.T) {
	s := healthy()
	s["/"] = answer(`<title>Quay “Side” – Ine’s Harps… &#8211; Music</title><meta name="robots" content="noindex"><a href="/lessons/">x</a>`)
	require.Equal(t, Pass, visit(t, s, func(site *Site) { site.Title = `Quay "Side" -- Ine's Harps...` })["title"].Result)
	require.Equal(t, Fail, visit(t, s, func(site *Site) { site.Title = `Quay "Seat"` })["title"].Result)
}

func TestSlowPagesAreTold(t *testing.T) {
	r := &runner{report: &Report{}}
	for _, ms := range []int{100, 2500, 2600} {
		r.pages = append(r.pages, &page{address: "/x", status: 200, took: time.Duration(ms) * time.Millisecond})
	}
	r.responseTime(context.Background())
	require.Equal(t, Warn, r.report.Checks[0].Result)
	require.Contains(t, r.report.Checks[0].Evidence[0], "2600 ms")
}

// Applications tie a session to the browser that it was begun with.
func TestAllRequestsAreOfOneBrowser(t *testing.T) {
	var mu sync.Mutex
	agents, referrer := map[string]bool{}, ""
	s := healthy()
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		agents[r.UserAgent()] = true
		if r.Method == http.MethodPost && r.URL.Path == "/wp-login.php" {
			referrer = r.Referer()
		}
		mu.Unlock()
		s.ServeHTTP(w, r)
	}))
	defer web.Close()
	rep, err := Run(t.Context(), Site{Address: web.URL, Private: true, Kind: kindtest.Named(t, "wordpress"), Title: "Alder & Valley", Login: "admin",
		Password: "right"}, progress.Discard)
	require.NoError(t, err)
	require.Zero(t, rep.Faults())
	require.Equal(t, map[string]bool{userAgent: true}, agents)
	require.Equal(t, web.URL+"/wp-login.php", referrer)
}
