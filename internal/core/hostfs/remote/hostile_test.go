package remote

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"nestseed/internal/core/hostfs"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// liar is a host that says what it likes.
type liar struct {
	real    func(dir string) string
	list    func(dir string) ([]hostfs.Entry, error)
	removed []string
}

var errNot = errors.New("not this")

func (l *liar) Real(_ context.Context, dir string) (string, error) { return l.real(dir), nil }
func (l *liar) List(_ context.Context, dir string) ([]hostfs.Entry, error) {
	return l.list(dir)
}
func (l *liar) Lstat(_ context.Context, name string) (hostfs.Entry, error) {
	return hostfs.Entry{Path: path.Base(name), Mode: fs.ModeDir | 0o755}, nil
}
func (l *liar) Read(context.Context, string, int64, int64) (io.ReadCloser, error) { return nil, errNot }
func (l *liar) Create(context.Context, string, fs.FileMode) (io.WriteCloser, error) {
	return nil, errNot
}
func (l *liar) Mkdir(context.Context, string) error              { return errNot }
func (l *liar) Chmod(context.Context, string, fs.FileMode) error { return errNot }
func (l *liar) Chtimes(context.Context, string, time.Time) error { return errNot }
func (l *liar) Symlink(context.Context, string, string) error    { return errNot }
func (l *liar) Rename(context.Context, string, string) error     { return errNot }
func (l *liar) Remove(_ context.Context, name string) error {
	l.removed = append(l.removed, name)
	return nil
}
func (l *liar) RemoveDir(_ context.Context, name string) error {
	return l.Remove(context.Background(), name)
}
func (l *liar) Lost(error) bool { return false }
func (l *liar) Transfers() int  { return 2 }
func (l *liar) Close() error    { return nil }

func itself(dir string) string { return dir }

func TestAHostWhoseFoldersNeverEndIsLeft(t *testing.T) {
	f := New(&liar{real: itself, list: func(string) ([]hostfs.Entry, error) {
		return []hostfs.Entry{{Path: "on", Mode: fs.ModeDir | 0o755}}, nil
	}}, "/srv/www", "")
	n := 0
	var told error
	require.NoError(t, f.Walk(t.Context(), ".", func(hostfs.Entry) error { n++; return nil }, func(_ string, err error) { told = err }))
	require.ErrorContains(t, told, "inside each other")
	require.Less(t, n, 2*hostfs.MaxDepth)
	require.NoError(t, f.Close())
}

func TestAHostThatMovesAFolderElsewhereIsNotFollowed(t *testing.T) {
	at := "/srv/www/site"
	l := &liar{real: func(dir string) string {
		if dir == "/srv/www/site" {
			return at
		}
		return dir
	}, list: func(string) ([]hostfs.Entry, error) { return nil, nil }}
	f := New(l, "/srv/www", "")
	site, err := f.Sub(t.Context(), "site")
	require.NoError(t, err)
	require.NoError(t, site.Close())
	at = "/srv/www-of-another/site" // begins like the folder, and is not in it
	time.Sleep(lease)
	for _, op := range []func() error{
		func() error { _, err := f.Sub(t.Context(), "site"); return err },
		func() error { _, err := f.Stat(t.Context(), "site/index.php"); return err },
		func() error { return f.RemoveAll(t.Context(), "site/index.php") },
	} {
		require.ErrorIs(t, op(), ErrOutside)
	}
	require.Empty(t, l.removed)
	for _, name := range []string{"../x", "/etc/passwd", "a\nb", "a\x00b", "a/../../x"} {
		require.ErrorIs(t, f.RemoveAll(t.Context(), name), ErrOutside, "%q", name)
	}
}
