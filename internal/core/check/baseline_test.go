package check

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/progress"
)

// asSource checks a site as a source is checked: nobody has asked for anything, and its login is not known.
func asSource(t *testing.T, s school) *Report {
	t.Helper()
	web := httptest.NewServer(s)
	t.Cleanup(web.Close)
	rep, err := Run(context.Background(), Site{Address: web.URL, Private: true, Connect: web.Listener.Addr().String(),
		Kind: kindtest.Named(t, "wordpress"), AsItIs: true}, progress.Discard)
	require.NoError(t, err)
	return rep
}

func withForm(status int) func(school) {
	return func(s school) {
		s["/lessons/"] = answer(`<title>Lessons</title><form method="post" action="/send/"><input name="email" required></form>`)
		s["/send/"] = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }
	}
}

func TestWhatTheSourceHasTooIsNoFault(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(school)
		check string
	}{
		"a dead link":       {func(s school) { delete(s, "/lessons/") }, "pages"},
		"an empty page":     {func(s school) { s["/lessons/"] = answer("") }, "pages"},
		"a missing image":   {func(s school) { delete(s, "/a.jpg") }, "images and styles"},
		"a form that fails": {withForm(http.StatusInternalServerError), "form"},
		"a page leads away": {func(s school) {
			s["/lessons/"] = func(w http.ResponseWriter, r *http.Request) {
				http.Redirect(w, r, "http://other.example/", http.StatusFound)
			}
		}, "redirects"},
	} {
		t.Run(name, func(t *testing.T) {
			source, site := healthy(), healthy()
			c.spoil(source)
			c.spoil(site)
			before := asSource(t, source)
			require.Equal(t, 1, before.Faults())

			got := visit(t, site, func(s *Site) { s.Baseline = before.Baseline })[c.check]
			require.Equal(t, Pass, got.Result, got.Sentence)
			require.Contains(t, got.Sentence, "nothing new: ")
			require.Equal(t, Fail, got.InSource.Result)
			require.Equal(t, 1, got.InSource.Count)
			require.NotEmpty(t, got.InSource.Evidence)
			require.Empty(t, got.Found)

			got = visit(t, site, func(s *Site) { s.Baseline = asSource(t, healthy()).Baseline })[c.check]
			require.Equal(t, Fail, got.Result, "the source does not have it: %s", got.Sentence)
		})
	}
}

func TestWhatIsNewIsToldApartFromWhatTheSourceHas(t *testing.T) {
	source, site := healthy(), healthy()
	delete(source, "/lessons/")
	delete(site, "/lessons/")
	home := site["/"]
	site["/"] = func(w http.ResponseWriter, r *http.Request) {
		home(w, r)
		w.Write([]byte(`<a href="/gone/">gone</a>`))
	}
	got := visit(t, site, func(s *Site) { s.Baseline = asSource(t, source).Baseline })["pages"]
	require.Equal(t, Fail, got.Result)
	require.Equal(t, "pages do not open (1); 1 more are the same in the source", got.Sentence)
	require.Contains(t, got.Evidence[0], "/gone/: 404")
	require.Contains(t, got.InSource.Evidence[0], "/lessons/: 404")

	// Another answer is another fault.
	source["/lessons/"] = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) }
	got = visit(t, site, func(s *Site) { s.Baseline = asSource(t, source).Baseline })["pages"]
	require.Equal(t, "pages do not open (2)", got.Sentence)
}

func TestASourceThatDoesNotOpenExcusesNothing(t *testing.T) {
	source := school{}
	require.Nil(t, asSource(t, source).Baseline())
	require.Nil(t, (*Report)(nil).Baseline())
	site := healthy()
	delete(site, "/lessons/")
	web := httptest.NewServer(source)
	defer web.Close()
	got := visit(t, site, func(s *Site) {
		s.Baseline = func() *Baseline { return nil }
		s.Source = Reach{Address: web.URL, Connect: web.Listener.Addr().String(), Private: true}
	})["pages"]
	require.Equal(t, Fail, got.Result)
}

func TestAPageThatNobodyHasOpenedOnTheSourceIsAskedForThere(t *testing.T) {
	source, site := healthy(), healthy()
	delete(source, "/lessons/")
	delete(site, "/lessons/")
	delete(source, "/a.jpg")
	delete(site, "/a.jpg")
	web := httptest.NewServer(source)
	defer web.Close()
	u, err := url.Parse(web.URL)
	require.NoError(t, err)
	at := Reach{Address: "http://base.example:" + u.Port(), Connect: u.Host, Private: true}
	got := visit(t, site, func(s *Site) { s.Source = at })
	for _, name := range []string{"pages", "images and styles"} {
		require.Equal(t, Pass, got[name].Result, got[name].Sentence)
		require.Equal(t, 1, got[name].InSource.Count)
	}
	// What was good when the release was built is not excused by what the source is today.
	good := asSource(t, healthy())
	require.Equal(t, Fail, visit(t, site, func(s *Site) { s.Source, s.Baseline = at, good.Baseline })["pages"].Result)
}

func TestWhatIsAskedForIsNeverExcused(t *testing.T) {
	rep := &Report{Pages: 1, Checks: []Check{{Name: "mail", Result: Fail, Found: []string{"mail"}},
		{Name: "private files", Result: Fail, Found: []string{"wp-config.php"}}, {Name: "form", Result: Fail, Found: []string{"/send/ 500"}}}}
	b := rep.Baseline()
	require.False(t, b.has("mail", "mail"))
	require.False(t, b.has("private files", "wp-config.php"), "the new site has passwords of its own")
	require.True(t, b.has("form", "/send/ 500"))
}

func TestAfterAChangeOnlyWhatIsNewCounts(t *testing.T) {
	of := func(checks ...Check) *Report { return &Report{Checks: checks} }
	dead := Check{Name: "pages", Result: Fail, Found: []string{"/a/ 404"}}
	more := Check{Name: "pages", Result: Fail, Found: []string{"/a/ 404", "/b/ 404"}}
	login := Check{Name: "login", Result: Fail, Found: []string{"login"}}
	mail := Check{Name: "mail", Result: Fail, Found: []string{"mail"}}
	require.Empty(t, of(dead, login).Since(of(login, more)))
	require.Equal(t, []Check{more}, of(more, login).Since(of(dead, login)))
	require.Equal(t, []Check{mail}, of(mail).Since(of(mail)), "it was asked for")
	require.Equal(t, []Check{dead}, of(dead, Check{Name: "title", Result: Pass}).Since(nil))
	known := Check{Name: "pages", Result: Pass, InSource: &InSource{Result: Fail, Found: []string{"/a/ 404"}}}
	require.Empty(t, of(dead).Since(of(known)))
	require.Equal(t, 0, of(known).Faults())
}

func TestChecksComeInTheOrderInWhichPeopleAsk(t *testing.T) {
	web := httptest.NewServer(healthy())
	defer web.Close()
	rep, err := Run(context.Background(), Site{Address: web.URL, Private: true, Connect: web.Listener.Addr().String(),
		Kind: kindtest.Named(t, "wordpress")}, progress.Discard)
	require.NoError(t, err)
	at := -1
	for _, c := range rep.Checks {
		n := factNamed(c.Name)
		require.Greater(t, n, at, "%s is one of the facts, and in order", c.Name)
		require.NotEmpty(t, c.Group)
		require.NotEmpty(t, c.How)
		at = n
	}
	require.Equal(t, "pages", rep.Checks[0].Name)
}
