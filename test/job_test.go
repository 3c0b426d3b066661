package test

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
)

func TestTheMainJobByCommandLine(t *testing.T) {
	prepared(t)
	s := ask[wire.Survey](t, "source", "survey", "base")
	require.Equal(t, "WordPress", s.KindTitle)
	require.Greater(t, s.Totals.Files, int64(2000))
	require.Contains(t, must(t, "packing", "leave-out", "music-base", "wp-content/themes/twentytwentytwo/**"), "twentytwentytwo")
	require.Contains(t, must(t, "packing", "put-back", "music-base", "wp-content/themes/twentytwentytwo/**"), "goes in")
	require.Contains(t, must(t, "packing", "check", "music-base"), "matches nothing")
	require.Contains(t, must(t, "release", "verify", "music-base"), "every sum holds")

	told := ask[wire.HostTest](t, "host", "test", "preview")
	require.Zero(t, told.Faults(), "%+v", told.Steps)
	require.Equal(t, filepath.Join(world.stack.Sites(), "nestseed-asks"), told.Runtimes[0].Folder)
	require.Len(t, told.Runtimes, 1)
	require.Equal(t, "PHP", told.Runtimes[0].Name)
	require.Contains(t, told.Runtimes[0].Parts, "mysqli")
	left, err := filepath.Glob(filepath.Join(world.stack.Sites(), "nestseed-asks*"))
	require.NoError(t, err)
	require.Empty(t, left, "the page that asks is taken away")
	require.Contains(t, must(t, "host", "show", "preview"), "PHP "+told.Runtimes[0].Version)

	for _, school := range scenario.Schools(3) {
		addClient(t, school)
		require.Contains(t, must(t, "site", "plan", school.Name, "--from", "music-base", "--host", "preview"), "PHP "+told.Runtimes[0].Version)
		require.Contains(t, must(t, "site", "plan", school.Name, "--from", "music-base", "--host", "preview"), "ready; nothing has been touched")
		nothingLeft(t, school.Name)
		provision, mail := []string{"site", "provision", school.Name, "--from", "music-base", "--host", "preview"}, "office@base.localhost"
		if school.Name == "cedar-hill" {
			provision, mail = append(provision, "--mail-addresses"), "office@cedar-hill.localhost"
		}
		site := ask[wire.Site](t, provision...)
		require.Equal(t, 1, rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%soptions WHERE option_name = 'loom_school' AND option_value LIKE ?",
			site.Database, site.Prefix), "%"+mail+"%"))
		require.Zero(t, site.Report.Faults(), "%+v", site.Report)
		require.Equal(t, world.stack.Address(school.Name), site.Address)
		password := strings.TrimSpace(must(t, "vault", "reveal", "site", school.Name, "administrator"))

		res, err := stack.Client().Get(site.Address + "/")
		require.NoError(t, err)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, http.StatusOK, res.StatusCode)
		require.Contains(t, string(body), "M-"+school.Settings["measurement"][2:])
		require.NotContains(t, string(body), "base.localhost:")
		loginInBrowser(t, site, password)
	}
	rep := ask[wire.Report](t, "site", "check", "alder-valley")
	require.Zero(t, rep.Faults())
	require.Contains(t, must(t, "site", "list"), "Cedar Hill Youth Orchestra")
}

// loginInBrowser does what a client does first.
func loginInBrowser(t *testing.T, site wire.Site, password string) {
	tab, stop := browser.New(context.Background(), 1280, 800)
	defer stop()
	require.NoError(t, chromedp.Run(tab))
	ctx, cancel := context.WithTimeout(tab, 40*time.Second)
	defer cancel()
	require.NoError(t, chromedp.Run(ctx,
		chromedp.Navigate(site.LoginAt),
		chromedp.WaitVisible("#user_login", chromedp.ByQuery),
		chromedp.Sleep(400*time.Millisecond), // the page moves the focus once it has loaded
		chromedp.SetValue("#user_login", site.Admin, chromedp.ByQuery),
		chromedp.SetValue("#user_pass", password, chromedp.ByQuery),
		chromedp.Evaluate("document.querySelector('#wp-submit').click()", nil)))
	// While one page gives way to another, what was asked of the first fails; it is asked of the next. A page that is
	// still coming in has the bar without the name.
	greeting := ""
	for ctx.Err() == nil && !strings.Contains(greeting, site.Admin) {
		time.Sleep(100 * time.Millisecond)
		if chromedp.Run(ctx, chromedp.Evaluate("document.querySelector('#wp-admin-bar-my-account')?.textContent ?? ''", &greeting)) != nil {
			greeting = ""
		}
	}
	require.Contains(t, greeting, site.Admin)
}

func TestInspectingARelease(t *testing.T) {
	prepared(t)
	r := ask[wire.Release](t, "release", "show", "music-base@1")
	require.Equal(t, "music-base@1", r.Ref)
	c := ask[wire.Contents](t, "release", "contents", "music-base@1", "wp-content/uploads")
	require.Equal(t, "media", c.Nodes[0].Area)
	require.Contains(t, must(t, "release", "contents", "music-base@1", "--find", "*.jpg"), "choir.jpg")
	require.Contains(t, must(t, "release", "contents", "music-base@1", "database"), "lad_options")
	require.Len(t, ask[wire.Contents](t, "release", "contents", "music-base@1", "--largest", "5").Nodes, 5)

	dir := t.TempDir()
	must(t, "release", "extract", "music-base@1", "wp-content/plugins/loom-school", "wp-login.php", "--to", dir)
	require.FileExists(t, filepath.Join(dir, "wp-content/plugins/loom-school/loom-school.php"))
	require.FileExists(t, filepath.Join(dir, "wp-login.php"))
	require.Equal(t, 3, nestseed(t, "release", "extract", "music-base@1", "nope", "--to", dir).code)

	file := filepath.Join(dir, "r.zip")
	require.NoError(t, os.WriteFile(file+".part", nil, 0o600))
	must(t, "release", "download", "music-base@1", "--to", file)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file+".part", whole[:len(whole)/3], 0o600))
	must(t, "release", "download", "music-base@1", "--to", file)
	z, err := zip.OpenReader(file)
	require.NoError(t, err)
	require.Equal(t, "nestseed.json", z.File[0].Name)
	z.Close()

	req, err := http.NewRequest(http.MethodGet, world.service.address()+"/api/v1/releases/music-base@1/file?path=wp-config.php", nil)
	require.NoError(t, err)
	token, err := os.ReadFile(world.service.data + "/owner-token")
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Contains(t, string(text), "DB_PASSWORD', ''")
	require.Equal(t, "text/plain; charset=utf-8", res.Header.Get("Content-Type"))
}

func TestMistakesAreOneSentenceWithAnExitCode(t *testing.T) {
	prepared(t)
	for _, c := range []struct {
		code     int
		sentence string
		args     []string
	}{
		{2, "there is no command", []string{"frobnicate"}},
		{2, "say which release with --from", []string{"site", "plan", "x"}},
		{2, "takes REF", []string{"release", "show"}},
		{3, `no release "music-base@99"`, []string{"release", "show", "music-base@99"}},
		{3, "write it like music-base@3", []string{"release", "show", "music-base@x"}},
		{3, `no starter "nope"`, []string{"release", "build", "nope"}},
		{4, "already", []string{"source", "add", "base", "--host", "preview", "--path", "base"}},
		{4, "still need it", []string{"host", "remove", "preview"}},
		{2, "web root", []string{"source", "add", "other", "--host", "preview", "--path", "base/wp-admin"}},
		{2, "no stock list", []string{"starter", "create", "x", "--from", "base", "--list", "nope"}},
		{2, "file:///srv/www", []string{"host", "add", "x", "--files", "http://x", "--address", "http://{name}.example", "--database",
			"mysql://a@127.0.0.1:1/"}},
		{2, "no database server answers", []string{"host", "add", "x", "--files", "file:///tmp", "--address", "http://{name}.example",
			"--database", "mysql://a@127.0.0.1:1/"}},
		{2, "not a pattern", []string{"packing", "leave-out", "music-base", "/absolute"}},
		{2, "not left out", []string{"packing", "put-back", "music-base", "never-there"}},
		{2, "KEY=VALUE", []string{"client", "set", "x", "novalue"}},
		{2, "not a site's name", []string{"site", "plan", "alder-valley", "--from", "music-base", "--host", "preview", "--name", "../x"}},
	} {
		if c.args[0] == "site" {
			addClient(t, scenario.Schools(1)[0])
		}
		r := nestseed(t, c.args...)
		require.Equal(t, c.code, r.code, "%v: %s", c.args, r.err)
		require.Contains(t, r.err, c.sentence, c.args)
		require.Equal(t, 1, strings.Count(strings.TrimSpace(r.err), "\n")+1, "one line: %q", r.err)
		require.Empty(t, r.out)
	}
}

func TestAPlanNamesWhatIsMissingAndProvisioningRefusesIt(t *testing.T) {
	prepared(t)
	must(t, "client", "add", "empty-client", "--set", "title=Empty")
	p := ask[wire.Plan](t, "site", "plan", "empty-client", "--from", "music-base", "--host", "preview")
	require.False(t, p.Ready)
	require.ElementsMatch(t, []string{"email", "measurement"}, p.Missing)
	r := nestseed(t, "site", "provision", "empty-client", "--from", "music-base", "--host", "preview")
	require.Equal(t, 4, r.code)
	require.Contains(t, r.err, "Measurement id (measurement) is missing")
	nothingLeft(t, "empty-client")
	require.True(t, ask[wire.Plan](t, "site", "plan", "empty-client", "--from", "music-base", "--host", "preview", "--set",
		"email=a@b.example", "--set", "measurement=M-AAAAAA").Ready)
}

func TestSecretsStayInTheVault(t *testing.T) {
	prepared(t)
	must(t, "client", "add", "secretive", "--set", "booking_licence=LB-TOP-SECRET", "--set", "title=x")
	require.NotContains(t, must(t, "client", "show", "secretive"), "TOP-SECRET")
	require.NotContains(t, must(t, "--json", "client", "show", "secretive"), "TOP-SECRET")
	require.Equal(t, "LB-TOP-SECRET\n", must(t, "vault", "reveal", "client", "secretive", "booking_licence"))
	require.Equal(t, 3, nestseed(t, "vault", "reveal", "client", "secretive", "nope").code)
	must(t, "client", "set", "secretive", "booking_licence=")
	require.Equal(t, 3, nestseed(t, "vault", "reveal", "client", "secretive", "booking_licence").code)
	require.NotContains(t, must(t, "--json", "host", "show", "preview"), world.stack.AdminPassword)
	require.NotContains(t, world.service.out.String(), world.stack.AdminPassword)
	u, err := url.Parse(ask[wire.Host](t, "host", "show", "preview").Database)
	require.NoError(t, err)
	_, has := u.User.Password()
	require.False(t, has)
	must(t, "client", "remove", "secretive")
}

func TestAddingASourceAgainDoesNotTouchItsPassword(t *testing.T) {
	prepared(t)
	add := func(name, password string) result {
		file := filepath.Join(t.TempDir(), "password")
		require.NoError(t, os.WriteFile(file, []byte(password), 0o600))
		return nestseed(t, "source", "add", name, "--host", "preview", "--path", "base", "--database",
			fmt.Sprintf("mysql://lad_reader@127.0.0.1:%d/lad_base", world.stack.DatabasePort), "--database-password-file", file)
	}
	require.Equal(t, 2, add("read-only", "wrong").code)
	require.NotContains(t, must(t, "vault", "list"), "read-only", "what could not be added leaves no secret")
	require.Zero(t, add("read-only", scenario.BaseDatabasePassword).code)
	require.Equal(t, 4, add("read-only", "wrong").code)
	require.Equal(t, scenario.BaseDatabasePassword+"\n", must(t, "vault", "reveal", "source", "read-only", "database"))
	must(t, "source", "survey", "read-only")
	must(t, "source", "remove", "read-only")
}

// What was added can be changed, and a change that would not work, or would strand a site, changes nothing.
func TestAHostASourceAndAStarterAreChanged(t *testing.T) {
	prepared(t)
	before := ask[wire.Host](t, "host", "show", "preview")
	require.Contains(t, must(t, "host", "set", "preview", "--connect", before.Connect), "host preview changed")
	after := ask[wire.Host](t, "host", "show", "preview")
	require.Positive(t, *after.Room.FreeBytes)
	before.Runtimes, after.Runtimes, before.Room, after.Room = nil, nil, nil, nil // they are asked for anew
	require.Equal(t, before, after, "what was not given stays")
	for what, c := range map[string]struct {
		words []string
		says  string
	}{
		"no such files":    {[]string{"--files", "file:///no/such/folder"}, "no such"},
		"without its site": {[]string{"--files", "file://" + t.TempDir()}, "is not in the files at"},
		"no server":        {[]string{"--database", "mysql://admin@127.0.0.1:1/"}, "no database server answers"},
		"one folder":       {[]string{"--web-root", "site"}, "a folder of its own"},
		"nothing":          {nil, "say what to change"},
	} {
		r := nestseed(t, append([]string{"host", "set", "preview"}, c.words...)...)
		require.Equal(t, 2, r.code, what)
		require.Contains(t, r.err, c.says, what)
	}
	require.Equal(t, after.Files, ask[wire.Host](t, "host", "show", "preview").Files)
	must(t, "host", "test", "preview")

	database := fmt.Sprintf("mysql://lad_reader@127.0.0.1:%d/lad_base", world.stack.DatabasePort)
	must(t, "source", "add", "moved", "--host", "preview", "--path", "base")
	wrong, right := filepath.Join(t.TempDir(), "wrong"), filepath.Join(t.TempDir(), "right")
	require.NoError(t, os.WriteFile(wrong, []byte("wrong"), 0o600))
	require.NoError(t, os.WriteFile(right, []byte(scenario.BaseDatabasePassword), 0o600))
	require.Equal(t, 2, nestseed(t, "source", "set", "moved", "--path", "elsewhere").code)
	require.Equal(t, 2, nestseed(t, "source", "set", "moved", "--database", database, "--database-password-file", wrong).code)
	require.NotContains(t, must(t, "vault", "list"), "moved")
	must(t, "source", "set", "moved", "--database", database, "--database-password-file", right)
	require.Equal(t, 2, nestseed(t, "source", "set", "moved", "--database", database, "--database-password-file", wrong).code)
	require.Equal(t, scenario.BaseDatabasePassword+"\n", must(t, "vault", "reveal", "source", "moved", "database"),
		"the password that works stays")
	must(t, "source", "set", "moved", "--address", "http://moved.localhost")
	require.Equal(t, "http://moved.localhost", ask[wire.Source](t, "source", "show", "moved").Address)

	must(t, "starter", "create", "other-line", "--from", "base")
	require.Contains(t, must(t, "starter", "set", "other-line", "--from", "moved"), "built from source moved")
	require.Equal(t, "moved", ask[wire.Starter](t, "starter", "show", "other-line").Source)
	require.Equal(t, 3, nestseed(t, "starter", "set", "other-line", "--from", "nothing").code)
	must(t, "starter", "remove", "other-line")
	must(t, "source", "remove", "moved")
}

func TestClientsComeFromATable(t *testing.T) {
	table := "\ufeffname,title,email\nlark-rise,Lark Rise Ukulele,a@lark.example\nmoor-top,\"Moor Top, Pipes\",b@moor.example\n"
	r := withInput(t, table, "client", "import", "-")
	require.Zero(t, r.code, r.err)
	require.Contains(t, must(t, "client", "show", "moor-top"), "Moor Top, Pipes")
	require.Equal(t, 2, withInput(t, "title\nx\n", "client", "import", "-").code)
}

func TestTwoPeopleAtOnceMakeOneSite(t *testing.T) {
	prepared(t)
	school := scenario.Schools(4)[3]
	addClient(t, school)
	svc := world.service.client(t)
	ctx := context.Background()
	in := wire.NewSite{Client: school.Name, From: "music-base", Host: "preview"}
	one, err := svc.ProvisionSite(ctx, in)
	require.NoError(t, err)
	two, err := svc.ProvisionSite(ctx, in)
	if err == nil { // it was asked for before the first had made anything that could be seen
		two, err = svc.Wait(ctx, two.ID, nil)
		require.NoError(t, err)
	}
	one, err = svc.Wait(ctx, one.ID, nil)
	require.NoError(t, err)
	statuses := fmt.Sprint(one.Status, two.Status)
	require.Equal(t, 1, strings.Count(statuses, "done"), statuses)
	site := ask[wire.Site](t, "site", "show", school.Name)
	require.Zero(t, site.Report.Faults())
}
