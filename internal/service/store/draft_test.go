package store

import (
	"bytes"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"
)

// Whatever is written where, and in what order: what is kept is what a plain file would hold.
func TestADraftHoldsWhatWasWrittenToIt(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir(), "")
	require.NoError(t, err)
	noise := make([]byte, 5<<20)
	rand.New(rand.NewSource(1)).Read(noise)
	from := filepath.Join(t.TempDir(), "before.zip")
	require.NoError(t, os.WriteFile(from, noise, 0o600))
	before, err := os.Open(from)
	require.NoError(t, err)
	defer before.Close()

	rapid.Check(t, func(t *rapid.T) {
		d, err := s.Create(1)
		require.NoError(t, err)
		defer d.Drop()
		var want []byte
		put := func(p []byte, at int) {
			if end := at + len(p); end > len(want) {
				want = append(want, make([]byte, end-len(want))...)
			}
			copy(want[at:], p)
		}
		for range rapid.IntRange(1, 12).Draw(t, "writes") {
			n := rapid.SampledFrom([]int{1, 18, 4096, 100_003, 512 << 10, 2 << 20, 4<<20 + 1}).Draw(t, "n")
			at := len(want)
			if rapid.Bool().Draw(t, "back") {
				at = rapid.IntRange(0, len(want)).Draw(t, "at")
			} else if rapid.IntRange(0, 9).Draw(t, "gap") == 0 {
				at += 3 << 20
			}
			start := rapid.IntRange(0, len(noise)-n).Draw(t, "start")
			if rapid.Bool().Draw(t, "copied") {
				require.NoError(t, d.CopyAt(before, int64(start), int64(n), int64(at)))
			} else {
				m, err := d.WriteAt(noise[start:start+n], int64(at))
				require.NoError(t, err)
				require.Equal(t, n, m)
			}
			put(noise[start:start+n], at)
			if rapid.IntRange(0, 5).Draw(t, "look") == 0 {
				p := make([]byte, min(100, len(want)))
				_, err := d.ReadAt(p, int64(len(want)-len(p)))
				require.NoError(t, err)
				require.True(t, bytes.Equal(want[len(want)-len(p):], p))
			}
		}
		size := len(want)
		if rapid.Bool().Draw(t, "shorter") {
			size = rapid.IntRange(0, len(want)).Draw(t, "size")
		}
		require.NoError(t, d.Truncate(int64(size)))
		kept, err := d.Keep("a.zip")
		require.NoError(t, err)
		require.Equal(t, int64(size), kept)
		got, err := os.ReadFile(s.path("a.zip"))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want[:size], got), "the archive is not what was written")
	})
}

func TestACopyOfWhatIsNotThereFails(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir(), "")
	require.NoError(t, err)
	from := filepath.Join(t.TempDir(), "short")
	require.NoError(t, os.WriteFile(from, make([]byte, 100), 0o600))
	f, err := os.Open(from)
	require.NoError(t, err)
	defer f.Close()
	d, err := s.Create(1)
	require.NoError(t, err)
	defer d.Drop()
	require.ErrorIs(t, d.CopyAt(f, 50, 51, 0), io.ErrUnexpectedEOF, "the archive before is shorter than its directory says")
	require.ErrorIs(t, d.CopyAt(f, 50, 51, 10), io.ErrUnexpectedEOF)
}

// The disk is full: whoever writes, or ends the archive, is told, and nothing is kept.
func TestADraftTellsOfAFullDisk(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "small")
	require.NoError(t, os.Mkdir(dir, 0o755))
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size=6m"); err != nil {
		t.Skip("file systems cannot be mounted here: ", err)
	}
	defer unix.Unmount(dir, 0)
	s, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	d, err := s.Create(1)
	require.NoError(t, err)
	defer d.Drop()
	piece := make([]byte, 1<<20)
	for i := 0; i < 12 && err == nil; i++ {
		_, err = d.WriteAt(piece, int64(i)<<20)
	}
	if err == nil {
		err = d.Truncate(12 << 20)
	}
	require.ErrorIs(t, err, unix.ENOSPC)
	_, err = d.Keep("a.zip")
	require.ErrorIs(t, err, unix.ENOSPC)
	d.Drop()
	require.Empty(t, names(t, dir))
}
