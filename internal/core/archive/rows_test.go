package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/progress"
	"nestseed/internal/core/sqltext"
)

// lessons are so many rows of posts, of changing length; change, unless nil, may change or drop one.
func lessons(n int, change func(i int, title string) (string, bool)) string {
	random := rand.New(rand.NewSource(7))
	var b strings.Builder
	fresh := true
	for i := range n {
		title := fmt.Sprintf("Lesson %d: %x", i, random.Int63()) + strings.Repeat(" scales and arpeggios", random.Intn(60))
		if change != nil {
			var stays bool
			if title, stays = change(i, title); !stays {
				continue
			}
		}
		if fresh {
			b.WriteString("INSERT INTO lad_posts VALUES ")
			fresh = false
		} else {
			b.WriteString(",")
		}
		fmt.Fprintf(&b, "(%d,%s,'page','publish',0)", i+1, sqltext.String(title))
	}
	return b.String() + ";"
}

// pieces returns the content of a table's entries, in order.
func pieces(t testing.TB, a *Archive, table string) (out [][]byte) {
	for _, x := range a.Manifest.Tables {
		if x.Name != table {
			continue
		}
		for _, name := range a.Rows(x) {
			r, err := a.File(name)
			require.NoError(t, err)
			text, err := io.ReadAll(r)
			require.NoError(t, err)
			out = append(out, text)
		}
	}
	return out
}

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
	dir, in := site(t)
	in.Manifest.Made = later()
	const rows = 24000
	in = withRows(t, in, lessons(rows, nil))
	build(t, in, filepath.Join(dir, "1.zip"))
	first := open(t, filepath.Join(dir, "1.zip"))
	before := pieces(t, first, "lad_posts")
	require.Greater(t, len(before), 15)
	for i, p := range before {
		require.LessOrEqual(t, len(p), mostPiece)
		require.True(t, i == len(before)-1 || len(p) >= leastPiece, "piece %d has %d bytes", i, len(p))
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
		again := withRows(t, in, lessons(n, change))
		again.Before = first
		b := buildBefore(t, again, filepath.Join(dir, "2.zip"))
		second := open(t, filepath.Join(dir, "2.zip"))
		require.LessOrEqual(t, different(before, pieces(t, second, "lad_posts")), 3, what)
		require.Greater(t, b.Copied.Bytes-b.Manifest.Totals.Bytes+settingsBytes(t, first), b.Manifest.Totals.SQLByte*3/4, "the others are copied")

		again.Before = nil
		build(t, again, filepath.Join(dir, "3.zip"))
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
	dir, in := site(t)
	long := strings.Repeat("la ", mostPiece)
	in = withRows(t, in, lessons(20, func(i int, s string) (string, bool) {
		if i == 10 {
			return long, true
		}
		return s, true
	}))
	m := build(t, in, filepath.Join(dir, "1.zip"))
	got := pieces(t, open(t, filepath.Join(dir, "1.zip")), "lad_posts")
	require.Len(t, got, 3)
	require.Equal(t, 1, bytes.Count(got[1], []byte("\n(")), "the long one")
	require.Contains(t, string(got[1]), long)
	i := slices.IndexFunc(m.Tables, func(x TableTotal) bool { return x.Name == "lad_posts" })
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
			if endsPiece(row) {
				require.True(t, endsPiece(slices.Clone(row)))
				ends++
			}
		}
		expected := bytesSeen / meanBeyond
		require.InDelta(t, expected, ends, float64(expected)/2)
	})
}

// oldStyle packs an archive anew with all rows of a table in one entry, as releases were before.
func oldStyle(t testing.TB, file, to string) {
	from := open(t, file)
	out, err := os.Create(to)
	require.NoError(t, err)
	defer out.Close()
	w := zip.NewWriter(out)
	var sums bytes.Buffer
	put := func(h zip.FileHeader, text []byte) {
		h.Method, h.Extra = zip.Deflate, nil
		e, err := w.CreateHeader(&h)
		require.NoError(t, err)
		_, err = e.Write(text)
		require.NoError(t, err)
		sum := sha256.Sum256(text)
		if h.Mode().IsRegular() && h.Name != SumsName {
			sums.WriteString(sumLine(hex.EncodeToString(sum[:]), h.Name))
		}
	}
	rows := bytes.Join(pieces(t, from, "lad_posts"), nil)
	m := from.Manifest
	m.Tables = slices.Clone(m.Tables)
	for i := range m.Tables {
		m.Tables[i].Entries = min(1, m.Tables[i].Entries)
	}
	for _, f := range from.zip.File {
		r, err := openEntry(f)
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		switch {
		case f.Name == ManifestName:
			text, err = json.Marshal(m)
			require.NoError(t, err)
		case f.Name == RowsDir+"lad_posts.sql":
			text = rows
		case strings.HasPrefix(f.Name, RowsDir+"lad_posts."):
			continue
		case f.Name == SumsName:
			text = slices.Clone(sums.Bytes())
		}
		put(zip.FileHeader{Name: f.Name, ExternalAttrs: f.ExternalAttrs, CreatorVersion: f.CreatorVersion, Modified: f.Modified}, text)
	}
	require.NoError(t, w.Close())
}

func TestReleasesWithLongEntriesOfRowsAreReadAndBuiltOn(t *testing.T) {
	dir, in := site(t)
	in.Manifest.Made = later()
	in = withRows(t, in, lessons(4000, nil))
	build(t, in, filepath.Join(dir, "new.zip"))
	oldStyle(t, filepath.Join(dir, "new.zip"), filepath.Join(dir, "old.zip"))
	old := open(t, filepath.Join(dir, "old.zip"))
	v, err := old.Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	require.Len(t, pieces(t, old, "lad_posts"), 1)

	again := in
	again.Before = old
	b := buildBefore(t, again, filepath.Join(dir, "2.zip"))
	require.Greater(t, b.Copied.Files, int64(5), "files are copied as ever")
	second := open(t, filepath.Join(dir, "2.zip"))
	v, err = second.Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	require.Equal(t, pieces(t, open(t, filepath.Join(dir, "new.zip")), "lad_posts"), pieces(t, second, "lad_posts"))
	diff := compare(t, filepath.Join(dir, "old.zip"), filepath.Join(dir, "2.zip"), in)
	for _, x := range diff.Tables {
		require.Zero(t, x.Added+x.Removed+x.Changed, "no row differs: %+v", x)
	}
}

func TestEntriesAreReadOneAfterTheOther(t *testing.T) {
	dir, in := site(t)
	in = withRows(t, in, lessons(4000, nil))
	build(t, in, filepath.Join(dir, "1.zip"))
	a := open(t, filepath.Join(dir, "1.zip"))
	i := slices.IndexFunc(a.Manifest.Tables, func(x TableTotal) bool { return x.Name == "lad_posts" })
	names := a.Rows(a.Manifest.Tables[i])
	require.Greater(t, len(names), 2)
	r := a.Joined(names)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	require.True(t, bytes.Equal(bytes.Join(pieces(t, a, "lad_posts"), nil), text))

	r = a.Joined([]string{names[0], "database/rows/nothing.sql"})
	_, err = io.ReadAll(r)
	require.ErrorIs(t, err, ErrNoEntry)
	require.NoError(t, r.Close())
	r = a.Joined(names)
	_, err = r.Read(make([]byte, 10))
	require.NoError(t, err)
	require.NoError(t, r.Close(), "half way")
	text, err = io.ReadAll(a.Joined(nil))
	require.NoError(t, err)
	require.Empty(t, text)
}

// copier is a target that copies by itself, and may fail at it.
type copier struct {
	*os.File
	copies int
	bytes  int64
	fails  error
}

func (c *copier) Shares(io.ReaderAt) bool { return true }

func (c *copier) CopyAt(f io.ReaderAt, from, n, at int64) error {
	c.copies++
	c.bytes += n
	if c.fails != nil {
		return c.fails
	}
	_, err := io.Copy(io.NewOffsetWriter(c.File, at), io.NewSectionReader(f, from, n))
	return err
}

func TestATargetThatCopiesByItselfIsAskedTo(t *testing.T) {
	dir, in := site(t)
	in.Manifest.Made = later()
	build(t, in, filepath.Join(dir, "1.zip"))
	again := in
	again.Before = open(t, filepath.Join(dir, "1.zip"))
	to := func() *copier {
		f, err := os.Create(filepath.Join(dir, "2.zip"))
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return &copier{File: f}
	}
	c := to()
	_, err := Build(context.Background(), c, again, progress.Discard)
	require.NoError(t, err)
	require.Positive(t, c.copies)
	require.GreaterOrEqual(t, c.bytes, int64(9<<20), "the picture at least")
	one, err := os.ReadFile(filepath.Join(dir, "1.zip"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(one, two))

	c = to()
	c.fails = errors.New("the disk is full")
	_, err = Build(context.Background(), c, again, progress.Discard)
	require.ErrorContains(t, err, "the disk is full")
	require.ErrorContains(t, err, "from the release before")
}

func TestWhatIsPackedMayBeTakenFromBefore(t *testing.T) {
	sheet := &sheet{}
	w := newWriter(context.Background(), sheet)
	reserved, err := w.reserve("first", later(), make([]byte, 100))
	require.NoError(t, err)
	raw := append(take(1000)[:0], strings.Repeat("do re mi ", 100)...)
	sum := sha256.Sum256(raw)
	before := deflateBlock(slices.Clone(raw), true)
	asked := 0
	require.NoError(t, w.second.piece(header("known", 0o644, later()), raw, func(of [sha256.Size]byte) *packed {
		asked++
		require.Equal(t, sum, of)
		return &packed{method: zip.Deflate, out: before}
	}))
	other := append(take(1000)[:0], strings.Repeat("fa sol la ", 100)...)
	require.NoError(t, w.second.piece(header("unknown", 0o644, later()), other, func([sha256.Size]byte) *packed {
		asked++
		return nil
	}))
	require.NoError(t, errors.Join(w.first.close(), w.second.close()))
	_, err = w.finish(reserved, later(), func() ([]byte, error) { return []byte("body"), nil })
	require.NoError(t, err)
	require.Equal(t, 2, asked)
	z, err := zip.NewReader(bytes.NewReader(sheet.b), int64(len(sheet.b)))
	require.NoError(t, err)
	for name, want := range map[string]string{"known": strings.Repeat("do re mi ", 100), "unknown": strings.Repeat("fa sol la ", 100)} {
		f, err := z.Open(name)
		require.NoError(t, err)
		text, err := io.ReadAll(f)
		require.NoError(t, err, "the CRC is that of the content")
		require.Equal(t, want, string(text))
	}
}
