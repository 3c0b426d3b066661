package survey

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
)

// take surveys a made-up tree; files are given with their content.
func take(t *testing.T, files map[string][]byte) *Survey {
	t.Helper()
	dir := t.TempDir()
	put := func(name string, content []byte) {
		p := filepath.Join(dir, "base", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, content, 0o644))
	}
	for name, text := range map[string]string{
		"wp-includes/version.php": "<?php $wp_version = '6.1.9'; $required_php_version = '5.6.20';", "wp-load.php": "<?php", "wp-admin/index.php": "<?php",
		"wp-config.php": "<?php define('DB_NAME','lad'); define('DB_PASSWORD', getenv('PW')); $table_prefix='lad_';",
	} {
		put(name, []byte(text))
	}
	for name, content := range files {
		put(name, content)
	}
	fsys, err := hostfs.Open("file://" + dir)
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	kinds, err := kind.Stock()
	require.NoError(t, err)
	id, err := kind.Identify(fsys, "base", kinds)
	require.NoError(t, err)
	var tally progress.Tally
	s, err := Take(context.Background(), Input{FS: fsys, Root: "base", Identity: id}, &tally)
	require.NoError(t, err)
	require.Equal(t, s.Totals.Files, tally.Done.Files)
	return s
}

func finding(t *testing.T, s *Survey, where string) Finding {
	t.Helper()
	for _, f := range s.Findings {
		if f.Where == where {
			return f
		}
	}
	t.Fatalf("nothing was found at %s; found %+v", where, s.Findings)
	return Finding{}
}

func big(head string) []byte { return append([]byte(head), bytes.Repeat([]byte{'x'}, 2<<20)...) }

func TestForgottenArchivesAndDumpsAreKnownByTheirContent(t *testing.T) {
	s := take(t, map[string][]byte{
		"wp-content/uploads/backup/site.dat": big("PK\x03\x04"),
		"old.bin":                            big("\x1f\x8b\x08"),
		"copy.txt":                           big("-- a dump\nCREATE TABLE `lad_posts` ("),
		"wp-content/uploads/film.zip":        big("not an archive in spite of its name"),
	})
	require.Equal(t, "ZIP archive", finding(t, s, "wp-content/uploads/backup/site.dat").What)
	require.Equal(t, "gzip archive", finding(t, s, "old.bin").What)
	dump := finding(t, s, "copy.txt")
	require.Equal(t, "database dump", dump.What)
	require.Equal(t, []string{"copy.txt"}, dump.Remedy.LeaveOut)
	for _, f := range s.Findings {
		require.NotEqual(t, "wp-content/uploads/film.zip", f.Where)
		require.NotEmpty(t, f.Why)
	}
}

func TestOtherSitesCachesAndWorkingFoldersAreFound(t *testing.T) {
	s := take(t, map[string][]byte{
		"shop/wp-includes/version.php": []byte("<?php"), "shop/index.php": big("<?php"),
		"wp-content/cache/a.html": []byte("cached"), "wp-content/plugins/x/.git/HEAD": []byte("ref"), "wp-content/plugins/x/node_modules/y/z.js": []byte("1"),
	})
	require.Equal(t, "another site inside this one", finding(t, s, "shop").What)
	require.Greater(t, finding(t, s, "shop").Bytes, int64(2<<20))
	require.Equal(t, "cache", finding(t, s, "wp-content/cache").What)
	require.Equal(t, "warning", finding(t, s, "wp-content/plugins/x/.git").Severity)
	finding(t, s, "wp-content/plugins/x/node_modules")
	require.Contains(t, finding(t, s, "base/wp-config.php").Why, "getenv")
}

func TestTotalsAddUpByAreaAndFolderAndARemedySavesWhatItSays(t *testing.T) {
	files := map[string][]byte{"wp-content/uploads/old.dat": big("PK\x03\x04")}
	for i := range 30 {
		files[fmt.Sprintf("wp-content/uploads/2026/%02d/p.jpg", i)] = bytes.Repeat([]byte("p"), 1000+i)
	}
	s := take(t, files)
	var byArea int64
	for _, a := range s.Areas {
		byArea += a.Bytes
	}
	require.Equal(t, s.Totals.Bytes, byArea)
	require.Equal(t, "wp-content", s.Folders[0].Path)
	require.Equal(t, "wp-content/uploads/old.dat", s.Largest[0].Path)
	require.LessOrEqual(t, len(s.Largest), 20)

	kinds, err := kind.Stock()
	require.NoError(t, err)
	list, err := packing.Parse([]byte(kinds[0].Lists["starter"]))
	require.NoError(t, err)
	total := func() (in, out Share) {
		m, err := list.Compile(kinds[0], "lad_")
		require.NoError(t, err)
		in, out, _ = s.Total(m)
		require.Equal(t, s.Totals.Bytes, in.Bytes+out.Bytes)
		return in, out
	}
	before, _ := total()
	f := finding(t, s, "wp-content/uploads/old.dat")
	list.Leave(f.Remedy.LeaveOut...)
	after, _ := total()
	require.Equal(t, f.Bytes, before.Bytes-after.Bytes)
}

func TestASurveyCountsLinksAndStopsWhenItIsCancelled(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Symlink("nowhere", filepath.Join(dir, "broken")))
	fsys, err := hostfs.Open("file://" + dir)
	require.NoError(t, err)
	defer fsys.Close()
	kinds, err := kind.Stock()
	require.NoError(t, err)
	s, err := Take(context.Background(), Input{FS: fsys, Root: ".", Identity: &kind.Identity{Kind: kinds[0]}}, progress.Discard)
	require.NoError(t, err)
	require.Equal(t, int64(1), s.Totals.Links)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Take(ctx, Input{FS: fsys, Root: ".", Identity: &kind.Identity{Kind: kinds[0]}}, progress.Discard)
	require.ErrorIs(t, err, context.Canceled)
}
