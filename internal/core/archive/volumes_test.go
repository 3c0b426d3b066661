package archive_test

import (
	"bytes"
	"context"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build/buildtest"
	"nestseed/internal/core/progress"
)

type memory struct {
	bytes.Buffer
	to  map[string][]byte
	as  string
	err error
}

func (m *memory) Close() error { m.to[m.as] = m.Bytes(); return m.err }

// cut cuts bytes into volumes and returns them, shuffled, with their sums.
func cut(t *testing.T, raw []byte, size int64) []archive.Piece {
	files := map[string][]byte{}
	c := archive.NewCutter("base-1.zip", size, func(name string) (io.WriteCloser, error) { return &memory{to: files, as: name}, nil })
	for rest := raw; len(rest) > 0; {
		n := min(len(rest), 1+rand.Intn(100_000))
		_, err := c.Write(rest[:n])
		require.NoError(t, err)
		rest = rest[n:]
	}
	require.NoError(t, c.Close())
	require.Equal(t, len(files)-1, c.Volumes())
	var out []archive.Piece
	for name, b := range files {
		out = append(out, archive.Piece{name, bytes.NewReader(b), int64(len(b))})
	}
	return out
}

func without(pieces []archive.Piece, name string) (out []archive.Piece) {
	for _, p := range pieces {
		if p.Name != name {
			out = append(out, p)
		}
	}
	return out
}

func TestVolumesAreJoinedInAnyOrderAndMissingOnesAreNamed(t *testing.T) {
	dir, in := buildtest.Site(t)
	file := filepath.Join(dir, "r.zip")
	buildtest.Build(t, in, file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	pieces := cut(t, raw, 1<<20)
	require.Len(t, pieces, 11)
	for range 3 {
		rand.Shuffle(len(pieces), func(i, j int) { pieces[i], pieces[j] = pieces[j], pieces[i] })
		a, whole, err := archive.OpenPieces(pieces, "")
		require.NoError(t, err)
		require.Equal(t, int64(len(raw)), whole.SizeBytes)
		v, err := a.Verify(context.Background(), progress.Discard)
		require.NoError(t, err)
		require.Empty(t, v.Faults)
	}
	faults, err := archive.CheckVolumes(context.Background(), pieces)
	require.NoError(t, err)
	require.Empty(t, faults)

	_, err = archive.Join(without(pieces, "base-1.zip.003"))
	require.ErrorContains(t, err, "base-1.zip.003 is missing")
	_, err = archive.Join(without(without(pieces, "base-1.zip.010"), "base-1.zip.001"))
	require.ErrorContains(t, err, "base-1.zip.001, base-1.zip.010 is missing", "the sums tell of the last one")
	_, err = archive.Join(append(pieces, archive.Piece{"other.zip.001", bytes.NewReader(nil), 0}))
	require.ErrorContains(t, err, "different archives")
	_, err = archive.Join(append(without(pieces, "base-1.zip.004"), archive.Piece{"base-1.zip.004", bytes.NewReader(raw[:5]), 5}))
	require.ErrorContains(t, err, "base-1.zip.004 has 5 bytes")
	_, err = archive.Join([]archive.Piece{{"readme.txt", bytes.NewReader(nil), 0}})
	require.ErrorIs(t, err, archive.ErrNotOurs)

	for i, p := range pieces {
		if p.Name == "base-1.zip.005" {
			bad := make([]byte, p.SizeBytes)
			_, err := p.R.ReadAt(bad, 0)
			require.NoError(t, err)
			bad[77] ^= 1
			pieces[i].R = bytes.NewReader(bad)
		}
	}
	faults, err = archive.CheckVolumes(context.Background(), pieces)
	require.NoError(t, err)
	require.Len(t, faults, 1)
	require.Equal(t, "base-1.zip.005", faults[0].Entry)
}

func TestSealedArchivesOpenWithTheirKeyOnly(t *testing.T) {
	dir, in := buildtest.Site(t)
	file := filepath.Join(dir, "r.zip")
	buildtest.Build(t, in, file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	for name, c := range map[string]struct {
		recipients       []string
		pass, key, wrong string
	}{
		"recipients": {[]string{other.Recipient().String(), id.Recipient().String()}, "", "# mine\n" + id.String() + "\n", "AGE-SECRET-KEY-1"},
		"passphrase": {nil, "seven quiet oboes", "seven quiet oboes\n", "seven loud oboes"},
	} {
		var sealed bytes.Buffer
		w, err := archive.Seal(&sealed, c.recipients, c.pass)
		require.NoError(t, err)
		_, err = w.Write(raw)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		require.NotContains(t, sealed.String(), "wp-content")
		pieces := cut(t, sealed.Bytes(), 3<<20)
		a, _, err := archive.OpenPieces(pieces, c.key)
		require.NoError(t, err, name)
		r, err := a.File("files/wp-load.php")
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		require.Equal(t, "<?php", string(text))
		for _, wrong := range []string{c.wrong, ""} {
			_, _, err = archive.OpenPieces(pieces, wrong)
			require.ErrorIs(t, err, archive.ErrKey, name)
		}
		b := sealed.Bytes()
		b[len(b)-100] ^= 1
		_, _, err = archive.OpenPieces([]archive.Piece{{"x.zip.age", bytes.NewReader(b), int64(len(b))}}, c.key)
		require.ErrorIs(t, err, archive.ErrDamaged)
	}
	for _, bad := range [][]string{nil, {"age1nonsense"}, {"ssh-rsa AAAA"}} {
		_, err := archive.Seal(io.Discard, bad, "")
		require.Error(t, err)
	}
	_, err = archive.Seal(io.Discard, []string{id.Recipient().String()}, "both at once")
	require.Error(t, err)
	_, err = archive.Seal(io.Discard, nil, "short")
	require.Error(t, err)
}

func FuzzJoin(f *testing.F) {
	f.Add("a.zip.001", "a.zip.002", "a.zip.sums", []byte("abc"), []byte("d"), []byte("x"))
	f.Add("a.001", "b.001", "c", []byte{}, []byte{}, []byte{})
	f.Fuzz(func(t *testing.T, n1, n2, n3 string, b1, b2, b3 []byte) {
		pieces := []archive.Piece{{n1, bytes.NewReader(b1), int64(len(b1))}, {n2, bytes.NewReader(b2), int64(len(b2))},
			{n3, bytes.NewReader(b3), int64(len(b3))}}
		p, err := archive.Join(pieces)
		if err != nil {
			return
		}
		whole, err := io.ReadAll(io.NewSectionReader(p.R, 0, p.SizeBytes))
		require.NoError(t, err)
		require.Equal(t, p.SizeBytes, int64(len(whole)))
		_, _ = archive.CheckVolumes(context.Background(), pieces)
	})
}

func FuzzUnseal(f *testing.F) {
	var sealed bytes.Buffer
	id, err := age.GenerateX25519Identity()
	require.NoError(f, err)
	w, err := archive.Seal(&sealed, []string{id.Recipient().String()}, "")
	require.NoError(f, err)
	w.Write([]byte("not a zip"))
	require.NoError(f, w.Close())
	f.Add(sealed.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _, _ = archive.OpenPieces([]archive.Piece{{"x.zip.age", bytes.NewReader(b), int64(len(b))}}, id.String())
	})
}
