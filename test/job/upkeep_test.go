package job

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

func TestAReplacementKeepsWhatIsAskedForAndUndoBringsBackEveryByte(t *testing.T) {
	old := world.SiteOf(t, 6)
	world.Execute(t, fmt.Sprintf("INSERT INTO %[1]s.%[2]scomments (comment_post_ID, comment_author, comment_content, comment_approved) SELECT "+
		"MIN(ID), 'A parent', 'Thank you', '1' FROM %[1]s.%[2]sposts WHERE post_type = 'post'", old.Database, old.Prefix))
	before, password := world.Standing(t, old), world.Must(t, "vault", "reveal", "site", old.Name, "administrator")

	args := []string{old.Client, "--from", "music-base@1", "--host", "preview"}
	require.Contains(t, world.Must(t, append([]string{"site", "plan"}, args...)...), "not possible like this")
	args = append(args, "--replace", "--keep", "comments")
	plan := world.Ask[wire.Plan](t, append([]string{"site", "plan"}, args...)...)
	require.True(t, plan.Ready, plan.Problems)
	require.Contains(t, plan.Replaces, old.Database)
	require.NotEmpty(t, plan.Counts)
	require.NotEmpty(t, plan.Samples)
	require.Equal(t, before, world.Standing(t, old), "a plan touches nothing")

	r := world.Nestseed(t, append(append([]string{"site", "provision"}, args...), "--plan", "0123456789")...)
	require.Contains(t, r.Err, "things have changed")
	require.NotZero(t, r.Code)
	fresh := world.Ask[wire.Site](t, append(append([]string{"site", "provision"}, args...), "--plan", plan.Mark)...)
	require.Zero(t, fresh.Report.Faults(), "%+v", fresh.Report)
	require.NotEqual(t, old.Database, fresh.Database)
	require.Equal(t, old.Folder, fresh.Folder)
	require.Equal(t, int64(1), fresh.Kept["comments"])
	require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_author = 'A parent'", fresh.Database,
		fresh.Prefix)))
	require.Len(t, fresh.Copies, 1)
	require.NotEqual(t, password, world.Must(t, "vault", "reveal", "site", old.Name, "administrator"))
	world.LoginInBrowser(t, fresh, strings.TrimSpace(world.Must(t, "vault", "reveal", "site", old.Name, "administrator")))

	require.Contains(t, world.Must(t, "site", "undo", old.Name, "--plan"), "nothing has been touched")
	world.Must(t, "site", "undo", old.Name)
	require.Equal(t, before, world.Standing(t, old))
	require.Equal(t, password, world.Must(t, "vault", "reveal", "site", old.Name, "administrator"))
	world.LoginInBrowser(t, old, strings.TrimSpace(password))
	require.Zero(t, world.Rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", fresh.Database))
	require.Empty(t, world.Ask[wire.Site](t, "site", "show", old.Name).Copies)

	// Of a site that took no other's place, undoing leaves nothing.
	world.Must(t, "site", "undo", old.Name)
	world.NothingLeft(t, old.Name)
	require.Equal(t, 3, world.Nestseed(t, "site", "show", old.Name).Code)
}

func TestAReplacementThatIsKilledLeavesTheOldSite(t *testing.T) {
	old := world.SiteOf(t, 7)
	svc, ctx := world.Service.Client(t), context.Background()
	before := world.Standing(t, old)
	for _, moment := range []func(wire.Run) bool{
		func(r wire.Run) bool { return r.Progress.Done.Files > 300 },
		func(r wire.Run) bool { return len(r.Progress.Steps) > 3 },
	} {
		run, err := svc.ProvisionSite(ctx, wire.NewSite{Client: old.Client, From: "music-base@1", Host: "preview", Replace: true,
			Keep: []string{"users"}})
		require.NoError(t, err)
		world.Working(t, svc, run.ID, moment)
		require.NoError(t, world.Service.Kill())
		world.Restart(t)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		if run.Status == wire.Done {
			world.Must(t, "site", "undo", old.Name) // it was killed after the new site was recorded
		}
		require.Equal(t, before, world.Standing(t, old))
		left, err := filepath.Glob(filepath.Join(world.Stack.Sites(), "."+old.Name+"*"))
		require.NoError(t, err)
		require.Empty(t, left)
	}
	require.Zero(t, world.Nestseed(t, "site", "check", old.Name).Code)
}

func TestASafetyCopyIsPutBackAndARetiredSiteReturns(t *testing.T) {
	s := world.SiteOf(t, 8)
	world.Must(t, "site", "keep-copy", s.Name)
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "index.php"), []byte("<?php // for a moment"), 0o644))
	world.Must(t, "site", "keep-copy", s.Name)
	both := world.Ask[wire.Site](t, "site", "show", s.Name).Copies
	require.DirExists(t, filepath.Join(world.Service.Data, "archives", both[0].Where+".parts"),
		"the second copy has what did not change in common with the first")
	world.Must(t, "site", "drop-copy", s.Name, fmt.Sprint(both[0].ID))
	world.Execute(t, fmt.Sprintf("UPDATE %s.%soptions SET option_value = 'Spoilt' WHERE option_name = 'blogname'", s.Database, s.Prefix))
	require.NoError(t, os.Remove(filepath.Join(s.Folder, "index.php")))
	copies := world.Ask[wire.Site](t, "site", "show", s.Name).Copies
	require.Len(t, copies, 1)
	require.Equal(t, "asked", copies[0].Why)
	back := world.Ask[wire.Site](t, "site", "put-back", s.Name, fmt.Sprint(copies[0].ID))
	require.Zero(t, back.Report.Faults(), "%+v", back.Report)
	require.Len(t, back.Copies, 2, "what stood there is a copy too")
	require.Contains(t, back.Accounts, "as before")
	world.LoginInBrowser(t, back, strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator")))
	require.Contains(t, world.Nestseed(t, "site", "put-back", s.Name, fmt.Sprint(back.Copies[0].ID)).Err, "site undo")
	require.Contains(t, world.Nestseed(t, "site", "put-back", s.Name, "first").Err, "not the number")
	world.Must(t, "site", "drop-copy", s.Name, fmt.Sprint(back.Copies[0].ID))
	require.Zero(t, world.Rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", s.Database))

	require.Contains(t, world.Must(t, "site", "retire", s.Name), "its last copy is kept")
	world.NothingLeft(t, s.Name)
	require.NotContains(t, world.Must(t, "vault", "list"), "site    "+s.Name)
	require.NotContains(t, world.Must(t, "site", "list"), s.Name)
	require.Contains(t, world.Must(t, "site", "list", "--retired"), s.Name)
	gone := world.Ask[wire.Site](t, "site", "show", s.Name)
	require.NotNil(t, gone.RetiredAt)
	require.Equal(t, "retired", gone.Copies[0].Why)
	back = world.Ask[wire.Site](t, "site", "put-back", s.Name, fmt.Sprint(gone.Copies[0].ID))
	require.Zero(t, back.Report.Faults(), "%+v", back.Report)
	require.Equal(t, s.Title, back.Title)
	world.LoginInBrowser(t, back, strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator")))
}

func TestAHeldSiteShowsAHoldingPageUntilItIsOpened(t *testing.T) {
	s := world.SiteOf(t, 9)
	held := world.Ask[wire.Held](t, "site", "hold", s.Name)
	code, text := world.Visit(t, s.Address+"/")
	require.Equal(t, http.StatusServiceUnavailable, code)
	require.True(t, strings.Contains(text, "opens soon"))
	code, _ = world.Visit(t, s.Address+"/?held-preview=guess")
	require.Equal(t, http.StatusServiceUnavailable, code)
	code, text = world.Visit(t, held.Preview)
	require.Equal(t, http.StatusOK, code)
	require.False(t, strings.Contains(text, "opens soon"))
	_, key, _ := strings.Cut(held.Preview, "=")
	code, _ = world.Visit(t, s.Address+"/", &http.Cookie{Name: "nestseed_preview", Value: key})
	require.Equal(t, http.StatusOK, code)
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code, "the checks see it too")
	require.Contains(t, world.Must(t, "site", "list"), "held")

	// What is put in its place stays held from its first moment.
	again := world.Ask[wire.Site](t, "site", "provision", s.Client, "--from", "music-base@1", "--host", "preview", "--replace")
	require.True(t, again.Held)
	code, _ = world.Visit(t, s.Address+"/")
	require.Equal(t, http.StatusServiceUnavailable, code)
	world.Must(t, "site", "open", s.Name)
	code, _ = world.Visit(t, s.Address+"/")
	require.Equal(t, http.StatusOK, code)
	world.Must(t, "site", "undo", s.Name)
	code, _ = world.Visit(t, s.Address+"/")
	require.Equal(t, http.StatusServiceUnavailable, code, "as it was before")
	world.Must(t, "site", "open", s.Name)
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
	world.Prepared(t)
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
	planned := world.WithInput(t, text.String(), "site", "plan", "--table", "-", "--from", "music-base@1", "--host", "preview")
	require.Contains(t, planned.Out, "2 would be made, 0 are there, 1 would fail; nothing has been touched")
	require.Contains(t, planned.Out, "measurement")
	require.Contains(t, planned.Out, schools[0].Name+" (added)")
	require.Equal(t, 3, world.Nestseed(t, "client", "show", schools[0].Name).Code, "a plan adds nobody")
	r := world.WithInput(t, text.String(), "site", "provision", "--table", "-", "--from", "music-base@1", "--host", "preview", "--hold")
	require.Equal(t, 1, r.Code, r.Err)
	require.Contains(t, r.Out, "2 made, 1 failed")
	require.Contains(t, r.Out, "measurement")
	for _, s := range []scenario.School{schools[0], schools[2]} {
		site := world.Ask[wire.Site](t, "site", "show", s.Name)
		require.Zero(t, site.Report.Faults())
		require.True(t, site.Held)
		code, _ := world.Visit(t, site.Address+"/")
		require.Equal(t, http.StatusServiceUnavailable, code)
	}
	world.NothingLeft(t, schools[1].Name)
	// As if the service had ended before it was checked.
	_, err := connectRecords(t).Exec(t.Context(), "UPDATE sites SET report = NULL WHERE name = $1", schools[2].Name)
	require.NoError(t, err)
	fixed := strings.Replace(text.String(), "nonsense", schools[1].Settings["measurement"], 1)
	r = world.WithInput(t, fixed, "--json", "site", "provision", "--table", "-", "--from", "music-base@1", "--host", "preview")
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, r.Out, `"status": "there"`)
	for _, s := range schools {
		require.NotNil(t, world.Ask[wire.Site](t, "site", "show", s.Name).Report, "all are checked, also those that were there unchecked")
		world.Must(t, "site", "undo", s.Name)
		world.NothingLeft(t, s.Name)
	}
	r = world.WithInput(t, "client\n"+schools[0].Name+"\n"+schools[0].Name+"\n", "site", "provision", "--table", "-", "--from", "music-base@1",
		"--host", "preview")
	require.Contains(t, r.Err, "rows 1 and 2")
	r = world.WithInput(t, "title\nx\n", "site", "provision", "--table", "-", "--from", "music-base@1", "--host", "preview")
	require.Contains(t, r.Err, "no column client")
}

func TestATableThatIsCancelledEndsWithItsSites(t *testing.T) {
	world.Prepared(t)
	svc, ctx := world.Service.Client(t), context.Background()
	in := wire.NewTable{From: "music-base@1", Host: "preview"}
	for _, s := range tableSchools("cut") {
		world.AddClient(t, s)
		in.Rows = append(in.Rows, wire.TableRow{Client: s.Name})
	}
	run, err := svc.ProvisionTable(ctx, in)
	require.NoError(t, err)
	world.Working(t, svc, run.ID, func(wire.Run) bool { return true })
	_, err = svc.CancelRun(ctx, run.ID)
	require.NoError(t, err)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Cancelled, run.Status)
	world.Ended(t, svc)
	for _, r := range in.Rows {
		if world.Nestseed(t, "site", "show", r.Client).Code == 0 {
			world.Must(t, "site", "undo", r.Client)
		}
		world.NothingLeft(t, r.Client)
	}
}

func TestCredentialsOfALiveSiteAreChangedWithoutAPauseForVisitors(t *testing.T) {
	s := world.SiteOf(t, 9)
	before := strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator"))
	user := world.Rows(t, "SELECT COUNT(*) FROM mysql.user WHERE User LIKE ?", s.Database+"%")
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
	world.Must(t, "site", "rotate", s.Name)
	close(stop)
	seen := <-ended
	require.Greater(t, seen[http.StatusOK], 3)
	require.Len(t, seen, 1, "%v", seen)
	after := strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator"))
	require.NotEqual(t, before, after)
	world.LoginInBrowser(t, s, after)
	require.Equal(t, user, world.Rows(t, "SELECT COUNT(*) FROM mysql.user WHERE User LIKE ?", s.Database+"%"), "the old user is gone")
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)

	require.Contains(t, world.Must(t, "vault", "rotate-key"), "sealed with a new key")
	require.Equal(t, after, strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator")))
	world.Must(t, "site", "undo", s.Name)
	world.NothingLeft(t, s.Name)
	require.Zero(t, world.Rows(t, "SELECT COUNT(*) FROM mysql.user WHERE User LIKE ?", s.Database+"%"))
}

func TestASiteMovesWholeToItsOwnAddressAndThePreviewIsRetired(t *testing.T) {
	s := world.SiteOf(t, 6)
	world.Live(t)
	world.Execute(t, fmt.Sprintf("INSERT INTO %[1]s.%[2]scomments (comment_post_ID, comment_author, comment_content, comment_approved) SELECT "+
		"MIN(ID), 'A parent', 'See %[3]s/lessons/', '1' FROM %[1]s.%[2]sposts WHERE post_type = 'post'", s.Database, s.Prefix, s.Address))
	password := strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator"))
	before := world.Standing(t, s)
	require.Contains(t, world.Must(t, "site", "move", s.Name, "--host", "live", "--visible", "--plan"), "nothing has been touched")
	require.Contains(t, world.Nestseed(t, "site", "move", s.Name, "--host", "preview").Err,
		"name another host, or another address")

	// A site with a fault at its new place that it has not had goes back.
	blocked := filepath.Join(s.Folder, "wp-content/mu-plugins/blocked.php")
	require.NoError(t, os.WriteFile(blocked, []byte("<?php if ( 0 === strpos( $_SERVER['HTTP_HOST'] ?? '', 'live-' ) ) { http_response_code( 500 ); exit; }"),
		0o644))
	r := world.Nestseed(t, "site", "move", s.Name, "--host", "live")
	require.NotZero(t, r.Code)
	require.Contains(t, r.Err, "found faults that the site does not have now, so it stays where it is")
	require.NoError(t, os.Remove(blocked))
	require.NoError(t, os.Chtimes(s.Folder, s.MadeAt, s.MadeAt))
	require.Equal(t, before, world.Standing(t, s))
	require.Equal(t, s.Address, world.Ask[wire.Site](t, "site", "show", s.Name).Address)
	left, err := filepath.Glob(filepath.Join(world.Stack.Sites(), "*live-"+s.Name+"*"))
	require.NoError(t, err)
	require.Empty(t, left)

	// A fault that it has already does not keep it from moving.
	dump := filepath.Join(s.Folder, "backup.sql")
	require.NoError(t, os.WriteFile(dump, []byte("-- MariaDB dump 10.19"), 0o644))
	require.Equal(t, 5, world.Nestseed(t, "site", "check", s.Name).Code)
	require.NoError(t, os.Remove(dump))
	before = world.Standing(t, s) // a visit lets the site do what it has put off
	require.NoError(t, os.WriteFile(dump, []byte("-- MariaDB dump 10.19"), 0o644))
	there := world.Ask[wire.Site](t, "site", "move", s.Name, "--host", "live", "--visible")
	require.Equal(t, world.Stack.Address("live-"+s.Name), there.Address)
	require.Equal(t, "live", there.Host)
	require.Equal(t, 1, there.Report.Faults(), "%+v", there.Report)
	aside := filepath.Join(world.Stack.Sites(), fmt.Sprintf(".%s.nestseed-%d", s.Name, there.RunID))
	require.NoError(t, errors.Join(os.Remove(filepath.Join(there.Folder, "backup.sql")), os.Remove(filepath.Join(aside, "backup.sql"))))
	require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_content = ?", there.Database, there.Prefix),
		"See "+there.Address+"/lessons/"))
	require.Equal(t, password, strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator")))
	world.LoginInBrowser(t, there, password)
	code, _ := world.Visit(t, s.Address+"/")
	require.Equal(t, http.StatusNotFound, code)
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)

	// The preview is put aside, and comes back whole.
	require.Equal(t, "moved", there.Copies[0].Why)
	require.Equal(t, "preview ."+s.Name+".nestseed-"+fmt.Sprint(there.RunID), there.Copies[0].Host+" "+there.Copies[0].Where)
	require.Contains(t, world.Must(t, "site", "show", s.Name), "preview: ."+s.Name)
	require.NoDirExists(t, s.Folder)
	require.Contains(t, world.Must(t, "site", "undo", s.Name, "--plan"), "the site is at "+s.Address+" on host preview again")
	require.NoError(t, os.Mkdir(s.Folder, 0o755))
	r = world.Nestseed(t, "site", "undo", s.Name)
	require.Equal(t, 4, r.Code)
	require.Contains(t, r.Err, "there is something else by now")
	require.NoError(t, os.Remove(s.Folder))
	world.Must(t, "site", "undo", s.Name)
	require.Equal(t, before, world.Standing(t, s), "byte for byte")
	again := world.Ask[wire.Site](t, "site", "show", s.Name)
	require.Equal(t, []string{s.Address, "preview", s.Folder, s.Database}, []string{again.Address, again.Host, again.Folder, again.Database})
	require.Equal(t, s.RunID, again.RunID)
	require.Equal(t, password, strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator")))
	require.NoDirExists(t, there.Folder)
	require.Zero(t, world.Rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", there.Database))
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)

	there = world.Ask[wire.Site](t, "site", "move", s.Name, "--host", "live", "--visible")
	world.Must(t, "site", "drop-copy", s.Name, fmt.Sprint(there.Copies[0].ID))
	world.NothingLeft(t, s.Name)
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)
	world.Must(t, "site", "retire", s.Name, "--no-copy")
	require.NoDirExists(t, there.Folder)
}

// Another server with a web server, a database server and an address of its own takes the site over; visitors will find
// it by the same name once that leads there.
func TestASiteGoesToANewServerAndKeepsItsAddress(t *testing.T) {
	s, ctx := world.SiteOf(t, 6), context.Background()
	there := stack.ForTest(t)
	there.WebHost, there.WebPort = "127.0.0.2", world.Stack.WebPort
	require.NoError(t, errors.Join(there.StartMariaDB(ctx), there.StartWeb(ctx)))
	secret := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(secret, []byte(there.AdminPassword), 0o600))
	world.Must(t, "host", "add", "new-server", "--files", "file://"+there.Sites()+"?owner=www-data", "--address", there.Address("{name}"),
		"--connect", there.WebHost,
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", there.AdminUser, there.DatabasePort), "--database-password-file", secret)
	world.Execute(t, fmt.Sprintf("INSERT INTO %[1]s.%[2]scomments (comment_post_ID, comment_author, comment_content, comment_approved) SELECT "+
		"MIN(ID), 'A parent', 'Thank you', '1' FROM %[1]s.%[2]sposts WHERE post_type = 'post'", s.Database, s.Prefix))
	password := strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator"))

	plan := world.Must(t, "site", "move", s.Name, "--host", "new-server", "--address", s.Address, "--plan")
	require.Contains(t, plan, "the address stays "+s.Address+"; point its name at host new-server")
	now := world.Ask[wire.Site](t, "site", "move", s.Name, "--host", "new-server", "--address", s.Address)
	require.Equal(t, s.Address, now.Address)
	require.Equal(t, "new-server", now.Host)
	require.Zero(t, now.Report.Faults(), "%+v", now.Report)
	require.DirExists(t, filepath.Join(there.Sites(), s.Name))
	require.Equal(t, password, strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator")))

	// By its name a visitor is still led to the old server, and finds the site there, until somebody says so.
	code, _ := world.Visit(t, s.Address+"/")
	require.Equal(t, http.StatusOK, code)
	require.Equal(t, "moved", now.Copies[0].Why)
	require.Equal(t, s.Address, now.Copies[0].Serves)
	require.NotNil(t, now.Lead)
	require.False(t, now.Lead.There)
	require.Contains(t, world.Must(t, "site", "show", s.Name), s.Name+".localhost leads to 127.0.0.1, and the site's host is 127.0.0.2; so since")
	require.True(t, slices.ContainsFunc(now.Report.Checks, func(c wire.Check) bool { return c.Name == "name" && c.Result == wire.Warn }),
		"%+v", now.Report)
	require.Contains(t, world.Must(t, "site", "show", s.Name), "still serving "+s.Address)
	require.Contains(t, world.Must(t, "site", "undo", s.Name, "--plan"), "has gone on serving")
	world.Must(t, "site", "undo", s.Name)
	require.Equal(t, "preview", world.Ask[wire.Site](t, "site", "show", s.Name).Host)
	require.NoDirExists(t, filepath.Join(there.Sites(), s.Name))
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)
	now = world.Ask[wire.Site](t, "site", "move", s.Name, "--host", "new-server", "--address", s.Address)
	world.Must(t, "site", "drop-copy", s.Name, fmt.Sprint(now.Copies[0].ID))
	code, _ = world.Visit(t, s.Address+"/")
	require.Equal(t, http.StatusNotFound, code)
	world.NothingLeft(t, s.Name)
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code, "checks go to the new server, whatever the name leads to")
	admin, err := there.Admin()
	require.NoError(t, err)
	defer admin.Close()
	var n int
	require.NoError(t, admin.QueryRow(fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_content = 'Thank you'", now.Database,
		now.Prefix)).Scan(&n))
	require.Equal(t, 1, n)
	world.Must(t, "site", "retire", s.Name, "--no-copy")
}

// undoKilled undoes what a site was made by, and ends the service meanwhile. It goes on when it is there again.
func undoKilled(t *testing.T, site string, after time.Duration) {
	t.Helper()
	ctx := context.Background()
	run, err := world.Service.Client(t).UndoSite(ctx, site, "")
	require.NoError(t, err)
	time.Sleep(after)
	require.NoError(t, world.Service.Kill())
	world.Restart(t)
	run, err = world.Service.Client(t).Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Done, run.Status, run.Error)
}

// On one host a site may take its own address in the folder where it stands.
func TestASiteTakesItsOwnAddressWhereItStands(t *testing.T) {
	s := world.SiteOf(t, 6)
	world.Execute(t, fmt.Sprintf("INSERT INTO %[1]s.%[2]scomments (comment_post_ID, comment_author, comment_content, comment_approved) SELECT "+
		"MIN(ID), 'A parent', 'See %[3]s/lessons/', '1' FROM %[1]s.%[2]sposts WHERE post_type = 'post'", s.Database, s.Prefix, s.Address))
	password := world.Must(t, "vault", "reveal", "site", s.Name, "administrator")
	before, own := world.Standing(t, s), world.Stack.Address("own-"+s.Name)
	move := []string{"site", "move", s.Name, "--host", "preview", "--visible", "--address"}
	require.Contains(t, world.Must(t, append(move, own, "--plan")...), "changes places with what is there")

	// No web server leads that name to the folder yet.
	r := world.Nestseed(t, append(move, own)...)
	require.NotZero(t, r.Code)
	require.Contains(t, r.Err, "stays where it is")
	require.Equal(t, before, world.Standing(t, s))
	name := filepath.Join(world.Stack.Sites(), "own-"+s.Name)
	require.NoError(t, os.Symlink(s.Folder, name))
	defer os.Remove(name)

	there := world.Ask[wire.Site](t, append(move, own)...)
	require.Equal(t, []string{own, "preview", s.Folder}, []string{there.Address, there.Host, there.Folder})
	require.NotEqual(t, s.Database, there.Database)
	require.Zero(t, there.Report.Faults(), "%+v", there.Report)
	require.True(t, there.Visible)
	require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_content = ?", there.Database, there.Prefix),
		"See "+own+"/lessons/"))
	require.Equal(t, password, world.Must(t, "vault", "reveal", "site", s.Name, "administrator"))
	world.LoginInBrowser(t, there, strings.TrimSpace(password))
	require.Equal(t, s.Name, world.Ask[wire.Site](t, "site", "show", own).Name, "by its address, too")

	require.Contains(t, world.Must(t, "site", "undo", s.Name, "--plan"), "comes back at "+s.Address)
	undoKilled(t, s.Name, 40*time.Millisecond)
	require.Equal(t, before, world.Standing(t, s), "byte for byte")
	again := world.Ask[wire.Site](t, "site", "show", s.Name)
	require.Equal(t, []string{s.Address, s.Database}, []string{again.Address, again.Database})
	require.Zero(t, world.Rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", there.Database))
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)

	// A move that is killed ends with one whole site at one of the two.
	before = world.Standing(t, s)
	run, err := world.Service.Client(t).MoveSite(t.Context(), s.Name, wire.Move{Host: "preview", Address: own})
	require.NoError(t, err)
	world.Working(t, world.Service.Client(t), run.ID, func(r wire.Run) bool { return len(r.Progress.Steps) > 8 })
	require.NoError(t, world.Service.Kill())
	world.Restart(t)
	run, err = world.Service.Client(t).Wait(t.Context(), run.ID, nil)
	require.NoError(t, err)
	if run.Status != wire.Done {
		require.Equal(t, before, world.Standing(t, s))
		require.Equal(t, s.Address, world.Ask[wire.Site](t, "site", "show", s.Name).Address)
	}
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)
	world.Must(t, "site", "retire", s.Name, "--no-copy")
}

func TestAMoveThatIsKilledLeavesOneWholeSite(t *testing.T) {
	s := world.SiteOf(t, 6)
	world.Live(t)
	svc, ctx := world.Service.Client(t), context.Background()
	before := world.Standing(t, s)
	for _, steps := range []int{2, 5, 8} {
		run, err := svc.MoveSite(ctx, s.Name, wire.Move{Host: "live"})
		require.NoError(t, err)
		world.Working(t, svc, run.ID, func(r wire.Run) bool { return len(r.Progress.Steps) > steps })
		require.NoError(t, world.Service.Kill())
		world.Restart(t)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		now := world.Ask[wire.Site](t, "site", "show", s.Name)
		if run.Status == wire.Done {
			require.Equal(t, "live", now.Host)
			require.NoDirExists(t, s.Folder)
			break
		}
		require.Equal(t, before, world.Standing(t, s))
		require.NoDirExists(t, filepath.Join(world.Stack.Sites(), "live-"+s.Name))
	}
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)

	// And so does the way back.
	for _, after := range []time.Duration{20 * time.Millisecond, 60 * time.Millisecond, 120 * time.Millisecond} {
		if world.Ask[wire.Site](t, "site", "show", s.Name).Host == "preview" {
			before = world.Standing(t, s)
			world.Must(t, "site", "move", s.Name, "--host", "live")
		}
		undoKilled(t, s.Name, after)
		require.Equal(t, before, world.Standing(t, s), "killed after %v", after)
		require.NoDirExists(t, filepath.Join(world.Stack.Sites(), "live-"+s.Name))
	}
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)
	world.Must(t, "site", "retire", s.Name, "--no-copy")
}
