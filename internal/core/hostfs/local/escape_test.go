package local

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"nestseed/internal/core/hostfs"

	"github.com/stretchr/testify/require"
)

func emptyHost(t *testing.T) (hostfs.FS, string) {
	t.Helper()
	dir := t.TempDir()
	fsys, err := hostfs.Open("file://" + dir)
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	return fsys, dir
}

func paths(t *testing.T, fsys hostfs.FS, root string) (out []string) {
	t.Helper()
	require.NoError(t, fsys.Walk(context.Background(), root, func(e hostfs.Entry) error {
		out = append(out, e.Path)
		return nil
	}, func(p string, err error) { t.Error(p, err) }))
	return out
}

func TestTwoFoldersChangePlacesAtOneMoment(t *testing.T) {
	fsys, _ := emptyHost(t)
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "live/a", []byte("old"), 0o644))
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, ".live.prepared/b", []byte("new"), 0o644))
	require.NoError(t, hostfs.Exchange(t.Context(), fsys, ".live.prepared", "live"))
	require.Equal(t, []string{"b"}, paths(t, fsys, "live"))
	require.Equal(t, []string{"a"}, paths(t, fsys, ".live.prepared"))
	require.Error(t, hostfs.Exchange(t.Context(), fsys, "live", "nowhere"), "both must be there")
	require.Equal(t, []string{"b"}, paths(t, fsys, "live"))
}

func TestAFileIsNeverWrittenOver(t *testing.T) {
	fsys, _ := emptyHost(t)
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "a/b/c.txt", []byte("one"), 0o600))
	_, err := fsys.Create(t.Context(), "a/b/c.txt", 0o600)
	require.ErrorIs(t, err, fs.ErrExist)
	text, err := hostfs.ReadFile(t.Context(), fsys, "a/b/c.txt", 100)
	require.NoError(t, err)
	require.Equal(t, "one", string(text))
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "a/b/c.txt", []byte("two"), 0o640), "WriteFile puts another in its place")
	e, err := fsys.Stat(t.Context(), "a/b/c.txt")
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o640), e.Mode.Perm())
	_, err = hostfs.ReadFile(t.Context(), fsys, "a/b/c.txt", 2)
	require.Error(t, err, "a small file is asked for")
}

func TestOnlyEmptyFoldersAreRemovedAsSuch(t *testing.T) {
	fsys, dir := emptyHost(t)
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "full/a", nil, 0o644))
	require.NoError(t, fsys.Mkdir(t.Context(), "empty", 0o755))
	require.NoError(t, fsys.RemoveEmpty(t.Context(), "empty"))
	require.NoError(t, fsys.RemoveEmpty(t.Context(), "empty"), "what is not there any more is no error")
	require.NoError(t, fsys.RemoveEmpty(t.Context(), "full"))
	require.FileExists(t, filepath.Join(dir, "full/a"))
	require.NoError(t, fsys.RemoveAll(t.Context(), "full"))
	require.NoDirExists(t, filepath.Join(dir, "full"))
}

func TestATreeIsCopiedWithModesTimesAndLinks(t *testing.T) {
	fsys, _ := emptyHost(t)
	then := time.Date(2025, 3, 4, 5, 6, 7, 0, time.UTC)
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "from/wp/a.php", []byte("<?php"), 0o640))
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "from/wp/keep/b.txt", []byte("text"), 0o644))
	require.NoError(t, fsys.Symlink(t.Context(), "a.php", "from/wp/link"))
	require.NoError(t, fsys.Chtimes(t.Context(), "from/wp/a.php", then))
	require.NoError(t, fsys.Mkdir(t.Context(), "to", 0o755))
	require.NoError(t, fsys.Mkdir(t.Context(), "part", 0o755))
	sub := func(name string) hostfs.FS {
		s, err := fsys.Sub(t.Context(), name)
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		return s
	}
	require.NoError(t, hostfs.CopyTree(context.Background(), sub("from"), sub("to"), nil))
	require.Equal(t, paths(t, fsys, "from"), paths(t, fsys, "to"))
	e, err := fsys.Stat(t.Context(), "to/wp/a.php")
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o640), e.Mode.Perm())
	require.True(t, e.ModTime.Equal(then))

	require.NoError(t, hostfs.CopyTree(context.Background(), sub("from"), sub("part"),
		func(e hostfs.Entry) bool { return !strings.HasSuffix(e.Path, ".php") }))
	require.Equal(t, []string{"wp", "wp/keep", "wp/keep/b.txt", "wp/link"}, paths(t, fsys, "part"))
	require.Error(t, hostfs.CopyTree(context.Background(), sub("from"), sub("to"), nil), "a file that is in the way is not written over")

	cut, cancel := context.WithCancel(context.Background())
	cancel()
	require.ErrorIs(t, hostfs.CopyTree(cut, sub("from"), sub("part"), nil), context.Canceled)
}

func TestWalkingEndsWhenTheVisitorSaysSo(t *testing.T) {
	fsys, _ := emptyHost(t)
	for _, name := range []string{"s/b/1", "s/a/2", "s/c", "s/a/1"} {
		require.NoError(t, hostfs.WriteFile(t.Context(), fsys, name, nil, 0o644))
	}
	require.Equal(t, []string{"a", "a/1", "a/2", "b", "b/1", "c"}, paths(t, fsys, "s"), "parents first, names in byte order")
	enough := errors.New("enough")
	seen := 0
	require.ErrorIs(t, fsys.Walk(context.Background(), "s", func(hostfs.Entry) error {
		if seen++; seen == 3 {
			return enough
		}
		return nil
	}, func(string, error) {}), enough)
	require.Equal(t, 3, seen)
	require.Error(t, fsys.Walk(context.Background(), "nowhere", func(hostfs.Entry) error { return nil }, func(string, error) {}))
}

func TestWhatCannotBeWrittenToIsToldWithoutWriting(t *testing.T) {
	fsys, dir := emptyHost(t)
	require.NoError(t, fsys.Writable(t.Context(), "."))
	require.Error(t, fsys.Writable(t.Context(), "nowhere"))
	if os.Geteuid() == 0 {
		return // root may write everywhere
	}
	require.NoError(t, os.Chmod(dir, 0o555))
	require.Error(t, fsys.Writable(t.Context(), "."))
}

func TestAnOwnerWhoIsNotThereIsNamed(t *testing.T) {
	_, err := hostfs.Open("file://" + t.TempDir() + "?owner=nobody-of-this-name")
	require.ErrorContains(t, err, "nobody-of-this-name")
	_, err = hostfs.Open("file:///no/such/folder/at/all")
	require.ErrorContains(t, err, "/no/such/folder/at/all")
}

// A site is a handle on its folder: whoever may change the site cannot lead what is done there to the site beside it.
func TestNothingIsReachedThroughASitesHandleButTheSite(t *testing.T) {
	fsys, dir := emptyHost(t)
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "victim/wp-config.php", []byte("secret"), 0o600))
	require.NoError(t, fsys.Mkdir(t.Context(), "site/content", 0o755))
	for name, target := range map[string]string{"up": "..", "abs": filepath.Join(dir, "victim"), "near": "../victim",
		"content/chain": "../up/victim", "file": "../victim/wp-config.php"} {
		require.NoError(t, fsys.Symlink(t.Context(), target, "site/"+name))
	}
	site, err := fsys.Sub(t.Context(), "site")
	require.NoError(t, err)
	defer site.Close()
	for _, name := range []string{"up/victim", "abs", "near", "content/chain", "../victim"} {
		for what, do := range map[string]func() error{
			"read":  func() error { _, err := hostfs.ReadFile(t.Context(), site, name+"/wp-config.php", 100); return err },
			"write": func() error { return hostfs.WriteFile(t.Context(), site, name+"/wp-config.php", []byte("x"), 0o644) },
			"make": func() error {
				w, err := site.Create(t.Context(), name+"/new.php", 0o644)
				return errors.Join(err, closing(w))
			},
			"folder": func() error { return site.Mkdir(t.Context(), name+"/new", 0o755) },
			"link":   func() error { return site.Symlink(t.Context(), "x", name+"/new") },
			"rename": func() error { return site.Rename(t.Context(), name+"/wp-config.php", "mine") },
			"sub":    func() error { _, err := site.Sub(t.Context(), name); return err },
			"walk": func() error {
				return site.Walk(context.Background(), name, func(hostfs.Entry) error { return nil }, func(string, error) {})
			},
			"id": func() error { _, err := site.ID(t.Context(), name+"/wp-config.php"); return err },
		} {
			require.Error(t, do(), "%s through %s", what, name)
		}
	}
	_, err = hostfs.ReadFile(t.Context(), site, "file", 100)
	require.Error(t, err)
	_ = site.RemoveAll(t.Context(), "near/wp-config.php")
	_ = site.RemoveAll(t.Context(), "up/victim")
	_ = site.Chtimes(t.Context(), "file", time.Unix(0, 0))
	for _, link := range []string{"up", "abs", "near", "file", "content"} {
		require.NoError(t, site.RemoveAll(t.Context(), link), "a link itself can go")
	}
	text, err := os.ReadFile(filepath.Join(dir, "victim/wp-config.php"))
	require.NoError(t, err)
	require.Equal(t, "secret", string(text))
}

func closing(w io.Closer) error {
	if w == nil {
		return nil
	}
	return w.Close()
}

func TestOnlyFilesAreOpenedAndNothingIsWaitedFor(t *testing.T) {
	fsys, dir := emptyHost(t)
	require.NoError(t, fsys.Mkdir(t.Context(), "site", 0o755))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "site/pipe"), 0o644))
	l, err := net.Listen("unix", filepath.Join(dir, "site/socket"))
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, fsys.Symlink(t.Context(), "pipe", "site/link"))
	for _, name := range []string{"site/pipe", "site/socket", "site/link", "site"} {
		_, err := fsys.Open(t.Context(), name)
		require.ErrorIs(t, err, hostfs.ErrNotRegular, name)
	}
}

func TestAFolderIsKnownByWhatItIsAndNotByItsName(t *testing.T) {
	fsys, _ := emptyHost(t)
	for _, name := range []string{"a", "b"} {
		require.NoError(t, fsys.Mkdir(t.Context(), name, 0o755))
	}
	a, err := fsys.ID(t.Context(), "a")
	require.NoError(t, err)
	require.NoError(t, hostfs.Exchange(t.Context(), fsys, "a", "b"))
	b, err := fsys.ID(t.Context(), "b")
	require.NoError(t, err)
	require.Equal(t, a, b)
	other, err := fsys.ID(t.Context(), "a")
	require.NoError(t, err)
	require.NotEqual(t, a, other)
	_, err = fsys.ID(t.Context(), "c")
	require.ErrorIs(t, err, fs.ErrNotExist)
}
