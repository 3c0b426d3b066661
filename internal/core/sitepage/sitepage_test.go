package sitepage_test

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/sitepage"
)

// ledger is a journal in memory. The value of a name says whether its page is left for others.
type ledger map[string]bool

func (l ledger) Placing(_ context.Context, name string) error { l[name] = false; return nil }
func (l ledger) Left(_ context.Context, name string) error    { l[name] = true; return nil }
func (l ledger) Removed(_ context.Context, name string) error { delete(l, name); return nil }

var errCut = errors.New("the connection was cut")

// broken is a host that fails from a number of calls on, with what was written before staying there.
type broken struct {
	hostfs.FS
	after *int
}

func (b broken) ok() error {
	if *b.after--; *b.after < 0 {
		return errCut
	}
	return nil
}

func (b broken) Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	if err := b.ok(); err != nil {
		return nil, err
	}
	w, err := b.FS.Create(ctx, name, mode)
	return brokenFile{w, b}, err
}

type brokenFile struct {
	io.WriteCloser
	of broken
}

func (f brokenFile) Write(p []byte) (int, error) {
	if err := f.of.ok(); err != nil {
		n, _ := f.WriteCloser.Write(p[:len(p)/2])
		return n, err
	}
	return f.WriteCloser.Write(p)
}

func (b broken) RemoveAll(ctx context.Context, name string) error {
	if err := b.ok(); err != nil {
		return err
	}
	return b.FS.RemoveAll(ctx, name)
}

// Wherever the way to the host is cut, what is there afterwards is in the journal, left for whoever clears.
func TestAPageIsInTheJournalAsLongAsItIsThere(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	folder, err := hostfs.Open(ctx, hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	defer folder.Close()
	for after := range 5 {
		left, calls := ledger{}, after
		p, err := sitepage.Spot{Folder: broken{folder, &calls}, Journal: left}.Place(ctx, ".php", 0o644, func(stem string) []byte { return []byte("<?php // " + stem) })
		if err == nil {
			text, readErr := os.ReadFile(filepath.Join(dir, p.Name))
			require.NoError(t, readErr)
			require.Equal(t, "<?php // "+p.Name[:len(p.Name)-len(".php")], string(text))
			ended, cancel := context.WithCancel(ctx)
			cancel()
			err = p.Remove(ended)
		}
		there, globErr := filepath.Glob(filepath.Join(dir, "*"))
		require.NoError(t, globErr)
		for _, path := range there {
			require.True(t, left[filepath.Base(path)], "cut after %d calls: %s is not in the journal", after, path)
		}
		if err == nil {
			require.Empty(t, left)
		}
		for name := range maps.Clone(left) {
			require.NoError(t, sitepage.Spot{Folder: folder, Journal: left}.Clear(ctx, name))
		}
		require.Empty(t, left)
		there, globErr = filepath.Glob(filepath.Join(dir, "*"))
		require.NoError(t, globErr)
		require.Empty(t, there)
	}
}

func TestOnlyPagesAreCleared(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.php"), nil, 0o644))
	folder, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	defer folder.Close()
	for _, name := range []string{"index.php", "", ".", "..", sitepage.Prefix + "/../../x", sitepage.Prefix + `\..\x`} {
		require.Error(t, sitepage.Spot{Folder: folder, Journal: ledger{}}.Clear(t.Context(), name), name)
	}
	require.FileExists(t, filepath.Join(dir, "index.php"))
	require.Equal(t, []bool{false, true}, slices.Collect(func(yield func(bool) bool) {
		_ = yield(sitepage.Is("x"+sitepage.Prefix)) && yield(sitepage.Is(sitepage.Prefix+"a.php"))
	}))
}
