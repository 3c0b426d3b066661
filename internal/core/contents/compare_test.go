package contents_test

import (
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

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
