package archive

import (
	"archive/zip"
	"hash/crc32"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestEntriesThatAreTakenBackLeaveNoTrace(t *testing.T) {
	for _, size := range []int{10, bufferBytes - 1, 3 * bufferBytes} {
		f, err := os.Create(filepath.Join(t.TempDir(), "x.zip"))
		require.NoError(t, err)
		z := &zipFile{out: f}
		write := func(name string, n int) {
			h := Header(name, 0o644, time.Unix(1700000000, 0))
			body := make([]byte, n)
			rand.New(rand.NewSource(int64(n))).Read(body)
			h.CRC32, h.UncompressedSize64, h.CompressedSize64 = crc32.ChecksumIEEE(body), uint64(n), uint64(n)
			require.NoError(t, z.begin(h, n%2 == 1))
			_, err := z.Write(body)
			require.NoError(t, err)
			require.NoError(t, z.end())
		}
		write("first", 5)
		write("gone", size)
		z.rollBack()
		write("second", size+1)
		write("gone too", 2*size)
		z.rollBack()
		n, err := z.finish()
		require.NoError(t, err)
		require.NoError(t, f.Truncate(n))
		r, err := zip.NewReader(f, n)
		require.NoError(t, err)
		require.Len(t, r.File, 2)
		for _, e := range r.File {
			_, err := ReadEntry(e, 1<<30)
			require.NoError(t, err, e.Name)
		}
		out, err := exec.Command("unzip", "-tq", f.Name()).CombinedOutput()
		require.NoError(t, err, string(out))
		f.Close()
	}
}

func TestEntriesBeyondFourGigabytesAreFoundToo(t *testing.T) {
	// A sparse file: nothing of the gigabytes between is written.
	file := filepath.Join(t.TempDir(), "wide.zip")
	f, err := os.Create(file)
	require.NoError(t, err)
	defer f.Close()
	z := &zipFile{out: f, buf: make([]byte, 0, bufferBytes)}
	put := func(name string, size uint64) {
		h := Header(name, 0o644, time.Unix(1700000000, 0))
		h.UncompressedSize64, h.CompressedSize64 = size, size
		require.NoError(t, z.begin(h, size > 2<<30))
		require.NoError(t, z.flush())
		z.at += int64(size)
		require.NoError(t, z.end())
	}
	put("small", 3)
	put("large", 5<<30)
	put("behind", 7)
	put("last", 0)
	size, err := z.finish()
	require.NoError(t, err)
	r, err := zip.NewReader(f, size)
	require.NoError(t, err)
	got, err := places(f, size, r.File)
	require.NoError(t, err)
	require.Len(t, got, 4)
	for _, e := range r.File {
		want, err := e.DataOffset()
		require.NoError(t, err)
		require.Equal(t, want, got[e], e.Name)
	}
}
