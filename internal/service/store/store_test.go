package store

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

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
	size, err := d.Keep(context.Background(), "music-base-1.zip")
	require.NoError(t, err)
	require.Equal(t, int64(7), size)
	d.Drop()
	require.Equal(t, []string{"music-base-1.zip"}, names(t, dir))
	f, size, err := s.Open(context.Background(), "music-base-1.zip")
	require.NoError(t, err)
	defer f.Close()
	text, err := io.ReadAll(f)
	require.NoError(t, err)
	require.Equal(t, "archive", string(text))
	require.Equal(t, int64(7), size)
	_, _, err = s.Open(context.Background(), "../../../etc/passwd")
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
	_, err = d.Keep(context.Background(), "orphan.zip")
	require.ErrorIs(t, err, ErrTaken)
	d.Drop()
	require.NotContains(t, names(t, dir), ".scratch-3")
	_, err = s.Remove(context.Background(), "nowhere.zip")
	require.ErrorIs(t, err, ErrNotFound)
}

// at is where a file of a store lies that is a folder.
func at(s *Store, name string) string { return s.Backend.(*folder).path(name) }

// groups puts uploads and screenshots into a store, as one copy of the service does, and takes them out as another.
func groups(t *testing.T, one, another *Store) {
	t.Helper()
	dir, err := one.Incoming("uploads")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "0a1b"), []byte("do re mi"), 0o600))
	require.NoError(t, one.Publish(context.Background(), "uploads/0a1b"))
	scratch, err := one.Scratch(3)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(scratch, "left.png"), []byte("fa sol"), 0o600))
	require.NoError(t, one.Put(context.Background(), filepath.Join(scratch, "left.png"), "screenshots/1-3-left.png"))
	require.ErrorIs(t, one.Put(context.Background(), filepath.Join(dir, "0a1b"), "screenshots/1-3-left.png"), ErrTaken)
	require.NoError(t, one.DropDraft(3))
	for name, want := range map[string]string{"uploads/0a1b": "do re mi", "screenshots/1-3-left.png": "fa sol"} {
		f, size, err := another.Open(context.Background(), name)
		require.NoError(t, err, name)
		text, err := io.ReadAll(f)
		require.NoError(t, err)
		require.Equal(t, want, string(text))
		require.Equal(t, int64(len(want)), size)
		require.NoError(t, f.Close())
		files, err := another.List(context.Background(), filepath.Dir(name))
		require.NoError(t, err)
		require.Len(t, files, 1)
		require.Equal(t, name, files[0].Name)
		require.WithinDuration(t, time.Now(), files[0].At, time.Minute)
		require.NoError(t, another.RemoveAll(context.Background(), name, "uploads/gone"))
		_, _, err = another.Open(context.Background(), name)
		require.ErrorIs(t, err, ErrNotFound)
	}
	require.NoError(t, one.RemoveAll(context.Background(), "uploads/0a1b"), "its own file of it goes too")
	files, err := one.List(context.Background(), "uploads")
	require.NoError(t, err)
	require.Empty(t, files)
}

func TestUploadsAndScreenshotsAreInAFolder(t *testing.T) {
	dir := t.TempDir()
	one, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	another, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	groups(t, one, another)
	_, _, err = one.Open(context.Background(), "uploads/../../"+filepath.Base(dir))
	require.Error(t, err)
}
