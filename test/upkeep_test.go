package test

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/http"
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
	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// siteOf makes a site of the n-th school, unless it is there.
func siteOf(t *testing.T, n int) wire.Site {
	t.Helper()
	prepared(t)
	school := scenario.Schools(n)[n-1]
	addClient(t, school)
	set := []string{"client", "set", school.Name} // another test may have added the client with less
	for k, v := range school.Settings {
		set = append(set, k+"="+v)
	}
	must(t, set...)
	if nestseed(t, "site", "show", school.Name).code != 0 || ask[wire.Site](t, "site", "show", school.Name).RetiredAt != nil {
		must(t, "site", "provision", school.Name, "--from", "music-base@1", "--host", "preview")
	}
	return ask[wire.Site](t, "site", "show", school.Name)
}

// standing is a sum over every file and row of a site.
func standing(t *testing.T, s wire.Site) string {
	t.Helper()
	out, err := exec.Command("sh", "-c",
		fmt.Sprintf(`cd '%s' && { find . -printf '%%p %%y %%m %%l\n' | sort; find . -type f -print0 | sort -z | xargs -0 sha256sum; MYSQL_PWD='%s' mariadb-dump --skip-dump-date --skip-comments -h127.0.0.1 -P%d -u%s %s; } | sha256sum`,
			s.Folder, world.stack.AdminPassword, world.stack.DatabasePort, world.stack.AdminUser, s.Database)).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

func rows(t *testing.T, query string, args ...any) (n int) {
	t.Helper()
	db, err := world.stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(query, args...).Scan(&n))
	return n
}

// text returns the one value of a query.
func text(t *testing.T, query string, args ...any) (s string) {
	t.Helper()
	db, err := world.stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(query, args...).Scan(&s), query)
	return s
}

func execute(t *testing.T, stmt string) {
	t.Helper()
	db, err := world.stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(stmt)
	require.NoError(t, err)
}

func visit(t *testing.T, address string, cookies ...*http.Cookie) (int, string) {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, address, nil)
	require.NoError(t, err)
	for _, c := range cookies {
		req.AddCookie(c)
	}
	res, err := stack.Client().Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(text)
}

func TestAReplacementKeepsWhatIsAskedForAndUndoBringsBackEveryByte(t *testing.T) {
	old := siteOf(t, 6)
	execute(t, fmt.Sprintf("INSERT INTO %[1]s.%[2]scomments (comment_post_ID, comment_author, comment_content, comment_approved) SELECT "+
		"MIN(ID), 'A parent', 'Thank you', '1' FROM %[1]s.%[2]sposts WHERE post_type = 'post'", old.Database, old.Prefix))
	before, password := standing(t, old), must(t, "vault", "reveal", "site", old.Name, "administrator")

	args := []string{old.Client, "--from", "music-base@1", "--host", "preview"}
	require.Contains(t, must(t, append([]string{"site", "plan"}, args...)...), "not possible like this")
	args = append(args, "--replace", "--keep", "comments")
	plan := ask[wire.Plan](t, append([]string{"site", "plan"}, args...)...)
	require.True(t, plan.Ready, plan.Problems)
	require.Contains(t, plan.Replaces, old.Database)
	require.NotEmpty(t, plan.Counts)
	require.NotEmpty(t, plan.Samples)
	require.Equal(t, before, standing(t, old), "a plan touches nothing")

	r := nestseed(t, append(append([]string{"site", "provision"}, args...), "--plan", "0123456789")...)
	require.Contains(t, r.err, "things have changed")
	require.NotZero(t, r.code)
	fresh := ask[wire.Site](t, append(append([]string{"site", "provision"}, args...), "--plan", plan.Mark)...)
	require.Zero(t, fresh.Report.Faults(), "%+v", fresh.Report)
	require.NotEqual(t, old.Database, fresh.Database)
	require.Equal(t, old.Folder, fresh.Folder)
	require.Equal(t, int64(1), fresh.Kept["comments"])
	require.Equal(t, 1, rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_author = 'A parent'", fresh.Database,
		fresh.Prefix)))
	require.Len(t, fresh.Copies, 1)
	require.NotEqual(t, password, must(t, "vault", "reveal", "site", old.Name, "administrator"))
	loginInBrowser(t, fresh, strings.TrimSpace(must(t, "vault", "reveal", "site", old.Name, "administrator")))

	require.Contains(t, must(t, "site", "undo", old.Name, "--plan"), "nothing has been touched")
	must(t, "site", "undo", old.Name)
	require.Equal(t, before, standing(t, old))
	require.Equal(t, password, must(t, "vault", "reveal", "site", old.Name, "administrator"))
	loginInBrowser(t, old, strings.TrimSpace(password))
	require.Zero(t, rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", fresh.Database))
	require.Empty(t, ask[wire.Site](t, "site", "show", old.Name).Copies)

	// Of a site that took no other's place, undoing leaves nothing.
	must(t, "site", "undo", old.Name)
	nothingLeft(t, old.Name)
	require.Equal(t, 3, nestseed(t, "site", "show", old.Name).code)
}

func TestAReplacementThatIsKilledLeavesTheOldSite(t *testing.T) {
	old := siteOf(t, 7)
	svc, ctx := world.service.client(t), context.Background()
	before := standing(t, old)
	for _, moment := range []func(wire.Run) bool{
		func(r wire.Run) bool { return r.Progress.Done.Files > 300 },
		func(r wire.Run) bool { return len(r.Progress.Steps) > 3 },
	} {
		run, err := svc.ProvisionSite(ctx, wire.NewSite{Client: old.Client, From: "music-base@1", Host: "preview", Replace: true,
			Keep: []string{"users"}})
		require.NoError(t, err)
		working(t, svc, run.ID, moment)
		world.service.kill(t)
		restart(t)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		if run.Status == wire.Done {
			must(t, "site", "undo", old.Name) // it was killed after the new site was recorded
		}
		require.Equal(t, before, standing(t, old))
		left, err := filepath.Glob(filepath.Join(world.stack.Sites(), "."+old.Name+"*"))
		require.NoError(t, err)
		require.Empty(t, left)
	}
	require.Zero(t, nestseed(t, "site", "check", old.Name).code)
}

func TestASafetyCopyIsPutBackAndARetiredSiteReturns(t *testing.T) {
	s := siteOf(t, 8)
	must(t, "site", "keep-copy", s.Name)
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "index.php"), []byte("<?php // for a moment"), 0o644))
	must(t, "site", "keep-copy", s.Name)
	both := ask[wire.Site](t, "site", "show", s.Name).Copies
	require.DirExists(t, filepath.Join(world.service.data, "archives", both[0].Where+".parts"),
		"the second copy has what did not change in common with the first")
	must(t, "site", "drop-copy", s.Name, fmt.Sprint(both[0].ID))
	execute(t, fmt.Sprintf("UPDATE %s.%soptions SET option_value = 'Spoilt' WHERE option_name = 'blogname'", s.Database, s.Prefix))
	require.NoError(t, os.Remove(filepath.Join(s.Folder, "index.php")))
	copies := ask[wire.Site](t, "site", "show", s.Name).Copies
	require.Len(t, copies, 1)
	require.Equal(t, "asked", copies[0].Why)
	back := ask[wire.Site](t, "site", "put-back", s.Name, fmt.Sprint(copies[0].ID))
	require.Zero(t, back.Report.Faults(), "%+v", back.Report)
	require.Len(t, back.Copies, 2, "what stood there is a copy too")
	require.Contains(t, back.Accounts, "as before")
	loginInBrowser(t, back, strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator")))
	require.Contains(t, nestseed(t, "site", "put-back", s.Name, fmt.Sprint(back.Copies[0].ID)).err, "site undo")
	require.Contains(t, nestseed(t, "site", "put-back", s.Name, "first").err, "not the number")
	must(t, "site", "drop-copy", s.Name, fmt.Sprint(back.Copies[0].ID))
	require.Zero(t, rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", s.Database))

	require.Contains(t, must(t, "site", "retire", s.Name), "its last copy is kept")
	nothingLeft(t, s.Name)
	require.NotContains(t, must(t, "vault", "list"), "site    "+s.Name)
	require.NotContains(t, must(t, "site", "list"), s.Name)
	require.Contains(t, must(t, "site", "list", "--retired"), s.Name)
	gone := ask[wire.Site](t, "site", "show", s.Name)
	require.NotNil(t, gone.RetiredAt)
	require.Equal(t, "retired", gone.Copies[0].Why)
	back = ask[wire.Site](t, "site", "put-back", s.Name, fmt.Sprint(gone.Copies[0].ID))
	require.Zero(t, back.Report.Faults(), "%+v", back.Report)
	require.Equal(t, s.Title, back.Title)
	loginInBrowser(t, back, strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator")))
}

func TestAHeldSiteShowsAHoldingPageUntilItIsOpened(t *testing.T) {
	s := siteOf(t, 9)
	held := ask[wire.Held](t, "site", "hold", s.Name)
	code, text := visit(t, s.Address+"/")
	require.Equal(t, http.StatusServiceUnavailable, code)
	require.True(t, strings.Contains(text, "opens soon"))
	code, _ = visit(t, s.Address+"/?held-preview=guess")
	require.Equal(t, http.StatusServiceUnavailable, code)
	code, text = visit(t, held.Preview)
	require.Equal(t, http.StatusOK, code)
	require.False(t, strings.Contains(text, "opens soon"))
	_, key, _ := strings.Cut(held.Preview, "=")
	code, _ = visit(t, s.Address+"/", &http.Cookie{Name: "nestseed_preview", Value: key})
	require.Equal(t, http.StatusOK, code)
	require.Zero(t, nestseed(t, "site", "check", s.Name).code, "the checks see it too")
	require.Contains(t, must(t, "site", "list"), "held")

	// What is put in its place stays held from its first moment.
	again := ask[wire.Site](t, "site", "provision", s.Client, "--from", "music-base@1", "--host", "preview", "--replace")
	require.True(t, again.Held)
	code, _ = visit(t, s.Address+"/")
	require.Equal(t, http.StatusServiceUnavailable, code)
	must(t, "site", "open", s.Name)
	code, _ = visit(t, s.Address+"/")
	require.Equal(t, http.StatusOK, code)
	must(t, "site", "undo", s.Name)
	code, _ = visit(t, s.Address+"/")
	require.Equal(t, http.StatusServiceUnavailable, code, "as it was before")
	must(t, "site", "open", s.Name)
}

// tableSchools are three schools that no other test has.
func tableSchools(prefix string) []scenario.School {
	schools := scenario.Schools(12)[9:]
	for i := range schools {
		schools[i].Name = fmt.Sprintf("%s-%d", prefix, i+1)
	}
	return schools
}

func TestATableMakesEachSiteByItself(t *testing.T) {
	prepared(t)
	var text bytes.Buffer
	w := csv.NewWriter(&text)
	keys := []string{"title", "email", "phone", "contact", "booking_licence", "measurement"}
	require.NoError(t, w.Write(append([]string{"client", "address"}, keys...)))
	schools := tableSchools("row")
	for i, s := range schools {
		row := []string{s.Name, ""}
		for _, k := range keys {
			row = append(row, s.Settings[k])
		}
		if i == 1 {
			row[7] = "nonsense"
		}
		require.NoError(t, w.Write(row))
	}
	w.Flush()
	planned := withInput(t, text.String(), "site", "plan", "--table", "-", "--from", "music-base@1", "--host", "preview")
	require.Contains(t, planned.out, "2 would be made, 0 are there, 1 would fail; nothing has been touched")
	require.Contains(t, planned.out, "measurement")
	require.Contains(t, planned.out, schools[0].Name+" (added)")
	require.Equal(t, 3, nestseed(t, "client", "show", schools[0].Name).code, "a plan adds nobody")
	r := withInput(t, text.String(), "site", "provision", "--table", "-", "--from", "music-base@1", "--host", "preview", "--hold")
	require.Equal(t, 1, r.code, r.err)
	require.Contains(t, r.out, "2 made, 1 failed")
	require.Contains(t, r.out, "measurement")
	for _, s := range []scenario.School{schools[0], schools[2]} {
		site := ask[wire.Site](t, "site", "show", s.Name)
		require.Zero(t, site.Report.Faults())
		require.True(t, site.Held)
		code, _ := visit(t, site.Address+"/")
		require.Equal(t, http.StatusServiceUnavailable, code)
	}
	nothingLeft(t, schools[1].Name)
	// As if the service had ended before it was checked.
	_, err := connectRecords(t).Exec(t.Context(), "UPDATE sites SET report = NULL WHERE name = $1", schools[2].Name)
	require.NoError(t, err)
	fixed := strings.Replace(text.String(), "nonsense", schools[1].Settings["measurement"], 1)
	r = withInput(t, fixed, "--json", "site", "provision", "--table", "-", "--from", "music-base@1", "--host", "preview")
	require.Zero(t, r.code, r.err)
	require.Contains(t, r.out, `"status": "there"`)
	for _, s := range schools {
		require.NotNil(t, ask[wire.Site](t, "site", "show", s.Name).Report, "all are checked, also those that were there unchecked")
		must(t, "site", "undo", s.Name)
		nothingLeft(t, s.Name)
	}
	r = withInput(t, "client\n"+schools[0].Name+"\n"+schools[0].Name+"\n", "site", "provision", "--table", "-", "--from", "music-base@1",
		"--host", "preview")
	require.Contains(t, r.err, "rows 1 and 2")
	r = withInput(t, "title\nx\n", "site", "provision", "--table", "-", "--from", "music-base@1", "--host", "preview")
	require.Contains(t, r.err, "no column client")
}

func TestATableThatIsCancelledEndsWithItsSites(t *testing.T) {
	prepared(t)
	svc, ctx := world.service.client(t), context.Background()
	in := wire.NewTable{From: "music-base@1", Host: "preview"}
	for _, s := range tableSchools("cut") {
		addClient(t, s)
		in.Rows = append(in.Rows, wire.TableRow{Client: s.Name})
	}
	run, err := svc.ProvisionTable(ctx, in)
	require.NoError(t, err)
	working(t, svc, run.ID, func(wire.Run) bool { return true })
	_, err = svc.CancelRun(ctx, run.ID)
	require.NoError(t, err)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Cancelled, run.Status)
	ended(t, svc)
	for _, r := range in.Rows {
		if nestseed(t, "site", "show", r.Client).code == 0 {
			must(t, "site", "undo", r.Client)
		}
		nothingLeft(t, r.Client)
	}
}

// ended waits until no run is under way.
func ended(t *testing.T, svc *client.Client) {
	t.Helper()
	all, err := svc.Runs(context.Background(), 20)
	require.NoError(t, err)
	for _, r := range all {
		if !r.Ended() {
			_, err := svc.Wait(context.Background(), r.ID, nil)
			require.NoError(t, err)
		}
	}
}

func TestCredentialsOfALiveSiteAreChangedWithoutAPauseForVisitors(t *testing.T) {
	s := siteOf(t, 9)
	before := strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator"))
	user := rows(t, "SELECT COUNT(*) FROM mysql.user WHERE User LIKE ?", s.Database+"%")
	stop, ended := make(chan struct{}), make(chan map[int]int)
	go func() {
		seen := map[int]int{}
		for {
			select {
			case <-stop:
				ended <- seen
				return
			default:
				res, err := stack.Client().Get(s.Address + "/")
				if err != nil {
					seen[0]++
					continue
				}
				res.Body.Close()
				seen[res.StatusCode]++
			}
		}
	}()
	must(t, "site", "rotate", s.Name)
	close(stop)
	seen := <-ended
	require.Greater(t, seen[http.StatusOK], 3)
	require.Len(t, seen, 1, "%v", seen)
	after := strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator"))
	require.NotEqual(t, before, after)
	loginInBrowser(t, s, after)
	require.Equal(t, user, rows(t, "SELECT COUNT(*) FROM mysql.user WHERE User LIKE ?", s.Database+"%"), "the old user is gone")
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)

	require.Contains(t, must(t, "vault", "rotate-key"), "sealed with a new key")
	require.Equal(t, after, strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator")))
	must(t, "site", "undo", s.Name)
	nothingLeft(t, s.Name)
	require.Zero(t, rows(t, "SELECT COUNT(*) FROM mysql.user WHERE User LIKE ?", s.Database+"%"))
}

// live adds a second host, for sites that have left their preview.
func live(t *testing.T) {
	t.Helper()
	if nestseed(t, "host", "show", "live").code != 0 {
		must(t, "host", "add", "live", "--files", "file://"+world.stack.Sites()+"?owner=www-data", "--web-root", "live-{name}", "--address",
			world.stack.Address("live-{name}"),
			"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.stack.AdminUser, world.stack.DatabasePort))
	}
}

func TestASiteMovesWholeToItsOwnAddressAndThePreviewIsRetired(t *testing.T) {
	s := siteOf(t, 6)
	live(t)
	execute(t, fmt.Sprintf("INSERT INTO %[1]s.%[2]scomments (comment_post_ID, comment_author, comment_content, comment_approved) SELECT "+
		"MIN(ID), 'A parent', 'See %[3]s/lessons/', '1' FROM %[1]s.%[2]sposts WHERE post_type = 'post'", s.Database, s.Prefix, s.Address))
	password := strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator"))
	before := standing(t, s)
	require.Contains(t, must(t, "site", "move", s.Name, "--host", "live", "--visible", "--plan"), "nothing has been touched")
	require.Contains(t, nestseed(t, "site", "move", s.Name, "--host", "preview").err,
		"name another host, or another address")

	// A site with a fault at its new place goes back.
	blocked := filepath.Join(s.Folder, "backup.sql")
	require.NoError(t, os.WriteFile(blocked, []byte("-- left"), 0o644))
	r := nestseed(t, "site", "move", s.Name, "--host", "live")
	require.NotZero(t, r.code)
	require.Contains(t, r.err, "stays where it is")
	require.NoError(t, os.Remove(blocked))
	require.NoError(t, os.Chtimes(s.Folder, s.MadeAt, s.MadeAt))
	require.Equal(t, before, standing(t, s))
	require.Equal(t, s.Address, ask[wire.Site](t, "site", "show", s.Name).Address)
	left, err := filepath.Glob(filepath.Join(world.stack.Sites(), "*live-"+s.Name+"*"))
	require.NoError(t, err)
	require.Empty(t, left)

	there := ask[wire.Site](t, "site", "move", s.Name, "--host", "live", "--visible")
	require.Equal(t, world.stack.Address("live-"+s.Name), there.Address)
	require.Equal(t, "live", there.Host)
	require.Zero(t, there.Report.Faults(), "%+v", there.Report)
	require.Equal(t, 1, rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_content = ?", there.Database, there.Prefix),
		"See "+there.Address+"/lessons/"))
	require.Equal(t, password, strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator")))
	loginInBrowser(t, there, password)
	code, _ := visit(t, s.Address+"/")
	require.Equal(t, http.StatusNotFound, code)
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)

	// The preview is put aside, and comes back whole.
	require.Equal(t, "moved", there.Copies[0].Why)
	require.Equal(t, "preview ."+s.Name+".nestseed-"+fmt.Sprint(there.RunID), there.Copies[0].Host+" "+there.Copies[0].Where)
	require.Contains(t, must(t, "site", "show", s.Name), "preview: ."+s.Name)
	require.NoDirExists(t, s.Folder)
	require.Contains(t, must(t, "site", "undo", s.Name, "--plan"), "the site is at "+s.Address+" on host preview again")
	require.NoError(t, os.Mkdir(s.Folder, 0o755))
	r = nestseed(t, "site", "undo", s.Name)
	require.Equal(t, 4, r.code)
	require.Contains(t, r.err, "there is something else by now")
	require.NoError(t, os.Remove(s.Folder))
	must(t, "site", "undo", s.Name)
	require.Equal(t, before, standing(t, s), "byte for byte")
	again := ask[wire.Site](t, "site", "show", s.Name)
	require.Equal(t, []string{s.Address, "preview", s.Folder, s.Database}, []string{again.Address, again.Host, again.Folder, again.Database})
	require.Equal(t, s.RunID, again.RunID)
	require.Equal(t, password, strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator")))
	require.NoDirExists(t, there.Folder)
	require.Zero(t, rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", there.Database))
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)

	there = ask[wire.Site](t, "site", "move", s.Name, "--host", "live", "--visible")
	must(t, "site", "drop-copy", s.Name, fmt.Sprint(there.Copies[0].ID))
	nothingLeft(t, s.Name)
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)
	must(t, "site", "retire", s.Name, "--no-copy")
	require.NoDirExists(t, there.Folder)
}

// Another server with a web server, a database server and an address of its own takes the site over; visitors will find
// it by the same name once that leads there.
func TestASiteGoesToANewServerAndKeepsItsAddress(t *testing.T) {
	s, ctx := siteOf(t, 6), context.Background()
	there := stack.ForTest(t)
	there.WebHost, there.WebPort = "127.0.0.2", world.stack.WebPort
	require.NoError(t, errors.Join(there.StartMariaDB(ctx), there.StartWeb(ctx)))
	secret := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(secret, []byte(there.AdminPassword), 0o600))
	must(t, "host", "add", "new-server", "--files", "file://"+there.Sites()+"?owner=www-data", "--address", there.Address("{name}"),
		"--connect", there.WebHost,
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", there.AdminUser, there.DatabasePort), "--database-password-file", secret)
	execute(t, fmt.Sprintf("INSERT INTO %[1]s.%[2]scomments (comment_post_ID, comment_author, comment_content, comment_approved) SELECT "+
		"MIN(ID), 'A parent', 'Thank you', '1' FROM %[1]s.%[2]sposts WHERE post_type = 'post'", s.Database, s.Prefix))
	password := strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator"))

	plan := must(t, "site", "move", s.Name, "--host", "new-server", "--address", s.Address, "--plan")
	require.Contains(t, plan, "the address stays "+s.Address+"; point its name at host new-server")
	now := ask[wire.Site](t, "site", "move", s.Name, "--host", "new-server", "--address", s.Address)
	require.Equal(t, s.Address, now.Address)
	require.Equal(t, "new-server", now.Host)
	require.Zero(t, now.Report.Faults(), "%+v", now.Report)
	require.DirExists(t, filepath.Join(there.Sites(), s.Name))
	require.Equal(t, password, strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator")))

	// By its name a visitor is still led to the old server, and finds the site there, until somebody says so.
	code, _ := visit(t, s.Address+"/")
	require.Equal(t, http.StatusOK, code)
	require.Equal(t, "moved", now.Copies[0].Why)
	require.Equal(t, s.Address, now.Copies[0].Serves)
	require.NotNil(t, now.Lead)
	require.False(t, now.Lead.There)
	require.Contains(t, must(t, "site", "show", s.Name), s.Name+".localhost leads to 127.0.0.1, and the site's host is 127.0.0.2; so since")
	require.True(t, slices.ContainsFunc(now.Report.Checks, func(c wire.Check) bool { return c.Name == "name" && c.Result == wire.Warn }),
		"%+v", now.Report)
	require.Contains(t, must(t, "site", "show", s.Name), "still serving "+s.Address)
	require.Contains(t, must(t, "site", "undo", s.Name, "--plan"), "has gone on serving")
	must(t, "site", "undo", s.Name)
	require.Equal(t, "preview", ask[wire.Site](t, "site", "show", s.Name).Host)
	require.NoDirExists(t, filepath.Join(there.Sites(), s.Name))
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)
	now = ask[wire.Site](t, "site", "move", s.Name, "--host", "new-server", "--address", s.Address)
	must(t, "site", "drop-copy", s.Name, fmt.Sprint(now.Copies[0].ID))
	code, _ = visit(t, s.Address+"/")
	require.Equal(t, http.StatusNotFound, code)
	nothingLeft(t, s.Name)
	require.Zero(t, nestseed(t, "site", "check", s.Name).code, "checks go to the new server, whatever the name leads to")
	admin, err := there.Admin()
	require.NoError(t, err)
	defer admin.Close()
	var n int
	require.NoError(t, admin.QueryRow(fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_content = 'Thank you'", now.Database,
		now.Prefix)).Scan(&n))
	require.Equal(t, 1, n)
	must(t, "site", "retire", s.Name, "--no-copy")
}

// undoKilled undoes what a site was made by, and ends the service meanwhile. It goes on when it is there again.
func undoKilled(t *testing.T, site string, after time.Duration) {
	t.Helper()
	ctx := context.Background()
	run, err := world.service.client(t).UndoSite(ctx, site, "")
	require.NoError(t, err)
	time.Sleep(after)
	world.service.kill(t)
	restart(t)
	run, err = world.service.client(t).Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Done, run.Status, run.Error)
}

// On one host a site may take its own address in the folder where it stands.
func TestASiteTakesItsOwnAddressWhereItStands(t *testing.T) {
	s := siteOf(t, 6)
	execute(t, fmt.Sprintf("INSERT INTO %[1]s.%[2]scomments (comment_post_ID, comment_author, comment_content, comment_approved) SELECT "+
		"MIN(ID), 'A parent', 'See %[3]s/lessons/', '1' FROM %[1]s.%[2]sposts WHERE post_type = 'post'", s.Database, s.Prefix, s.Address))
	password := must(t, "vault", "reveal", "site", s.Name, "administrator")
	before, own := standing(t, s), world.stack.Address("own-"+s.Name)
	move := []string{"site", "move", s.Name, "--host", "preview", "--visible", "--address"}
	require.Contains(t, must(t, append(move, own, "--plan")...), "changes places with what is there")

	// No web server leads that name to the folder yet.
	r := nestseed(t, append(move, own)...)
	require.NotZero(t, r.code)
	require.Contains(t, r.err, "stays where it is")
	require.Equal(t, before, standing(t, s))
	name := filepath.Join(world.stack.Sites(), "own-"+s.Name)
	require.NoError(t, os.Symlink(s.Folder, name))
	defer os.Remove(name)

	there := ask[wire.Site](t, append(move, own)...)
	require.Equal(t, []string{own, "preview", s.Folder}, []string{there.Address, there.Host, there.Folder})
	require.NotEqual(t, s.Database, there.Database)
	require.Zero(t, there.Report.Faults(), "%+v", there.Report)
	require.True(t, there.Visible)
	require.Equal(t, 1, rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_content = ?", there.Database, there.Prefix),
		"See "+own+"/lessons/"))
	require.Equal(t, password, must(t, "vault", "reveal", "site", s.Name, "administrator"))
	loginInBrowser(t, there, strings.TrimSpace(password))
	require.Equal(t, s.Name, ask[wire.Site](t, "site", "show", own).Name, "by its address, too")

	require.Contains(t, must(t, "site", "undo", s.Name, "--plan"), "comes back at "+s.Address)
	undoKilled(t, s.Name, 40*time.Millisecond)
	require.Equal(t, before, standing(t, s), "byte for byte")
	again := ask[wire.Site](t, "site", "show", s.Name)
	require.Equal(t, []string{s.Address, s.Database}, []string{again.Address, again.Database})
	require.Zero(t, rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", there.Database))
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)

	// A move that is killed ends with one whole site at one of the two.
	before = standing(t, s)
	run, err := world.service.client(t).MoveSite(t.Context(), s.Name, wire.Move{Host: "preview", Address: own})
	require.NoError(t, err)
	working(t, world.service.client(t), run.ID, func(r wire.Run) bool { return len(r.Progress.Steps) > 8 })
	world.service.kill(t)
	restart(t)
	run, err = world.service.client(t).Wait(t.Context(), run.ID, nil)
	require.NoError(t, err)
	if run.Status != wire.Done {
		require.Equal(t, before, standing(t, s))
		require.Equal(t, s.Address, ask[wire.Site](t, "site", "show", s.Name).Address)
	}
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)
	must(t, "site", "retire", s.Name, "--no-copy")
}

func TestAMoveThatIsKilledLeavesOneWholeSite(t *testing.T) {
	s := siteOf(t, 6)
	live(t)
	svc, ctx := world.service.client(t), context.Background()
	before := standing(t, s)
	for _, steps := range []int{2, 5, 8} {
		run, err := svc.MoveSite(ctx, s.Name, wire.Move{Host: "live"})
		require.NoError(t, err)
		working(t, svc, run.ID, func(r wire.Run) bool { return len(r.Progress.Steps) > steps })
		world.service.kill(t)
		restart(t)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		now := ask[wire.Site](t, "site", "show", s.Name)
		if run.Status == wire.Done {
			require.Equal(t, "live", now.Host)
			require.NoDirExists(t, s.Folder)
			break
		}
		require.Equal(t, before, standing(t, s))
		require.NoDirExists(t, filepath.Join(world.stack.Sites(), "live-"+s.Name))
	}
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)

	// And so does the way back.
	for _, after := range []time.Duration{20 * time.Millisecond, 60 * time.Millisecond, 120 * time.Millisecond} {
		if ask[wire.Site](t, "site", "show", s.Name).Host == "preview" {
			before = standing(t, s)
			must(t, "site", "move", s.Name, "--host", "live")
		}
		undoKilled(t, s.Name, after)
		require.Equal(t, before, standing(t, s), "killed after %v", after)
		require.NoDirExists(t, filepath.Join(world.stack.Sites(), "live-"+s.Name))
	}
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)
	must(t, "site", "retire", s.Name, "--no-copy")
}
