package check

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/progress"
)

func TestPagesAreDealtOutSoThatEachIsOpenedOnceMore(t *testing.T) {
	pages := []string{"a", "b", "c", "d", "e"}
	require.Equal(t, [][]string{{"a", "c", "e"}, {"b", "d"}}, Shares(pages, 2))
	many := Shares(pages, 12)
	for _, of := range many {
		require.Len(t, of, 1, "each has one")
	}
	require.Equal(t, []string{"b"}, many[11])
	require.Equal(t, [][]string{nil, nil}, Shares(nil, 2))
	require.Empty(t, Shares(pages, 0))
}

func TestOfASiteThatIsLikeAnotherSomePagesAreOpened(t *testing.T) {
	var mu sync.Mutex
	asked := []string{}
	s := healthy()
	s["/teachers/"] = answer("<title>Teachers</title>")
	s["/"] = answer(`<title>Alder &amp; Valley</title><meta name="robots" content="noindex"><a href="/lessons/">x</a><a href="/teachers/">y</a><a href="/wp-login.php?x">z</a>`)
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked = append(asked, r.Method+" "+r.URL.Path)
		mu.Unlock()
		s.ServeHTTP(w, r)
	}))
	defer web.Close()
	site := Site{Address: web.URL, Private: true, Kind: kindtest.Named(t, "wordpress"), Title: "Alder & Valley", Login: "admin", Password: "right"}
	rep, err := Run(t.Context(), site, progress.Discard)
	require.NoError(t, err)
	slices.Sort(rep.Opened)
	require.Equal(t, []string{"feed/", "lessons/", "teachers/"}, rep.Opened)
	require.Empty(t, rep.Like)

	asked = nil
	site.Like = &Like{Name: "brook-lane", Count: 5, Pages: []string{"lessons/"}}
	rep, err = Run(t.Context(), site, progress.Discard)
	require.NoError(t, err)
	require.Equal(t, []string{"GET /", "GET /lessons/", "POST /wp-login.php", "GET /wp-admin/profile.php"}, asked)
	require.Equal(t, "brook-lane", rep.Like)
	require.Empty(t, rep.Opened)
	require.Zero(t, rep.Faults())
	require.Equal(t, "2 pages open; all 5 were opened on brook-lane, which has the same code", rep.Checks[0].Sentence)

	delete(s, "/lessons/")
	rep, err = Run(t.Context(), site, progress.Discard)
	require.NoError(t, err)
	require.Equal(t, 1, rep.Faults(), "%+v", rep.Checks)
}

func TestWhatIsShownToBeRunIsNotAskedForAgainWhereASiteIsLikeAnother(t *testing.T) {
	dir := t.TempDir()
	folder := filepath.Join(dir, "site")
	require.NoError(t, os.Mkdir(folder, 0o755))
	for name, text := range map[string]string{"wp-config.php": "<?php // secret", ".env": "KEY=secret"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	s := tells(t, folder, `{"database":"ns_alder","user":"ns_alder@%"}`)
	s["/wp-config.php"], s["/.env"] = answer("<?php // secret"), answer("KEY=secret")
	site := func(like *Like) func(*Site) {
		return func(s *Site) { s.FS, s.Folder, s.Database, s.User, s.Like = fsys, "site", "ns_alder", "ns_alder", like }
	}
	require.Len(t, visit(t, s, site(nil))["private files"].Evidence, 2)
	got := visit(t, s, site(&Like{Name: "brook-lane"}))["private files"]
	require.Len(t, got.Evidence, 1)
	require.Contains(t, got.Evidence[0], "/.env", "what programs do not end in is asked for")
	s["*"] = nil
	require.Len(t, visit(t, s, site(&Like{Name: "brook-lane"}))["private files"].Evidence, 2, "nothing has shown that programs are run")
}
