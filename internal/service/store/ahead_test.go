package store

import (
	"bytes"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A file that is read ahead gives what is in it, forward, backward and past its end.
func TestReadingAheadReadsWhatIsThere(t *testing.T) {
	file := filepath.Join(t.TempDir(), "before.zip")
	noise := make([]byte, 6<<20+12345)
	rand.New(rand.NewSource(3)).Read(noise)
	require.NoError(t, os.WriteFile(file, noise, 0o600))
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	a, err := newAhead(f)
	if err != nil {
		t.Skip("this file system knows no reading around the cache: ", err)
	}
	defer a.close()

	whole, err := io.ReadAll(io.NewSectionReader(a, 0, int64(len(noise))+1))
	require.NoError(t, err)
	require.True(t, bytes.Equal(noise, whole))
	rapid.Check(t, func(t *rapid.T) {
		at := rapid.IntRange(0, len(noise)+100).Draw(t, "at")
		p := make([]byte, rapid.SampledFrom([]int{1, 30, 4096, 1 << 20, 3 << 20}).Draw(t, "n"))
		n, err := a.ReadAt(p, int64(at))
		if at >= len(noise) {
			require.ErrorIs(t, err, io.EOF)
			require.Zero(t, n)
			return
		}
		require.NoError(t, err)
		require.Positive(t, n, "some of it at least")
		require.True(t, bytes.Equal(noise[at:at+n], p[:n]))
	})
}

func TestReadingAheadOfAFileThatIsGoneFails(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "before.zip")
	require.NoError(t, os.WriteFile(file, make([]byte, 100), 0o600))
	f, err := os.Open(file)
	require.NoError(t, err)
	require.NoError(t, os.Remove(file))
	if a, err := newAhead(f); err == nil { // it is still open, and so still there
		p := make([]byte, 100)
		n, err := a.ReadAt(p, 0)
		require.NoError(t, err)
		require.Equal(t, 100, n)
		a.close()
	}
	require.NoError(t, f.Close())
	_, err = newAhead(f)
	require.Error(t, err, "what is closed cannot be opened again")
}

// A copy from another file than the one before is read from that one.
func TestADraftCopiesFromSeveralFiles(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir(), "")
	require.NoError(t, err)
	d, err := s.Create(1)
	require.NoError(t, err)
	defer d.Drop()
	var want []byte
	for i := range 4 {
		text := bytes.Repeat([]byte{byte('a' + i)}, 1<<20+i)
		file := filepath.Join(t.TempDir(), "f")
		require.NoError(t, os.WriteFile(file, text, 0o600))
		f, err := os.Open(file)
		require.NoError(t, err)
		defer f.Close()
		require.NoError(t, d.CopyAt(f, 1, int64(len(text))-1, int64(len(want))))
		want = append(want, text[1:]...)
	}
	require.NoError(t, d.Truncate(int64(len(want))))
	size, err := d.Size()
	require.NoError(t, err)
	require.Equal(t, int64(len(want)), size)
	got := make([]byte, size)
	_, err = d.ReadAt(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got))
}
