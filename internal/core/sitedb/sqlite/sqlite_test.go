package sqlite_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/local"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitedb/sitedbtest"
	_ "nestseed/internal/core/sitedb/sqlite"
	"nestseed/internal/core/sqltext"
	"nestseed/test/attack"
)

var schema = []string{
	`CREATE TABLE every (id INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, -- its number
		t TEXT NOT NULL DEFAULT 'it''s \ "x"', b BLOB, n BIGINT DEFAULT 0 CHECK (n >= 0 AND n <> 13), v VARCHAR(40) COLLATE NOCASE, r REAL, num NUMERIC(12, 3),
		day DATE, at DATETIME DEFAULT CURRENT_TIMESTAMP, [free] , "odd ""name" TEXT, twice INTEGER GENERATED ALWAYS AS (n * 2) STORED, UNIQUE (v, t) ON CONFLICT ABORT)`,
	`CREATE INDEX every_lower ON every (lower(v), t DESC) WHERE n > 0`,
	`INSERT INTO every (t, b, n, v, r, num, day, at, free, "odd ""name") VALUES
		('line
break \ it''s ß 漢 🎻', X'00ff5c27', 9007199254740993, 'plain', 1.17549e-38, 123456789.125, '2026-11-28', '2026-11-28 05:13:43', 'anything', 'x'),
		('', X'', 0, '', 1e308, 7, NULL, '0000-00-00 00:00:00', NULL, NULL), ('b', 'text in bytes', 1, 'c', 2, 2.0, 'not a day', 5, X'ff', '''')`,
	`CREATE TABLE other (id INTEGER PRIMARY KEY AUTOINCREMENT, every INTEGER REFERENCES every (id) ON DELETE CASCADE, note TEXT NOT NULL DEFAULT '')`,
	`INSERT INTO other (every, note) VALUES (1, 'first'), (2, 'second')`,
	`CREATE VIEW seen AS SELECT t FROM every`,
	`CREATE VIEW counted (id, n) AS SELECT e.id, count(o.id) FILTER (WHERE o.note <> '') FROM every e LEFT JOIN other AS o ON o.every = e.id -- of all
		WHERE e.t GLOB '*' GROUP BY e.id HAVING n >= 0 ORDER BY 2 DESC NULLS LAST LIMIT 5 OFFSET 0`,
	`CREATE TRIGGER counts AFTER INSERT ON other FOR EACH ROW WHEN NEW.note = 'loud' BEGIN
		UPDATE every SET n = n + 1 WHERE id = NEW.every AND n < 13;
		INSERT OR IGNORE INTO other (id, every, note) VALUES (1, 2, CASE WHEN NEW.id > 1 THEN 'x' ELSE 'y' END);
		SELECT RAISE(ABORT, 'too many') WHERE (SELECT count(*) FROM other) > 1000;
	END`,
}

// files is a host's folder, and the server of databases in it.
func files(t *testing.T) (string, hostfs.FS, sitedb.Server) {
	t.Helper()
	dir := t.TempDir()
	fsys, err := local.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	e, err := sitedb.EngineOf("sqlite")
	require.NoError(t, err)
	scratch := filepath.Join(t.TempDir(), "scratch")
	server, err := e.OnFiles(fsys, scratch)
	require.NoError(t, err)
	t.Cleanup(func() {
		require.NoError(t, server.Close())
		left, err := os.ReadDir(scratch)
		require.NoError(t, err)
		require.Empty(t, left, "nothing is left of what was worked on")
	})
	return dir, fsys, server
}

func TestSQLite(t *testing.T) {
	_, _, server := files(t)
	run := func(t *testing.T, database, script string) string {
		file := server.(interface{ File(string) string }).File(database)
		return sitedbtest.Client(t, nil, script, "sqlite3", "-bail", file)
	}
	sitedbtest.Run(t, sitedbtest.Engine{Server: server, Schema: schema, Run: func(t *testing.T, database, script string) { run(t, database, script) }, Query: run})
}

func TestALiveDatabaseIsReadAndChangedAsAWhole(t *testing.T) {
	ctx := context.Background()
	dir, _, server := files(t)
	file := filepath.Join(dir, "base", "site.sqlite")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "base"), 0o755))
	sitedbtest.Client(t, nil, strings.Join(schema, ";\n")+";", "sqlite3", "-bail", file)
	require.NoError(t, os.Chmod(file, 0o640))

	db, err := server.Open(ctx, "base/site.sqlite")
	require.NoError(t, err)
	require.NoError(t, db.SetValue(ctx, "every", "id", "1", "t", "changed"))
	require.Contains(t, sitedbtest.Client(t, nil, "SELECT t FROM every WHERE id = 1;", "sqlite3", file), "break", "not yet")
	require.NoError(t, db.Close())
	require.Equal(t, "changed\n", sitedbtest.Client(t, nil, "SELECT t FROM every WHERE id = 1;", "sqlite3", file))
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o640), info.Mode().Perm())

	// What the site writes meanwhile is not lost.
	db, err = server.Open(ctx, "base/site.sqlite")
	require.NoError(t, err)
	require.NoError(t, db.SetValue(ctx, "every", "id", "1", "t", "ours"))
	sitedbtest.Client(t, nil, "UPDATE every SET t = 'theirs' WHERE id = 1;", "sqlite3", file)
	require.ErrorContains(t, db.Close(), "meanwhile")
	require.Equal(t, "theirs\n", sitedbtest.Client(t, nil, "SELECT t FROM every WHERE id = 1;", "sqlite3", file))
	left, err := os.ReadDir(filepath.Dir(file))
	require.NoError(t, err)
	require.Len(t, left, 1)

	// What was written and is not in the file yet is read too.
	sitedbtest.Client(t, nil, "PRAGMA journal_mode = wal; PRAGMA wal_autocheckpoint = 0; UPDATE every SET t = 'in the log' WHERE id = 1;\n.system cp "+file+" "+file+
		".copy\n.system cp "+file+"-wal "+file+".copy-wal\n", "sqlite3", file)
	db, err = server.Open(ctx, "base/site.sqlite.copy")
	require.NoError(t, err)
	got, _, err := db.Lookup(ctx, "every", "id", "1", "t")
	require.NoError(t, err)
	require.Equal(t, "in the log", got)
	require.NoError(t, db.Close())

	// A name that leads elsewhere is not followed.
	require.NoError(t, os.Mkdir(filepath.Join(dir, "other"), 0o755))
	require.NoError(t, os.Symlink("../base/site.sqlite", filepath.Join(dir, "other", "site.sqlite")))
	_, err = server.Open(ctx, "other/site.sqlite")
	require.Error(t, err)
	require.NoError(t, os.Symlink("base", filepath.Join(dir, "linked")))
	_, err = server.Open(ctx, "nowhere/site.sqlite")
	require.Error(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "base", "broken"), []byte(strings.Repeat("no database ", 1000)), 0o600))
	_, err = server.Open(ctx, "base/broken")
	require.ErrorContains(t, err, "cannot be read")
}

func TestWhatReachesOutIsRefused(t *testing.T) {
	for _, evil := range []string{
		`CREATE TABLE t (a TEXT DEFAULT (load_extension('x')))`,
		`CREATE TABLE t (a TEXT DEFAULT (readfile('/etc/passwd')))`,
		`CREATE TABLE t (a TEXT CHECK ((SELECT 1)))`,
		`CREATE VIRTUAL TABLE t USING fts5(a)`,
		`CREATE TABLE t AS SELECT 1`,
		`CREATE TABLE t (a TEXT); ATTACH 'x' AS y`,
		`CREATE TABLE t (a TEXT) x`,
	} {
		_, err := sqltext.SQLite.ParseDefinition([]byte(evil))
		require.ErrorIs(t, err, sqltext.ErrSyntax, evil)
		d := sqltext.Definitions{Dialect: sqltext.SQLite}
		require.ErrorIs(t, d.Read([]byte(evil+";")), sqltext.ErrSyntax, evil)
	}
	d := sqltext.Definitions{Dialect: sqltext.SQLite}
	for _, evil := range []string{"ATTACH DATABASE 'x' AS y", "PRAGMA writable_schema = ON", "CREATE TRIGGER x AFTER INSERT ON t BEGIN SELECT 1", "DELETE FROM t", ".system id"} {
		require.ErrorIs(t, d.Read([]byte(evil+";")), sqltext.ErrSyntax, evil)
	}
}

// The file of a site is whatever somebody has put there.
func TestAttackByADatabaseThatIsAFile(t *testing.T) {
	ctx := t.Context()
	for what, script := range map[string]string{
		"view without end":    "CREATE VIEW options AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT 'x' AS name, i AS value FROM n;",
		"view of a gigabyte":  "CREATE VIEW options AS SELECT 'x' AS name, hex(zeroblob(400000000)) AS value;",
		"generated gigabyte":  "CREATE TABLE options (name TEXT, value TEXT GENERATED ALWAYS AS (hex(zeroblob(400000000))) VIRTUAL); INSERT INTO options VALUES ('x');",
		"generated much more": "CREATE TABLE options (name TEXT, value TEXT GENERATED ALWAYS AS (printf('%0900000000d', 1)) VIRTUAL); INSERT INTO options VALUES ('x');",
	} {
		dir, _, server := files(t)
		sitedbtest.Client(t, nil, script, "sqlite3", "-bail", filepath.Join(dir, "site.sqlite"))
		open, err := server.Open(ctx, "site.sqlite")
		require.NoError(t, err)
		db := sitedb.Guard(open)
		began := time.Now()
		value, _, err := db.Lookup(ctx, "options", "name", "x", "value")
		require.True(t, err != nil || len(value) < 1000, what)
		require.Less(t, time.Since(began), 10*time.Second, what)
		_, err = db.Tables(ctx)
		require.True(t, err == nil || strings.Contains(err.Error(), "too big") || strings.Contains(err.Error(), "out of memory"), "%s: %v", what, err)
		require.NoError(t, db.Close())
	}
	var usage syscall.Rusage
	require.NoError(t, syscall.Getrusage(syscall.RUSAGE_SELF, &usage))
	require.Less(t, usage.Maxrss, int64(512<<10), "kB")
	attack.Stopped(t, "SQLite file of a stranger", "views without end and of a gigabyte, columns that are made when they are read",
		fmt.Sprintf("only tables are read, values have limits, SQLite has 192 MiB; the test took %d MiB at most", usage.Maxrss>>10))
}
