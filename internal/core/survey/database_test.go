package survey

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/stack"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	_ "nestseed/internal/core/sitedb/engines"
)

// untidy is the database of a site that was worked on for years.
var untidy = []string{
	"CREATE TABLE lad_options (option_id bigint PRIMARY KEY AUTO_INCREMENT, option_name varchar(191), option_value longtext, autoload " +
		"varchar(20)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
	`INSERT INTO lad_options (option_name, option_value) VALUES ('siteurl','http://base.localhost'),('home','http://base.localhost'),('blogname','Loom base'),('blog_public','0'),
		('active_plugins','a:1:{i:0;s:15:"booking/main.php";}'),('template','loom'),('stylesheet','loom-child'),
		('_site_transient_update_plugins','O:8:"stdClass":1:{s:8:"response";a:2:{s:11:"booking.php";s:1:"2";s:9:"forms.php";s:1:"3";}}'),
		('_site_transient_update_core','O:8:"stdClass":1:{s:7:"updates";a:1:{i:0;O:8:"stdClass":1:{s:8:"response";s:7:"upgrade";}}}'),
		('_transient_token','abcdefghijklmnopqrstuvwxyz'),
		('mail_settings','a:2:{s:4:"from";s:20:"hello@school.example";s:4:"smtp";a:1:{s:8:"password";s:16:"Qq7-music-Kk9-xx";}}'),
		('maps_api_key','AIzaMadeUp-0123456789-abcdef'),('short_key','abc'),('page_token','https://school.example/a-page-of-tokens')`,
	"CREATE TABLE lad_posts (ID bigint PRIMARY KEY AUTO_INCREMENT, post_title text, post_type varchar(20), post_status varchar(20), " +
		"post_content longtext) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
	"INSERT INTO lad_posts (post_title, post_type, post_status) VALUES " +
		"('Harp','page','publish'),('v1','revision','inherit'),('v2','revision','inherit'),('?','post','auto-draft'),('x','post','trash')",
	"CREATE TABLE lad_postmeta (meta_id bigint PRIMARY KEY AUTO_INCREMENT, post_id bigint, meta_key varchar(255), meta_value longtext) " +
		"ENGINE=InnoDB DEFAULT CHARSET=latin1",
	`INSERT INTO lad_postmeta (post_id, meta_key, meta_value) VALUES (1,'_wp_attached_file','2026/09/choir.jpg'),(1,'_wp_attachment_metadata','a:2:{s:4:"file";s:17:"2026/09/choir.jpg";s:5:"sizes";a:1:{s:5:"small";a:1:{s:4:"file";s:15:"choir-small.jpg";}}}'),
		(1,'_wp_attached_file','2026/09/gone.jpg'),(2,'note','x'),(3,'note','y')`,
	"CREATE TABLE lad_visits (id int PRIMARY KEY, agent text) ENGINE=MyISAM DEFAULT CHARSET=utf8mb4",
	"INSERT INTO lad_visits VALUES (1,'x'),(2,'y')",
	"CREATE TABLE lad_heavy (id int PRIMARY KEY AUTO_INCREMENT, body longtext) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
	"CREATE TABLE old_posts (ID bigint PRIMARY KEY) ENGINE=InnoDB",
	"CREATE VIEW lad_titles AS SELECT post_title FROM lad_posts",
	"CREATE TRIGGER lad_stamp BEFORE INSERT ON lad_posts FOR EACH ROW SET NEW.post_title = TRIM(NEW.post_title)",
	"CREATE PROCEDURE lad_tidy() DELETE FROM lad_visits",
}

// surveyed is a survey of a site on disk with a database on a real server.
func surveyed(t *testing.T, visit func(context.Context, string) (http.Header, error)) (*Survey, error) {
	t.Helper()
	ctx := context.Background()
	st := stack.ForTest(t)
	require.NoError(t, st.StartMariaDB(ctx))
	require.NoError(t, st.MakeDatabase(ctx, "lad", "pw", ""))
	admin, err := st.Admin()
	require.NoError(t, err)
	defer admin.Close()
	conn, err := admin.Conn(ctx)
	require.NoError(t, err)
	defer conn.Close()
	for _, stmt := range append([]string{"USE lad"}, untidy...) {
		_, err := conn.ExecContext(ctx, stmt)
		require.NoError(t, err, stmt)
	}
	fill(t, conn)

	dir := t.TempDir()
	for name, text := range map[string]string{
		"wp-includes/version.php": "<?php $wp_version = '6.1.9'; $required_php_version " +
			"= '5.6.20';", "wp-load.php": "<?php", "wp-admin/index.php": "<?php",
		"wp-config.php": fmt.Sprintf("<?php define('DB_NAME','lad'); define('DB_USER','lad'); "+
			"define('DB_PASSWORD','pw'); define('DB_HOST','127.0.0.1:%d'); $table_prefix='lad_';", st.DatabasePort),
		"wp-content/uploads/2026/09/choir.jpg":        "picture",
		"wp-content/uploads/2026/09/choir-small.jpg":  "small",
		"wp-content/uploads/2026/09/nobody-shows.jpg": "picture",
		"wp-content/uploads/2026/09/readme.txt":       "not a picture",
		"wp-content/plugins/booking/main.php":         "<?php",
		"wp-content/plugins/left-behind/main.php":     "<?php",
		"wp-content/themes/loom/style.css":            "a{}",
		"wp-content/themes/loom-child/style.css":      "a{}",
		"wp-content/themes/winter/style.css":          "a{}",
	} {
		p := filepath.Join(dir, "base", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
	}
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	kinds, err := kind.Stock()
	require.NoError(t, err)
	id, err := kind.Identify(ctx, fsys, "base", kinds)
	require.NoError(t, err)
	srv, err := sitedb.Connect(st.DatabaseURL())
	require.NoError(t, err)
	t.Cleanup(func() { srv.Close() })
	db, err := srv.Open(ctx, "lad")
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return Take(ctx, Input{FS: fsys, Root: "base", DB: db, Identity: id, Visit: visit}, progress.Discard)
}

// fill makes one table larger than all others together.
func fill(t *testing.T, conn *sql.Conn) {
	for range 12 {
		_, err := conn.ExecContext(t.Context(), "INSERT INTO lad_heavy (body) VALUES (?)", strings.Repeat("statistics ", 60_000))
		require.NoError(t, err)
	}
	_, err := conn.ExecContext(t.Context(), "ANALYZE TABLE lad_heavy, lad_posts, lad_postmeta, lad_options")
	require.NoError(t, err)
}

// One look at the database says what is in it, and each finding has its remedy or its advice.
func TestADatabaseIsLookedAtOnce(t *testing.T) {
	asked := ""
	s, err := surveyed(t, func(_ context.Context, address string) (http.Header, error) {
		asked = address
		return http.Header{"X-Powered-By": {"PHP/5.6.40"}}, nil
	})
	require.NoError(t, err)
	require.Equal(t, "http://base.localhost", s.Address)
	require.Equal(t, s.Address, asked)
	require.Equal(t, "Loom base", s.Title)
	require.Equal(t, "5.6.40", s.Running)
	require.Equal(t, "MariaDB", s.Database.Engine)
	require.Greater(t, s.Totals.DatabaseBytes, int64(5<<20))

	for _, c := range []struct {
		what, where string
		count       int64
		remedy      *packing.Edit
		examples    string
	}{
		{"search engines are kept out", "option blog_public", 0, nil, ""},
		{"updates are pending for extensions", "option _site_transient_update_plugins", 2, nil, ""},
		{"updates are pending for WordPress itself", "option _site_transient_update_core", 1, nil, ""},
		{"what looks like a token or licence", "option mail_settings", 1,
			&packing.Edit{BlankValues: []packing.Inside{{Option: "mail_settings",
				Path: []string{"smtp", "password"}}}}, "mail_settings › smtp › password"},
		{"what looks like a token or licence", "option maps_api_key", 1, &packing.Edit{BlankOptions: []string{"maps_api_key"}}, ""},
		{"rows that point at files that are missing", "postmeta", 1, nil, "2026/09/gone.jpg"},
		{"media files that no row points at", "wp-content/uploads", 1,
			&packing.Edit{LeaveOut: []string{"wp-content/uploads/2026/09/nobody-shows.jpg"}}, "nobody-shows.jpg"},
		{"extension that is not active", "wp-content/plugins/left-behind", 1,
			&packing.Edit{LeaveOut: []string{"wp-content/plugins/left-behind"}}, ""},
		{"theme that is not active", "wp-content/themes/winter", 1, &packing.Edit{LeaveOut: []string{"wp-content/themes/winter"}}, ""},
		{"table of another prefix", "old_posts", 0, nil, ""},
		{"table that dominates the database", "lad_heavy", 12, &packing.Edit{Empty: []string{"heavy"}}, ""},
		{"mixed character sets", "database", 2, nil, "latin1 in 1 tables"},
		{"tables whose engine has no snapshots", "database", 1, nil, "lad_visits (MyISAM)"},
		{"triggers and routines", "database", 2, nil, "trigger lad_stamp"},
		{"definers", "database", 3, nil, "runs as"},
		{"revisions", "posts", 2, &packing.Edit{DropRows: []kind.Rows{{Table: "posts", Column: "post_type", Values: []string{"revision"}}}}, ""},
		{"posts in the bin", "posts", 1,
			&packing.Edit{DropRows: []kind.Rows{{Table: "posts", Column: "post_status", Values: []string{"trash"}}}}, ""},
	} {
		var found *Finding
		for i := range s.Findings {
			if f := &s.Findings[i]; f.What == c.what && f.Where == c.where {
				found = f
			}
		}
		require.NotNil(t, found, "%s at %s is not among %+v", c.what, c.where, s.Findings)
		require.Equal(t, c.count, found.Count, c.what)
		require.Equal(t, c.remedy, found.Remedy, c.what)
		require.NotEmpty(t, found.Why, c.what)
		require.True(t, found.Remedy != nil || found.Advice != "", "%s: what can one do about it?", c.what)
		require.Contains(t, strings.Join(found.Examples, "; "), c.examples, c.what)
	}
	for _, f := range s.Findings {
		for _, not := range []string{"short_key", "page_token", "_transient_token"} {
			require.NotContains(t, f.Where, not, "too short, an address, and what is forgotten anyway")
		}
		require.NotEqual(t, "wp-content/themes/loom", f.Where, "the parent of the active theme is in use")
	}
	// What the columns of the kind hold is counted, and what belongs to it: a rule that drops revisions saves both.
	list, err := packing.Parse([]byte("drop-rows: [{table: posts, column: post_type, values: [revision]}]"))
	require.NoError(t, err)
	m, err := list.Compile(kindtest.Named(t, "wordpress"), "lad_")
	require.NoError(t, err)
	_, out, _ := s.Total(m)
	require.Equal(t, int64(4), out.Rows, "two revisions, and two rows that belong to them")
}

func TestASiteThatDoesNotAnswerIsSurveyedAllTheSame(t *testing.T) {
	s, err := surveyed(t, func(context.Context, string) (http.Header, error) { return nil, errors.New("nobody listens") })
	require.NoError(t, err)
	require.Empty(t, s.Running)
	require.Equal(t, "Loom base", s.Title)
}
