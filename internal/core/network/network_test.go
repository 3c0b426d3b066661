package network

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind"
)

var schools = []kind.SubSite{
	{ID: "1", Main: true, Address: "http://alder.example"},
	{ID: "2", Address: "http://alder.example/drums"},
	{ID: "3", Address: "http://strings.alder.example:8080"},
}

func TestASubSiteIsFoundByWhatPeopleCallIt(t *testing.T) {
	for name, id := range map[string]string{"2": "2", "drums": "2", "alder.example/drums": "2", "http://alder.example/drums/": "2",
		"strings.alder.example": "3", "strings.alder.example:8080": "3", "alder.example": "1", "http://alder.example": "1"} {
		s, err := Find(schools, name)
		require.NoError(t, err, name)
		require.Equal(t, id, s.ID, name)
	}
	_, err := Find(schools, "flutes")
	require.ErrorContains(t, err, `no sub-site "flutes"; it has alder.example, drums, strings.alder.example`)
	require.ErrorIs(t, err, kind.ErrCannotRead)
	_, err = Find(nil, "drums")
	require.ErrorContains(t, err, "it is no network")
}

func TestUploadsOfOthersAreNotSeen(t *testing.T) {
	n := kind.Network{}
	n.Media.Folder, n.Media.Own = "wp-content/uploads/sites", "wp-content/uploads/sites/{id}"
	for name, hidden := range map[string][2]bool{ // of the main one, of sub-site 2
		"base/index.php":                             {false, false},
		"base/wp-content/uploads":                    {false, false},
		"base/wp-content/uploads/2026/a.jpg":         {false, true},
		"base/wp-content/uploads/sites":              {true, false},
		"base/wp-content/uploads/sites/2":            {true, false},
		"base/wp-content/uploads/sites/2/05/a.jpg":   {true, false},
		"base/wp-content/uploads/sites/20/a.jpg":     {true, true},
		"base/wp-content/uploads/sites/3/a.jpg":      {true, true},
		"other/wp-content/uploads/sites/3/a.jpg":     {false, false},
		"base/wp-content/uploads-of-others/a/b.jpg":  {false, false},
		"base/wp-content/plugins/uploads/sites/3/ab": {false, false},
	} {
		require.Equal(t, hidden[0], hides("base", n, schools[0], "wp-content/uploads")(name), "main %s", name)
		require.Equal(t, hidden[1], hides("base", n, schools[1], "wp-content/uploads")(name), "2 %s", name)
	}
	require.True(t, hides(".", n, schools[1], "wp-content/uploads")("wp-content/uploads/sites/3/a.jpg"))
}

func TestTablesOfOneSubSite(t *testing.T) {
	k := &kind.Kind{Network: kind.Network{Shared: []string{"users", "blogs"}, Only: []string{"blogs"}, Number: "{id}_"}}
	for _, c := range []struct{ real, main, second string }{
		{"lad_posts", "lad_posts", ""}, {"lad_2_posts", "", "lad_2_posts"}, {"lad_3_posts", "", ""}, {"lad_users", "lad_users", "lad_2_users"},
		{"lad_blogs", "", ""}, {"other_posts", "", ""}, {"lad_2fa_codes", "lad_2fa_codes", ""},
	} {
		main := &view{kind: k, prefix: "lad_", own: "lad_", others: []string{"2_", "3_"}}
		second := &view{kind: k, prefix: "lad_", own: "lad_2_", others: []string{"3_"}}
		for v, want := range map[*view]string{main: c.main, second: c.second} {
			name, own := v.shown(c.real)
			require.Equal(t, want != "", own, "%s for %s", c.real, v.own)
			if own {
				require.Equal(t, want, name)
				require.Equal(t, c.real, v.real(name))
			}
		}
	}
	second := &view{kind: k, prefix: "lad_", own: "lad_2_", others: []string{"3_"}}
	for key, elsewhere := range map[string]bool{"nickname": false, "lad_2_capabilities": false, "lad_3_capabilities": true, "lad_capabilities": true} {
		require.Equal(t, elsewhere, second.elsewhere([]byte(key)), key)
	}
}

func TestWhatIsActiveEverywhereIsActiveAlone(t *testing.T) {
	for _, c := range [][3]string{
		{`a:0:{}`, "bell/bell.php", `a:1:{i:0;s:13:"bell/bell.php";}`},
		{`a:1:{i:4;s:5:"a.php";}`, "bell/bell.php", `a:2:{i:4;s:5:"a.php";i:5;s:13:"bell/bell.php";}`},
		{`a:1:{i:0;s:13:"bell/bell.php";}`, "bell/bell.php", `a:1:{i:0;s:13:"bell/bell.php";}`},
	} {
		out, changed := withActive([]byte(c[0]), []string{c[1]})
		require.True(t, changed)
		require.Equal(t, c[2], string(out))
	}
	_, changed := withActive([]byte(`a:1:{i:0;s:99:"broken";}`), []string{"bell/bell.php"})
	require.False(t, changed)
}
