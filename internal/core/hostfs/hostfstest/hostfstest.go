// Package hostfstest is what every way to files must do, as tests that each protocol's package runs against a real server.
//
//	hostfstest.Run(t, func(t *testing.T) hostfstest.Host { … })
package hostfstest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
)

// Host is an empty folder, as the protocol reaches it and as it lies on this machine.
type Host struct {
	hostfs.FS
	Dir     string
	NoLinks bool // the protocol cannot make links
	// Lag is how long it takes until what others change is seen.
	Lag time.Duration
}

// Run runs all of them. open is called for each.
func Run(t *testing.T, open func(t *testing.T) Host) {
	for name, test := range map[string]func(*testing.T, Host){
		"folders change places":                          changePlaces,
		"a file is never written over":                   neverWrittenOver,
		"a file is replaced as a whole":                  replacedWhole,
		"only empty folders are removed as such":         removeEmpty,
		"a tree is copied with modes, times and links":   copyTree,
		"walking is in order and ends when told":         walk,
		"what cannot be written to is told":              writable,
		"nothing is reached through a site's handle":     handle,
		"names cannot leave the folder":                  names,
		"only files are opened and nothing waits":        onlyFiles,
		"a folder is known by what it is":                identity,
		"a folder is opened for what is done in it":      sub,
		"names of all sorts":                             oddNames,
		"large and empty files":                          sizes,
		"many files at a time":                           bulk,
		"a folder with many files, side by side":         many,
		"what is removed with all that is in it":         removeAll,
		"links inside lead inside, and are seen as such": links,
	} {
		t.Run(name, func(t *testing.T) { test(t, open(t)) })
	}
}

func write(t *testing.T, f hostfs.FS, name, content string, mode fs.FileMode) {
	t.Helper()
	require.NoError(t, hostfs.WriteFile(t.Context(), f, name, []byte(content), mode))
}

func paths(t *testing.T, f hostfs.FS, root string) (out []string) {
	t.Helper()
	require.NoError(t, f.Walk(t.Context(), root, func(e hostfs.Entry) error {
		out = append(out, e.Path)
		return nil
	}, func(p string, err error) { t.Error(p, err) }))
	return out
}

func open(t *testing.T, f hostfs.FS, name string) hostfs.FS {
	t.Helper()
	s, err := f.Sub(t.Context(), name)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func changePlaces(t *testing.T, h Host) {
	write(t, h, "live/a", "old", 0o644)
	write(t, h, ".live.prepared/b", "new", 0o644)
	require.NoError(t, hostfs.Exchange(t.Context(), h.FS, ".live.prepared", "live"))
	require.Equal(t, []string{"b"}, paths(t, h, "live"))
	require.Equal(t, []string{"a"}, paths(t, h, ".live.prepared"))
	require.Error(t, hostfs.Exchange(t.Context(), h.FS, "live", "nowhere"), "both must be there")
	require.Equal(t, []string{"b"}, paths(t, h, "live"))
	require.Equal(t, []string{".live.prepared", ".live.prepared/a", "live", "live/b"}, paths(t, h, "."), "nothing else is left")

	if _, steps := h.FS.(hostfs.Settler); !steps {
		return
	}
	// Cut off after the first rename, and after the second.
	const aside = ".live.prepared.nestseed-between"
	require.NoError(t, h.Rename(t.Context(), ".live.prepared", aside))
	require.NoError(t, hostfs.Settle(t.Context(), h.FS, "live", ".live.prepared"))
	require.Equal(t, []string{"a"}, paths(t, h, ".live.prepared"))
	require.NoError(t, h.Rename(t.Context(), ".live.prepared", aside))
	require.NoError(t, h.Rename(t.Context(), "live", ".live.prepared"))
	require.NoError(t, hostfs.Settle(t.Context(), h.FS, ".live.prepared", "live"))
	require.Equal(t, []string{"a"}, paths(t, h, "live"))
	require.Equal(t, []string{"b"}, paths(t, h, ".live.prepared"))
	require.NoError(t, hostfs.Settle(t.Context(), h.FS, ".live.prepared", "live"), "nothing is cut off now")
}

func neverWrittenOver(t *testing.T, h Host) {
	write(t, h, "a/b/c.txt", "one", 0o600)
	_, err := h.Create(t.Context(), "a/b/c.txt", 0o600)
	require.ErrorIs(t, err, fs.ErrExist)
	text, err := hostfs.ReadFile(t.Context(), h, "a/b/c.txt", 100)
	require.NoError(t, err)
	require.Equal(t, "one", string(text))
	write(t, h, "a/b/c.txt", "two", 0o640)
	e, err := h.Stat(t.Context(), "a/b/c.txt")
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o640), e.Mode.Perm())
	_, err = hostfs.ReadFile(t.Context(), h, "a/b/c.txt", 2)
	require.Error(t, err, "a small file is asked for")
	_, err = hostfs.ReadFile(t.Context(), h, "nothing", 9)
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = h.Stat(t.Context(), "a/nothing")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = h.Stat(t.Context(), "no/folder/at/all")
	require.ErrorIs(t, err, fs.ErrNotExist)
}

func replacedWhole(t *testing.T, h Host) {
	write(t, h, "wp-config.php", strings.Repeat("a", 1<<20), 0o640)
	write(t, h, "wp-config.php", "short", 0o600)
	text, err := os.ReadFile(filepath.Join(h.Dir, "wp-config.php"))
	require.NoError(t, err)
	require.Equal(t, "short", string(text))
	info, err := os.Stat(filepath.Join(h.Dir, "wp-config.php"))
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
	require.Equal(t, []string{"wp-config.php"}, paths(t, h, "."), "nothing lies beside it")
	// What a killed write left behind is not in the way of the next.
	require.NoError(t, os.WriteFile(filepath.Join(h.Dir, hostfs.FreshName("wp-config.php")), []byte("half"), 0o666))
	time.Sleep(h.Lag)
	write(t, h, "wp-config.php", "whole", 0o640)
	require.Equal(t, []string{"wp-config.php"}, paths(t, h, "."))
}

func removeEmpty(t *testing.T, h Host) {
	write(t, h, "full/a", "", 0o644)
	require.NoError(t, h.Mkdir(t.Context(), "empty", 0o755))
	require.NoError(t, h.RemoveEmpty(t.Context(), "empty"))
	require.NoError(t, h.RemoveEmpty(t.Context(), "empty"), "what is not there any more is no error")
	require.NoError(t, h.RemoveEmpty(t.Context(), "full"))
	require.FileExists(t, filepath.Join(h.Dir, "full/a"))
	require.NoDirExists(t, filepath.Join(h.Dir, "empty"))
}

func removeAll(t *testing.T, h Host) {
	for i := range 30 {
		write(t, h, fmt.Sprintf("site/%d/%d/file", i%5, i), "x", 0o444)
	}
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.MkdirAll(outside, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "kept"), nil, 0o644))
	require.NoError(t, os.Symlink(outside, filepath.Join(h.Dir, "site/2/link")))
	time.Sleep(h.Lag)
	require.NoError(t, h.RemoveAll(t.Context(), "site"))
	require.NoDirExists(t, filepath.Join(h.Dir, "site"))
	require.FileExists(t, filepath.Join(outside, "kept"), "a link goes, and not what it leads to")
	require.NoError(t, h.RemoveAll(t.Context(), "site"), "what is not there any more is no error")
	require.NoError(t, h.RemoveAll(t.Context(), "no/such/thing"))
	require.Error(t, h.RemoveAll(t.Context(), "."))
	require.DirExists(t, h.Dir)
}

func copyTree(t *testing.T, h Host) {
	then := time.Now().Add(-48 * time.Hour).Truncate(time.Minute) // some servers tell times to the minute, and not of long ago
	write(t, h, "from/wp/a.php", "<?php", 0o640)
	write(t, h, "from/wp/keep/b.txt", "text", 0o644)
	if !h.NoLinks {
		require.NoError(t, h.Symlink(t.Context(), "a.php", "from/wp/link"))
	}
	require.NoError(t, h.Chtimes(t.Context(), "from/wp/a.php", then))
	require.NoError(t, h.Mkdir(t.Context(), "to", 0o755))
	require.NoError(t, h.Mkdir(t.Context(), "part", 0o755))
	require.NoError(t, hostfs.CopyTree(t.Context(), open(t, h, "from"), open(t, h, "to"), nil))
	require.Equal(t, paths(t, h, "from"), paths(t, h, "to"))
	e, err := h.Stat(t.Context(), "to/wp/a.php")
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o640), e.Mode.Perm())
	info, err := os.Stat(filepath.Join(h.Dir, "to/wp/a.php"))
	require.NoError(t, err)
	require.True(t, info.ModTime().Equal(then), info.ModTime())
	require.NoError(t, hostfs.CopyTree(t.Context(), open(t, h, "from"), open(t, h, "part"),
		func(e hostfs.Entry) bool { return !strings.HasSuffix(e.Path, ".php") && e.Mode&fs.ModeSymlink == 0 }))
	require.Equal(t, []string{"wp", "wp/keep", "wp/keep/b.txt"}, paths(t, h, "part"))
	require.Error(t, hostfs.CopyTree(t.Context(), open(t, h, "from"), open(t, h, "to"), nil), "a file that is in the way is not written over")
	cut, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, hostfs.CopyTree(cut, open(t, h, "from"), open(t, h, "part"), nil), context.Canceled)
}

func walk(t *testing.T, h Host) {
	for _, name := range []string{"s/b/1", "s/a/2", "s/c", "s/a/1", "s/.hidden/.x"} {
		write(t, h, name, "four", 0o640)
	}
	require.NoError(t, h.Mkdir(t.Context(), "s/empty", 0o700))
	require.Equal(t, []string{".hidden", ".hidden/.x", "a", "a/1", "a/2", "b", "b/1", "c", "empty"}, paths(t, h, "s"),
		"parents first, names in byte order, hidden ones too")
	require.NoError(t, h.Walk(t.Context(), "s", func(e hostfs.Entry) error {
		switch e.Path {
		case "c":
			require.Equal(t, "-rw-r-----", e.Mode.String())
			require.EqualValues(t, 4, e.SizeBytes)
		case "empty":
			require.Equal(t, "drwx------", e.Mode.String())
			require.Zero(t, e.SizeBytes)
		}
		return nil
	}, func(string, error) {}))
	enough := errors.New("enough")
	seen := 0
	require.ErrorIs(t, h.Walk(t.Context(), "s", func(hostfs.Entry) error {
		if seen++; seen == 3 {
			return enough
		}
		return nil
	}, func(string, error) {}), enough)
	require.Equal(t, 3, seen)
	entries, err := h.List(t.Context(), "s")
	require.NoError(t, err)
	listed := []string{}
	for _, e := range entries {
		listed = append(listed, e.Path)
		stat, err := h.Stat(t.Context(), path.Join("s", e.Path))
		require.NoError(t, err)
		require.Equal(t, []any{stat.Mode, stat.SizeBytes, stat.Target}, []any{e.Mode, e.SizeBytes, e.Target}, e.Path)
	}
	require.NotEmpty(t, listed)
	require.True(t, slices.IsSorted(listed))
	require.NotContains(t, strings.Join(listed, " "), "/", "just that folder")
	_, err = h.List(t.Context(), "nowhere")
	require.Error(t, err)
	_, err = h.List(t.Context(), "../s")
	require.Error(t, err)
	require.Error(t, h.Walk(t.Context(), "nowhere", func(hostfs.Entry) error { return nil }, func(string, error) {}))
	cut, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, h.Walk(cut, "s", func(hostfs.Entry) error { return nil }, func(string, error) {}), context.Canceled)
}

func writable(t *testing.T, h Host) {
	require.NoError(t, h.Writable(t.Context(), "."))
	require.Error(t, h.Writable(t.Context(), "nowhere"))
	require.Equal(t, filepath.Clean(h.Dir), h.Root())
	if free, err := hostfs.FreeBytes(t.Context(), h.FS); !errors.Is(err, hostfs.ErrSpaceUnknown) {
		require.NoError(t, err)
		require.Positive(t, free)
	}
}

// handle: whoever may change a site cannot lead what is done there to the site beside it.
func handle(t *testing.T, h Host) {
	write(t, h, "victim/wp-config.php", "secret", 0o644)
	require.NoError(t, h.Mkdir(t.Context(), "site/content", 0o755))
	for name, target := range map[string]string{"up": "..", "abs": filepath.Join(h.Dir, "victim"), "near": "../victim",
		"content/chain": "../up/victim", "file": "../victim/wp-config.php"} {
		require.NoError(t, os.Symlink(target, filepath.Join(h.Dir, "site", name)))
	}
	time.Sleep(h.Lag)
	site := open(t, h, "site")
	for _, name := range []string{"up/victim", "abs", "near", "content/chain", "../victim"} {
		for what, do := range map[string]func() error{
			"read":  func() error { _, err := hostfs.ReadFile(t.Context(), site, name+"/wp-config.php", 100); return err },
			"write": func() error { return hostfs.WriteFile(t.Context(), site, name+"/wp-config.php", []byte("x"), 0o644) },
			"make": func() error {
				w, err := site.Create(t.Context(), name+"/new.php", 0o644)
				if err == nil {
					w.Close()
				}
				return err
			},
			"folder": func() error { return site.Mkdir(t.Context(), name+"/new", 0o755) },
			"link":   func() error { return site.Symlink(t.Context(), "x", name+"/new") },
			"rename": func() error { return site.Rename(t.Context(), name+"/wp-config.php", "mine") },
			"sub":    func() error { _, err := site.Sub(t.Context(), name); return err },
			"walk": func() error {
				return site.Walk(t.Context(), name, func(hostfs.Entry) error { return nil }, func(string, error) {})
			},
			"id":   func() error { _, err := site.ID(t.Context(), name+"/wp-config.php"); return err },
			"stat": func() error { _, err := site.Stat(t.Context(), name+"/wp-config.php"); return err },
			"bulk": func() error {
				b, can := site.(hostfs.Bulker)
				if !can {
					return fs.ErrInvalid
				}
				bulk, err := b.Bulk(t.Context())
				require.NoError(t, err)
				return errors.Join(bulk.Put(name+"/bulk.php", 0o644, time.Now(), []byte("x")), bulk.Close())
			},
		} {
			require.Error(t, do(), "%s through %s", what, name)
		}
	}
	_, err := hostfs.ReadFile(t.Context(), site, "file", 100)
	require.Error(t, err)
	_ = site.RemoveAll(t.Context(), "near/wp-config.php")
	_ = site.RemoveAll(t.Context(), "up/victim")
	_ = site.Chtimes(t.Context(), "file", time.Unix(0, 0))
	for _, link := range []string{"up", "abs", "near", "file", "content"} {
		require.NoError(t, site.RemoveAll(t.Context(), link), "a link itself can go")
	}
	text, err := os.ReadFile(filepath.Join(h.Dir, "victim/wp-config.php"))
	require.NoError(t, err)
	require.Equal(t, "secret", string(text))
	left, err := os.ReadDir(filepath.Join(h.Dir, "victim"))
	require.NoError(t, err)
	require.Len(t, left, 1)
}

func names(t *testing.T, h Host) {
	outside := filepath.Join(filepath.Dir(h.Dir), "outside")
	require.NoError(t, os.WriteFile(outside, []byte("secret"), 0o600))
	defer os.Remove(outside)
	require.NoError(t, os.Symlink("..", filepath.Join(h.Dir, "up")))
	time.Sleep(h.Lag)
	for _, name := range []string{"../outside", "/etc/passwd", "up/outside", "a/../../outside"} {
		_, err := h.Open(t.Context(), name)
		require.Error(t, err, name)
		_, err = h.Create(t.Context(), name+".new", 0o644)
		require.Error(t, err, name)
		require.Error(t, h.Rename(t.Context(), name, "in"), name)
	}
	require.FileExists(t, outside)
}

func onlyFiles(t *testing.T, h Host) {
	require.NoError(t, h.Mkdir(t.Context(), "site", 0o755))
	require.NoError(t, syscall.Mkfifo(filepath.Join(h.Dir, "site/pipe"), 0o644))
	require.NoError(t, os.Symlink("pipe", filepath.Join(h.Dir, "site/link")))
	time.Sleep(h.Lag)
	for _, name := range []string{"site/pipe", "site/link", "site"} {
		_, err := h.Open(t.Context(), name)
		require.ErrorIs(t, err, hostfs.ErrNotRegular, name)
	}
}

func links(t *testing.T, h Host) {
	write(t, h, "site/releases/5/index.php", "five", 0o644)
	require.NoError(t, os.Symlink("releases/5", filepath.Join(h.Dir, "site/current")))
	time.Sleep(h.Lag)
	e, err := h.Stat(t.Context(), "site/current")
	require.NoError(t, err)
	require.Equal(t, "releases/5", e.Target)
	require.NotZero(t, e.Mode&fs.ModeSymlink)
	var seen []string
	require.NoError(t, h.Walk(t.Context(), "site", func(e hostfs.Entry) error {
		seen = append(seen, e.Path+" "+e.Target)
		return nil
	}, func(string, error) {}))
	require.Equal(t, []string{"current releases/5", "releases ", "releases/5 ", "releases/5/index.php "}, seen, "a link is not walked through")
	if h.NoLinks {
		require.ErrorIs(t, h.Symlink(t.Context(), "x", "site/new"), hostfs.ErrNoLinks)
		return
	}
	text, err := hostfs.ReadFile(t.Context(), h, "site/current/index.php", 100)
	require.NoError(t, err)
	require.Equal(t, "five", string(text))
	real, err := hostfs.Resolve(t.Context(), h, "site/current")
	require.NoError(t, err)
	require.Equal(t, "site/releases/5", real)
	require.NoError(t, h.Symlink(t.Context(), "../else where", "site/new/link"))
	target, err := os.Readlink(filepath.Join(h.Dir, "site/new/link"))
	require.NoError(t, err)
	require.Equal(t, "../else where", target)
}

func identity(t *testing.T, h Host) {
	for _, name := range []string{"a", "b"} {
		require.NoError(t, h.Mkdir(t.Context(), name, 0o755))
	}
	a, err := h.ID(t.Context(), "a")
	require.NoError(t, err)
	require.NoError(t, hostfs.Exchange(t.Context(), h.FS, "a", "b"))
	b, err := h.ID(t.Context(), "b")
	require.NoError(t, err)
	require.Equal(t, a, b)
	other, err := h.ID(t.Context(), "a")
	require.NoError(t, err)
	require.NotEqual(t, a, other)
	_, err = h.ID(t.Context(), "c")
	require.ErrorIs(t, err, fs.ErrNotExist)
}

func sub(t *testing.T, h Host) {
	s, err := h.MakeSub(t.Context(), "alder/wp-content/uploads")
	require.NoError(t, err)
	defer s.Close()
	require.Equal(t, filepath.Join(h.Dir, "alder/wp-content/uploads"), s.Root())
	for name, mode := range map[string]fs.FileMode{"score.pdf": 0o644, "run.sh": 0o755, "own.txt": 0o600} {
		w, err := s.Create(t.Context(), name, mode)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		info, err := os.Stat(filepath.Join(s.Root(), name))
		require.NoError(t, err)
		require.Equal(t, mode, info.Mode().Perm(), name)
	}
	at := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	require.NoError(t, s.Chtimes(t.Context(), "score.pdf", at))
	info, err := os.Stat(filepath.Join(s.Root(), "score.pdf"))
	require.NoError(t, err)
	require.True(t, at.Equal(info.ModTime()))
	_, err = s.Create(t.Context(), "../out", 0o644)
	require.Error(t, err)
	_, err = h.Sub(t.Context(), "nowhere")
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(h.Dir, "elsewhere")))
	time.Sleep(h.Lag)
	_, err = h.MakeSub(t.Context(), "elsewhere")
	require.Error(t, err, "a link does not lead out")
	// A handle stays good when the one that it came from is closed.
	again := open(t, h, "alder")
	require.NoError(t, s.Close())
	write(t, again, "after.txt", "x", 0o644)
}

func oddNames(t *testing.T, h Host) {
	for _, name := range []string{"a b.txt", " begins.txt", "ends ", "Grüße.txt", "quo'te\".txt", "back\\slash", "-rf", "per%cent",
		"*star[1]?", "ü/ö/ä.txt",
		"日本語.txt"} {
		write(t, h, "odd/"+name, name, 0o644)
		text, err := os.ReadFile(filepath.Join(h.Dir, "odd", name))
		require.NoError(t, err, name)
		require.Equal(t, name, string(text))
		read, err := hostfs.ReadFile(t.Context(), h, "odd/"+name, 100)
		require.NoError(t, err, name)
		require.Equal(t, name, string(read))
		e, err := h.Stat(t.Context(), "odd/"+name)
		require.NoError(t, err)
		require.EqualValues(t, len(name), e.SizeBytes, name)
		require.Contains(t, paths(t, h, "odd"), name)
		require.NoError(t, h.RemoveAll(t.Context(), "odd/"+name), name)
		require.NoFileExists(t, filepath.Join(h.Dir, "odd", name))
	}
}

func sizes(t *testing.T, h Host) {
	large := bytes.Repeat([]byte("seven notes of a scale. "), 3<<20/24)
	for name, content := range map[string][]byte{"empty": nil, "large": large, "byte": {0}, "packet": large[:32768], "more": large[:32769],
		"ahead": large[:256<<10], "binary": bytes.Repeat([]byte{0, 13, 10, 255}, 1000)} {
		w, err := h.Create(t.Context(), name, 0o644)
		require.NoError(t, err)
		for rest := content; len(rest) > 0; {
			n := min(len(rest), 100_000)
			written, err := w.Write(rest[:n])
			require.NoError(t, err)
			require.Equal(t, n, written)
			rest = rest[n:]
		}
		require.NoError(t, w.Close())
		there, err := os.ReadFile(filepath.Join(h.Dir, name))
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, there), name)
		in, err := h.Open(t.Context(), name)
		require.NoError(t, err)
		read, err := io.ReadAll(in)
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, read), name)
		require.NoError(t, in.Close())
	}
	// Who stops in the middle leaves nothing that hinders the next.
	in, err := h.Open(t.Context(), "large")
	require.NoError(t, err)
	_, err = io.ReadFull(in, make([]byte, 1000))
	require.NoError(t, err)
	in.Close()
	_, err = h.Stat(t.Context(), "large")
	require.NoError(t, err)
}

func bulk(t *testing.T, h Host) {
	b, can := h.FS.(hostfs.Bulker)
	if !can {
		t.Skip("this way to files has no need of it")
	}
	require.NoError(t, h.Mkdir(t.Context(), "tree/in it's", 0o755))
	bulk, err := open(t, h, "tree").(hostfs.Bulker).Bulk(t.Context())
	require.NoError(t, err)
	at := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	for i := range 200 {
		require.NoError(t, bulk.Put(fmt.Sprintf("in it's/%d.txt", i), 0o640, at, bytes.Repeat([]byte{byte(i)}, i*100)))
	}
	require.NoError(t, bulk.Close())
	for i := range 200 {
		name := filepath.Join(h.Dir, fmt.Sprintf("tree/in it's/%d.txt", i))
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		require.Equal(t, bytes.Repeat([]byte{byte(i)}, i*100), text)
		info, err := os.Stat(name)
		require.NoError(t, err)
		require.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
		require.True(t, info.ModTime().Equal(at))
	}
	again, err := b.Bulk(t.Context())
	require.NoError(t, err)
	require.Error(t, errors.Join(again.Put("tree/in it's/7.txt", 0o640, at, []byte("over")), again.Close()), "a file is never written over")
	text, err := os.ReadFile(filepath.Join(h.Dir, "tree/in it's/7.txt"))
	require.NoError(t, err)
	require.Len(t, text, 700)
	cut, cancel := context.WithCancel(t.Context())
	stopped, err := b.Bulk(cut)
	require.NoError(t, err)
	cancel()
	require.Error(t, errors.Join(stopped.Put("tree/late.txt", 0o640, at, []byte("late")), stopped.Close()))
}

func many(t *testing.T, h Host) {
	s, err := h.MakeSub(t.Context(), "many")
	require.NoError(t, err)
	defer s.Close()
	failed := make(chan error, 120)
	for i := range cap(failed) {
		go func() {
			failed <- hostfs.WriteFile(t.Context(), s, fmt.Sprintf("%d/%d", i%7, i), []byte(fmt.Sprint(i)), 0o644)
		}()
	}
	for range cap(failed) {
		require.NoError(t, <-failed)
	}
	require.Len(t, paths(t, s, "."), 127)
	for i := range cap(failed) {
		go func() {
			text, err := hostfs.ReadFile(t.Context(), s, fmt.Sprintf("%d/%d", i%7, i), 100)
			if err == nil && string(text) != fmt.Sprint(i) {
				err = fmt.Errorf("%d holds %q", i, text)
			}
			failed <- err
		}()
	}
	for range cap(failed) {
		require.NoError(t, <-failed)
	}
}
