package contents_test

import (
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build/buildtest"
	"nestseed/internal/core/contents"
)

func TestAComparisonNamesWhatMadeTheArchiveLarger(t *testing.T) {
	dir, in := buildtest.Site(t)
	one, two := filepath.Join(dir, "1.zip"), filepath.Join(dir, "2.zip")
	buildtest.Build(t, buildtest.WithRows(t, in, buildtest.RowsBefore), one)
	put := func(name string, content []byte) {
		p := filepath.Join(dir, "base", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, content, 0o644))
	}
	noise := make([]byte, 30<<20)
	rand.New(rand.NewSource(2)).Read(noise)
	put("wp-content/uploads/old/backup.bin", noise)
	for i := range 20 {
		put(fmt.Sprintf("wp-content/themes/quartet/part-%d.css", i), noise[i*40000:(i+1)*40000])
	}
	put("wp-load.php", []byte("<?php // changed"))
	require.NoError(t, os.Remove(filepath.Join(dir, "base/wp-content/uploads/big.txt")))
	in.Manifest.Number = 2
	buildtest.Build(t, buildtest.WithRows(t, in, buildtest.RowsAfter), two)

	c := buildtest.Compare(t, one, two, in)
	require.Equal(t, "music-base@1", c.From)
	require.Len(t, c.Causes, 2)
	require.Equal(t, "wp-content/uploads/old/backup.bin", c.Causes[0].Path)
	require.Contains(t, c.Summary, "music-base@2 is 3")
	require.Contains(t, c.Summary,
		"MB larger than music-base@1: +31.5 MB by wp-content/uploads/old/backup.bin, which was added; +800.0 kB by files in "+
			"wp-content/themes/quartet (20 added)")
	require.Equal(t, int64(21), c.Added.Files)
	require.Equal(t, contents.Tally{1, 9800000}, c.Removed)
	require.Equal(t, int64(1), c.Changed.Files)
	require.Equal(t, "media", c.Areas[0].Area)
	require.Equal(t, "wp-content", c.Folders[0].Path)
	require.Equal(t, contents.FileDelta{"wp-content/uploads/old/backup.bin", "added", "media", 0, 30 << 20, c.Files[0].Packed}, c.Files[0])

	tables := map[string]contents.TableDelta{}
	for _, d := range c.Tables {
		d.Bytes, d.Packed = 0, 0
		tables[d.Table] = d
	}
	require.Equal(t, map[string]contents.TableDelta{
		"lad_options":            {Table: "lad_options", Change: "changed", Added: 1, Changed: 2},
		"lad_posts":              {Table: "lad_posts", Change: "changed", Added: 2, Removed: 1, Changed: 1},
		"lad_term_relationships": {Table: "lad_term_relationships", Change: "changed", Added: 1, Removed: 1},
		"lad_notes": {Table: "lad_notes", Change: "changed", Added: 1, Removed: 1,
			Note: "it has no primary key, so changed rows count as removed and added"},
	}, tables, "the revision and what belongs to it are in neither")
	require.Equal(t, []contents.ValueDelta{
		{"option blogname", "Base", "Base of schools", "changed", false},
		{"option fresh", "", "yes", "added", false},
		{"option school › api_key", contents.Mask, contents.Mask, "changed", true},
		{"option school › phone", "1", "22", "changed", false},
	}, c.Values)

	back := buildtest.Compare(t, two, one, in)
	require.Equal(t, c.Removed.Files, back.Added.Files)
	require.Contains(t, back.Summary, "smaller than music-base@2: −31.5 MB by wp-content/uploads/old/backup.bin, which was removed")
	same := buildtest.Compare(t, one, one, in)
	require.Equal(t, "music-base@1 and music-base@1 hold the same files and rows", same.Summary)
	require.Empty(t, same.Values)
}

func TestTheTextOfAFileIsComparedLineByLine(t *testing.T) {
	dir, in := buildtest.Site(t)
	put := func(name, content string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "base", name), []byte(content), 0o644))
	}
	var lines []string
	for i := range 40 {
		lines = append(lines, fmt.Sprintf("line %d", i+1))
	}
	open := func(name string) *archive.Archive {
		p := filepath.Join(dir, name)
		buildtest.Build(t, in, p)
		f, err := os.Open(p)
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		info, err := f.Stat()
		require.NoError(t, err)
		a, err := archive.Open(f, info.Size())
		require.NoError(t, err)
		return a
	}
	put("notes.txt", strings.Join(lines, "\r\n"))
	put("noise.bin", "\x00\x01")
	one := open("1.zip")
	lines[9] = "line ten"
	lines = append(lines[:30], lines[31:]...)
	put("notes.txt", strings.Join(lines, "\n")+"\n")
	put("new.txt", "a\nb")
	two := open("2.zip")

	d, err := contents.CompareText(one, two, "notes.txt")
	require.NoError(t, err)
	require.Equal(t, []int{1, 2, 2}, []int{d.Added, d.Removed, len(d.Places)}, "line ends are not lines")
	require.Equal(t, contents.Place{Before: 7, After: 7, Lines: []contents.DeltaLine{{"same", "line 7"}, {"same", "line 8"}, {"same", "line 9"},
		{"removed", "line 10"}, {"added", "line ten"}, {"same", "line 11"}, {"same", "line 12"}, {"same", "line 13"}}}, d.Places[0])
	require.Equal(t, 28, d.Places[1].Before)
	d, err = contents.CompareText(one, two, "new.txt")
	require.NoError(t, err)
	require.Equal(t, 2, d.Added)
	d, err = contents.CompareText(one, one, "notes.txt")
	require.NoError(t, err)
	require.Empty(t, d.Places)
	_, err = contents.CompareText(one, two, "noise.bin")
	require.ErrorIs(t, err, contents.ErrNoText)
	_, err = contents.CompareText(one, two, "nowhere.txt")
	require.ErrorIs(t, err, archive.ErrNoEntry)
}
