package intake

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/foreign"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
)

// siteFiles are the files of a small WordPress of a harbour school, below a folder.
func siteFiles(below string, settings string) map[string]string {
	files := map[string]string{
		"wp-includes/version.php": "<?php $wp_version = '6.1.9'; $required_php_version " +
			"= '5.6.20';", "wp-load.php": "<?php", "wp-admin/index.php": "<?php",
		"wp-config-sample.php": "<?php define('DB_NAME','database_name_here'); define('DB_PASSWORD','password_here'); " +
			"define('AUTH_KEY','put your unique phrase here'); $table_prefix='wp_'; require 'x.php';",
		"wp-content/uploads/quay.txt": "see http://harbour.example/quay",
	}
	if settings != "" {
		files["wp-config.php"] = settings
	}
	out := map[string]string{}
	for name, text := range files {
		out[below+name] = text
	}
	return out
}

const settings = "<?php define('DB_NAME','hm'); define('DB_USER','hm'); define('DB_PASSWORD','sunken-treasure'); " +
	"define('AUTH_KEY','salt-of-the-sea'); $table_prefix='hm_';"

// dumpText is a dump with the tables that tell WordPress.
func dumpText(prefix string) string {
	var b strings.Builder
	b.WriteString("-- MariaDB dump 10.19  Distrib 10.6.12-MariaDB\n-- Server version\t10.6.12-MariaDB\n/*!40101 SET NAMES utf8mb4 */;\n")
	for _, t := range []string{"postmeta", "users", "usermeta", "terms", "term_taxonomy"} {
		fmt.Fprintf(&b, "CREATE TABLE `%s%s` (`id` bigint NOT NULL AUTO_INCREMENT, PRIMARY KEY (`id`)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n",
			prefix, t)
	}
	fmt.Fprintf(&b, "CREATE TABLE `%sposts` (`ID` bigint NOT NULL, `post_content` longtext, `post_type` varchar(20), `post_status` "+
		"varchar(20), `post_password` varchar(255), `comment_count` bigint) DEFAULT CHARSET=utf8mb4;\n", prefix)
	fmt.Fprintf(&b, "CREATE TABLE `%soptions` (`option_id` bigint NOT NULL, `option_name` varchar(191), `option_value` longtext, PRIMARY "+
		"KEY (`option_id`)) DEFAULT CHARSET=utf8mb4;\n", prefix)
	fmt.Fprintf(&b, "INSERT INTO `%soptions` VALUES "+
		"(1,'siteurl','http://harbour.example/'),(2,'home','http://harbour.example'),(3,'blogname','Harbour "+
		"Music'),(4,'admin_email','piers@harbour.example'),(5,'places','a:1:{s:4:\\\"base\\\";s:36:\\\"/var/www/harbour/wp-content/uploads\\\";}'),(6,'note','sunken-treasure'),(7,'mailer','a:1:{s:9:\\\"api_token\\\";s:16:\\\"tok-0123456789ab\\\";}');\n", prefix)
	fmt.Fprintf(&b, "INSERT INTO `%sposts` VALUES (1,'<a "+
		"href=\\\"http://harbour.example/quay\\\">Quay</a>','page','publish','',0),(2,'old','revision','inherit','',0);\n", prefix)
	return b.String()
}

func tarGz(t *testing.T, files map[string]string) File {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for name, text := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Size: int64(len(text)), Mode: 0o644, Typeflag: tar.TypeReg}))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	return File{Name: "site.tar.gz", R: bytes.NewReader(b.Bytes()), SizeBytes: int64(b.Len())}
}

func zipFile(t *testing.T, files map[string]string) File {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, text := range files {
		out, err := w.Create(name)
		require.NoError(t, err)
		_, err = out.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return File{Name: "site.zip", R: bytes.NewReader(b.Bytes()), SizeBytes: int64(b.Len())}
}

func text(s string) *File {
	return &File{Name: "site.sql", R: strings.NewReader(s), SizeBytes: int64(len(s))}
}

func with(files map[string]string, name, content string) map[string]string {
	files[name] = content
	return files
}

func bring(t *testing.T, dump *File, files ...File) (*Site, string, error) {
	t.Helper()
	dir := t.TempDir()
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	kinds, err := kind.Stock()
	require.NoError(t, err)
	s, err := Open(context.Background(), Input{Scratch: fsys, Files: files, Dump: dump, Kinds: kinds,
		Limits: foreign.Limits{Bytes: 64 << 20, Entries: 1000, Ratio: 400, RatioFrom: 16 << 20}}, progress.Discard)
	if err == nil {
		t.Cleanup(s.Close)
	}
	return s, dir, err
}

func TestSitesAreFoundInArchivesOfManyShapes(t *testing.T) {
	for name, in := range map[string]struct {
		dump  *File
		files []File
		only  string
		note  string
	}{
		"dump beside": {text(dumpText("hm_")), []File{tarGz(t, siteFiles("", settings))}, "", ""},
		"dump in the web root": {nil, []File{tarGz(t, with(siteFiles("public_html/", settings), "public_html/backup.sql", dumpText("hm_")))},
			"", ""},
		"dump above the web root": {nil, []File{zipFile(t, with(siteFiles("a/b/htdocs/", settings), "a/db/site.sql", dumpText("hm_")))}, "", ""},
		"dump among the files":    {nil, []File{tarGz(t, siteFiles("x/", settings)), *text(dumpText("hm_"))}, "", ""},
		"two dumps, one of others": {nil,
			[]File{tarGz(t, with(with(siteFiles("", settings), "a.sql", "-- dump\nCREATE TABLE `o` (a int);"), "z.sql", dumpText("hm_")))}, "", ""},
		"without settings":         {text(dumpText("odd_")), []File{tarGz(t, siteFiles("", ""))}, "", "no settings file"},
		"files alone":              {nil, []File{tarGz(t, siteFiles("", settings))}, "files", "no database"},
		"a dump alone":             {nil, []File{*text(dumpText("hm_"))}, "database", "no files"},
		"other prefix in settings": {text(dumpText("zz_")), []File{tarGz(t, siteFiles("", settings))}, "", "has the table prefix hm_"},
	} {
		t.Run(name, func(t *testing.T) {
			s, dir, err := bring(t, in.dump, in.files...)
			require.NoError(t, err)
			require.Equal(t, in.only, s.Only())
			require.Equal(t, "wordpress", s.Identity.Kind.Name)
			require.Contains(t, strings.Join(s.Notes, "; "), in.note)
			if s.Only() != "files" {
				require.Equal(t, "http://harbour.example", s.Address)
				require.Equal(t, "/var/www/harbour", s.WebRoot)
			}
			filepath.Walk(dir, func(p string, _ os.FileInfo, _ error) error {
				require.NotRegexp(t, `tree/.*\.sql$`, p, "no dump stays in the tree")
				return nil
			})
		})
	}
}

func TestWhatIsBroughtInBecomesAReleaseWithoutItsSecrets(t *testing.T) {
	s, dir, err := bring(t, text(dumpText("hm_")), tarGz(t, siteFiles("public_html/", settings)))
	require.NoError(t, err)
	require.Contains(t, strings.Join(s.Notes, "; "), "mailer › api_token")
	list, err := packing.Parse([]byte(s.Identity.Kind.Lists["starter"]))
	require.NoError(t, err)
	packing.Edit{BlankValues: []packing.Inside{{Option: "mailer", Path: []string{"api_token"}}}}.Apply(list)
	file := filepath.Join(dir, "r.zip")
	out, err := os.Create(file)
	require.NoError(t, err)
	defer out.Close()
	b, err := build.Release(context.Background(), out, build.Input{FS: s.FS, Root: s.Root, DB: s.DB(), Identity: s.Identity, List: list,
		Elsewhere: true, Manifest: archive.Manifest{
			ID: "x", Starter: "harbour", Number: 1, Made: time.Unix(1700000000,
				0).UTC(), By: "ines", Source: "site.tar.gz", Origin: archive.Origin{Address: s.Address, WebRoot: s.WebRoot},
		}}, progress.Discard)
	require.NoError(t, err)
	require.Equal(t, archive.Origin{Address: "http://harbour.example", WebRoot: "/var/www/harbour", Prefix: "hm_"}, b.Manifest.Origin)
	require.Equal(t, sitedb.Version{Engine: "MariaDB", Number: "10.6.12", Charset: "utf8mb4"}, b.Manifest.Database)
	info, err := out.Stat()
	require.NoError(t, err)
	a, err := archive.Open(out, info.Size())
	require.NoError(t, err)
	require.NoError(t, a.JudgeSQL(false))
	v, err := a.Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, secret := range []string{"sunken-treasure", "salt-of-the-sea", "piers@harbour", "tok-0123456789ab"} {
		require.NotContains(t, string(raw), secret) // small entries are stored as they are, or nearly
	}
	require.Contains(t, fmt.Sprint(b.Manifest.Blanked), "setting DB_PASSWORD")
	require.Contains(t, fmt.Sprint(b.Manifest.LeftOut), "rows of hm_posts")
}

func TestWhatIsNoSiteIsRefusedWithWhatToDo(t *testing.T) {
	two := siteFiles("one/", settings)
	for k, v := range siteFiles("two/", settings) {
		two[k] = v
	}
	shared := dumpText("a_") + strings.ReplaceAll(dumpText("b_"), "-- MariaDB", "-- also")
	for name, in := range map[string]struct {
		dump  *File
		files []File
		word  string
	}{
		"pictures only":    {nil, []File{tarGz(t, map[string]string{"a.jpg": "x"})}, "neither a site nor a dump"},
		"two sites":        {nil, []File{tarGz(t, two)}, "several sites side by side (one, two)"},
		"a dump of others": {text("-- dump\nCREATE TABLE `o` (a int);"), []File{tarGz(t, siteFiles("", settings))}, "no tables of WordPress"},
		"a dump inside, same": {nil, []File{tarGz(t, with(siteFiles("", settings), "o.sql", "-- dump\nCREATE TABLE `o` (a int);"))},
			"no tables of WordPress"},
		"two dumps given":  {text(dumpText("hm_")), []File{*text(dumpText("hm_"))}, "both dumps"},
		"several prefixes": {nil, []File{*text(shared)}, "several sites (prefixes a_, b_)"},
		"a hostile dump":   {text(dumpText("hm_") + "GRANT ALL ON *.* TO x;"), []File{tarGz(t, siteFiles("", settings))}, "GRANT ALL"},
		"a picture":        {nil, []File{{Name: "a.png", R: strings.NewReader("\x89PNG"), SizeBytes: 4}}, "neither ZIP nor tar"},
	} {
		_, _, err := bring(t, in.dump, in.files...)
		require.Error(t, err, name)
		require.Contains(t, err.Error(), in.word, name)
	}
}
