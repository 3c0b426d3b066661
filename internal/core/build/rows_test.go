package build_test

import (
	"bytes"
	"context"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/build/buildtest"
	"nestseed/internal/core/progress"
)

// different counts the pieces of one archive that the other has not.
func different(a, b [][]byte) (n int) {
	known := map[string]bool{}
	for _, p := range a {
		known[string(p)] = true
	}
	for _, p := range b {
		if !known[string(p)] {
			n++
		}
	}
	return n
}

func TestRowsComeInPiecesThatAChangeElsewhereLeavesAsTheyAre(t *testing.T) {
	dir, in := buildtest.Site(t)
	in.Manifest.Made = buildtest.Later()
	const rows = 24000
	in = buildtest.WithRows(t, in, buildtest.Lessons(rows, nil))
	buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	first := buildtest.Open(t, filepath.Join(dir, "1.zip"))
	before := buildtest.Pieces(t, first, "lad_posts")
	require.Greater(t, len(before), 15)
	for i, p := range before {
		require.LessOrEqual(t, len(p), build.MostPiece)
		require.True(t, i == len(before)-1 || len(p) >= build.LeastPiece, "piece %d has %d bytes", i, len(p))
		require.True(t, bytes.HasPrefix(p, []byte("INSERT INTO `lad_posts` (`ID`,")), "each piece is a statement of its own")
		require.Equal(t, 1, bytes.Count(p, []byte(";\n")))
	}
	for what, change := range map[string]func(i int, title string) (string, bool){
		"a row that becomes longer": func(i int, s string) (string, bool) {
			return s + strings.Repeat("!", 300*min(1, max(0, 1-(i-5000)*(i-5000)))), true
		},
		"a row that is gone":             func(i int, s string) (string, bool) { return s, i != 9000 },
		"a first row that is gone":       func(i int, s string) (string, bool) { return s, i != 0 },
		"rows that are added at the end": nil,
	} {
		n := rows
		if change == nil {
			n += 50
		}
		again := buildtest.WithRows(t, in, buildtest.Lessons(n, change))
		again.Before = first
		b := buildtest.Rebuild(t, again, filepath.Join(dir, "2.zip"))
		second := buildtest.Open(t, filepath.Join(dir, "2.zip"))
		require.LessOrEqual(t, different(before, buildtest.Pieces(t, second, "lad_posts")), 3, what)
		require.Greater(t, b.Copied.Bytes-b.Manifest.Totals.Bytes+buildtest.SettingsBytes(t, first), b.Manifest.Totals.SQLByte*3/4,
			"the others are copied")

		again.Before = nil
		buildtest.Build(t, again, filepath.Join(dir, "3.zip"))
		two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
		require.NoError(t, err)
		three, err := os.ReadFile(filepath.Join(dir, "3.zip"))
		require.NoError(t, err)
		require.True(t, bytes.Equal(two, three), "%s: copying must not show in the archive", what)
		v, err := second.Verify(context.Background(), progress.Discard)
		require.NoError(t, err)
		require.Empty(t, v.Faults, what)
	}
}

func TestARowThatIsLongerThanAPieceStandsAlone(t *testing.T) {
	dir, in := buildtest.Site(t)
	long := strings.Repeat("la ", build.MostPiece)
	in = buildtest.WithRows(t, in, buildtest.Lessons(20, func(i int, s string) (string, bool) {
		if i == 10 {
			return long, true
		}
		return s, true
	}))
	m := buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	got := buildtest.Pieces(t, buildtest.Open(t, filepath.Join(dir, "1.zip")), "lad_posts")
	require.Len(t, got, 3)
	require.Equal(t, 1, bytes.Count(got[1], []byte("\n(")), "the long one")
	require.Contains(t, string(got[1]), long)
	i := slices.IndexFunc(m.Tables, func(x archive.TableTotal) bool { return x.Name == "lad_posts" })
	require.Equal(t, int64(20), m.Tables[i].Rows)
	require.Equal(t, int64(len(got[0])+len(got[1])+len(got[2])), m.Tables[i].Bytes)
}

// Where a piece ends must not depend on anything but the row, and long rows must not end all of them.
func TestTheEndsOfPiecesComeByChanceInProportionToTheRows(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.IntRange(20, 4000).Draw(t, "size")
		seed := rapid.Int64().Draw(t, "seed")
		random, row := rand.New(rand.NewSource(seed)), make([]byte, size)
		const bytesSeen = 24 << 20
		ends := 0
		for range bytesSeen / size {
			random.Read(row[:8])
			if build.EndsPiece(row) {
				require.True(t, build.EndsPiece(slices.Clone(row)))
				ends++
			}
		}
		expected := bytesSeen / build.MeanBeyond
		require.InDelta(t, expected, ends, float64(expected)*3/4, "six times the deviation of such a count")
	})
}

func TestReleasesWithLongEntriesOfRowsAreReadAndBuiltOn(t *testing.T) {
	dir, in := buildtest.Site(t)
	in.Manifest.Made = buildtest.Later()
	in = buildtest.WithRows(t, in, buildtest.Lessons(4000, nil))
	buildtest.Build(t, in, filepath.Join(dir, "new.zip"))
	buildtest.OldStyle(t, filepath.Join(dir, "new.zip"), filepath.Join(dir, "old.zip"))
	old := buildtest.Open(t, filepath.Join(dir, "old.zip"))
	v, err := old.Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	require.Len(t, buildtest.Pieces(t, old, "lad_posts"), 1)

	again := in
	again.Before = old
	b := buildtest.Rebuild(t, again, filepath.Join(dir, "2.zip"))
	require.Greater(t, b.Copied.Files, int64(5), "files are copied as ever")
	second := buildtest.Open(t, filepath.Join(dir, "2.zip"))
	v, err = second.Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	require.Equal(t, buildtest.Pieces(t, buildtest.Open(t, filepath.Join(dir, "new.zip")), "lad_posts"),
		buildtest.Pieces(t, second, "lad_posts"))
	diff := buildtest.Compare(t, filepath.Join(dir, "old.zip"), filepath.Join(dir, "2.zip"), in)
	for _, x := range diff.Tables {
		require.Zero(t, x.Added+x.Removed+x.Changed, "no row differs: %+v", x)
	}
}

func TestEntriesAreReadOneAfterTheOther(t *testing.T) {
	dir, in := buildtest.Site(t)
	in = buildtest.WithRows(t, in, buildtest.Lessons(4000, nil))
	buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	a := buildtest.Open(t, filepath.Join(dir, "1.zip"))
	i := slices.IndexFunc(a.Manifest.Tables, func(x archive.TableTotal) bool { return x.Name == "lad_posts" })
	names := a.Rows(a.Manifest.Tables[i])
	require.Greater(t, len(names), 2)
	r := a.Joined(names)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	require.True(t, bytes.Equal(bytes.Join(buildtest.Pieces(t, a, "lad_posts"), nil), text))

	r = a.Joined([]string{names[0], "database/rows/nothing.sql"})
	_, err = io.ReadAll(r)
	require.ErrorIs(t, err, archive.ErrNoEntry)
	require.NoError(t, r.Close())
	r = a.Joined(names)
	_, err = r.Read(make([]byte, 10))
	require.NoError(t, err)
	require.NoError(t, r.Close(), "half way")
	text, err = io.ReadAll(a.Joined(nil))
	require.NoError(t, err)
	require.Empty(t, text)
}
