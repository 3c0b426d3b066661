package provision

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	_ "nestseed/internal/core/sitedb/engines"
	"nestseed/internal/core/survey"
)

// world is a real WordPress on real servers, a release of it, and a host for new sites.
type world struct {
	stack   *stack.Stack
	fs      hostfs.FS
	server  sitedb.Server
	kind    *kind.Kind
	archive *archive.Archive
	file    string
}

func newWorld(t *testing.T) *world {
	ctx := context.Background()
	w := &world{stack: stack.ForTest(t)}
	require.NoError(t, w.stack.StartMariaDB(ctx))
	require.NoError(t, w.stack.StartWeb(ctx))
	require.NoError(t, scenario.InstallBase(ctx, w.stack))

	var err error
	w.fs, err = hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + w.stack.Sites() + "?owner=www-data"})
	require.NoError(t, err)
	w.server, err = sitedb.Connect(w.stack.DatabaseURL())
	require.NoError(t, err)
	kinds, err := kind.Stock()
	require.NoError(t, err)
	id, err := kind.Identify(ctx, w.fs, "base", kinds)
	require.NoError(t, err)
	w.kind = id.Kind
	// An extension that guards against copies, and one that new sites are to begin without.
	extra := filepath.Join(w.stack.Sites(), "base/wp-content/plugins/loom-extra")
	require.NoError(t, os.MkdirAll(extra, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(extra, "loom-extra.php"), []byte("<?php\n/* Plugin Name: Loom Extra */\n"), 0o644))
	_, err = w.stack.RunPHP(ctx, "base", `<?php require 'wp-load.php'; require ABSPATH . 'wp-admin/includes/plugin.php';
		activate_plugin('loom-extra/loom-extra.php'); update_option('loom_guard', ['site' => md5(home_url()), 'note' => 'ü']);`)
	require.NoError(t, err)
	w.archive, w.file = w.build(t, 1)
	return w
}

// build makes a release of the base site as it is.
func (w *world) build(t *testing.T, number int) (*archive.Archive, string) {
	t.Helper()
	ctx := context.Background()
	id, err := kind.Identify(ctx, w.fs, "base", []*kind.Kind{w.kind})
	require.NoError(t, err)
	reader, err := sitedb.Connect(fmt.Sprintf("mysql://lad_reader:%s@127.0.0.1:%d/", scenario.BaseDatabasePassword, w.stack.DatabasePort))
	require.NoError(t, err)
	db, err := reader.Open(ctx, id.Database.Name)
	require.NoError(t, err)
	sv, err := survey.Take(ctx, survey.Input{FS: w.fs, Root: "base", DB: db, Identity: id}, progress.Discard)
	require.NoError(t, err)
	require.Equal(t, w.stack.Address("base"), sv.Address)
	require.Equal(t, "Loom & Ladder base site", strings.ReplaceAll(sv.Title, "&amp;", "&"))
	require.Len(t, sv.Largest, 20)

	list, err := packing.Parse([]byte(id.Kind.Lists["starter"]))
	require.NoError(t, err)
	list.Fields = append(list.Fields, scenario.Fields()...)
	list.SwitchOff = []string{"loom-extra"}
	file := filepath.Join(t.TempDir(), "music-base.zip")
	f, err := os.Create(file)
	require.NoError(t, err)
	defer f.Close()
	_, err = build.Release(ctx, f, build.Input{FS: w.fs, Root: "base", DB: db, Identity: id, List: list, Manifest: archive.Manifest{
		ID: "t", Starter: "music-base", Number: number, Made: time.Unix(1700000000,
			0), By: "ines", Source: "base", Origin: archive.Origin{Address: sv.Address}}}, progress.Discard)
	require.NoError(t, err)
	in, err := os.Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { in.Close() })
	info, _ := in.Stat()
	a, err := archive.Open(in, info.Size())
	require.NoError(t, err)
	return a, file
}

func (w *world) request(school scenario.School) Request {
	values := map[string]Given{}
	for k, v := range school.Settings {
		values[k] = Given{v, "client"}
	}
	return Request{Archive: w.archive, Kind: w.kind, FS: w.fs, Server: w.server, Name: school.Name, Folder: school.Name,
		Address: w.stack.Address(school.Name), Values: values, RunID: "1"}
}

// ledger is a journal that can fail at its n-th entry.
type ledger struct {
	made   []Made
	failAt int
	hook   func()
}

var errJournal = errors.New("journal is gone")

func (l *ledger) Making(_ context.Context, m Made) error {
	l.made = append(l.made, m)
	if l.hook != nil {
		l.hook()
	}
	if len(l.made) == l.failAt {
		return errJournal
	}
	return nil
}
func (l *ledger) NotOurs(context.Context, Made) error { return nil }
func (l *ledger) Still(context.Context) error         { return nil }

// ours is the claim of a test, which nobody takes over.
func ours(context.Context) error { return nil }

func (w *world) nothingLeft(t *testing.T, name string) {
	t.Helper()
	left, err := filepath.Glob(filepath.Join(w.stack.Sites(), "*"+name+"*"))
	require.NoError(t, err)
	hidden, err := filepath.Glob(filepath.Join(w.stack.Sites(), ".*"+name+"*"))
	require.NoError(t, err)
	require.Empty(t, append(left, hidden...))
	db := "ns_" + strings.ReplaceAll(name, "-", "")
	exists, err := w.server.DatabaseExists(context.Background(), db)
	require.NoError(t, err)
	require.False(t, exists)
	exists, err = w.server.UserExists(context.Background(), db)
	require.NoError(t, err)
	require.False(t, exists)
}

// One world serves all claims: installing WordPress takes longer than everything that is tested on it.
func TestARealSiteBecomesARelease(t *testing.T) {
	ctx := context.Background()
	w := newWorld(t)

	t.Run("whose archive restores by hand and holds no secret", func(t *testing.T) {
		dir := t.TempDir()
		out, err := exec.Command("unzip", "-q", w.file, "-d", dir).CombinedOutput()
		require.NoError(t, err, string(out))
		require.NoError(t, w.stack.MakeDatabase(ctx, "by_hand", "pw", ""))
		cmd := exec.Command("sh", "-c",
			fmt.Sprintf("cat database/schema.sql database/rows/*.sql database/after.sql | mariadb -h127.0.0.1 -P%d -uby_hand -ppw by_hand",
				w.stack.DatabasePort))
		cmd.Dir = dir
		out, err = cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		db, err := w.server.Open(ctx, "by_hand")
		require.NoError(t, err)
		defer db.Close()
		v, found, err := db.Lookup(ctx, "lad_options", "option_name", "loom_broken", "option_value")
		require.NoError(t, err)
		require.True(t, found)
		require.Equal(t, `a:1:{s:3:"url";s:99:"kept as it is";}`, v)

		base, err := w.server.Open(ctx, "lad_base")
		require.NoError(t, err)
		defer base.Close()
		hash, found, err := base.Lookup(ctx, "lad_users", "ID", "1", "user_pass")
		require.NoError(t, err)
		require.True(t, found)
		for _, secret := range []string{scenario.BaseDatabasePassword, scenario.BaseAdminPassword, scenario.BaseSalt, hash,
			"ines@loomandladder.example", "parent1@home.example"} {
			out, _ := exec.Command("grep", "-rlF", secret, dir).Output()
			require.Empty(t, string(out), "found %q", secret)
		}
	})

	t.Run("from which a site is made that passes every check", func(t *testing.T) {
		req := w.request(scenario.Schools(1)[0])
		plan, err := Prepare(ctx, req)
		require.NoError(t, err)
		require.True(t, plan.Ready(), plan.Problems)
		w.nothingLeft(t, "alder-valley")
		journal := &ledger{}
		res, err := Make(ctx, req, plan, journal, progress.Discard)
		require.NoError(t, err)
		require.Zero(t, res.Rewritten.Broken)
		require.Positive(t, res.Rewritten.Serialised)
		require.Positive(t, res.Rewritten.Forms["percent-encoded"])
		require.Positive(t, res.Rewritten.Forms["escaped slashes"])

		db, err := w.server.Open(ctx, plan.Database)
		require.NoError(t, err)
		defer db.Close()
		rep, err := check.Run(ctx, check.Site{Address: plan.Address, Private: true, Kind: w.kind, Title: "Alder Valley Music School",
			Login: res.Admin, Password: res.AdminPassword,
			Origin: plan.Rules, DB: db, Prefix: plan.Prefix, FS: w.fs, Folder: "alder-valley"}, progress.Discard)
		require.NoError(t, err)
		require.Zero(t, rep.Faults(), "%+v", rep.Checks)
		require.Greater(t, rep.Pages, 11, "seven pages, two posts and what else links lead to")

		t.Log(rep.TookMillis, res.Steps)
		out, err := w.stack.RunPHP(ctx, "alder-valley", `<?php require 'wp-load.php'; $o = get_option('loom_school'); $n = unserialize($o['cached']);
			echo json_encode([$o['contact']['email'], $o['tracking']['measurement_id'], $n['home'], $n['mail'], $o['share'], get_option('admin_email'), get_option('blog_public'), count_users()['total_users']], JSON_UNESCAPED_SLASHES);`)
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf(`["office@alder-valley.example","M-7K2P4D","%[1]s/","office@base.localhost","https://share.example/?u=http%%3A%%2F%%2Falder-valley.localhost%%3A%[2]d%%2Fconcerts%%2F","office@alder-valley.example","0",1]`,
			plan.Address, w.stack.WebPort), out)

		out, err = w.stack.RunPHP(ctx, "alder-valley",
			`<?php require 'wp-load.php'; echo get_option('loom_guard')['site'] === md5(home_url()) ? 'ours' : 'theirs', ' ', implode(' ', get_option('active_plugins'));`)
		require.NoError(t, err)
		require.Equal(t, "ours loom-school/loom-school.php", out)
		require.Contains(t, strings.Join(res.Adjustments, "; "), "the option loom_guard held a fingerprint of "+w.stack.Address("base"))
		require.Contains(t, strings.Join(res.Adjustments, "; "), "switched off: loom-extra")

		every, err := w.stack.RunPHP(ctx, "alder-valley", `<?php require 'wp-load.php'; global $wpdb; $n = 0;
			foreach (['options' => 'option_value', 'postmeta' => 'meta_value', 'usermeta' => 'meta_value'] as $t => $c)
				foreach ($wpdb->get_col("SELECT $c FROM {$wpdb->$t}") as $v)
					if (is_serialized($v) && !str_contains($v, 'kept as it is') && ++$n && @unserialize($v) === false && $v !== 'b:0;') die("broken: $v");
			echo $n > 20 ? 'all readable' : "only $n";`)
		require.NoError(t, err)
		require.Equal(t, "all readable", every)

		again, err := Prepare(ctx, req)
		require.NoError(t, err)
		require.Contains(t, strings.Join(again.Problems, " "), "exists already")
		_, err = Make(ctx, req, again, journal, progress.Discard)
		require.ErrorIs(t, err, ErrPlan)
		require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours))
		require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours), "undoing twice is no error")
		w.nothingLeft(t, "alder-valley")
	})

	t.Run("and whatever fails on the way leaves nothing behind", func(t *testing.T) {
		req := w.request(scenario.Schools(2)[1])
		plan, err := Prepare(ctx, req)
		require.NoError(t, err)
		for at := 1; at <= 4; at++ {
			_, err := Make(ctx, req, plan, &ledger{failAt: at}, progress.Discard)
			require.ErrorIs(t, err, errJournal)
			w.nothingLeft(t, "brook-lane")
		}
		for at := 1; at <= 4; at++ {
			cut, cancel := context.WithCancel(ctx)
			l := &ledger{}
			l.hook = func() {
				if len(l.made) == at {
					time.AfterFunc(30*time.Millisecond, cancel)
				}
			}
			if _, err := Make(cut, req, plan, l, progress.Discard); err == nil {
				require.NoError(t, Undo(ctx, w.fs, w.server, l.made, ours)) // it was quicker than the cancellation
			}
			cancel()
			w.nothingLeft(t, "brook-lane")
		}
	})

	// One attempt stops at each point, another takes back what its journal says and makes the site; then the first comes back, and believes that
	// it is to take back what it has made.
	t.Run("and an attempt that was overtaken removes nothing of the one that took over", func(t *testing.T) {
		for at := 1; ; at++ {
			req := w.request(scenario.Schools(2)[1])
			req.RunID = "77-1"
			plan, err := Prepare(ctx, req)
			require.NoError(t, err)
			stopped, on, ended := make(chan bool, 1), make(chan struct{}), make(chan error, 1)
			old := &ledger{}
			old.hook = func() {
				if len(old.made) == at {
					stopped <- true
					<-on
				} else if len(old.made) > at {
					old.failAt = len(old.made) // the records refuse it
				}
			}
			go func() {
				_, err := Make(ctx, req, plan, old, progress.Discard)
				ended <- err
			}()
			select {
			case <-stopped:
			case err := <-ended:
				require.NoError(t, err)
				require.Greater(t, at, 4, "database, account, staging, folder")
				require.NoError(t, Undo(ctx, w.fs, w.server, old.made, ours))
				w.nothingLeft(t, "brook-lane")
				return
			}
			made := slices.Clone(old.made)
			require.NoError(t, Undo(ctx, w.fs, w.server, made, ours))
			next := w.request(scenario.Schools(2)[1])
			next.RunID = "77-2"
			plan, err = Prepare(ctx, next)
			require.NoError(t, err)
			journal := &ledger{}
			res, err := Make(ctx, next, plan, journal, progress.Discard)
			require.NoError(t, err)
			before := w.standing(t, next.Folder, res.Database)
			close(on)
			require.Error(t, <-ended, "stopped at %v", made)
			require.NoError(t, Undo(ctx, w.fs, w.server, old.made, ours), "and once more")
			require.Equal(t, before, w.standing(t, next.Folder, res.Database), "stopped at %v", made)
			there, err := w.server.UserExists(ctx, res.User)
			require.NoError(t, err)
			require.True(t, there, "stopped at %v", made)
			require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours))
			w.nothingLeft(t, "brook-lane")
		}
	})

	t.Run("and never to a server of another engine", func(t *testing.T) {
		req := w.request(scenario.Schools(2)[1])
		req.Server = sitedb.None
		plan, err := Prepare(ctx, req)
		require.NoError(t, err)
		require.Contains(t, strings.Join(plan.Problems, "; "), "has its database for none, and sites of WordPress have one of mysql")
		_, err = Make(ctx, req, plan, &ledger{}, progress.Discard)
		require.ErrorIs(t, err, ErrPlan)
	})

	t.Run("and undoing one site never takes a folder that another one lies in", func(t *testing.T) {
		first, second := w.request(scenario.Schools(8)[7]), w.request(scenario.Schools(9)[8])
		first.Folder, second.Folder = "clients/2026/"+first.Name, "clients/2026/"+second.Name
		journal, other := &ledger{}, &ledger{}
		place := func(req Request, l *ledger) {
			plan, err := Prepare(ctx, req)
			require.NoError(t, err)
			_, err = Make(ctx, req, plan, l, progress.Discard)
			require.NoError(t, err)
		}
		place(first, journal)
		place(second, other)
		require.DirExists(t, filepath.Join(w.stack.Sites(), second.Folder, "wp-content/languages"), "folders that hold nothing are made too")
		require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours))
		require.FileExists(t, filepath.Join(w.stack.Sites(), second.Folder, "index.php"))
		require.NoError(t, Undo(ctx, w.fs, w.server, other.made, ours))
		require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours))
		require.NoDirExists(t, filepath.Join(w.stack.Sites(), "clients"))
	})

	t.Run("and takes the place of a site, which comes back whole wherever the work stops", w.replacing)

	t.Run("and reaches nothing beside it when it was broken into", w.brokenInto)

	t.Run("and is not made where the server does not keep what is loaded",
		func(t *testing.T) { w.spoilt(t, w.request(scenario.Schools(9)[8])) })

	t.Run("whose fields must fit before anything starts", func(t *testing.T) {
		req := w.request(scenario.Schools(3)[2])
		req.Values["measurement"] = Given{"nonsense", "client"}
		delete(req.Values, "title")
		req.Values["mood"] = Given{"green", "given"}
		plan, err := Prepare(ctx, req)
		require.NoError(t, err)
		require.Equal(t, []string{"title", "measurement"}, plan.Missing)
		require.Contains(t, strings.Join(plan.Problems, " "), `no field "mood"`)
		for _, v := range plan.Values {
			require.NotContains(t, v.Value, "LB-", "a secret is masked")
		}
		_, err = Make(ctx, req, plan, &ledger{}, progress.Discard)
		require.ErrorIs(t, err, ErrPlan)
		req.Name = "../evil"
		_, err = Prepare(ctx, req)
		require.Error(t, err)
	})
}

// replacing kills a replacement before every step and before everything it makes, and compares files and rows.
func (w *world) replacing(t *testing.T) {
	ctx := context.Background()
	old := w.request(scenario.Schools(4)[3])
	old.RunID = "7"
	first, err := Prepare(ctx, old)
	require.NoError(t, err)
	journal := &ledger{}
	res, err := Make(ctx, old, first, journal, progress.Discard)
	require.NoError(t, err)
	db, err := w.stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	comments := fmt.Sprintf("%s.%scomments", first.Database, first.Prefix)
	_, err = db.Exec("INSERT INTO " + comments +
		" (comment_post_ID, comment_author, comment_content, comment_approved) SELECT MIN(ID), 'A parent', 'Thank you', '1' FROM " +
		first.Database + "." + first.Prefix + "posts WHERE post_type = 'post'")
	require.NoError(t, err)
	// On the site that post has another number than in the release, and there is a page that only the site has.
	var number int // of a post in the release, which an order has on the site
	require.NoError(t, db.QueryRow("SELECT comment_post_ID FROM "+comments+" WHERE comment_author = 'A parent'").Scan(&number))
	for _, stmt := range []string{"UPDATE %[1]sposts p JOIN %[1]scomments c ON c.comment_post_ID = p.ID AND c.comment_author = 'A parent' " +
		"SET p.ID = 5000, " +
		"c.comment_post_ID = 5000", "INSERT INTO %[1]sposts (ID, post_content, post_title, post_excerpt, post_name, post_type, " +
		"to_ping, pinged, post_content_filtered) VALUES (9000, '', 'Own', '', 'own-page', 'page', '', '', '')",
		"INSERT INTO %[1]scomments (comment_ID, comment_post_ID, comment_author, comment_content, comment_approved) VALUES (777, 9000, 'A " +
			"stranger', 'x', '1')",
		"INSERT INTO %[1]scommentmeta (comment_id, meta_key, meta_value) VALUES (777, 'mark', '5')",
		// Orders that a shop keeps as posts, one with a number that the release's content has.
		"INSERT INTO %[1]sposts (ID, post_content, post_title, post_excerpt, post_name, post_type, to_ping, pinged, " +
			"post_content_filtered) VALUES " +
			"(9100, '', 'Order A', '', 'order-a', 'shop_order', '', '', ''), (%[2]d, '', 'Order B', '', 'order-b', 'shop_order', '', '', '')",
		"INSERT INTO %[1]spostmeta (post_id, meta_key, meta_value) VALUES (9100, '_order_total', '10'), (%[2]d, '_order_total', '20')",
		"INSERT INTO %[1]scomments (comment_post_ID, comment_author, comment_content, comment_approved, comment_type) VALUES (%[2]d, 'Shop', " +
			"'paid', '1', " +
			"'order_note')",
		// A shop's tables, as extensions make them.
		"CREATE TABLE %[1]sshop_orders (id bigint unsigned PRIMARY KEY AUTO_INCREMENT, number varchar(20) NOT NULL, customer_id bigint, status " +
			"enum('', 'pending', 'paid') NOT NULL, currency char(3), total decimal(26,8), paid_at datetime, note longtext, UNIQUE KEY (number))",
		"CREATE TABLE %[1]sshop_order_items (id bigint unsigned PRIMARY KEY AUTO_INCREMENT, order_id bigint unsigned NOT NULL, product_id " +
			"bigint unsigned " +
			"NOT NULL, name text, quantity int, total decimal(26,8), KEY (order_id))",
		"CREATE TABLE %[1]sshop_order_itemmeta (meta_id bigint PRIMARY KEY AUTO_INCREMENT, item_id bigint, meta_key varchar(191), " +
			"meta_value longtext)",
		"INSERT INTO %[1]sshop_orders VALUES (41, 'A-41', 1, 'paid', 'EUR', 19.9, '2026-05-01 10:00:00', 'für Ines'), (42, 'A-42', 0, '', " +
			"'EUR', 0, NULL, NULL)",
		"INSERT INTO %[1]sshop_order_items VALUES (7, 41, 5000, 'Hire of a harp', 1, 19.9), (8, 41, 9000, 'Of the page that is gone', 2, 0)",
		"INSERT INTO %[1]sshop_order_itemmeta VALUES (1, 7, 'strings', 'a:1:{i:0;s:3:\"gut\";}')"} {
		text := strings.NewReplacer("%[1]s", first.Database+"."+first.Prefix, "%[2]d", fmt.Sprint(number)).Replace(stmt)
		_, err = db.Exec(text)
		require.NoError(t, err, stmt)
	}
	before := w.standing(t, old.Folder, first.Database)

	req := old
	req.RunID = "8"
	req.Replace = &Existing{Database: first.Database, User: first.User, Password: res.UserPassword, Prefix: first.Prefix, Admin: res.Admin,
		Keep: []string{"comments", "users", "uploads", "orders"}}
	plan, err := Prepare(ctx, req)
	require.NoError(t, err)
	require.True(t, plan.Ready(), plan.Problems)
	require.NotEqual(t, first.Database, plan.Database, "each run has names of its own")
	require.Len(t, plan.Keeps, 4)
	points := w.killedEverywhere(t, req, plan, before, func() {
		var kept int
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_author = 'A parent'", plan.Database,
			plan.Prefix)).Scan(&kept))
		require.Equal(t, 1, kept)
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT COUNT(*) FROM %[1]scomments c JOIN %[1]sposts n ON n.ID = c.comment_post_ID JOIN "+
			"%[2]sposts o "+
			"ON o.post_name = n.post_name AND o.post_type = n.post_type JOIN %[2]scomments k ON k.comment_post_ID = o.ID AND k.comment_author = "+
			"c.comment_author WHERE c.comment_author = 'A parent'", plan.Database+"."+plan.Prefix, first.Database+"."+first.Prefix)).Scan(&kept))
		require.Equal(t, 1, kept, "it belongs to the same post, whatever its number is")
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT (SELECT COUNT(*) FROM %[1]scomments WHERE comment_author = 'A stranger') + "+
			"(SELECT COUNT(*) "+
			"FROM %[1]scommentmeta WHERE meta_key = 'mark')", plan.Database+"."+plan.Prefix)).Scan(&kept))
		orders := func(of string) (text string) {
			require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT GROUP_CONCAT(o.id, o.number, o.status, o.total, IFNULL(o.paid_at, '-'), "+
				"IFNULL(o.note, '-'), "+
				"IFNULL(i.name, '-'), IFNULL(i.total, '-'), IFNULL(m.meta_value, '-') ORDER BY o.id, i.id) FROM %[1]sshop_orders o LEFT JOIN "+
				"%[1]sshop_order_items i "+
				"ON i.order_id = o.id LEFT JOIN %[1]sshop_order_itemmeta m ON m.item_id = i.id", of)).Scan(&text))
			return text
		}
		require.Equal(t, orders(first.Database+"."+first.Prefix), orders(plan.Database+"."+plan.Prefix))
		var ordered string
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT GROUP_CONCAT(CONCAT_WS(' ', IF(p.ID = 9100, 9100, 'new'), p.post_name, m.meta_value, "+
			"IFNULL(c.comment_content, '-')) ORDER BY p.post_name) FROM %[1]sposts p JOIN %[1]spostmeta m ON m.post_id = p.ID AND m.meta_key = "+
			"'_order_total' "+
			"LEFT JOIN %[1]scomments c ON c.comment_post_ID = p.ID WHERE p.post_type = 'shop_order'", plan.Database+"."+plan.Prefix)).Scan(&ordered))
		require.Equal(t, "9100 order-a 10 -,new order-b 20 paid", ordered, "what belongs to an order follows it")
		var products string
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT GROUP_CONCAT(IF(i.product_id = 0, 'none', n.post_name) ORDER BY i.id) FROM "+
			"%[1]sshop_order_items i "+
			"LEFT JOIN %[1]sposts n ON n.ID = i.product_id", plan.Database+"."+plan.Prefix)).Scan(&products))
		var slug string
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT post_name FROM %sposts WHERE ID = 5000", first.Database+"."+first.Prefix)).Scan(&slug))
		require.Equal(t, slug+",none", products, "orders name the same products, whatever their numbers are")
		require.Zero(t, kept, "what belongs to a page that the release does not have stays in the safety copy")
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT SUM(comment_count) FROM %s.%sposts", plan.Database, plan.Prefix)).Scan(&kept))
		require.Equal(t, 2, kept, "counted again, the note of an order too")
	})
	require.Greater(t, points, 12)
	w.starved(t, req, plan, before)
	w.withoutDatabase(t, req, plan, before)
	w.refreshing(t, req, before)
	req.Replace.Keep = []string{"weather"}
	_, err = Prepare(ctx, req)
	require.ErrorContains(t, err, "they have comments, users")
	require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours))
}

// standing is a sum over every file and row of a site.
func (w *world) standing(t *testing.T, folder, database string) string {
	t.Helper()
	out, err := exec.Command("sh", "-c",
		fmt.Sprintf(`cd '%s' && { find . -printf '%%p %%y %%m %%l\n' | sort; find . -type f -print0 | sort -z | xargs -0 sha256sum; MYSQL_PWD='%s' mariadb-dump --skip-dump-date --skip-comments -h127.0.0.1 -P%d -u%s %s; } | sha256sum`,
			filepath.Join(w.stack.Sites(), folder), w.stack.AdminPassword, w.stack.DatabasePort, w.stack.AdminUser, database)).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// noneBeside says that nothing of a replacement is left.
func (w *world) noneBeside(t *testing.T, folder string, plan *Plan) {
	t.Helper()
	left, err := filepath.Glob(filepath.Join(w.stack.Sites(), "."+folder+"*"))
	require.NoError(t, err)
	require.Empty(t, left)
	for _, exists := range []func(context.Context, string) (bool, error){w.server.DatabaseExists, w.server.UserExists} {
		there, err := exists(context.Background(), plan.Database)
		require.NoError(t, err)
		require.False(t, there)
	}
}
