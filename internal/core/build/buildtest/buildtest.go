// Package buildtest makes sites and releases for tests of what reads and writes them.
package buildtest

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

const password = "pw-Q7x!pineapple"

// Site makes a small site on disk: every sort of entry that a real one has.
func Site(t testing.TB) (dir string, in build.Input) {
	dir = t.TempDir()
	put := func(name string, content []byte) {
		p := filepath.Join(dir, "base", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, content, 0o644))
		require.NoError(t, os.Chtimes(p, time.Unix(1700000000, 0), time.Unix(1700000000, 0)))
	}
	noise := make([]byte, 9<<20)
	rand.New(rand.NewSource(1)).Read(noise)
	put("wp-includes/version.php", []byte("<?php $wp_version = '6.1.9'; $required_php_version = '5.6.20';"))
	put("wp-load.php", []byte("<?php"))
	put("wp-admin/index.php", []byte("<?php"))
	put("wp-config.php", []byte("<?php define('DB_NAME','lad');define('DB_USER','u');define('DB_PASSWORD','"+password+
		"');define('AUTH_KEY','kk-"+password+"-salt');$table_prefix='lad_';"))
	put("wp-content/uploads/big.jpg", noise)
	put("wp-content/uploads/big.txt", bytes.Repeat([]byte("music for all "), 700_000))
	put("wp-content/uploads/ünïcode näme.txt", []byte("hello"))
	put("wp-content/uploads/back\\slash.txt", []byte("x"))
	put("wp-content/uploads/empty", nil)
	put("wp-content/uploads/notes.txt", []byte("the password is "+password))
	put("wp-content/cache/page.html", []byte("cached"))
	require.NoError(t, os.Symlink("big.jpg", filepath.Join(dir, "base/wp-content/uploads/link.jpg")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "base/wp-content/uploads/evil")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "base/wp-load.php"), 0o755))

	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	kinds, err := kind.Stock()
	require.NoError(t, err)
	id, err := kind.Identify(t.Context(), fsys, "base", kinds)
	require.NoError(t, err)
	list, err := packing.Parse([]byte(id.Kind.Lists["starter"]))
	require.NoError(t, err)
	list.Only = "files"
	return dir, build.Input{FS: fsys, Root: "base", Identity: id, List: list, Manifest: archive.Manifest{
		ID: "id", Starter: "music-base", Number: 1, Made: time.Unix(1700000000,
			0).UTC(), By: "ines", Note: "first", Source: "base", Origin: archive.Origin{Address: "http://base.localhost"},
	}}
}

// Build builds a release into a file and compares the sum that pins it with that of the file.
func Build(t testing.TB, in build.Input, to string) *archive.Manifest {
	f, err := os.Create(to)
	require.NoError(t, err)
	defer f.Close()
	b, err := build.Release(context.Background(), f, in, progress.Discard)
	require.NoError(t, err)
	pinned, err := Open(t, to).Pinned()
	require.NoError(t, err)
	require.Equal(t, b.SumsSHA256, pinned)
	return &b.Manifest
}

// Open opens an archive until the test ends.
func Open(t testing.TB, file string) *archive.Archive {
	f, err := os.Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	a, err := archive.Open(f, info.Size())
	require.NoError(t, err)
	return a
}

// Rebuild builds a release into a file, with whatever it is to build on.
func Rebuild(t testing.TB, in build.Input, to string) *build.Result {
	f, err := os.Create(to)
	require.NoError(t, err)
	defer f.Close()
	b, err := build.Release(context.Background(), f, in, progress.Discard)
	require.NoError(t, err)
	return b
}

// Later is when the release before was built: well after the files of the site were made, change times included.
func Later() time.Time { return time.Now().Add(time.Hour).Truncate(time.Second).UTC() }

// Lessons are so many rows of posts, of changing length; change, unless nil, may change or drop one.
func Lessons(n int, change func(i int, title string) (string, bool)) string {
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

// Pieces returns the content of a table's entries, in order.
func Pieces(t testing.TB, a *archive.Archive, table string) (out [][]byte) {
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

// OldStyle packs an archive again with all rows of a table in one entry, as releases were before.
func OldStyle(t testing.TB, file, to string) {
	from := Open(t, file)
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
		if h.Mode().IsRegular() && h.Name != archive.SumsName {
			sums.WriteString(fmt.Sprintf("%x  %s\n", sum, h.Name))
		}
	}
	rows := bytes.Join(Pieces(t, from, "lad_posts"), nil)
	m := from.Manifest
	m.Tables = slices.Clone(m.Tables)
	for i := range m.Tables {
		m.Tables[i].Entries = min(1, m.Tables[i].Entries)
	}
	for _, f := range from.Entries() {
		r, err := archive.OpenEntry(f)
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		switch {
		case f.Name == archive.ManifestName:
			text, err = json.Marshal(m)
			require.NoError(t, err)
		case f.Name == archive.RowsDir+"lad_posts.sql":
			text = rows
		case strings.HasPrefix(f.Name, archive.RowsDir+"lad_posts."):
			continue
		case f.Name == archive.SumsName:
			text = slices.Clone(sums.Bytes())
		}
		put(zip.FileHeader{Name: f.Name, ExternalAttrs: f.ExternalAttrs, CreatorVersion: f.CreatorVersion, Modified: f.Modified}, text)
	}
	require.NoError(t, w.Close())
}

const schoolTables = "CREATE TABLE lad_options (option_id bigint NOT NULL, option_name varchar(191), option_value longtext, PRIMARY KEY " +
	"(option_id));" +
	"CREATE TABLE lad_posts (ID bigint NOT NULL, post_title text, post_type varchar(20), post_status varchar(20), post_parent bigint, " +
	"PRIMARY KEY (ID));" +
	"CREATE TABLE lad_term_relationships (object_id bigint NOT NULL, term_taxonomy_id bigint NOT NULL, term_order int, PRIMARY KEY " +
	"(object_id, term_taxonomy_id));" +
	"CREATE TABLE lad_postmeta (meta_id bigint NOT NULL, post_id bigint, meta_key varchar(255), meta_value longtext, PRIMARY KEY (meta_id));" +
	"CREATE TABLE lad_notes (text varchar(99));"

// WithRows gives a site a database, which is a script.
func WithRows(t testing.TB, in build.Input, rows string) build.Input {
	text := schoolTables + rows
	d, err := sitedb.OpenDump(context.Background(), strings.NewReader(text), int64(len(text)), nil)
	require.NoError(t, err)
	in.DB = d
	list := *in.List
	list.Only = ""
	in.List = &list
	return in
}

// RowsBefore and RowsAfter are the rows of one site, and of the same some weeks later.
const RowsBefore = `INSERT INTO lad_options VALUES (1,'siteurl','http://base.localhost'),(2,'blogname','Base'),(3,'school','a:2:{s:5:"phone";s:1:"1";s:7:"api_key";s:6:"k3y-aa";}'),(4,'_transient_x','1');
	INSERT INTO lad_posts VALUES (1,'Harp','page','publish',0),(2,'Lute','page','publish',0),(3,'Oboe','page','publish',0),(9,'v','revision','inherit',1);
	INSERT INTO lad_postmeta VALUES (1,1,'k','v'),(2,9,'k','v');INSERT INTO lad_term_relationships VALUES (1,5,0),(2,5,0);INSERT INTO lad_notes VALUES ('a'),('b');`

const RowsAfter = `INSERT INTO lad_options VALUES (1,'siteurl','http://base.localhost'),(2,'blogname','Base of schools'),(3,'school','a:2:{s:5:"phone";s:2:"22";s:7:"api_key";s:6:"k3y-bb";}'),(4,'_transient_x','2'),(5,'fresh','yes');
	INSERT INTO lad_posts VALUES (1,'Harp','page','publish',0),(3,'Oboe and bassoon','page','publish',0),(4,'Viol','page','publish',0),(5,'Drum','page','publish',0);
	INSERT INTO lad_postmeta VALUES (1,1,'k','v');INSERT INTO lad_term_relationships VALUES (1,5,0),(2,6,0);INSERT INTO lad_notes VALUES ('a'),('c');`

// SettingsBytes is how long the settings file of a release is.
func SettingsBytes(t *testing.T, a *archive.Archive) int64 {
	text, err := a.Read(archive.FilesDir+a.Manifest.Settings, 1<<20)
	require.NoError(t, err)
	return int64(len(text))
}

// Compare compares two archives of one site.
func Compare(t *testing.T, before, after string, k build.Input) *contents.Comparison {
	a, b := Open(t, before), Open(t, after)
	c, err := contents.Compare(context.Background(), a, b, k.Identity.Kind, progress.Discard)
	require.NoError(t, err)
	size := func(f string) int64 {
		info, err := os.Stat(f)
		require.NoError(t, err)
		return info.Size()
	}
	c.Explain(size(before), size(after))
	return c
}
