package kind

import (
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What a tenant leads to is all of the code and nothing of the site's own, in as few names as do.
func TestATenantLeadsToCodeOnly(t *testing.T) {
	for name, c := range map[string]struct {
		paths, own []string
		want       string
	}{
		"wordpress": {
			paths: []string{"index.php", "wp-config.php", ".htaccess", "wp-admin/admin.php", "wp-includes/version.php", "wp-content/index.php",
				"wp-content/plugins/forms/forms.php", "wp-content/plugins/forms/img/a.png", "wp-content/themes/oak/style.css",
				"wp-content/themes/oak/address.css", "wp-content/uploads/2026/05/choir.jpg", "wp-content/languages/de_DE.mo"},
			own:  []string{"wp-content/themes/oak/address.css"},
			want: "index.php wp-admin wp-content/plugins/forms wp-content/themes/oak/style.css wp-includes",
		},
		"drupal": {
			paths: []string{"index.php", "core/lib/Drupal.php", "core/install.php", "modules/contrib/events/events.module", "sites/default/settings.php",
				"sites/default/files/choir.jpg", "themes/oak/oak.info.yml", "vendor/autoload.php"},
			want: "core index.php modules/contrib/events themes/oak vendor",
		},
		"joomla": {
			paths: []string{"index.php", "configuration.php", "administrator/index.php", "administrator/components/com_users/users.php",
				"libraries/src/Version.php", "images/choir.jpg", "components/com_content/content.php", "tmp/x", "cache/y"},
			want: "administrator/components/com_users components/com_content index.php libraries",
		},
	} {
		t.Run(name, func(t *testing.T) {
			k := named(t, name)
			links := k.Shared(c.paths, c.own)
			t.Log(strings.Join(links, " "))
			for _, want := range strings.Fields(c.want) {
				require.True(t, slices.ContainsFunc(links, func(l string) bool { return l == want || strings.HasPrefix(want, l+"/") }), want)
			}
			for _, l := range links {
				require.False(t, k.IsSettings(l), l)
				for _, other := range links {
					require.False(t, l != other && strings.HasPrefix(other, l+"/"), "%s is in %s", other, l)
				}
				for _, own := range append(c.own, k.Media.Folder) {
					require.False(t, own == l || strings.HasPrefix(own, l+"/") || strings.HasPrefix(l, own+"/"), "%s holds %s", l, own)
				}
			}
			for _, p := range c.paths {
				if k.IsSettings(path.Clean(p)) {
					require.False(t, slices.ContainsFunc(links, func(l string) bool { return l == p || strings.HasPrefix(p, l+"/") }), p)
				}
			}
		})
	}
}

func TestADefinitionSaysHowItsSitesShareCode(t *testing.T) {
	require.NoError(t, (&Tenants{}).valid())
	require.NoError(t, (&Tenants{Door: "tenants/{host}", Program: "shared.php", Own: []string{"cache/*"},
		Temporary: ".tmp", Files: []Text{{File: ".user.ini", Keeps: "^a"}}}).valid())
	for says, wrong := range map[string]*Tenants{
		"keeps of .user.ini":       {Door: "t/{host}", Files: []Text{{File: ".user.ini", Keeps: "("}}},
		`"/tmp" does not stay`:     {Door: "t/{host}", Temporary: "/tmp"},
		"put {host} into it":       {Door: "tenants/all"},
		"does not stay inside":     {Door: "../{host}"},
		`"../x" does not stay`:     {Door: "t/{host}", Own: []string{"../x"}},
		`"/etc/a.php" does not`:    {Door: "t/{host}", Code: []Text{{File: "/etc/a.php"}}},
		`there is no "../kind.go"`: {Door: "t/{host}", Program: "../kind.go"},
		"say for which files":      {Door: "t/{host}", Beside: []Beside{{Text: Text{File: ".user.ini"}}}},
		`"../all" does not stay inside`: {Door: "t/{host}", Links: []struct {
			At string `yaml:"at"`
			To string `yaml:"to"`
		}{{At: "sites/{host}", To: "../../all"}}},
	} {
		require.ErrorContains(t, wrong.valid(), says)
	}
}
