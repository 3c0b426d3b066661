package kind

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
)

func TestADropInKeepsTheDatabaseInAFile(t *testing.T) {
	kinds, err := Stock()
	require.NoError(t, err)
	for name, c := range map[string]struct{ settings, file string }{
		"where nothing says":     {"", "site/wp-content/database/.ht.sqlite"},
		"where the settings say": {"define('DB_DIR', __DIR__ . '/private/'); define('DB_FILE', 'notes.sqlite');", "site/private/notes.sqlite"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			for file, text := range map[string]string{
				"wp-includes/version.php": "<?php $wp_version = '6.6';", "wp-load.php": "<?php", "wp-admin/index.php": "<?php",
				"wp-content/db.php": "<?php // SQLite",
				"wp-config.php":     "<?php define('DB_NAME', 'unused'); $table_prefix = 'lad_';\n" + c.settings,
			} {
				p := filepath.Join(dir, "site", file)
				require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
				require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
			}
			fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
			require.NoError(t, err)
			id, err := Identify(t.Context(), fsys, "site", kinds)
			require.NoError(t, err)
			require.NoError(t, id.CanBeSource())
			require.Equal(t, "sqlite", id.Database.Engine)
			file, err := id.DatabaseFile(fsys, "site")
			require.NoError(t, err)
			require.Equal(t, c.file, file)
			require.NotContains(t, id.Kind.Runtime.Needs, "mysqli")
			require.NotContains(t, id.Kind.DropIns, "wp-content/db.php", "the site does not run without")
			require.Contains(t, id.Kind.Private, "wp-content/database/.ht.sqlite")

			id.Kind.Settings.Database.Write(id.Settings, Access{Engine: "sqlite", Name: "/srv/school/wp-content/database/.ht.sqlite"})
			for setting, value := range map[string]string{"DB_DIR": "/srv/school/wp-content/database/", "DB_FILE": ".ht.sqlite", "DB_NAME": "unused"} {
				is, err := id.Settings.Get(setting)
				require.NoError(t, err)
				require.Equal(t, value, is)
			}
		})
	}
	wp, err := Named(kinds, "wordpress")
	require.NoError(t, err)
	require.Same(t, wp, wp.On("MariaDB"))
	require.Equal(t, []string{"sqlite"}, wp.On("SQLite").Settings.Database.Engines())
}
