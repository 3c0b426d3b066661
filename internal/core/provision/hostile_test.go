package provision

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
)

// brokenInto changes a site as somebody can who has its database's password and its web server's account, and then does
// with it what an agency does. Nothing beside the site may be reached by it.
func (w *world) brokenInto(t *testing.T) {
	ctx := context.Background()
	req := w.request(scenario.Schools(11)[10])
	req.RunID = "31"
	plan, err := Prepare(ctx, req)
	require.NoError(t, err)
	journal := &ledger{}
	res, err := Make(ctx, req, plan, journal, progress.Discard)
	require.NoError(t, err)
	defer func() { require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours)) }()

	admin, err := w.stack.Admin()
	require.NoError(t, err)
	defer admin.Close()
	for _, stmt := range []string{"CREATE DATABASE victim", "CREATE TABLE victim.secrets (word text)"} {
		_, err := admin.Exec(stmt)
		require.NoError(t, err)
	}
	posts := plan.Prefix + "posts"
	for _, stmt := range []string{
		"CREATE TRIGGER grab BEFORE UPDATE ON " + posts + " FOR EACH ROW INSERT INTO victim.secrets VALUES ('reached')",
		"CREATE TRIGGER steal AFTER INSERT ON " + posts + " FOR EACH ROW SET GLOBAL general_log = 1",
		"CREATE PROCEDURE rule() BEGIN PREPARE s FROM 'DROP DATABASE victim'; EXECUTE s; END",
		"CREATE VIEW latest AS SELECT ID, post_title FROM " + posts,
	} {
		w.asSite(t, plan.Database, plan.User, res.UserPassword, stmt)
	}
	site, victim := filepath.Join(w.stack.Sites(), req.Folder), filepath.Join(w.stack.Sites(), "victim")
	require.NoError(t, os.MkdirAll(filepath.Join(victim, "wp-content/mu-plugins"), 0o755))
	require.NoError(t, os.RemoveAll(filepath.Join(site, "wp-content/mu-plugins")))
	require.NoError(t, os.Symlink("../../victim/wp-content/mu-plugins", filepath.Join(site, "wp-content/mu-plugins")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(site, "wp-content/uploads/pipe"), 0o644))

	again := req
	again.RunID, again.Refresh, again.Quiet, again.Hold = "32", &Refresh{Was: req.Archive}, true, []byte("<?php // held")
	again.Replace = &Existing{Database: plan.Database, User: plan.User, Password: res.UserPassword, Prefix: plan.Prefix, Admin: res.Admin}
	again.Visit = func(ctx context.Context, address, page string) (int, []byte, error) {
		return check.Visit(ctx, check.Reach{Address: address, Private: true}, page)
	}
	fresh, err := Prepare(ctx, again)
	require.NoError(t, err)
	require.Contains(t, strings.Join(fresh.Problems, " "),
		"wp-content/mu-plugins is a link to ../../victim/wp-content/mu-plugins, outside the site")
	handle, err := w.fs.Sub(ctx, req.Folder)
	require.NoError(t, err)
	defer handle.Close()
	require.Error(t, hostfs.WriteFile(ctx, handle, w.kind.Hold.File, []byte("x"), 0o644), "holding it does not reach the neighbour")

	require.NoError(t, os.Remove(filepath.Join(site, "wp-content/mu-plugins")))
	fresh, err = Prepare(ctx, again)
	require.NoError(t, err)
	require.True(t, fresh.Ready(), fresh.Problems)
	later := &ledger{}
	refreshed, err := Make(ctx, again, fresh, later, progress.Discard)
	require.NoError(t, err)
	defer func() { require.NoError(t, Undo(ctx, w.fs, w.server, later.made, ours)) }()
	said := strings.Join(refreshed.Adjustments, "; ")
	for _, what := range []string{"trigger grab", "trigger steal", "procedure rule"} {
		require.Contains(t, said, what+" was not carried over")
	}
	w.asSite(t, fresh.Database, fresh.User, refreshed.UserPassword, fmt.Sprintf("UPDATE %s SET post_title = post_title", posts))
	var n int
	require.NoError(t, admin.QueryRow("SELECT COUNT(*) FROM victim.secrets").Scan(&n))
	require.Zero(t, n)
	require.NoError(t, admin.QueryRow("SELECT COUNT(*) FROM information_schema.VIEWS WHERE TABLE_SCHEMA = ? AND DEFINER LIKE ?",
		fresh.Database, fresh.User+"@%").Scan(&n))
	require.Equal(t, 1, n, "the view runs with the rights of the site's own account")
	left, err := os.ReadDir(filepath.Join(victim, "wp-content/mu-plugins"))
	require.NoError(t, err)
	require.Empty(t, left)
	require.NoError(t, os.RemoveAll(victim))
}

// asSite runs a statement with a site's own account.
func (w *world) asSite(t *testing.T, database, user, password, stmt string) {
	t.Helper()
	db, err := w.stack.Connect(database, user, password)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(stmt)
	require.NoError(t, err, stmt)
}
