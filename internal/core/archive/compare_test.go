package archive

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
)

const schoolTables = "CREATE TABLE lad_options (option_id bigint NOT NULL, option_name varchar(191), option_value longtext, PRIMARY KEY (option_id));" +
	"CREATE TABLE lad_posts (ID bigint NOT NULL, post_title text, post_type varchar(20), post_status varchar(20), post_parent bigint, PRIMARY KEY (ID));" +
	"CREATE TABLE lad_term_relationships (object_id bigint NOT NULL, term_taxonomy_id bigint NOT NULL, term_order int, PRIMARY KEY (object_id, term_taxonomy_id));" +
	"CREATE TABLE lad_postmeta (meta_id bigint NOT NULL, post_id bigint, meta_key varchar(255), meta_value longtext, PRIMARY KEY (meta_id));" +
	"CREATE TABLE lad_notes (text varchar(99));"

// withRows gives a site a database, which is a script.
func withRows(t testing.TB, in Input, rows string) Input {
	text := schoolTables + rows
	d, err := sitedb.OpenDump(context.Background(), strings.NewReader(text), int64(len(text)), nil)
	require.NoError(t, err)
	in.DB = d
	list := *in.List
	list.Only = ""
	in.List = &list
	return in
}

const rowsBefore = `INSERT INTO lad_options VALUES (1,'siteurl','http://base.localhost'),(2,'blogname','Base'),(3,'school','a:2:{s:5:"phone";s:1:"1";s:7:"api_key";s:6:"k3y-aa";}'),(4,'_transient_x','1');
	INSERT INTO lad_posts VALUES (1,'Harp','page','publish',0),(2,'Lute','page','publish',0),(3,'Oboe','page','publish',0),(9,'v','revision','inherit',1);
	INSERT INTO lad_postmeta VALUES (1,1,'k','v'),(2,9,'k','v');INSERT INTO lad_term_relationships VALUES (1,5,0),(2,5,0);INSERT INTO lad_notes VALUES ('a'),('b');`

const rowsAfter = `INSERT INTO lad_options VALUES (1,'siteurl','http://base.localhost'),(2,'blogname','Base of schools'),(3,'school','a:2:{s:5:"phone";s:2:"22";s:7:"api_key";s:6:"k3y-bb";}'),(4,'_transient_x','2'),(5,'fresh','yes');
	INSERT INTO lad_posts VALUES (1,'Harp','page','publish',0),(3,'Oboe and bassoon','page','publish',0),(4,'Viol','page','publish',0),(5,'Drum','page','publish',0);
	INSERT INTO lad_postmeta VALUES (1,1,'k','v');INSERT INTO lad_term_relationships VALUES (1,5,0),(2,6,0);INSERT INTO lad_notes VALUES ('a'),('c');`

func compare(t *testing.T, before, after string, k Input) *Comparison {
	a, b := open(t, before), open(t, after)
	c, err := Compare(context.Background(), a, b, k.Identity.Kind, progress.Discard)
	require.NoError(t, err)
	size := func(f string) int64 {
		info, err := os.Stat(f)
		require.NoError(t, err)
		return info.Size()
	}
	c.Tell(size(before), size(after))
	return c
}

func TestAComparisonNamesWhatMadeTheArchiveLarger(t *testing.T) {
	dir, in := site(t)
	one, two := filepath.Join(dir, "1.zip"), filepath.Join(dir, "2.zip")
	build(t, withRows(t, in, rowsBefore), one)
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
	build(t, withRows(t, in, rowsAfter), two)

	c := compare(t, one, two, in)
	require.Equal(t, "music-base@1", c.From)
	require.Len(t, c.Causes, 2)
	require.Equal(t, "wp-content/uploads/old/backup.bin", c.Causes[0].Path)
	require.Contains(t, c.Summary, "music-base@2 is 3")
	require.Contains(t, c.Summary, "MB larger than music-base@1: +31.5 MB by wp-content/uploads/old/backup.bin, which was added; +800.0 kB by files in wp-content/themes/quartet (20 added)")
	require.Equal(t, int64(21), c.Added.Files)
	require.Equal(t, Tally{1, 9800000}, c.Removed)
	require.Equal(t, int64(1), c.Changed.Files)
	require.Equal(t, "media", c.Areas[0].Area)
	require.Equal(t, "wp-content", c.Folders[0].Path)
	require.Equal(t, FileDelta{"wp-content/uploads/old/backup.bin", "added", "media", 0, 30 << 20, c.Files[0].Packed}, c.Files[0])

	tables := map[string]TableDelta{}
	for _, d := range c.Tables {
		d.Bytes, d.Packed = 0, 0
		tables[d.Table] = d
	}
	require.Equal(t, map[string]TableDelta{
		"lad_options":            {Table: "lad_options", Change: "changed", Added: 1, Changed: 2},
		"lad_posts":              {Table: "lad_posts", Change: "changed", Added: 2, Removed: 1, Changed: 1},
		"lad_term_relationships": {Table: "lad_term_relationships", Change: "changed", Added: 1, Removed: 1},
		"lad_notes":              {Table: "lad_notes", Change: "changed", Added: 1, Removed: 1, Note: "it has no primary key, so changed rows count as removed and added"},
	}, tables, "the revision and what belongs to it are in neither")
	require.Equal(t, []ValueDelta{
		{"option blogname", "Base", "Base of schools", "changed", false},
		{"option fresh", "", "yes", "added", false},
		{"option school › api_key", mask, mask, "changed", true},
		{"option school › phone", "1", "22", "changed", false},
	}, c.Values)

	back := compare(t, two, one, in)
	require.Equal(t, c.Removed.Files, back.Added.Files)
	require.Contains(t, back.Summary, "smaller than music-base@2: −31.5 MB by wp-content/uploads/old/backup.bin, which was removed")
	same := compare(t, one, one, in)
	require.Equal(t, "music-base@1 and music-base@1 hold the same files and rows", same.Summary)
	require.Empty(t, same.Values)
}

func TestRowsAreKeptWithWhatBelongsToThemAndCopiedWhenTheSame(t *testing.T) {
	dir, in := site(t)
	in = withRows(t, in, rowsBefore)
	in.Manifest.Made = later()
	list := *in.List
	packing.Edit{KeepRows: nil}.Apply(&list)
	b := buildBefore(t, in, filepath.Join(dir, "1.zip"))
	rows := map[string]int64{}
	for _, x := range b.Manifest.Tables {
		rows[x.Name] = x.Rows
	}
	require.Equal(t, map[string]int64{"lad_options": 3, "lad_posts": 3, "lad_postmeta": 1, "lad_term_relationships": 2, "lad_notes": 2}, rows)

	again := in
	again.Before = open(t, filepath.Join(dir, "1.zip"))
	c := buildBefore(t, again, filepath.Join(dir, "2.zip"))
	require.Equal(t, b.Manifest.Totals.SQLByte, c.Copied.Bytes-c.Manifest.Totals.Bytes+settingsBytes(t, again.Before))
	one, err := os.ReadFile(filepath.Join(dir, "1.zip"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(one, two))

	// One row differs at the end: what was equal before it must not be lost.
	changed := withRows(t, in, strings.Replace(rowsBefore, "'Oboe'", "'Cor anglais'", 1))
	changed.Before = open(t, filepath.Join(dir, "1.zip"))
	buildBefore(t, changed, filepath.Join(dir, "3.zip"))
	v, err := open(t, filepath.Join(dir, "3.zip")).Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	diff := compare(t, filepath.Join(dir, "1.zip"), filepath.Join(dir, "3.zip"), in)
	require.Len(t, diff.Tables, 1)
	require.Equal(t, int64(1), diff.Tables[0].Changed, "%+v", diff.Tables[0])
}

func settingsBytes(t *testing.T, a *Archive) int64 {
	text, err := a.read(FilesDir+a.Manifest.Settings, 1<<20)
	require.NoError(t, err)
	return int64(len(text))
}

func TestVerifyNamesDefinitionsAndManifestsThatDoNotFit(t *testing.T) {
	dir, in := site(t)
	build(t, withRows(t, in, rowsBefore), filepath.Join(dir, "1.zip"))
	a := open(t, filepath.Join(dir, "1.zip"))
	a.Manifest.Totals.Files++
	a.Manifest.Settings = "gone.php"
	a.Manifest.Tables = append(a.Manifest.Tables, TableTotal{Name: "lad_ghost"})
	v, err := a.Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	text := fmt.Sprint(v.Faults)
	require.Contains(t, text, "does not make table lad_ghost")
	require.Contains(t, text, "gone.php, which is not there")
	require.Contains(t, text, "files of")
}

func TestSizesAreWrittenForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0 bytes", 999: "999 bytes", 1000: "1.0 kB", 30_000_000: "30.0 MB", 999_960: "1.0 MB", 5_400_000_000: "5.4 GB", 7e12: "7.0 TB"} {
		require.Equal(t, want, SizeText(n))
	}
}
