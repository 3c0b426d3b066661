package store

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"
)

// Whatever is written where, copied from where, and in what order: what is kept is what a plain file would hold, also
// when the archives that it shares bytes with are gone, and also when it is copied from in turn.
func TestADraftHoldsWhatWasWrittenToIt(t *testing.T) {
	checks := flag.Lookup("rapid.checks")
	defer checks.Value.Set(checks.Value.String()) //nolint:errcheck // it was one before
	require.NoError(t, checks.Value.Set("40"))    // each writes tens of megabytes
	s, err := Open(t.Context(), t.TempDir(), "")
	require.NoError(t, err)
	noise := make([]byte, 5<<20)
	rand.New(rand.NewSource(1)).Read(noise)

	rapid.Check(t, func(t *rapid.T) {
		require.NoError(t, os.WriteFile(at(s, "0.zip"), noise, 0o600))
		defer s.Remove(context.Background(), "0.zip")
		last := noise
		for generation := range rapid.IntRange(1, 3).Draw(t, "generations") {
			before, _, err := s.Open(context.Background(), fmt.Sprint(generation, ".zip"))
			require.NoError(t, err)
			d, err := s.Create(1)
			require.NoError(t, err)
			defer d.Drop()
			require.True(t, d.Shares(before))
			want := written(t, d, before, last, noise)
			size := len(want)
			if rapid.Bool().Draw(t, "shorter") {
				size = rapid.IntRange(0, len(want)).Draw(t, "size")
			}
			require.NoError(t, d.Truncate(int64(size)))
			name := fmt.Sprint(generation+1, ".zip")
			kept, err := d.Keep(context.Background(), name)
			require.NoError(t, err)
			require.Equal(t, int64(size), kept)
			require.NoError(t, before.Close())
			if rapid.Bool().Draw(t, "alone") {
				_, err := s.Remove(context.Background(), fmt.Sprint(generation, ".zip"))
				require.NoError(t, err)
			}
			f, n, err := s.Open(context.Background(), name)
			require.NoError(t, err)
			defer f.Close()
			defer s.Remove(context.Background(), name)
			require.Equal(t, kept, n)
			got, err := io.ReadAll(f)
			require.NoError(t, err)
			require.True(t, bytes.Equal(want[:size], got), "the archive is not what was written")
			require.NoError(t, readsAsASlice(f, got))
			if last = got; size == 0 {
				break
			}
		}
	})
}

// written writes to a draft at random and returns what a file would hold.
func written(t *rapid.T, d *Draft, before io.ReaderAt, last, noise []byte) (want []byte) {
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
		from := noise
		copied := rapid.Bool().Draw(t, "copied")
		if copied {
			from = last
		}
		n = min(n, len(from))
		start := rapid.IntRange(0, len(from)-n).Draw(t, "start")
		if copied {
			require.NoError(t, d.CopyAt(before, int64(start), int64(n), int64(at)))
		} else {
			m, err := d.WriteAt(from[start:start+n], int64(at))
			require.NoError(t, err)
			require.Equal(t, n, m)
		}
		put(from[start:start+n], at)
		if rapid.IntRange(0, 5).Draw(t, "look") == 0 {
			p := make([]byte, min(100, len(want)))
			_, err := d.ReadAt(p, int64(len(want)-len(p)))
			require.NoError(t, err)
			require.True(t, bytes.Equal(want[len(want)-len(p):], p))
		}
	}
	return want
}

// readsAsASlice compares reads at and across some places with those of a slice.
func readsAsASlice(f io.ReaderAt, want []byte) error {
	r := bytes.NewReader(want)
	for _, at := range []int64{0, 1, 4095, int64(len(want)) - 10, int64(len(want)), int64(len(want)) + 7} {
		if at < 0 {
			continue
		}
		a, b := make([]byte, 300_000), make([]byte, 300_000)
		n, err := f.ReadAt(a, at)
		m, wanted := r.ReadAt(b, at)
		if n != m || err != wanted || !bytes.Equal(a, b) {
			return fmt.Errorf("at %d: %d bytes and %v, and should be %d and %v", at, n, err, m, wanted)
		}
	}
	return nil
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
	require.NoError(t, f.Close())
	require.Error(t, d.CopyAt(f, 50, 51, 0))
}

// music keeps an archive of these bytes of its own between bytes of another archive.
func music(t *testing.T, s *Store, name, before, own string, from, n int64) {
	t.Helper()
	f, _, err := s.Open(context.Background(), before)
	require.NoError(t, err)
	defer f.Close()
	d, err := s.Create(1)
	require.NoError(t, err)
	defer d.Drop()
	_, err = d.WriteAt([]byte(own), 0)
	require.NoError(t, err)
	require.NoError(t, d.CopyAt(f, from, n, int64(len(own))))
	require.Equal(t, n, d.Shared())
	_, err = d.Keep(context.Background(), name)
	require.NoError(t, err)
}

func content(t *testing.T, s *Store, name string) string {
	t.Helper()
	f, _, err := s.Open(context.Background(), name)
	require.NoError(t, err)
	defer f.Close()
	text, err := io.ReadAll(f)
	require.NoError(t, err)
	return string(text)
}

// Bytes lie on the disk once however many archives have them, and for as long as one does.
func TestArchivesShareTheirBytes(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at(s, "a.zip"), []byte("do re mi fa sol la ti"), 0o600))
	music(t, s, "b.zip", "a.zip", "B:", 3, 18)
	music(t, s, "c.zip", "b.zip", "C:", 1, 19)
	require.Equal(t, "B:re mi fa sol la ti", content(t, s, "b.zip"))
	require.Equal(t, "C::re mi fa sol la ti", content(t, s, "c.zip"))
	require.Equal(t, []string{"1", "2", "own", "parts"}, names(t, at(s, "c.zip.parts")))

	freed, err := s.Remove(context.Background(), "a.zip")
	require.NoError(t, err)
	require.Zero(t, freed, "others still have its bytes")
	_, err = s.Remove(context.Background(), "b.zip")
	require.NoError(t, err)
	require.Equal(t, []string{"c.zip.parts"}, names(t, dir))
	require.Equal(t, "C::re mi fa sol la ti", content(t, s, "c.zip"))
	out, err := exec.Command("sh", "-c", "cd '"+at(s, "c.zip.parts")+
		"' && sed -n '1s/.*here: //p' parts | sh && cat archive.zip").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, "C::re mi fa sol la ti", string(out), "it can be joined by hand, as its list says")

	freed, err = s.Remove(context.Background(), "c.zip")
	require.NoError(t, err)
	require.Greater(t, freed, int64(len("do re mi fa sol la ti")))
	require.Empty(t, names(t, dir))
	_, err = s.Remove(context.Background(), "c.zip")
	require.ErrorIs(t, err, ErrNotFound)
	_, _, err = s.Open(context.Background(), "c.zip")
	require.ErrorIs(t, err, ErrNotFound)
}

// A file of which little is in use is not kept for that.
func TestLittleIsCopiedAndNotShared(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at(s, "a.zip"), []byte("do re mi fa sol la ti"), 0o600))
	music(t, s, "b.zip", "a.zip", "B:", 9, 6)
	require.Equal(t, []string{"a.zip", "b.zip"}, names(t, dir))
	require.Equal(t, "B:fa sol", content(t, s, "b.zip"))
}

// However many releases were built on one another, an archive lies in few files.
func TestAnArchiveLiesInFewFiles(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir(), "")
	require.NoError(t, err)
	want := strings.Repeat("la", 500)
	require.NoError(t, os.WriteFile(at(s, "0.zip"), []byte(want), 0o600))
	for i := range 40 {
		own := strings.Repeat(fmt.Sprint("verse ", i, "; "), 20)
		music(t, s, fmt.Sprint(i+1, ".zip"), fmt.Sprint(i, ".zip"), own, 0, int64(len(want)))
		want = own + want
	}
	require.Equal(t, want, content(t, s, "40.zip"))
	require.LessOrEqual(t, len(names(t, at(s, "40.zip.parts"))), mostShared+2)
}

// A list of parts that is cut short, altered or leads elsewhere is refused, and so are parts that are.
func TestDamagedPartsAreTold(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir(), "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at(s, "a.zip"), []byte("do re mi fa sol la ti"), 0o600))
	music(t, s, "b.zip", "a.zip", "B:", 3, 18)
	list := filepath.Join(at(s, "b.zip.parts"), listName)
	good, err := os.ReadFile(list)
	require.NoError(t, err)
	signed := func(lines string) string {
		return fmt.Sprintf("%s# end %08x\n", lines, crc32.Checksum([]byte(lines), castagnoli))
	}
	for _, bad := range []string{"", string(good[:len(good)-9]), strings.Replace(string(good), "18", "17", 1), "own 0 2\n" + string(good),
		signed("own 0 -2\n"), signed("../a.zip 0 2\n"), signed("own 1 9223372036854775807\n"), signed("own\n"), signed("7 0 1\n"),
		signed("-1 0 1\n"), signed("own 0 3\n")} {
		require.NoError(t, os.WriteFile(list, []byte(bad), 0o600))
		_, _, err := s.Open(context.Background(), "b.zip")
		require.ErrorContains(t, err, "b.zip", bad)
	}
	require.NoError(t, os.WriteFile(list, good, 0o600))
	require.Equal(t, "B:re mi fa sol la ti", content(t, s, "b.zip"))
	require.NoError(t, os.Truncate(filepath.Join(at(s, "b.zip.parts"), "1"), 10))
	_, _, err = s.Open(context.Background(), "b.zip")
	require.ErrorContains(t, err, "its part 1 in b.zip.parts is too short")
}

// Where no links can be made, bytes are copied.
func TestWithoutLinksBytesAreCopied(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir(), "")
	require.NoError(t, err)
	elsewhere := filepath.Join(t.TempDir(), "a.zip")
	require.NoError(t, os.WriteFile(elsewhere, []byte("do re mi"), 0o600))
	f, err := os.Open(elsewhere)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, os.Remove(elsewhere)) // a file without a name takes no links
	d, err := s.Create(1)
	require.NoError(t, err)
	defer d.Drop()
	require.NoError(t, d.CopyAt(f, 3, 5, 0))
	require.NoError(t, d.CopyAt(f, 0, 2, 5))
	require.Zero(t, d.Shared())
	_, err = d.Keep(context.Background(), "b.zip")
	require.NoError(t, err)
	require.Equal(t, []string{"b.zip"}, names(t, s.dir))
	require.Equal(t, "re mido", content(t, s, "b.zip"))
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
	_, err = d.Keep(context.Background(), "a.zip")
	require.ErrorIs(t, err, unix.ENOSPC)
	d.Drop()
	require.Empty(t, names(t, dir))
}

func FuzzParts(f *testing.F) {
	f.Add([]byte("own 0 2\n1 3 18\nown 2 1\n"))
	f.Add([]byte("# a remark\nown 9223372036854775807 9223372036854775807\n"))
	f.Add([]byte("1000000 0 1\n"))
	dir := f.TempDir()
	for name, n := range map[string]int{"own": 100, "1": 50, "2": 0} {
		require.NoError(f, os.WriteFile(filepath.Join(dir, name), bytes.Repeat([]byte(name), n)[:n], 0o600))
	}
	f.Fuzz(func(t *testing.T, lines []byte) {
		text := fmt.Appendf(bytes.Clone(lines), "%s%08x\n", listEnd, crc32.Checksum(lines, castagnoli))
		require.NoError(t, os.WriteFile(filepath.Join(dir, listName), text, 0o600))
		s, err := openShared(dir)
		if err != nil {
			return
		}
		defer s.Close()
		n, err := io.Copy(io.Discard, io.LimitReader(s, 1<<20))
		require.NoError(t, err, "what was opened can be read")
		require.LessOrEqual(t, n, s.size)
	})
}
