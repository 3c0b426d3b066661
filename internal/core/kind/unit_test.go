package kind

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
)

func wordpress(t *testing.T) *Kind {
	t.Helper()
	kinds, err := Stock()
	require.NoError(t, err)
	k, err := Named(kinds, "wordpress")
	require.NoError(t, err)
	return k
}

func TestCodeIsToldFromContentByUnits(t *testing.T) {
	k := wordpress(t)
	for p, want := range map[string]struct {
		unit        string
		whole, code bool
	}{
		"wp-includes/js/a.js":                    {"wp-includes", true, true},
		"wp-admin":                               {"wp-admin", true, true},
		"wp-login.php":                           {"wp-login.php", false, true},
		"index.php":                              {"index.php", false, true},
		"wp-content/plugins/booking/inc/a.php":   {"wp-content/plugins/booking", false, true},
		"wp-content/plugins/hello.php":           {"wp-content/plugins/hello.php", false, true},
		"wp-content/plugins":                     {"wp-content/plugins/", false, false},
		"wp-content/mu-plugins/ours.php":         {"wp-content/mu-plugins/ours.php", false, true},
		"wp-content/themes/stage/style.css":      {"wp-content/themes/stage", false, true},
		"wp-content/uploads/2026/09/a.jpg":       {"", false, false},
		"wp-content/languages/de_DE.mo":          {"", false, false},
		"wp-content/pluginsextra/a.php":          {"", false, false},
		"anything/else.txt":                      {"", false, false},
		"wp-content/uploads/wp-includes/odd.php": {"", false, false},
	} {
		unit, whole, code := k.Unit(p)
		require.Equal(t, want.code, code, p)
		require.Equal(t, want.whole, whole, p)
		if code {
			require.Equal(t, want.unit, unit, p)
		}
	}
}

func TestVersionsAreComparedPartByPart(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"6.1", "6.1.0", 0}, {"6.1.9", "6.10", -1}, {"6.10", "6.9", 1}, {"53496", "53495", 1}, {"", "1", -1}, {"6.1-beta", "6.1", -1}, {"10",
		"9.9.9", 1}, {"6.6-RC3", "6.5.5", 1}, {"6.7-alpha-58716", "6.6.2", 1}, {"6.6-RC3", "6.6", -1}, {"6.6-RC3", "6.6-RC2", 1}, {"6.6-beta1", "6.6-RC1", -1},
		{"8.2.7-1ubuntu2.19", "8.2.7", 0}, {"5.0.4b2", "5.0.4", -1}, {"5.7x", "5.7", 0}, {"v2.1", "2.0.9", 1}} {
		got := CompareVersions(c.a, c.b)
		switch {
		case c.want < 0:
			require.Negative(t, got, "%s %s", c.a, c.b)
		case c.want > 0:
			require.Positive(t, got, "%s %s", c.a, c.b)
		default:
			require.Zero(t, got, "%s %s", c.a, c.b)
		}
	}
}

func TestASettingIsReadFromItsFile(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "site/wp-includes"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "site/wp-includes/version.php"),
		[]byte("<?php\n$wp_version = '6.1.9';\n$wp_db_version = 53496;\n"), 0o644))
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	k := wordpress(t)
	site, err := fsys.Sub(t.Context(), "site")
	require.NoError(t, err)
	require.Equal(t, "6.1.9", k.Version.Look(t.Context(), site))
	require.Equal(t, "53496", Place{File: k.Upgrade.File, Setting: k.Upgrade.Setting}.Look(t.Context(), site))
	require.Empty(t, k.Version.Look(t.Context(), fsys), "what is not there is not known")
	require.Empty(t, Place{}.Look(t.Context(), site))
}

func TestEndsOfLifeCoverVersionsAndThoseBeforeThem(t *testing.T) {
	require.True(t, End{Version: "8.1"}.Covers("8.1.27"))
	require.False(t, End{Version: "8.1"}.Covers("8.10"))
	require.True(t, End{Before: "7.4"}.Covers("5.6.40"))
	require.False(t, End{Before: "7.4"}.Covers("7.4"))
}

func TestFilesThatTheKindWritesAreWhole(t *testing.T) {
	k := wordpress(t)
	for name, text := range map[string]string{k.Hold.File: k.Hold.Text, k.Mail.File: k.Mail.Text, k.Pause.File: k.Pause.Text} {
		require.NotEmpty(t, name)
		require.Regexp(t, `^<\?php`, text, name)
	}
	page := string(k.Hold.Page("secret-key", `O'Hara's "Drums" \`))
	for _, part := range []string{"'secret-key'", "$_COOKIE['nestseed_preview']", "$_GET['held-preview']", "~/wp-login[.]php$", "O&#39;Hara&#39;s &#34;Drums&#34; <"} {
		require.Contains(t, page, part)
	}
	require.NotRegexp(t, `\{[a-z]`, page)
}

func TestASettingsFileLoadsThePageWhileASiteIsHeld(t *testing.T) {
	kinds, err := Stock()
	require.NoError(t, err)
	k, err := Named(kinds, "drupal")
	require.NoError(t, err)
	const text = "<?php\n\n$databases = [];\n// <?php\n"
	held := k.Hold.Loaded([]byte(text), true)
	require.Equal(t, "<?php require __DIR__ . '/nestseed-hold.php';\n\n\n$databases = [];\n// <?php\n", string(held))
	require.Equal(t, held, k.Hold.Loaded(held, true), "once is enough")
	require.Equal(t, text, string(k.Hold.Loaded(held, false)))
	require.Equal(t, text, string(k.Hold.Loaded([]byte(text), false)))
	settings, err := ReadSettings("php", held, "/srv/site/sites/default", func(string) ([]byte, error) { return nil, errGone })
	require.NoError(t, err)
	require.True(t, settings.Has("$databases"), "what it loads is no settings file")
}

func TestASiteThatWritesItsSettingsAnewStaysHeld(t *testing.T) {
	kinds, err := Stock()
	require.NoError(t, err)
	k, err := Named(kinds, "joomla")
	require.NoError(t, err)
	dir := t.TempDir()
	site, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	const settings, line = "<?php\nclass JConfig {\n\tpublic $db = 'lad';\n}\n", "@include_once __DIR__ . '/nestseed-hold.php';"
	file, before := filepath.Join(dir, "configuration.php"), filepath.Join(dir, "defines.php")
	require.NoError(t, os.WriteFile(file, []byte(settings), 0o640))
	keep := func(page []byte) {
		t.Helper()
		require.NoError(t, k.KeepOut(t.Context(), site, dir, page))
	}
	read := func(name string) string {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		return string(text)
	}
	keep([]byte("<?php exit;"))
	require.Contains(t, read(file), "nestseed-hold.php")
	require.Equal(t, "<?php "+line+"\n\n", read(before))
	require.NoError(t, os.WriteFile(file, []byte(settings), 0o640)) // somebody saves the configuration
	keep([]byte("<?php exit;"))
	require.Equal(t, 1, strings.Count(read(before), line))
	keep(nil)
	require.NoFileExists(t, before)
	require.Equal(t, settings, read(file))

	for _, own := range []string{"<?php\ndefine('ROOM', 4);\n", "<?php\ndeclare(strict_types=1);\n", "<?php namespace Hall;\n", "words"} {
		require.NoError(t, os.WriteFile(before, []byte(own), 0o600))
		keep([]byte("<?php exit;"))
		require.Equal(t, strings.Contains(own, "define('"), strings.Contains(read(before), line), own)
		keep(nil)
		require.Equal(t, own, read(before))
	}
	require.NoError(t, os.Remove(before))
	require.NoError(t, os.Symlink("shared.php", before))
	keep([]byte("<?php exit;"))
	require.NoFileExists(t, filepath.Join(dir, "shared.php"), "shared code is left alone")
	for _, wrong := range []Hold{{File: "hold.php", Admin: "/a", LoadIn: "d.php"}, {File: "in/hold.php", Admin: "/a", Load: "x", LoadIn: "d.php"},
		{File: "hold.php", Admin: "/a", Load: "x", LoadIn: "in/d.php"}} {
		require.ErrorContains(t, wrong.valid(), "hold.load-in")
	}
}

func TestAHoldThatCannotBeIsNamed(t *testing.T) {
	for _, admin := range []string{"", "(", "a'b", "a~b", `a\b`} {
		h := Hold{File: "hold.php", Admin: admin}
		require.ErrorContains(t, h.valid(), "hold.admin", admin)
	}
}
