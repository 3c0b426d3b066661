package check

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/core/sqltext"
	"nestseed/test/attack"
)

const contactForm = `<title>Lessons</title><form action="/contact/send" method="post"><input type="hidden" name="page" value="12"><input name="name" required><textarea name="message"></textarea><input type="submit" name="go"></form>`

func TestAFormIsSentWithNothingFilledIn(t *testing.T) {
	s := healthy()
	s["/lessons/"] = answer(contactForm)
	sent := map[string][]string{}
	s["/contact/send"] = func(w http.ResponseWriter, r *http.Request) {
		require.NoError(t, r.ParseForm())
		sent = r.PostForm
		w.WriteHeader(http.StatusUnprocessableEntity)
	}
	got := visit(t, s, nil)
	require.Equal(t, Pass, got["form"].Result, got["form"].Evidence)
	require.Equal(t, map[string][]string{"page": {"12"}, "name": {""}, "message": {""}}, sent)

	s["/contact/send"] = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) }
	require.Contains(t, visit(t, s, nil)["form"].Evidence[0], "answers 500")
	delete(s, "/contact/send")
	require.Contains(t, visit(t, s, nil)["form"].Evidence[0], "answers 404")
	s["/lessons/"] = answer(`<form action="http://base.localhost/send" method="POST"><input name="a" required></form>`)
	require.Contains(t, visit(t, s, nil)["form"].Evidence[0], "base.localhost")
	for why, page := range map[string]string{
		"nothing is required, so it might be kept": `<form action="/contact/send" method="post"><input name="a"></form>`,
		"it belongs to somebody else's service":    `<form action="https://letters.example/join" method="post"><input name="a" required></form>`,
		"it only looks for something":              `<form action="/"><input name="s" required></form>`,
		"it logs in":                               `<form action="/wp-login.php" method="post"><input name="log" required><input type="password" name="pwd"></form>`,
	} {
		s["/lessons/"] = answer(page)
		require.NotContains(t, visit(t, s, nil), "form", why)
	}
}

// options is a database that has one table.
type options struct {
	sitedb.DB
	rows [][2]string
}

func (o options) Tables(context.Context) ([]sitedb.Table, error) { return nil, nil }
func (o options) Snapshot(context.Context) (sitedb.Snapshot, error) {
	return nothing{}, nil
}
func (o options) Select(_ context.Context, _ string, _ []string, _ string, _ []string, each func([][]byte) error) error {
	for _, r := range o.rows {
		if err := each([][]byte{[]byte(r[0]), []byte(r[1])}); err != nil {
			return err
		}
	}
	return nil
}

type nothing struct{ sitedb.Snapshot }

func (nothing) Close() error { return nil }
func (nothing) Programs(context.Context, []sitedb.Table) ([]*sqltext.Program, []sitedb.LeftOut, error) {
	return nil, nil, nil
}

func TestALoginThatTheSiteHasMovedIsFound(t *testing.T) {
	s := healthy()
	door := s["/wp-login.php"]
	s["/stage-door/"] = func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			answer(`<input name="log"><input name="pwd">`)(w, r)
			return
		}
		door(w, r)
	}
	s["/box-office/"] = answer("buy tickets")
	hidden := func(site *Site) {
		site.DB = options{rows: [][2]string{{"blogname", "stage-door"}, {"login_colour", "box-office"}, {"hide_login_slug", "stage-door"},
			{"login_page", "http://elsewhere.example/"}}}
	}
	s["/wp-login.php"] = func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			http.NotFound(w, r)
			return
		}
		answer("<title>Lessons</title>")(w, r)
	}
	got := visit(t, s, hidden)
	require.Equal(t, Pass, got["login"].Result, got["login"].Sentence)
	require.Contains(t, got["login"].Sentence, "/stage-door/, where the site has moved it")
	delete(s, "/stage-door/")
	got = visit(t, s, hidden)
	require.Equal(t, Fail, got["login"].Result)
}

// tells is a site that answers the page that is placed in its folder, as the page's text says.
func tells(t *testing.T, folder, answer string) school {
	s := healthy()
	s["*"] = func(w http.ResponseWriter, r *http.Request) {
		page, err := os.ReadFile(filepath.Join(folder, r.URL.Path))
		if err != nil || !strings.HasPrefix(r.URL.Path, "/"+sitepage.Prefix) {
			http.NotFound(w, r)
			return
		}
		key := regexp.MustCompile(`'sha256', "\$at state", '(\w+)'`).FindSubmatch(page)
		require.NotNil(t, key, "a page answers one question")
		at := r.URL.Query().Get("at")
		require.Equal(t, signed(string(key[1]), at+" state"), r.URL.Query().Get("by"))
		fmt.Fprintf(w, "a warning of an extension {1}\n%s %s", signed(string(key[1]), at+" state "+answer), answer)
	}
	return s
}

func TestAttackAndTheSiteItselfSaysWhichDatabaseItWorksOnAndWhetherMailGoesOut(t *testing.T) {
	dir := t.TempDir()
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	folder := filepath.Join(dir, "site")
	require.NoError(t, os.Mkdir(folder, 0o755))
	asked := func(quiet bool) func(*Site) {
		return func(s *Site) {
			s.FS, s.Folder, s.Quiet, s.Database, s.User = fsys, "site", quiet, "ns_alder", "ns_alder"
		}
	}
	kept := `{"database":"ns_alder","user":"ns_alder@%","mail":{"kept":true,"why":""}}`
	got := visit(t, tells(t, folder, kept), asked(true))
	require.Equal(t, Pass, got["mail"].Result)
	require.Equal(t, Pass, got["own database"].Result)
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Empty(t, left, "the page is taken away")

	got = visit(t, tells(t, folder, kept), asked(false))
	require.Equal(t, Fail, got["mail"].Result)
	require.Contains(t, got["mail"].Remedy, "go live")
	got = visit(t, tells(t, folder, `{"database":"ns_alder","user":"ns_alder@%","mail":{"kept":false,"why":"mail is sent by post/post.php"}}`),
		asked(true))
	require.Equal(t, Fail, got["mail"].Result)
	require.Equal(t, []string{"mail is sent by post/post.php"}, got["mail"].Evidence)
	for _, other := range []string{`{"database":"lad_base","user":"ns_alder@%"}`, `{"database":"ns_alder","user":"lad_base@localhost"}`} {
		require.Equal(t, Fail, visit(t, tells(t, folder, other), asked(false))["own database"].Result, other)
	}

	got = visit(t, tells(t, folder, `{"database":"ns_alder","user":"ns_alder@%","links":["http://alder-valley.example/","http://base.localhost/wp-login.php"]}`),
		asked(false))
	require.Equal(t, Fail, got["links in mails"].Result)

	old := filepath.Join(folder, sitepage.Prefix+"x.php")
	require.NoError(t, os.WriteFile(old, nil, 0o644))
	require.NoError(t, os.Chtimes(old, time.Now(), time.Now().Add(-time.Hour)))
	got = visit(t, healthy(), asked(true))
	require.Equal(t, Warn, got["own database"].Result, "a site that does not say is not believed to be right")
	require.NotContains(t, got, "mail")
	require.NoFileExists(t, old, "one that somebody was killed over is taken away too")

	// Somebody in between who sees the question and the answer cannot make either.
	forged := tells(t, folder, kept)
	forged["*"] = func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, strings.Repeat("a", 64)+" "+kept) }
	got = visit(t, forged, asked(true))
	require.Equal(t, Warn, got["own database"].Result)
	attack.Stopped(t, "the page that asks a site", "an answer of somebody else; another question with the same key; the key in the answer",
		"one page for one question, answers are signed (HMAC-SHA-256), a secret travels by TLS or stays on the machine")
}

func TestResponseTimeIsToldBesideTheSources(t *testing.T) {
	wait := func(d time.Duration) http.HandlerFunc {
		return func(http.ResponseWriter, *http.Request) { time.Sleep(d) }
	}
	source := httptest.NewServer(wait(0))
	defer source.Close()
	require.Contains(t, visit(t, healthy(), func(s *Site) { s.Source = Reach{Address: source.URL, Private: true} })["response time"].Sentence,
		"the source's")

	s := healthy()
	home := s["/"]
	s["/"] = func(w http.ResponseWriter, r *http.Request) { time.Sleep(slowBeside + 20*time.Millisecond); home(w, r) }
	got := visit(t, s, func(s *Site) { s.Source = Reach{Address: source.URL, Private: true} })["response time"]
	require.Equal(t, Warn, got.Result)
	require.Contains(t, got.Evidence[0], "times as slow")
	got = visit(t, s, func(s *Site) { s.Source = Reach{Address: "http://base.example", Connect: "127.0.0.1:1"} })["response time"]
	require.Equal(t, Pass, got.Result, "a source that does not answer is passed over")
}

func TestPathsOfASitesFirstPages(t *testing.T) {
	s := healthy()
	s["/"] = answer(`<a href="/lessons/#top">a</a><a href="/lessons/">b</a><a href="/?page_id=3">c</a><a href="/wp-login.php?x">d</a><a href="https://elsewhere.example/">e</a><a href="/four">f</a>`)
	web := httptest.NewServer(s)
	defer web.Close()
	paths, err := Paths(context.Background(), Reach{Address: web.URL, Private: true}, kindtest.Named(t, "wordpress"), 3)
	require.NoError(t, err)
	require.Equal(t, []string{"", "lessons/", "?page_id=3"}, paths)
	_, err = Paths(context.Background(), Reach{Address: "http://base.example", Connect: "127.0.0.1:1"}, kindtest.Named(t, "wordpress"), 3)
	require.Error(t, err)
}

func TestANameThatLeadsIntoAPrivateNetworkIsNotFollowed(t *testing.T) {
	web := httptest.NewServer(healthy())
	defer web.Close()
	for _, address := range []string{web.URL, strings.Replace(web.URL, "127.0.0.1", "localhost", 1),
		strings.Replace(web.URL, "127.0.0.1", "alder.localhost", 1), strings.Replace(web.URL, "127.0.0.1", "[::ffff:127.0.0.1]", 1)} {
		_, _, err := Visit(context.Background(), Reach{Address: address}, "")
		require.Error(t, err, address)
		_, err = Headers(context.Background(), Reach{Address: address})
		require.Error(t, err, address)
	}
	_, _, err := Visit(context.Background(), Reach{Address: web.URL}, "")
	require.ErrorIs(t, err, ErrPrivate)
}

func TestTheHoldingPageIsAskedForAsAVisitorDoes(t *testing.T) {
	held := func(site *Site) { site.Held, site.Cookie = true, "nestseed_preview=key" }
	s := healthy()
	home := s["/"]
	s["/"] = func(w http.ResponseWriter, r *http.Request) {
		if _, err := r.Cookie("nestseed_preview"); err != nil {
			w.WriteHeader(http.StatusServiceUnavailable)
			fmt.Fprint(w, "soon")
			return
		}
		home(w, r)
	}
	require.Equal(t, Pass, visit(t, s, held)["holding page"].Result)
	got := visit(t, healthy(), held)["holding page"]
	require.Equal(t, Fail, got.Result)
	require.Contains(t, got.Evidence[0], "200")
	require.NotContains(t, visit(t, healthy(), nil), "holding page")
}
