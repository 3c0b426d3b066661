package ahead

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/local"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// far is a folder of this machine that answers late.
type far struct {
	hostfs.FS
	delay  time.Duration
	opened atomic.Int64
}

func (f *far) Transfers() int { return 16 }

func (f *far) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	f.opened.Add(1)
	time.Sleep(f.delay)
	return f.FS.Open(ctx, name)
}

func folder(t *testing.T, files int, sizeBytes int) (*far, []hostfs.Entry, string) {
	t.Helper()
	dir := t.TempDir()
	for i := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%04d", i)), []byte(strings.Repeat(fmt.Sprint(i%10), sizeBytes)), 0o644))
	}
	fsys, err := local.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	var entries []hostfs.Entry
	require.NoError(t, fsys.Walk(t.Context(), ".", func(e hostfs.Entry) error {
		entries = append(entries, e)
		return nil
	}, func(string, error) {}))
	return &far{FS: fsys, delay: time.Millisecond}, entries, dir
}

func TestEveryFileIsReadOnceAndInWhateverOrderItIsAskedFor(t *testing.T) {
	f, entries, _ := folder(t, 300, 1000)
	fsys, stop := Open(t.Context(), f, entries)
	defer stop()
	var group sync.WaitGroup
	for _, from := range []int{0, 1} {
		group.Go(func() {
			for i := from; i < len(entries); i += 2 {
				at := i
				if from == 1 {
					at = len(entries) - i // from the other end, before they have been read
				}
				text, err := hostfs.ReadFile(t.Context(), fsys, entries[at].Path, 1<<20)
				if err != nil || string(text) != strings.Repeat(fmt.Sprint(at%10), 1000) {
					t.Errorf("%s: %.20q, %v", entries[at].Path, text, err)
				}
			}
		})
	}
	group.Wait()
	require.EqualValues(t, len(entries), f.opened.Load())
	text, err := hostfs.ReadFile(t.Context(), fsys, "0007", 1<<20)
	require.NoError(t, err)
	require.Len(t, text, 1000, "a second time it is read anew")
	require.EqualValues(t, len(entries)+1, f.opened.Load())
}

func TestFilesThatNobodyAsksForAreNotInTheWay(t *testing.T) {
	f, entries, _ := folder(t, 120, LargestBytes) // more than is held
	fsys, stop := Open(t.Context(), f, entries)
	time.Sleep(50 * time.Millisecond)
	last := entries[len(entries)-1].Path
	text, err := hostfs.ReadFile(t.Context(), fsys, last, 2<<20)
	require.NoError(t, err)
	require.Len(t, text, LargestBytes)
	require.LessOrEqual(t, f.opened.Load(), int64(heldBytes/LargestBytes+1))
	stop()
}

func TestAFileThatChangedOrWentIsToldAsItIs(t *testing.T) {
	f, entries, dir := folder(t, 3, 10)
	entries = append(entries, hostfs.Entry{Path: "gone", SizeBytes: 5, Mode: 0o644})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "0001"), []byte("it has grown meanwhile"), 0o644))
	fsys, stop := Open(t.Context(), f, entries)
	defer stop()
	text, err := hostfs.ReadFile(t.Context(), fsys, "0001", 100)
	require.NoError(t, err)
	require.Equal(t, "it has grown meanwhile", string(text))
	_, err = fsys.Open(t.Context(), "gone")
	require.ErrorIs(t, err, os.ErrNotExist)
	in, err := fsys.Open(t.Context(), "0002")
	require.NoError(t, err)
	info, err := in.(interface{ Stat() (os.FileInfo, error) }).Stat()
	require.NoError(t, err)
	require.EqualValues(t, 10, info.Size())
	require.NoError(t, in.Close())
}

func TestANearHostIsReadWhenItIsAsked(t *testing.T) {
	f, entries, _ := folder(t, 3, 10)
	fsys, stop := Open(t.Context(), f.FS, entries)
	defer stop()
	require.Equal(t, f.FS, fsys)
}

func TestReadingAheadEndsWithItsContext(t *testing.T) {
	f, entries, _ := folder(t, 100, 10)
	f.delay = 20 * time.Millisecond
	ctx, cancel := context.WithCancel(t.Context())
	fsys, stop := Open(ctx, f, entries)
	cancel()
	_, err := fsys.Open(ctx, entries[len(entries)-1].Path)
	if err != nil {
		require.ErrorIs(t, err, context.Canceled)
	}
	stop()
}
