package check

import (
	"net/http"
	"net/url"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind"
)

func TestLinksArePutTogetherWithThePageTheyStandOn(t *testing.T) {
	s := healthy()
	var asked sync.Map // pages are opened side by side
	s["/lessons/"] = answer(`<title>Lessons</title><a href="piano/">Piano</a> <a href="../about/">About</a>`)
	for _, path := range []string{"/lessons/piano/", "/about/"} {
		page := answer("<title>A page</title>")
		s[path] = func(w http.ResponseWriter, r *http.Request) {
			asked.Store(r.URL.Path, true)
			page(w, r)
		}
	}
	got := visit(t, s, nil)
	require.Equal(t, Pass, got["pages"].Result, got["pages"].Evidence)
	for _, path := range []string{"/lessons/piano/", "/about/"} {
		_, was := asked.Load(path)
		require.True(t, was, path)
	}
}

func TestEachSubSiteOfANetworkIsOpened(t *testing.T) {
	s := healthy()
	network := func(site *Site) {
		base, err := url.Parse(site.Address)
		require.NoError(t, err)
		at := func(path string) string { return base.Scheme + "://" + base.Host + path }
		site.Visible = true
		site.SubSites = []kind.SubSite{{ID: "1", Main: true, Address: site.Address}, {ID: "2", Address: at("/drums"), Title: "Drums & skins"},
			{ID: "3", Address: at("/strings"), Title: "Strings"}}
	}
	s["/drums/"] = answer("<title>Drums &amp; skins – all ages</title>")
	s["/strings/"] = answer("<title>Strings</title>")
	got := visit(t, s, network)
	require.Equal(t, Pass, got["sub-sites"].Result, got["sub-sites"].Evidence)
	require.Contains(t, got["sub-sites"].Sentence, "2 sub-sites")

	s["/drums/"] = answer("<title>Alder Valley Music School</title>")
	require.Contains(t, visit(t, s, network)["sub-sites"].Evidence[0], "is titled")
	s["/drums/"] = answer(`<meta name="robots" content="noindex"><title>Drums &amp; skins</title>`)
	require.Contains(t, visit(t, s, network)["sub-sites"].Evidence[0], "against what was asked")
	delete(s, "/drums/")
	require.Contains(t, visit(t, s, network)["sub-sites"].Evidence[0], "404")
	require.NotContains(t, visit(t, s, nil), "sub-sites", "of no network")
}
