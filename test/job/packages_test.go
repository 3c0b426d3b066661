package job

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// untidy leaves in the base site what sites collect over the years, and takes it away at the end.
func untidy(t *testing.T) {
	for name, text := range map[string]string{
		"wp-config-old.php": "<?php define('DB_PASSWORD', '" + scenario.BaseDatabasePassword +
			"');", ".env": "KEY=1", "wp-content/debug.log": "oops", "wp-content/object-cache.php": "<?php",
		"wp-content/plugins/idle/idle.php": "<?php /* Plugin Name: Idle */", "wp-content/themes/old/.git/HEAD": "ref",
		"wp-content/uploads/2026/loose.jpg": "not named by any row",
		"wp-content/uploads/Notes.txt": "see " + world.Stack.Address("base") +
			"/welcome/", "wp-content/uploads/notes.txt": "x", "wp-content/uploads/copy.sql": "-- dump\nCREATE TABLE x (a int);",
	} {
		p := world.InBase(name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
		t.Cleanup(func() { os.Remove(p) })
	}
	t.Cleanup(func() {
		os.RemoveAll(world.InBase("wp-content/plugins/idle"))
		os.RemoveAll(world.InBase("wp-content/themes/old"))
	})
	db, err := world.Stack.Admin()
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	do := func(stmts ...string) {
		for _, s := range stmts {
			_, err := db.Exec(s)
			require.NoError(t, err, s)
		}
	}
	do("CREATE TABLE lad_base.lad_visitor_sessions (id int PRIMARY KEY, v text) ENGINE=MyISAM CHARACTER SET latin1",
		"INSERT INTO lad_base.lad_visitor_sessions VALUES (1,'a'),(2,'b')",
		"CREATE TABLE lad_base.other_things (id int)", "CREATE TRIGGER lad_base.lad_tr BEFORE INSERT ON lad_base.lad_links FOR EACH ROW SET "+
			"NEW.link_rss = ''",
		`REPLACE INTO lad_base.lad_options (option_name, option_value, autoload) VALUES ('mailer', 'a:1:{s:7:"api_key";s:20:"mk-0123456789abcdefg";}', 'yes'),
			('_site_transient_update_plugins', 'O:8:"stdClass":1:{s:8:"response";a:2:{s:5:"a/a.x";i:1;s:5:"b/b.x";i:1;}}', 'no')`,
		"INSERT INTO lad_base.lad_postmeta (post_id, meta_key, meta_value) VALUES (1, '_wp_attached_file', '2019/gone.jpg')",
		"INSERT INTO lad_base.lad_comments (comment_post_ID, comment_author, comment_content, comment_approved) VALUES (1, 's', 'buy', 'spam')")
	t.Cleanup(func() {
		do("DROP TABLE lad_base.lad_visitor_sessions, lad_base.other_things", "DROP TRIGGER lad_base.lad_tr",
			"DELETE FROM lad_base.lad_options WHERE option_name IN ('mailer', '_site_transient_update_plugins')",
			"DELETE FROM lad_base.lad_postmeta WHERE meta_value = '2019/gone.jpg'", "DELETE FROM lad_base.lad_comments WHERE "+
				"comment_approved = 'spam'")
	})
}

func TestASurveyOfAnUntidySiteFindsEachThingWithItsRemedy(t *testing.T) {
	world.StarterOf(t, "tidy")
	untidy(t)
	s := world.Ask[wire.Survey](t, "source", "survey", "base")
	found := map[string]wire.Finding{}
	for _, f := range s.Findings {
		require.NotEmpty(t, f.Why)
		require.True(t, f.Remedy != nil || f.Advice != "", "%s says neither what to edit nor what to do", f.What)
		found[f.What] = f
	}
	for _, what := range []string{"secret outside the settings file", "logs", "drop-in that caches", "extension that is not active",
		"theme that is not active", "version control", "media files that no row points at",
		"the source's address in text files", "names that differ only in case", "database dump", "sessions", "table of another prefix",
		"tables whose engine has no snapshots", "triggers and routines", "definers",
		"mixed character sets", "what looks like a token or licence", "updates are pending for extensions",
		"rows that point at files that are missing", "spam comments"} {
		require.Contains(t, found, what)
	}
	require.Equal(t, []string{"mailer › api_key"}, found["what looks like a token or licence"].Examples)
	require.Equal(t, int64(2), found["updates are pending for extensions"].Count)
	require.Contains(t, found["rows that point at files that are missing"].Examples, "2019/gone.jpg")
	require.Contains(t, found["media files that no row points at"].Remedy.LeaveOut, "wp-content/uploads/2026/loose.jpg")

	// Each remedy is an edit that the packing list takes, and with all of them nothing of it is packed.
	svc := world.Service.Client(t)
	for _, f := range s.Findings {
		if f.Remedy != nil {
			p, err := svc.EditPacking(context.Background(), "tidy", *f.Remedy)
			require.NoError(t, err, "%+v", f)
			require.True(t, p.Surveyed)
		}
	}
	world.Must(t, "release", "build", "tidy")
	for _, gone := range []string{"wp-config-old.php", ".env", "debug.log", "object-cache.php", "idle.php", "loose.jpg", "copy.sql"} {
		require.Empty(t, world.Ask[wire.Contents](t, "release", "contents", "tidy", "--find", gone).Nodes, gone)
	}
	r := world.Ask[wire.Release](t, "release", "show", "tidy")
	require.Contains(t, fmt.Sprint(r.Manifest.Blanked), "value mailer › api_key")
	out := world.Must(t, "source", "show", "base")
	require.Contains(t, out, "remedy: nestseed packing blank STARTER 'mailer › api_key'")
	require.Contains(t, out, "faults")
}

func TestASecondReleaseSaysWhyItIsLargerAndOneRemedyMakesItSmall(t *testing.T) {
	world.StarterOf(t, "season")
	world.Visit(t, world.Stack.Address("base")+"/") // at its first page, the CMS notes that its theme was changed
	world.Must(t, "release", "build", "season")
	require.NoError(t, scenario.Autumn(context.Background(), world.Stack))
	t.Cleanup(func() { os.Remove(world.InBase(scenario.ForgottenArchive)) })

	today := world.Ask[wire.Comparison](t, "release", "compare", "season@1", "source")
	require.Equal(t, "source base today", today.To)
	require.Equal(t, scenario.ForgottenArchive, today.Causes[0].Path)
	require.Equal(t, 3, world.Nestseed(t, "release", "show", "season@2").Code, "comparing with the source keeps no release")

	world.Must(t, "release", "build", "season", "--note", "autumn")
	d := world.Ask[wire.Comparison](t, "release", "compare", "season@1", "season@2")
	require.Contains(t, d.Summary, "+31.5 MB by "+scenario.ForgottenArchive+", which was added")
	require.Contains(t, world.Must(t, "release", "show", "season@2"), scenario.ForgottenArchive, "the list says so without being asked")
	require.Len(t, d.Values, 1)
	require.Equal(t, "option blogdescription", d.Values[0].Where)
	sheet := d.Files[slices.IndexFunc(d.Files, func(f wire.FileDelta) bool { return strings.HasSuffix(f.Path, ".css") })].Path
	lines := world.Ask[wire.TextDelta](t, "release", "compare", "season@1", "season@2", "--file", sheet)
	require.Positive(t, lines.Added)
	require.Contains(t, world.Must(t, "release", "compare", "season@1", "season@2", "--file", sheet), "\n+ ")
	require.Contains(t, world.Nestseed(t, "release", "compare", "season@1", "season@2", "--file", scenario.ForgottenArchive).Err, "not compared line by line")
	s := world.Ask[wire.Survey](t, "source", "survey", "base")
	var remedy []string
	for _, f := range s.Findings {
		if f.Where == scenario.ForgottenArchive {
			require.Equal(t, "ZIP archive", f.What)
			require.Equal(t, int64(scenario.ForgottenBytes), f.Bytes)
			remedy = f.Remedy.LeaveOut
		}
	}
	p := world.Ask[wire.Packing](t, append([]string{"packing", "leave-out", "season"}, remedy...)...)
	require.Equal(t, int64(scenario.ForgottenBytes), p.Saved[scenario.ForgottenArchive].Bytes)
	world.Must(t, "release", "build", "season")
	third := world.Ask[wire.Release](t, "release", "show", "season@3")
	require.Less(t, third.ArchiveBytes, *third.BeforeBytes-int64(30<<20))

	// A page shows it too, and can be used by everyone.
	run := world.Ask[[]wire.Run](t, "run", "list")
	for _, r := range run {
		if r.Title == "Compare season@1 with season@2" {
			axe, err := os.ReadFile(world.AxeSource)
			require.NoError(t, err)
			var faults []string
			var page string
			world.Do(t, world.Console(t), chromedp.Navigate(fmt.Sprintf("%s/comparisons/%d", world.Service.Address(), r.ID)),
				chromedp.WaitVisible("[aria-label='Main causes'] li", browser.ByQuery), world.Clicked("[aria-label^='Lines of'][aria-label$='.css']"),
				chromedp.WaitVisible("[aria-label^='Lines of'][role=region] table", browser.ByQuery), chromedp.Text("main", &page, browser.ByQuery), chromedp.Evaluate(string(axe), nil),
				chromedp.Evaluate(`axe.run().then(r => r.violations.map(v => v.id + ': ' + v.help + ' — ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160)).join(' | ')))`, &faults, world.AwaitPromise))
			require.Empty(t, faults)
			require.Contains(t, page, "base-site-copy.zip, which was added")
			require.Contains(t, page, "files are the same in both.")
		}
	}
}

var harbour sync.Once

// handedOver makes the other agency's files once and returns the links to them.
func handedOver(t testing.TB) (files, dump string) {
	t.Helper()
	world.Prepared(t)
	harbour.Do(func() { require.NoError(t, scenario.Harbour(context.Background(), world.Stack)) })
	at := world.Stack.Address("files") + "/"
	return at + scenario.HarbourFiles, at + scenario.HarbourDump
}

func TestASiteFromElsewhereComesInByLinkAndProvisions(t *testing.T) {
	files, dump := handedOver(t)
	r := world.Ask[wire.Release](t, "release", "import", "harbour", files, "--database", dump, "--note", "handed over")
	require.Equal(t, "harbour@1", r.Ref)
	require.Equal(t, world.Stack.Address("harbour"), r.Manifest.Origin.Address)
	require.Equal(t, "hm_", r.Manifest.Origin.Prefix)
	require.Equal(t, inSites("harbour"), r.Manifest.Origin.WebRoot)
	require.Contains(t, fmt.Sprint(r.Manifest.Notes), "harbour_settings › mail_token")
	require.Contains(t, world.Must(t, "release", "verify", "harbour"), "every sum holds")
	file := filepath.Join(t.TempDir(), "h.zip")
	world.Must(t, "release", "download", "harbour", "--to", file)
	dir := t.TempDir()
	require.NoError(t, exec.Command("unzip", "-q", file, "-d", dir).Run())
	for _, secret := range []string{scenario.HarbourDatabasePassword, scenario.HarbourSalt, "piers@harbour.example"} {
		require.Error(t, exec.Command("grep", "-rqF", secret, dir).Run(), "%s is in the release", secret)
	}

	world.Must(t, "client", "add", "harbour-hub", "--set", "title=Harbour Hub", "--set", "email=office@harbour.example")
	site := world.Ask[wire.Site](t, "site", "provision", "harbour-hub", "--from", "harbour", "--host", "preview")
	require.Zero(t, site.Report.Faults(), "%+v", site.Report)
	res, err := stack.Client().Get(site.Address + "/courses/")
	require.NoError(t, err)
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	res.Body.Close()
	require.Contains(t, string(body), "Ærø to Zürich")
	require.NotContains(t, string(body), "harbour.localhost")
	require.Equal(t, 1, world.Nestseed(t, "release", "build", "harbour").Code, "a starter without a source cannot be built")
}

// Half a release makes no site, and the plan says so; its code is taken by a site that is there.
func TestHalfAReleaseIsRefusedInThePlan(t *testing.T) {
	files, dump := handedOver(t)
	require.Equal(t, "files", world.Ask[wire.Release](t, "release", "import", "harbour-code", files).Manifest.List.Only)
	require.Equal(t, "database", world.Ask[wire.Release](t, "release", "import", "harbour-rows", dump).Manifest.List.Only)
	world.Must(t, "client", "add", "half-way", "--set", "title=Half Way", "--set", "email=office@half.example")
	for from, says := range map[string]string{"harbour-code": "harbour-code@1 holds files only",
		"harbour-rows": "harbour-rows@1 holds a database only"} {
		r := world.Nestseed(t, "site", "plan", "half-way", "--from", from, "--host", "preview")
		require.Contains(t, r.Out, says, "%s: %s", from, r.Err)
		r = world.Nestseed(t, "site", "provision", "half-way", "--from", from, "--host", "preview")
		require.NotZero(t, r.Code)
		require.Contains(t, r.Err, says)
	}
	world.NothingLeft(t, "half-way")
	world.Must(t, "release", "import", "half", files, "--database", dump)
	site := world.Ask[wire.Site](t, "site", "provision", "half-way", "--from", "half", "--host", "preview")
	require.Zero(t, site.Report.Faults(), "%+v", site.Report)
	require.Contains(t, world.Must(t, "site", "refresh", "half-way", "--to", "harbour-code@1", "--plan"), "nothing has been touched")
	site = world.Ask[wire.Site](t, "site", "refresh", "half-way", "--to", "harbour-code@1")
	require.Zero(t, site.Report.Faults(), "%+v", site.Report)
	require.Contains(t, world.Nestseed(t, "site", "refresh", "half-way", "--to", "harbour-rows@1", "--plan").Out, "holds a database only")
}

func inSites(name string) string { return filepath.Join(world.Stack.Sites(), name) }

func TestAnArchiveGoesOutSealedInVolumesAndComesBack(t *testing.T) {
	world.Prepared(t)
	dir := t.TempDir()
	pass := filepath.Join(dir, "pass")
	require.NoError(t, os.WriteFile(pass, []byte("eight gentle violas\n"), 0o600))
	world.Must(t, "release", "download", "music-base@1", "--to", filepath.Join(dir, "out.zip"), "--volume", "8MB", "--passphrase-file", pass)
	volumes, err := filepath.Glob(filepath.Join(dir, "out.zip.age.*"))
	require.NoError(t, err)
	require.Greater(t, len(volumes), 3)

	verify := append([]string{"release", "verify", "--key-file", pass}, volumes...)
	require.Contains(t, world.Must(t, verify...), "music-base@1 is whole")
	r := world.Nestseed(t, append([]string{"release", "verify"}, volumes...)...)
	require.Equal(t, 1, r.Code)
	require.Contains(t, r.Err, "sealed")
	r = world.Nestseed(t, append(append([]string{"release", "verify", "--key-file", pass}, volumes[:1]...), volumes[2:]...)...)
	require.Contains(t, r.Err, "out.zip.age.002 is missing")

	// Out of order, without the sums, into a starter that is new.
	back := []string{"release", "import", "returned", "--key-file", pass}
	for i := len(volumes) - 2; i >= 0; i-- {
		back = append(back, volumes[i])
	}
	got := world.Ask[wire.Release](t, back...)
	first := world.Ask[wire.Release](t, "release", "show", "music-base@1")
	require.Equal(t, "returned@1", got.Ref)
	require.Equal(t, first.SumsSHA256, got.SumsSHA256, "it is the same archive, byte for byte")
	require.Contains(t, got.ImportedFrom, "music-base@1")
	r = world.Nestseed(t, append([]string{"release", "import", "returned"}, volumes...)...)
	require.Equal(t, 1, r.Code)
	require.Contains(t, r.Err, "sealed")
	require.Equal(t, 3, world.Nestseed(t, "release", "show", "returned@2").Code)

	school := scenario.Schools(12)[11]
	world.AddClient(t, school)
	site := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", "returned", "--host", "preview")
	require.Zero(t, site.Report.Faults())
	require.Equal(t, "returned@1", site.Release)
}

func TestVolumesAndSealedDownloadsOverHTTP(t *testing.T) {
	world.Prepared(t)
	ask := func(method, path, body, rng string) *http.Response {
		req, err := http.NewRequest(method, world.Service.Address()+"/api/v1"+path, strings.NewReader(body))
		require.NoError(t, err)
		token, err := os.ReadFile(world.Service.Data + "/owner-token")
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		if rng != "" {
			req.Header.Set("Range", rng)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { res.Body.Close() })
		return res
	}
	res := ask("GET", "/releases/music-base@1/volumes/music-base-1.zip.001?size=1000000", "", "bytes=0-3")
	require.Equal(t, http.StatusPartialContent, res.StatusCode)
	head, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Equal(t, "PK\x03\x04", string(head))
	require.NotEmpty(t, res.Header.Get("ETag"))
	sums, err := io.ReadAll(ask("GET", "/releases/music-base@1/volumes/music-base-1.zip.sums?size=8000000", "", "").Body)
	require.NoError(t, err)
	require.Regexp(t, `^[0-9a-f]{64}  music-base-1.zip.001\n`, string(sums))
	for path, status := range map[string]int{"/releases/music-base@1/volumes/music-base-1.zip.999?size=1000000": 404,
		"/releases/music-base@1/volumes/other.zip.001?size=1000000": 404, "/releases/music-base@1/volumes/music-base-1.zip.001?size=1": 422} {
		require.Equal(t, status, ask("GET", path, "", "").StatusCode, path)
	}
	require.Equal(t, 422, ask("POST", "/releases/music-base@1/sealed", `{"recipients":["age1x"]}`, "").StatusCode)
	require.Equal(t, 422, ask("POST", "/releases/music-base@1/sealed", `{}`, "").StatusCode)
	sealed, err := io.ReadAll(io.LimitReader(ask("POST", "/releases/music-base@1/sealed", `{"passphrase":"nine quiet bassoons"}`, "").Body,
		21))
	require.NoError(t, err)
	require.Equal(t, "age-encryption.org/v1", string(sealed))
}

// evil makes a tar that would write outside.
func evil(t *testing.T) string {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "../../escaped.php", Size: 1, Mode: 0o644, Typeflag: tar.TypeReg}))
	w.Write([]byte("x"))
	require.NoError(t, w.Close())
	file := filepath.Join(t.TempDir(), "übel & 'wild'.tar")
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	return file
}

func TestHostileAndHopelessImportsLeaveNothing(t *testing.T) {
	files, _ := handedOver(t)
	for name, c := range map[string]struct {
		args []string
		code int
		word string
	}{
		"hostile":      {[]string{evil(t)}, 1, `refused: entry "../../escaped.php"`},
		"no such file": {[]string{"/no/such.zip"}, 1, "no such file"},
		"a page":       {[]string{world.Stack.Address("base") + "/"}, 2, "to a page and not to a file"},
		"private":      {[]string{"http://127.0.0.1:" + strings.Split(world.Service.Listen, ":")[1] + "/livez"}, 2, "private network"},
		"gone":         {[]string{files + ".gone"}, 2, "404"},
		"not a site":   {[]string{world.Binary}, 1, "neither"},
	} {
		r := world.Nestseed(t, append([]string{"release", "import", "bad"}, c.args...)...)
		require.Equal(t, c.code, r.Code, "%s: %s", name, r.Err)
		require.Contains(t, r.Err, c.word, name)
	}
	require.Equal(t, 3, world.Nestseed(t, "starter", "show", "bad").Code, "an import that fails makes no starter")
	left, err := os.ReadDir(filepath.Join(world.Service.Data, "scratch"))
	require.NoError(t, err)
	require.Empty(t, left)
	require.NoFileExists(t, filepath.Join(world.Service.Data, "escaped.php"))
}

func TestAnUploadThatBreaksGoesOnWhereItEnded(t *testing.T) {
	world.Prepared(t)
	file := filepath.Join(t.TempDir(), "Ünïcode näme (copy).zip")
	world.Must(t, "release", "download", "music-base@1", "--to", file)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	token, err := os.ReadFile(world.Service.Data + "/owner-token")
	require.NoError(t, err)
	tus := func(token, method, path string, body io.Reader, headers ...string) *http.Response {
		req, err := http.NewRequest(method, world.Service.Address()+"/api/v1/uploads/"+path, body)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(token))
		req.Header.Set("Tus-Resumable", "1.0.0")
		req.Header.Set("Content-Type", "application/offset+octet-stream")
		for i := 0; i < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil // the connection broke, as it was meant to
		}
		res.Body.Close()
		return res
	}
	res := tus(string(token), "POST", "", nil, "Upload-Length", fmt.Sprint(len(whole)), "Upload-Metadata", "filename "+
		base64.StdEncoding.EncodeToString([]byte("../../"+filepath.Base(file))))
	require.Equal(t, http.StatusCreated, res.StatusCode)
	id := filepath.Base(res.Header.Get("Location"))
	broken := io.MultiReader(bytes.NewReader(whole[:len(whole)/3]), &failing{})
	tus(string(token), "PATCH", id, broken, "Upload-Offset", "0")

	svc := world.Service.Client(t)
	ctx := context.Background()
	_, err = svc.ImportRelease(ctx, "resumed", wire.NewImport{Files: []wire.GivenFile{{Upload: id}}})
	require.ErrorContains(t, err, "go on with it first")
	at := ""
	for at == "" { // the service holds the upload until it has noticed that the connection is gone
		at = tus(string(token), "HEAD", id, nil).Header.Get("Upload-Offset")
	}
	var offset int
	fmt.Sscan(at, &offset)
	require.Less(t, offset, len(whole))
	res = tus(string(token), "PATCH", id, bytes.NewReader(whole[offset:]), "Upload-Offset", at)
	require.Equal(t, http.StatusNoContent, res.StatusCode)

	// Somebody else can neither see nor use it.
	require.NoError(t, errOf(svc.AddUser(ctx, wire.NewUser{Name: "piers", Role: "builder", Password: "a-long-password"})))
	other := loginToken(t, "piers", "a-long-password")
	require.Equal(t, http.StatusNotFound, tus(other, "HEAD", id, nil).StatusCode)
	run, err := svc.ImportRelease(ctx, "resumed", wire.NewImport{Files: []wire.GivenFile{{Upload: id}}})
	require.NoError(t, err)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, "done", run.Status, run.Error)
	require.Contains(t, string(run.Result), `"resumed@1"`)
	require.Contains(t, world.Ask[wire.Release](t, "release", "show", "resumed").ImportedFrom, "Ünïcode näme (copy).zip")
	require.Equal(t, http.StatusNotFound, tus(string(token), "HEAD", id, nil).StatusCode, "what was imported is not kept twice")
}

// loginToken logs in as a user of the console does and makes a token.
func loginToken(t *testing.T, name, password string) string {
	post := func(path, body, cookie string) *http.Response {
		req, err := http.NewRequest(http.MethodPost, world.Service.Address()+"/api/v1"+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Cookie", cookie)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { res.Body.Close() })
		require.Less(t, res.StatusCode, 300)
		return res
	}
	cookie, _, _ := strings.Cut(post("/login", fmt.Sprintf(`{"name":%q,"password":%q}`, name, password), "").Header.Get("Set-Cookie"), ";")
	var out wire.Token
	require.NoError(t, json.NewDecoder(post("/tokens", `{"name":"uploads"}`, cookie).Body).Decode(&out))
	return out.Token
}

func errOf[T any](_ T, err error) error { return err }

// failing is a body that breaks.
type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, fmt.Errorf("cut") }

func TestRulesForArchivesDiscardOldOnesAndKeepTheirRecords(t *testing.T) {
	world.StarterOf(t, "kept")
	world.Must(t, "release", "build", "kept")
	school := scenario.Schools(11)[10]
	world.AddClient(t, school)
	world.Must(t, "site", "provision", school.Name, "--from", "kept@1", "--host", "preview")
	world.Must(t, "release", "build", "kept")
	require.Contains(t, world.Must(t, "starter", "retain", "kept", "--last", "1"), "the last archive is kept")
	world.Must(t, "release", "build", "kept")
	releases := world.Ask[[]wire.Release](t, "release", "list", "kept")
	require.Len(t, releases, 3)
	require.True(t, releases[0].Kept)
	require.False(t, releases[1].Kept, "kept@2 is neither the last nor has a site")
	require.True(t, releases[2].Kept, "a site was made from kept@1")
	require.Contains(t, releases[1].DiscardedWhy, "keep the last 1")
	require.Contains(t, world.Must(t, "release", "list", "kept"), "discarded")
	require.Contains(t, world.Must(t, "release", "contents", "kept@2", "wp-content"), "plugins", "its contents can still be looked at")

	r := world.Nestseed(t, "site", "plan", school.Name, "--from", "kept@2", "--host", "preview", "--name", "other")
	require.Equal(t, 3, r.Code)
	require.Contains(t, r.Err, "discarded")
	require.Contains(t, world.Must(t, "release", "discard-archive", "kept@3"), "its record stays")
	require.Equal(t, 3, world.Nestseed(t, "release", "download", "kept@3", "--to", t.TempDir()).Code)
	files, err := filepath.Glob(filepath.Join(world.Service.Data, "archives", "kept-*.zip"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	// Without anything to copy from, the next build reads everything.
	world.Must(t, "starter", "retain", "kept", "--last", "0")
	world.Must(t, "release", "build", "kept", "--full")
}

func TestLaunchTasksStayUntilTheyAreTickedAndTokensAreFilled(t *testing.T) {
	world.Prepared(t)
	dir := t.TempDir()
	tasks := filepath.Join(dir, "tasks.yaml")
	require.NoError(t, os.WriteFile(tasks,
		[]byte("- {key: ring, title: Ring the school, page: wp-admin/}\n- {key: form, title: Try the form}\n"), 0o600))
	fields := filepath.Join(dir, "fields.yaml")
	require.NoError(t, os.WriteFile(fields, []byte(`
- {key: founded, label: Founded, to: [{token: "%FOUNDED%", files: ["wp-content/plugins/**"]}]}
- {key: first, label: First lesson, to: [{cell: {table: posts, column: post_title, where: post_name, is: lessons}}]}
`), 0o600))
	world.StarterOf(t, "tasked", "--tasks", tasks, "--fields", fields)
	world.Must(t, "release", "build", "tasked")
	school := scenario.Schools(10)[9]
	world.AddClient(t, school)
	site := func(extra ...string) []string {
		return append([]string{"--from", "tasked", "--host", "preview", "--name", "tasked"}, extra...)
	}
	r := world.Nestseed(t, append([]string{"site", "provision", school.Name}, site("--set", "founded='; system('id'); //")...)...)
	require.Equal(t, 4, r.Code, "a value that could become program is refused")
	require.Contains(t, r.Err, "quotes")
	made := world.Ask[wire.Site](t, append([]string{"site", "provision", school.Name},
		site("--set", "founded=1971", "--set", "first=Lessons & more")...)...)
	require.Len(t, made.Tasks, 2)
	require.Equal(t, made.Address+"/wp-admin/", made.Tasks[0].Page)
	res, err := stack.Client().Get(made.Address + "/lessons/")
	require.NoError(t, err)
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	res.Body.Close()
	require.True(t, strings.Contains(string(body), "since 1971"))
	require.True(t, strings.Contains(string(body), "Lessons &#038; more"))

	require.Contains(t, world.Must(t, "site", "tick", "tasked", "ring"), "✓ ring")
	shown := world.Ask[wire.Site](t, "site", "show", "tasked")
	require.NotNil(t, shown.Tasks[0].DoneAt)
	require.Equal(t, "owner", shown.Tasks[0].DoneBy)
	require.Contains(t, world.Must(t, "site", "tick", "tasked", "ring", "--undo"), "□ ring")
	require.Equal(t, 3, world.Nestseed(t, "site", "tick", "tasked", "nothing").Code)
	var checked bool
	world.Do(t, world.Console(t), chromedp.Navigate(world.Service.Address()+"/sites/tasked"), chromedp.WaitVisible("#task-form", browser.ByQuery),
		world.Clicked("#task-form"),
		world.Saying("owner, now"), chromedp.Evaluate("document.querySelector('#task-form').checked", &checked))
	require.True(t, checked)
}

func TestPackingListsAreEditedByCommandAndTriedInTheConsole(t *testing.T) {
	world.StarterOf(t, "edited")
	world.Must(t, "source", "survey", "base")
	before := world.Ask[wire.Packing](t, "packing", "check", "edited")
	p := world.Ask[wire.Packing](t, "packing", "leave-out", "edited", "--suffix", "mp4")
	require.Greater(t, p.Saved["suffix mp4"].Bytes, int64(400_000))
	p = world.Ask[wire.Packing](t, "packing", "keep-rows", "edited", "posts", "post_type", "page", "attachment", "wp_navigation")
	require.Greater(t, p.Saved["keep-rows: posts by post_type"].Rows, int64(5))
	require.Less(t, p.In.Rows, before.In.Rows)
	p = world.Ask[wire.Packing](t, "packing", "drop-rows", "edited", "posts", "post_type", "page")
	require.Contains(t, fmt.Sprint(p.Problems), `"page" is both kept and dropped`)
	p = world.Ask[wire.Packing](t, "packing", "leave-out", "edited", "--table", "links")
	require.Contains(t, fmt.Sprint(p.List.LeaveOut.Tables), "links")
	require.Equal(t, 2, world.Nestseed(t, "packing", "put-back", "edited", "never-there").Code)
	world.Must(t, "packing", "put-back", "edited", "links", "mp4")
	require.Equal(t, 2, world.WithInput(t, "leave-out: {paths: ['/etc']}", "packing", "set", "edited", "-").Code)

	tab := world.Console(t)
	var totals, text string
	world.Do(t, tab, world.Showing("/starters/edited/packing", "Files and tables"), world.Typed("#packing-list", "list: tried\nonly: database\n"), world.Saying("not saved"),
		world.Until(`document.querySelector('[aria-live=polite]').textContent.includes('0 files')`))
	require.NotContains(t, world.Must(t, "packing", "show", "edited"), "tried", "nothing is kept before it is saved")

	// What is wrong stands at its line; what was typed is there again after the page was left.
	world.Do(t, tab, world.Typed("#packing-list", "list: tried\nleave-out:\n  path: [a]\n"), world.Until(`document.querySelector('#packing-fault')?.textContent.startsWith('Line 3')`),
		world.Clicked(`nav a[href="/sites"]`), world.Saying("The list is not saved"), world.Press("Go, and keep the edits"),
		world.Saying("What was made from releases"), world.Showing("/starters/edited/packing", "not saved"), chromedp.Value("#packing-list", &text, browser.ByQuery))
	require.Equal(t, "list: tried\nleave-out:\n  path: [a]\n", text)

	// Tree and text say the same; an edit of one is seen in the other, and each step can be taken back.
	out := `[aria-label="What becomes of wp-includes"] button:nth-child(2)`
	world.Do(t, tab, world.Press("Discard"), chromedp.WaitVisible(out, browser.ByQuery), world.Clicked(out),
		world.Until(`document.querySelector('#packing-list').value.includes('wp-includes/**')`), chromedp.WaitVisible(out+"[aria-pressed=true]", browser.ByQuery),
		world.Saying("Your edits save"), chromedp.Text("[aria-live=polite]", &totals, browser.ByQuery), world.Press("Undo last"),
		world.Until(`!document.querySelector('#packing-list').value.includes('wp-includes/**')`),
		world.Clicked(`[aria-label="What becomes of table links"] button:nth-child(3)`),
		chromedp.WaitVisible(`[aria-label="What becomes of table links"] button:nth-child(3)[aria-pressed=true]`, browser.ByQuery),
		world.Press("Save the list"), world.Until("!document.body.innerText.includes('not saved')"))
	require.Contains(t, totals, "was")
	saved := world.Ask[wire.Packing](t, "packing", "show", "edited")
	require.Contains(t, saved.List.Empty, "links")
	require.NotContains(t, saved.Text, "wp-includes")
}

func TestAReleaseIsBroughtInFromTheConsole(t *testing.T) {
	world.Prepared(t)
	file := filepath.Join(t.TempDir(), "from the console.zip")
	world.Must(t, "release", "download", "music-base@1", "--to", file)
	tab := world.Console(t)
	var title string
	world.Do(t, tab, world.Showing("/starters", "Sources with their packing lists"), world.Press("Import a release…"),
		chromedp.WaitVisible("[role=dialog] input[name=starter]", browser.ByQuery), chromedp.SendKeys("[role=dialog] input[name=starter]",
			"clicked", browser.ByQuery),
		chromedp.SetUploadFiles("#f-files", []string{file}, browser.ByQuery), world.Clicked("[role=dialog] button[type=submit]"),
		chromedp.WaitVisible(`a[href="/releases/clicked@1"]`, browser.ByQuery), world.Clicked(`a[href="/releases/clicked@1"]`),
		chromedp.WaitVisible("[aria-label='Size map'] button", browser.ByQuery), chromedp.Text("header", &title, browser.ByQuery))
	require.Contains(t, title, "imported from from the console.zip (music-base@1)")
	var volumes int
	world.Do(t, tab, world.Clicked(`//button[text()="Download…"]`), chromedp.WaitVisible("[role=dialog] select",
		browser.ByQuery), chromedp.SetValue("[role=dialog] select", "volumes", browser.ByQuery),
		chromedp.Evaluate(`fetch('/api/v1/releases/clicked@1/volumes?size=10000000').then(r => r.json()).then(v => v.length)`, &volumes,
			world.AwaitPromise))
	require.Greater(t, volumes, 2)
}

func TestAnImportThatIsKilledBeginsAgain(t *testing.T) {
	files, dump := handedOver(t)
	run := world.Ask[wire.Run](t, "release", "import", "patient", files, "--database", dump, "--detach")
	svc := world.Service.Client(t)
	ctx := context.Background()
	world.Working(t, svc, run.ID, func(r wire.Run) bool {
		return slices.ContainsFunc(r.Progress.Steps, func(s wire.RunStep) bool { return s.Name == "Unpack" })
	})
	require.NoError(t, world.Service.Kill())
	world.Restart(t)
	r, err := world.Service.Client(t).Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, "done", r.Status, r.Error)
	require.Contains(t, world.Must(t, "release", "verify", "patient@1"), "every sum holds")
	require.Equal(t, 3, world.Nestseed(t, "release", "show", "patient@2").Code)
	left, err := os.ReadDir(filepath.Join(world.Service.Data, "scratch"))
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestAnImportCanBeCancelled(t *testing.T) {
	world.Prepared(t)
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Write(make([]byte, 1<<20))
		w.(http.Flusher).Flush()
		<-r.Context().Done() // the rest does not come
	}))
	defer slow.Close()
	world.Must(t, "host", "add", "slow", "--files", "file://"+t.TempDir(), "--address", slow.URL+"/{name}",
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.Stack.AdminUser, world.Stack.DatabasePort))
	defer world.Must(t, "host", "remove", "slow")
	run := world.Ask[wire.Run](t, "release", "import", "hasty", slow.URL+"/site.zip", "--detach")
	svc := world.Service.Client(t)
	world.Working(t, svc, run.ID, func(r wire.Run) bool { return r.Progress.Done.Bytes > 0 })
	world.Must(t, "run", "cancel", fmt.Sprint(run.ID))
	r, err := svc.Wait(context.Background(), run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, "cancelled", r.Status)
	require.Equal(t, "cancelled; what it had made was taken back", r.Error)
	require.Equal(t, 3, world.Nestseed(t, "starter", "show", "hasty").Code)
	require.NoDirExists(t, filepath.Join(world.Service.Data, "scratch", fmt.Sprint(run.ID)))
}
