package archive

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestEntriesLieWhereTheDirectorySays(t *testing.T) {
	dir, in := site(t)
	in = withRows(t, in, lessons(4000, nil))
	build(t, in, filepath.Join(dir, "1.zip"))
	a := open(t, filepath.Join(dir, "1.zip"))
	got, err := places(a.from, a.size, a.zip.File)
	require.NoError(t, err)
	require.Len(t, got, len(a.zip.File), "of an archive of ours, all are known")
	for _, f := range a.zip.File {
		want, err := f.DataOffset()
		require.NoError(t, err)
		require.Equal(t, want, got[f], f.Name)
	}

	// Another program writes sizes behind an entry, so it does not end where the next begins: it is not guessed at.
	oldStyle(t, filepath.Join(dir, "1.zip"), filepath.Join(dir, "2.zip"))
	b := open(t, filepath.Join(dir, "2.zip"))
	got, err = places(b.from, b.size, b.zip.File)
	require.NoError(t, err)
	for f, at := range got {
		want, err := f.DataOffset()
		require.NoError(t, err)
		require.Equal(t, want, at, f.Name)
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
		h := header(name, 0o644, time.Unix(1700000000, 0))
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

func TestADirectoryThatDoesNotFitIsNotBelieved(t *testing.T) {
	dir, in := site(t)
	build(t, in, filepath.Join(dir, "1.zip"))
	a := open(t, filepath.Join(dir, "1.zip"))
	whole, err := os.ReadFile(filepath.Join(dir, "1.zip"))
	require.NoError(t, err)
	end := len(whole) - endBytes
	for what, spoil := range map[string]func(b []byte) []byte{
		"cut off":              func(b []byte) []byte { return b[:len(b)-1] },
		"nothing":              func([]byte) []byte { return nil },
		"a comment":            func(b []byte) []byte { return append(b, "comment"...) },
		"a directory outside":  func(b []byte) []byte { binary.LittleEndian.PutUint32(b[end+16:], 1<<31); return b },
		"a directory too long": func(b []byte) []byte { binary.LittleEndian.PutUint32(b[end+12:], 1<<31); return b },
		"a directory of zeros": func(b []byte) []byte { clear(b[binary.LittleEndian.Uint32(b[end+16:]):end]); return b },
		"a name that is too long": func(b []byte) []byte {
			binary.LittleEndian.PutUint16(b[binary.LittleEndian.Uint32(b[end+16:])+28:], 65535)
			return b
		},
	} {
		b := spoil(bytes.Clone(whole))
		got, err := places(bytes.NewReader(b), int64(len(b)), a.zip.File)
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged, what)
			continue
		}
		require.NotEqual(t, len(a.zip.File), len(got), "%s: some do not fit, and are not there", what)
	}
	// An entry that is said to lie elsewhere is not found there.
	b := bytes.Clone(whole)
	second := int(binary.LittleEndian.Uint32(b[end+16:]))
	second += dirBytes + len(a.zip.File[0].Name) + len(a.zip.File[0].Extra)
	binary.LittleEndian.PutUint32(b[second+42:], 12345)
	got, err := places(bytes.NewReader(b), int64(len(b)), a.zip.File)
	require.NoError(t, err)
	require.NotContains(t, got, a.zip.File[1])
}
