package local

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
)

func TestWhatIsHiddenIsPassedOverAtEveryDepth(t *testing.T) {
	root := t.TempDir()
	for _, name := range []string{"site/index.php", "site/uploads/a/1.png", "site/uploads/b/2.png", "site/uploads/b/c/3.png", "beside/uploads/b/4.png"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(name), 0o644))
	}
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + root})
	require.NoError(t, err)
	defer fsys.Close()
	hidden := hostfs.Without(fsys, func(name string) bool { return strings.HasPrefix(name+"/", "site/uploads/b/") })
	files := func(in hostfs.FS, folder string) (out []string) {
		require.NoError(t, in.Walk(t.Context(), folder, func(e hostfs.Entry) error {
			if e.Mode.IsRegular() {
				out = append(out, e.Path)
			}
			return nil
		}, func(string, error) {}))
		return out
	}
	require.Equal(t, []string{"beside/uploads/b/4.png", "site/index.php", "site/uploads/a/1.png"}, files(hidden, "."))
	require.Equal(t, []string{"index.php", "uploads/a/1.png"}, files(hidden, "site"))
	site, err := hidden.Sub(t.Context(), "site")
	require.NoError(t, err)
	defer site.Close()
	require.Equal(t, []string{"index.php", "uploads/a/1.png"}, files(site, "."))
	uploads, err := site.Sub(t.Context(), "uploads")
	require.NoError(t, err)
	defer uploads.Close()
	require.Equal(t, []string{"a/1.png"}, files(uploads, "."))
	text, err := hostfs.ReadFile(t.Context(), site, "uploads/a/1.png", 100)
	require.NoError(t, err)
	require.Equal(t, "site/uploads/a/1.png", string(text))
	require.Equal(t, fsys.Root(), hidden.Root())
}
