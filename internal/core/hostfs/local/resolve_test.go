package local_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/local"
)

func TestLinksOnTheWayToAFolderAreFollowed(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "app/releases/5/web"), 0o755))
	for name, target := range map[string]string{"app/current": "releases/5", "site": filepath.Join(dir, "app/current"), "out": "/etc", "up": "../x",
		"round": "round"} {
		require.NoError(t, os.Symlink(target, filepath.Join(dir, name)))
	}
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	defer fsys.Close()
	for name, want := range map[string]string{"app/current": "app/releases/5", "site/web": "app/releases/5/web", "app": "app", "out": "out",
		"up": "up", "round": "round"} {
		got, err := hostfs.Resolve(t.Context(), fsys, name)
		require.NoError(t, err, name)
		require.Equal(t, want, got, name)
	}
	_, err = hostfs.Resolve(t.Context(), fsys, "nothing/there")
	require.Error(t, err)
}
