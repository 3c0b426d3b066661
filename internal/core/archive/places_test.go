package archive_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build/buildtest"
)

func TestEntriesLieWhereTheDirectorySays(t *testing.T) {
	dir, in := buildtest.Site(t)
	in = buildtest.WithRows(t, in, buildtest.Lessons(4000, nil))
	buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	a := buildtest.Open(t, filepath.Join(dir, "1.zip"))
	got, err := a.Places()
	require.NoError(t, err)
	require.Len(t, got, len(a.Entries()), "of an archive of ours, all are known")
	for _, f := range a.Entries() {
		want, err := f.DataOffset()
		require.NoError(t, err)
		require.Equal(t, want, got[f], f.Name)
	}

	// Another program writes sizes behind an entry, so it does not end where the next begins: it is not guessed at.
	buildtest.OldStyle(t, filepath.Join(dir, "1.zip"), filepath.Join(dir, "2.zip"))
	b := buildtest.Open(t, filepath.Join(dir, "2.zip"))
	got, err = b.Places()
	require.NoError(t, err)
	for f, at := range got {
		want, err := f.DataOffset()
		require.NoError(t, err)
		require.Equal(t, want, at, f.Name)
	}
}

func TestADirectoryThatDoesNotFitIsNotBelieved(t *testing.T) {
	dir, in := buildtest.Site(t)
	buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	a := buildtest.Open(t, filepath.Join(dir, "1.zip"))
	whole, err := os.ReadFile(filepath.Join(dir, "1.zip"))
	require.NoError(t, err)
	end := len(whole) - archive.EndBytes
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
		got, err := a.PlacesIn(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			require.ErrorIs(t, err, archive.ErrDamaged, what)
			continue
		}
		require.NotEqual(t, len(a.Entries()), len(got), "%s: some do not fit, and are not there", what)
	}
	// An entry that is said to lie elsewhere is not found there.
	b := bytes.Clone(whole)
	second := int(binary.LittleEndian.Uint32(b[end+16:]))
	second += archive.DirBytes + len(a.Entries()[0].Name) + len(a.Entries()[0].Extra)
	binary.LittleEndian.PutUint32(b[second+42:], 12345)
	got, err := a.PlacesIn(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	require.NotContains(t, got, a.Entries()[1])
}
