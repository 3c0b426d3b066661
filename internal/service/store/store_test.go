package store

import (
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func names(t *testing.T, dir string) (out []string) {
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

func TestAnArchiveIsInTheStoreOnlyWhenItIsWhole(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "archives")
	s, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	d, err := s.Create(7)
	require.NoError(t, err)
	_, err = d.WriteAt([]byte("archive"), 0)
	require.NoError(t, err)
	require.Equal(t, []string{".scratch-7"}, names(t, dir))
	size, err := d.Keep("music-base-1.zip")
	require.NoError(t, err)
	require.Equal(t, int64(7), size)
	d.Drop()
	require.Equal(t, []string{"music-base-1.zip"}, names(t, dir))
	f, size, err := s.Open("music-base-1.zip")
	require.NoError(t, err)
	defer f.Close()
	text, err := io.ReadAll(f)
	require.NoError(t, err)
	require.Equal(t, "archive", string(text))
	require.Equal(t, int64(7), size)
	_, _, err = s.Open("../../../etc/passwd")
	require.Error(t, err)
}

func TestDraftsAreKnownByTheirRunAndNothingIsReplaced(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	for _, n := range []string{".scratch-1", ".scratch-2", ".scratch-x", "orphan.zip", "somebody-elses.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), nil, 0o600))
	}
	drafts, err := s.Drafts()
	require.NoError(t, err)
	require.Equal(t, []int64{1, 2}, drafts)
	require.NoError(t, s.DropDraft(1))
	require.Equal(t, []string{".scratch-2", ".scratch-x", "orphan.zip", "somebody-elses.txt"}, names(t, dir))
	d, err := s.Create(3)
	require.NoError(t, err)
	_, err = d.WriteAt([]byte("x"), 0)
	require.NoError(t, err)
	_, err = d.Keep("orphan.zip")
	require.ErrorIs(t, err, ErrTaken)
	d.Drop()
	require.NotContains(t, names(t, dir), ".scratch-3")
	_, err = s.Remove("nowhere.zip")
	require.ErrorIs(t, err, ErrNotFound)
}
