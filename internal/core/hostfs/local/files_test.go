package local

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"nestseed/internal/core/hostfs"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func TestAFileIsReplacedAsAWhole(t *testing.T) {
	dir := t.TempDir()
	fsys, err := Open(dir)
	require.NoError(t, err)
	defer fsys.Close()
	require.Equal(t, dir, fsys.Root())
	old, fresh := strings.Repeat("a", 1<<20), strings.Repeat("b", 1<<20)
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "wp-config.php", []byte(old), 0o640))

	// Who reads meanwhile sees all of the one or all of the other.
	var group sync.WaitGroup
	stop := make(chan struct{})
	group.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			if text, err := os.ReadFile(filepath.Join(dir, "wp-config.php")); err != nil || string(text) != old && string(text) != fresh {
				t.Errorf("a mixture of %d bytes was read: %v", len(text), err)
				return
			}
		}
	})
	for i := range 40 {
		require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "wp-config.php", []byte([]string{fresh, old}[i%2]), 0o640))
	}
	close(stop)
	group.Wait()
	info, err := os.Stat(filepath.Join(dir, "wp-config.php"))
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.Len(t, left, 1, "nothing lies beside it")

	// What a killed write left behind is not in the way of the next.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "wp-config.php.nestseed-new"), []byte("half"), 0o600))
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "wp-config.php", []byte("whole"), 0o640))
	require.ErrorContains(t, hostfs.WriteFile(t.Context(), fsys, "../outside", []byte("x"), 0o600), "escapes")
}

// full is a folder on a disk that is full: files can be made, and nothing be written to them.
type full struct{ hostfs.FS }

type fullFile struct{ io.WriteCloser }

var errFull = errors.New("no space left on device")

func (f full) Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	w, err := f.FS.Create(ctx, name, mode)
	return fullFile{w}, err
}

func (fullFile) Write([]byte) (int, error) { return 0, errFull }

func TestAFileThatCannotBeWrittenStaysAsItWas(t *testing.T) {
	dir := t.TempDir()
	fsys, err := Open(dir)
	require.NoError(t, err)
	defer fsys.Close()
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "wp-config.php", []byte("as it was"), 0o640))
	require.ErrorIs(t, hostfs.WriteFile(t.Context(), full{fsys}, "wp-config.php", []byte("new"), 0o640), errFull)
	text, err := hostfs.ReadFile(t.Context(), fsys, "wp-config.php", 100)
	require.NoError(t, err)
	require.Equal(t, "as it was", string(text))
}

// What is done in a folder that was opened stays in it, and has the host's owner and the modes that were asked for.
func TestAFolderIsOpenedForWhatIsDoneInIt(t *testing.T) {
	dir := t.TempDir()
	defer unix.Umask(unix.Umask(0o077))
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir + "?owner=www-data"})
	require.NoError(t, err)
	defer fsys.Close()
	sub, err := fsys.MakeSub(t.Context(), "alder/wp-content/uploads")
	require.NoError(t, err)
	defer sub.Close()
	require.Equal(t, filepath.Join(dir, "alder/wp-content/uploads"), sub.Root())
	for name, mode := range map[string]fs.FileMode{"score.pdf": 0o644, "run.sh": 0o755, "own.txt": 0o600} {
		w, err := sub.Create(t.Context(), name, mode)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		info, err := os.Stat(filepath.Join(sub.Root(), name))
		require.NoError(t, err)
		require.Equal(t, mode, info.Mode().Perm(), "whatever the umask")
		if os.Geteuid() == 0 {
			require.NotZero(t, info.Sys().(*syscall.Stat_t).Uid)
		}
	}
	at := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	require.NoError(t, sub.Chtimes(t.Context(), "score.pdf", at))
	e, err := fsys.Stat(t.Context(), "alder/wp-content/uploads/score.pdf")
	require.NoError(t, err)
	require.True(t, at.Equal(e.ModTime))
	_, err = sub.Create(t.Context(), "../out", 0o644)
	require.Error(t, err)
	again, err := fsys.Sub(t.Context(), "alder/wp-content")
	require.NoError(t, err)
	require.NoError(t, again.Close())
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(dir, "elsewhere")))
	_, err = fsys.MakeSub(t.Context(), "elsewhere")
	require.Error(t, err, "a link does not lead out")
}
