package job

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// branches makes a network of two music schools, in folders or with hosts of their own, and returns the addresses of its drum school.
func branches(t *testing.T, name string, apart bool) (base, drums string) {
	t.Helper()
	world.Prepared(t)
	require.NoError(t, world.Stack.InstallNetwork(context.Background(), stack.WordPress{Name: name, Title: "Branches of Alder Valley",
		Database: strings.ReplaceAll(name, "-", "_"), Prefix: "lad_", DatabasePassword: "branches-db-Xk4vTq9m",
		AdminPassword: "branches-admin-0815", Salt: "branches-pepper", AdminEmail: "ines@loomandladder.example"}, apart,
		[]stack.SubSite{{Name: "drums", Title: "Drums", Page: "Sticks and skins"}, {Name: "strings", Title: "Strings", Page: "Gut and steel"}}))
	base = world.Stack.Address(name)
	return base, subOf(base, "drums", apart)
}

// subOf is the address of a sub-site of a network.
func subOf(base, name string, apart bool) string {
	if apart {
		return strings.Replace(base, "://", "://"+name+".", 1)
	}
	return base + "/" + name
}

func TestNetworksOfSitesAreMadeAgainWhole(t *testing.T) {
	for name, apart := range map[string]bool{"net-folders": false, "net-hosts": true} {
		t.Run(name, func(t *testing.T) {
			base, drums := branches(t, name, apart)
			world.Must(t, "source", "add", name, "--host", "preview", "--path", name)
			world.Must(t, "source", "survey", name)
			require.Contains(t, world.Must(t, "source", "show", name), "a network of 3 sites")
			world.Must(t, "starter", "create", name, "--from", name)
			world.Must(t, "release", "build", name)
			found := inRelease(t, name+"@1", "drums@loomandladder.example", "drums-teacher", "branches-pepper", "ines@loomandladder.example")
			require.Empty(t, found, "whose account it is stays behind")

			require.NotZero(t, world.Nestseed(t, "install", "add", name, "--from", name, "--host", "shared").Code, "its sites share code already")
			school := scenario.Schools(9)[8]
			school.Name = name + "-copy"
			world.AddClient(t, school)
			plan := world.Must(t, "site", "plan", school.Name, "--from", name, "--host", "preview")
			require.Contains(t, plan, "sub-sites of the network")
			site := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", name, "--host", "preview")
			require.Zero(t, site.Report.Faults(), "%+v", site.Report)
			require.Contains(t, world.Must(t, "site", "show", school.Name), "2 sub-sites of the network answer")
			copied := subOf(site.Address, "drums", apart)
			page := world.Shows(t, copied+"/lessons/")
			require.Contains(t, page, "Sticks and skins")
			require.NotContains(t, page, strings.TrimPrefix(base, "http://")+"/")
			require.NotContains(t, page, strings.TrimPrefix(drums, "http://")+"/")
			picture, _ := world.Visit(t, pictureOn(t, page))
			require.Equal(t, 200, picture)
			require.Contains(t, world.Shows(t, copied+"/"), "noindex", "search engines are kept out of each")
			require.Contains(t, world.Shows(t, base+"/"), "Branches")
			require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%s2_options WHERE option_name = 'admin_email' AND option_value = ?",
				site.Database, site.Prefix), school.Settings["email"]), "its mail goes to the client")

			// Its administrator runs the network, and the old ones do not.
			require.NotEmpty(t, world.LogsIn(t, site))
			world.Execute(t, "USE "+site.Database)
			require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%ssitemeta WHERE meta_key = 'site_admins' AND meta_value LIKE ?",
				site.Database, site.Prefix), "a:1:{i:0;s:"+fmt.Sprint(len(site.Admin))+`:"`+site.Admin+`";}`))
			browser := world.LogsIn(t, site)
			res, err := browser.Get(site.Address + "/wp-admin/network/sites.php")
			require.NoError(t, err)
			defer res.Body.Close()
			body, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			require.Contains(t, string(body), "drums")

			world.Must(t, "site", "keep-copy", school.Name)
			copies := world.Ask[wire.Site](t, "site", "show", school.Name).Copies
			world.Execute(t, fmt.Sprintf("UPDATE %s.%s2_options SET option_value = 'Kettles' WHERE option_name = 'blogname'", site.Database, site.Prefix))
			world.Must(t, "site", "put-back", school.Name, fmt.Sprint(copies[0].ID))
			world.Checked(t, school.Name)
			require.Contains(t, world.Shows(t, copied+"/"), "Drums")
			world.Must(t, "site", "retire", school.Name, "--no-copy")
			world.NothingLeft(t, school.Name)
		})
	}
}

// A network comes as an archive of its folder and a dump of its database, too.
func TestANetworkOfSitesIsImported(t *testing.T) {
	base, drums := branches(t, "net-sent", false)
	dir := t.TempDir()
	zip := exec.Command("zip", "-q", "-r", filepath.Join(dir, "site.zip"), ".")
	zip.Dir = filepath.Join(world.Stack.Sites(), "net-sent")
	require.NoError(t, zip.Run())
	dump := exec.Command("mariadb-dump", "--no-defaults", "-h127.0.0.1", fmt.Sprint("-P", world.Stack.DatabasePort), "-u"+world.Stack.AdminUser, "net_sent",
		"--result-file="+filepath.Join(dir, "site.sql"))
	dump.Env = append(os.Environ(), "MYSQL_PWD="+world.Stack.AdminPassword)
	said, err := dump.CombinedOutput()
	require.NoError(t, err, string(said))
	world.Must(t, "release", "import", "net-sent", filepath.Join(dir, "site.zip"), "--database", filepath.Join(dir, "site.sql"))
	require.Empty(t, inRelease(t, "net-sent@1", "drums-teacher", "branches-pepper", "ines@loomandladder.example"), "whose account it is stays behind")
	school := scenario.Schools(9)[8]
	school.Name = "net-sent-copy"
	world.AddClient(t, school)
	site := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", "net-sent", "--host", "preview")
	require.Zero(t, site.Report.Faults(), "%+v", site.Report)
	page := world.Shows(t, subOf(site.Address, "drums", false)+"/lessons/")
	require.Contains(t, page, "Sticks and skins")
	require.NotContains(t, page, strings.TrimPrefix(base, "http://")+"/")
	require.NotContains(t, page, strings.TrimPrefix(drums, "http://")+"/")
	world.Must(t, "site", "retire", school.Name, "--no-copy")
	world.NothingLeft(t, school.Name)
}

func TestOneSiteOfANetworkBecomesASiteOfItsOwn(t *testing.T) {
	for name, apart := range map[string]bool{"net-one": false, "net-single": true} {
		t.Run(name, func(t *testing.T) {
			base, drums := branches(t, name, apart)
			bell := filepath.Join(world.Stack.Sites(), name, "wp-content/plugins/bell/bell.php")
			require.NoError(t, os.MkdirAll(filepath.Dir(bell), 0o755))
			require.NoError(t, os.WriteFile(bell, []byte("<?php\n/* Plugin Name: Bell */\n"), 0o644))
			world.Execute(t, fmt.Sprintf("UPDATE %s.lad_sitemeta SET meta_value = 'a:1:{s:13:\"bell/bell.php\";i:1;}' WHERE meta_key = "+
				"'active_sitewide_plugins'", strings.ReplaceAll(name, "-", "_")))
			r := world.Nestseed(t, "source", "add", name+"-x", "--host", "preview", "--path", name, "--sub-site", "flutes")
			require.NotZero(t, r.Code)
			require.Contains(t, r.Err, "drums")
			source := name + "-drums"
			world.Must(t, "source", "add", source, "--host", "preview", "--path", name, "--sub-site", strings.TrimPrefix(drums, "http://"))
			world.Must(t, "source", "survey", source)
			shown := world.Must(t, "source", "show", source)
			require.Contains(t, shown, drums)
			require.NotContains(t, shown, "lad_3_posts")
			require.NotContains(t, shown, "uploads/sites/3")

			list := map[bool]string{false: "starter", true: "whole-site"}[apart]
			starter := source + "-" + list
			world.Must(t, "starter", "create", starter, "--from", source, "--list", list)
			world.Must(t, "release", "build", starter)
			require.Empty(t, inRelease(t, starter+"@1", "Gut and steel", "strings-teacher", "strings.png"), "nothing of its neighbour")
			school := scenario.Schools(10)[9]
			school.Name = strings.TrimPrefix(starter, "net-")
			world.AddClient(t, school)
			args := []string{"site", "provision", school.Name, "--from", starter, "--host", "preview"}
			if list == "starter" {
				args = append(args, "--set", "title=Drum school")
			}
			site := world.Ask[wire.Site](t, args...)
			require.Zero(t, site.Report.Faults(), "%+v", site.Report)
			page := world.Shows(t, site.Address+"/lessons/")
			require.Contains(t, page, "Sticks and skins")
			require.NotContains(t, page, strings.TrimPrefix(base, "http://")+"/")
			picture, _ := world.Visit(t, pictureOn(t, page))
			require.Equal(t, 200, picture)
			world.LogsIn(t, site)
			teachers := world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%susers WHERE user_login = 'drums-teacher'", site.Database, site.Prefix))
			require.Equal(t, map[string]int{"starter": 0, "whole-site": 1}[list], teachers)
			require.Zero(t, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%susers WHERE user_login = 'strings-teacher'", site.Database, site.Prefix)))
			require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%soptions WHERE option_name = 'active_plugins' AND option_value "+
				"LIKE '%%bell/bell.php%%'", site.Database, site.Prefix)), "what was active in all of the network")
			config, err := os.ReadFile(filepath.Join(world.Stack.Sites(), site.Name, "wp-config.php"))
			require.NoError(t, err)
			require.NotContains(t, string(config), "'MULTISITE', true")
			world.Must(t, "site", "retire", school.Name, "--no-copy")
		})
	}
}

// inRelease returns which of some texts stand in a release, in what its files hold or in their names.
func inRelease(t *testing.T, ref string, texts ...string) (found []string) {
	t.Helper()
	to := filepath.Join(t.TempDir(), "release.zip")
	world.Must(t, "release", "download", ref, "--to", to)
	for _, how := range []string{"-p", "-l"} {
		out, err := exec.Command("unzip", how, to).Output()
		require.NoError(t, err)
		for _, text := range texts {
			if strings.Contains(string(out), text) {
				found = append(found, text)
			}
		}
	}
	return found
}

// pictureOn is the address of the first picture in a page's text.
func pictureOn(t *testing.T, page string) string {
	t.Helper()
	found := regexp.MustCompile(`<img [^>]*src="([^"]+)"`).FindStringSubmatch(page)
	require.NotNil(t, found, page)
	return found[1]
}
