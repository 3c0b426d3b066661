package kind

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
)

func TestStockKindsParseAndSortPathsIntoAreas(t *testing.T) {
	kinds, err := Stock()
	require.NoError(t, err)
	wp, err := Named(kinds, "wordpress")
	require.NoError(t, err)
	for p, area := range map[string]string{
		"wp-admin/index.php": "core", "wp-login.php": "core", "wp-content/plugins/a/b.php": "extensions",
		"wp-content/uploads/2026/a.jpg": "media",
		"wp-content/themes/x/style.css": "themes", "wp-content/uploads2/a": "other", "robots.txt": "other",
		"wp-content/languages/de_DE.mo": "languages",
	} {
		require.Equal(t, area, wp.AreaOf(p), p)
	}
}

func TestIdentifyReadsWhatTheSettingsSay(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
	}
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	kinds, err := Stock()
	require.NoError(t, err)

	put("base/wp-includes/version.php", "<?php $wp_version = '6.1.9'; $required_php_version = '5.6.20';")
	_, err = Identify(t.Context(), fsys, "base", kinds)
	require.ErrorIs(t, err, ErrUnknown)
	put("base/wp-load.php", "<?php")
	put("base/wp-admin/index.php", "<?php")
	_, err = Identify(t.Context(), fsys, "base", kinds)
	require.ErrorContains(t, err, "settings file")

	put("wp-config.php", "<?php define('DB_NAME','lad');define('DB_USER',\"u\");define('DB_PASSWORD',getenv('P'));define('DB_HOST','127.0.0.1:3307');$table_prefix='lad_';")
	id, err := Identify(t.Context(), fsys, "base", kinds)
	require.NoError(t, err)
	require.Equal(t, "6.1.9", id.Version)
	require.Equal(t, "5.6.20", id.Runtime)
	require.Equal(t, Access{Engine: "mysql", Name: "lad", User: "u", Host: "127.0.0.1:3307"}, id.Database)
	require.Equal(t, "lad_", id.Prefix)
	require.Equal(t, "wp-config.php", id.SettingsPath)
	require.Len(t, id.Unreadable, 1)
	require.Contains(t, id.Unreadable[0], "getenv")
}

func TestADefinitionWithAMistakeIsRefused(t *testing.T) {
	_, err := Parse([]byte("name: x\nnonsense: 1\n"))
	require.Error(t, err)
	_, err = Parse([]byte("name: x\n"))
	require.ErrorContains(t, err, "detect: name at least one file")
}
