package local

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"nestseed/internal/core/hostfs"

	"github.com/stretchr/testify/require"
)

func TestNamesCannotLeaveTheFolder(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(dir, "outside")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "host"), 0o755))
	require.NoError(t, os.WriteFile(outside, []byte("secret"), 0o600))
	require.NoError(t, os.Symlink(dir, filepath.Join(dir, "host", "up")))
	fsys, err := hostfs.Open("file://" + dir + "/host")
	require.NoError(t, err)
	defer fsys.Close()

	for _, name := range []string{"../outside", "/etc/passwd", "up/outside", "a/../../outside"} {
		_, err := fsys.Open(t.Context(), name)
		require.Error(t, err, name)
		_, err = fsys.Create(t.Context(), name+".new", 0o644)
		require.Error(t, err, name)
		require.Error(t, fsys.Rename(t.Context(), name, "in"), name)
	}
	require.Error(t, fsys.RemoveAll(t.Context(), "."))
	require.FileExists(t, outside)
}

func TestWalkSeesLinksAndReportsWhatItCannotRead(t *testing.T) {
	dir := t.TempDir()
	fsys, err := hostfs.Open("file://" + dir)
	require.NoError(t, err)
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "s/a/b.txt", []byte("hello"), 0o640))
	require.NoError(t, fsys.Symlink(t.Context(), "a/b.txt", "s/link"))
	require.NoError(t, fsys.Mkdir(t.Context(), "s/empty", 0o700))
	var got []string
	require.NoError(t, fsys.Walk(context.Background(), "s", func(e hostfs.Entry) error {
		got = append(got, e.Path+" "+e.Mode.String()+" "+e.Target)
		return nil
	}, func(p string, err error) { t.Error(p, err) }))
	require.Equal(t, []string{"a drwxr-xr-x ", "a/b.txt -rw-r----- ", "empty drwx------ ", "link Lrwxrwxrwx a/b.txt"}, got)
}

func TestUnknownWaysAreRefusedWithAnExample(t *testing.T) {
	_, err := hostfs.Open("gopher://u:secret@x/y")
	require.ErrorIs(t, err, hostfs.ErrUnsupported)
	require.NotContains(t, err.Error(), "secret")
}
