package job

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

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

func TestTheMainJobByCommandLine(t *testing.T) {
	world.Prepared(t)
	s := world.Ask[wire.Survey](t, "source", "survey", "base")
	require.Equal(t, "WordPress", s.KindTitle)
	require.Greater(t, s.Totals.Files, int64(1500))
	require.Contains(t, world.Must(t, "packing", "leave-out", "music-base", "wp-content/themes/twentytwentytwo/**"), "twentytwentytwo")
	require.Contains(t, world.Must(t, "packing", "put-back", "music-base", "wp-content/themes/twentytwentytwo/**"), "goes in")
	require.Contains(t, world.Must(t, "packing", "check", "music-base"), "matches nothing")
	require.Contains(t, world.Must(t, "release", "verify", "music-base"), "every sum holds")

	told := world.Ask[wire.HostTest](t, "host", "test", "preview")
	require.Zero(t, told.Faults(), "%+v", told.Steps)
	require.Equal(t, filepath.Join(world.Stack.Sites(), "nestseed-asks"), told.Runtimes[0].Folder)
	require.Len(t, told.Runtimes, 1)
	require.Equal(t, "PHP", told.Runtimes[0].Name)
	require.Contains(t, told.Runtimes[0].Parts, "mysqli")
	left, err := filepath.Glob(filepath.Join(world.Stack.Sites(), "nestseed-asks*"))
	require.NoError(t, err)
	require.Empty(t, left, "the page that asks is taken away")
	require.Contains(t, world.Must(t, "host", "show", "preview"), "PHP "+told.Runtimes[0].Version)

	for _, school := range scenario.Schools(3) {
		world.AddClient(t, school)
		require.Contains(t, world.Must(t, "site", "plan", school.Name, "--from", "music-base", "--host", "preview"), "PHP "+told.Runtimes[0].Version)
		require.Contains(t, world.Must(t, "site", "plan", school.Name, "--from", "music-base", "--host", "preview"), "ready; nothing has been touched")
		world.NothingLeft(t, school.Name)
		provision, mail := []string{"site", "provision", school.Name, "--from", "music-base", "--host", "preview"}, "office@base.localhost"
		if school.Name == "cedar-hill" {
			provision, mail = append(provision, "--mail-addresses"), "office@cedar-hill.localhost"
		}
		site := world.Ask[wire.Site](t, provision...)
		require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%soptions WHERE option_name = 'loom_school' AND option_value LIKE ?",
			site.Database, site.Prefix), "%"+mail+"%"))
		require.Zero(t, site.Report.Faults(), "%+v", site.Report)
		require.Equal(t, world.Stack.Address(school.Name), site.Address)
		password := strings.TrimSpace(world.Must(t, "vault", "reveal", "site", school.Name, "administrator"))

		res, err := stack.Client().Get(site.Address + "/")
		require.NoError(t, err)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, http.StatusOK, res.StatusCode)
		require.Contains(t, string(body), "M-"+school.Settings["measurement"][2:])
		require.NotContains(t, string(body), "base.localhost:")
		world.LoginInBrowser(t, site, password)
	}
	rep := world.Ask[wire.Report](t, "site", "check", "alder-valley")
	require.Zero(t, rep.Faults())
	require.Contains(t, world.Must(t, "site", "list"), "Cedar Hill Youth Orchestra")
}

func TestInspectingARelease(t *testing.T) {
	world.Prepared(t)
	r := world.Ask[wire.Release](t, "release", "show", "music-base@1")
	require.Equal(t, "music-base@1", r.Ref)
	c := world.Ask[wire.Contents](t, "release", "contents", "music-base@1", "wp-content/uploads")
	require.Equal(t, "media", c.Nodes[0].Area)
	require.Contains(t, world.Must(t, "release", "contents", "music-base@1", "--find", "*.jpg"), "choir.jpg")
	require.Contains(t, world.Must(t, "release", "contents", "music-base@1", "database"), "lad_options")
	require.Len(t, world.Ask[wire.Contents](t, "release", "contents", "music-base@1", "--largest", "5").Nodes, 5)

	dir := t.TempDir()
	world.Must(t, "release", "extract", "music-base@1", "wp-content/plugins/loom-school", "wp-login.php", "--to", dir)
	require.FileExists(t, filepath.Join(dir, "wp-content/plugins/loom-school/loom-school.php"))
	require.FileExists(t, filepath.Join(dir, "wp-login.php"))
	require.Equal(t, 3, world.Nestseed(t, "release", "extract", "music-base@1", "nope", "--to", dir).Code)

	file := filepath.Join(dir, "r.zip")
	require.NoError(t, os.WriteFile(file+".part", nil, 0o600))
	world.Must(t, "release", "download", "music-base@1", "--to", file)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file+".part", whole[:len(whole)/3], 0o600))
	world.Must(t, "release", "download", "music-base@1", "--to", file)
	z, err := zip.OpenReader(file)
	require.NoError(t, err)
	require.Equal(t, "nestseed.json", z.File[0].Name)
	z.Close()

	req, err := http.NewRequest(http.MethodGet, world.Service.Address()+"/api/v1/releases/music-base@1/file?path=wp-config.php", nil)
	require.NoError(t, err)
	token, err := os.ReadFile(world.Service.Data + "/owner-token")
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
	world.Prepared(t)
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
			world.AddClient(t, scenario.Schools(1)[0])
		}
		r := world.Nestseed(t, c.args...)
		require.Equal(t, c.code, r.Code, "%v: %s", c.args, r.Err)
		require.Contains(t, r.Err, c.sentence, c.args)
		require.Equal(t, 1, strings.Count(strings.TrimSpace(r.Err), "\n")+1, "one line: %q", r.Err)
		require.Empty(t, r.Out)
	}
}

func TestAPlanNamesWhatIsMissingAndProvisioningRefusesIt(t *testing.T) {
	world.Prepared(t)
	world.Must(t, "client", "add", "empty-client", "--set", "title=Empty")
	p := world.Ask[wire.Plan](t, "site", "plan", "empty-client", "--from", "music-base", "--host", "preview")
	require.False(t, p.Ready)
	require.ElementsMatch(t, []string{"email", "measurement"}, p.Missing)
	r := world.Nestseed(t, "site", "provision", "empty-client", "--from", "music-base", "--host", "preview")
	require.Equal(t, 4, r.Code)
	require.Contains(t, r.Err, "Measurement id (measurement) is missing")
	world.NothingLeft(t, "empty-client")
	require.True(t, world.Ask[wire.Plan](t, "site", "plan", "empty-client", "--from", "music-base", "--host", "preview", "--set",
		"email=a@b.example", "--set", "measurement=M-AAAAAA").Ready)
}

func TestSecretsStayInTheVault(t *testing.T) {
	world.Prepared(t)
	world.Must(t, "client", "add", "secretive", "--set", "booking_licence=LB-TOP-SECRET", "--set", "title=x")
	require.NotContains(t, world.Must(t, "client", "show", "secretive"), "TOP-SECRET")
	require.NotContains(t, world.Must(t, "--json", "client", "show", "secretive"), "TOP-SECRET")
	require.Equal(t, "LB-TOP-SECRET\n", world.Must(t, "vault", "reveal", "client", "secretive", "booking_licence"))
	require.Equal(t, 3, world.Nestseed(t, "vault", "reveal", "client", "secretive", "nope").Code)
	world.Must(t, "client", "set", "secretive", "booking_licence=")
	require.Equal(t, 3, world.Nestseed(t, "vault", "reveal", "client", "secretive", "booking_licence").Code)
	require.NotContains(t, world.Must(t, "--json", "host", "show", "preview"), world.Stack.AdminPassword)
	require.NotContains(t, world.Service.Out.String(), world.Stack.AdminPassword)
	u, err := url.Parse(world.Ask[wire.Host](t, "host", "show", "preview").Database)
	require.NoError(t, err)
	_, has := u.User.Password()
	require.False(t, has)
	world.Must(t, "client", "remove", "secretive")
}

func TestAddingASourceAgainDoesNotTouchItsPassword(t *testing.T) {
	world.Prepared(t)
	add := func(name, password string) world.Result {
		file := filepath.Join(t.TempDir(), "password")
		require.NoError(t, os.WriteFile(file, []byte(password), 0o600))
		return world.Nestseed(t, "source", "add", name, "--host", "preview", "--path", "base", "--database",
			fmt.Sprintf("mysql://lad_reader@127.0.0.1:%d/lad_base", world.Stack.DatabasePort), "--database-password-file", file)
	}
	require.Equal(t, 2, add("read-only", "wrong").Code)
	require.NotContains(t, world.Must(t, "vault", "list"), "read-only", "what could not be added leaves no secret")
	require.Zero(t, add("read-only", scenario.BaseDatabasePassword).Code)
	require.Equal(t, 4, add("read-only", "wrong").Code)
	require.Equal(t, scenario.BaseDatabasePassword+"\n", world.Must(t, "vault", "reveal", "source", "read-only", "database"))
	world.Must(t, "source", "survey", "read-only")
	world.Must(t, "source", "remove", "read-only")
}

// What was added can be changed, and a change that would not work, or would strand a site, changes nothing.
func TestAHostASourceAndAStarterAreChanged(t *testing.T) {
	world.Prepared(t)
	before := world.Ask[wire.Host](t, "host", "show", "preview")
	require.Contains(t, world.Must(t, "host", "set", "preview", "--connect", before.Connect), "host preview changed")
	after := world.Ask[wire.Host](t, "host", "show", "preview")
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
		r := world.Nestseed(t, append([]string{"host", "set", "preview"}, c.words...)...)
		require.Equal(t, 2, r.Code, what)
		require.Contains(t, r.Err, c.says, what)
	}
	require.Equal(t, after.Files, world.Ask[wire.Host](t, "host", "show", "preview").Files)
	world.Must(t, "host", "test", "preview")

	database := fmt.Sprintf("mysql://lad_reader@127.0.0.1:%d/lad_base", world.Stack.DatabasePort)
	world.Must(t, "source", "add", "moved", "--host", "preview", "--path", "base")
	wrong, right := filepath.Join(t.TempDir(), "wrong"), filepath.Join(t.TempDir(), "right")
	require.NoError(t, os.WriteFile(wrong, []byte("wrong"), 0o600))
	require.NoError(t, os.WriteFile(right, []byte(scenario.BaseDatabasePassword), 0o600))
	require.Equal(t, 2, world.Nestseed(t, "source", "set", "moved", "--path", "elsewhere").Code)
	require.Equal(t, 2, world.Nestseed(t, "source", "set", "moved", "--database", database, "--database-password-file", wrong).Code)
	require.NotContains(t, world.Must(t, "vault", "list"), "moved")
	world.Must(t, "source", "set", "moved", "--database", database, "--database-password-file", right)
	require.Equal(t, 2, world.Nestseed(t, "source", "set", "moved", "--database", database, "--database-password-file", wrong).Code)
	require.Equal(t, scenario.BaseDatabasePassword+"\n", world.Must(t, "vault", "reveal", "source", "moved", "database"),
		"the password that works stays")
	world.Must(t, "source", "set", "moved", "--address", "http://moved.localhost")
	require.Equal(t, "http://moved.localhost", world.Ask[wire.Source](t, "source", "show", "moved").Address)

	world.Must(t, "starter", "create", "other-line", "--from", "base")
	require.Contains(t, world.Must(t, "starter", "set", "other-line", "--from", "moved"), "built from source moved")
	require.Equal(t, "moved", world.Ask[wire.Starter](t, "starter", "show", "other-line").Source)
	require.Equal(t, 3, world.Nestseed(t, "starter", "set", "other-line", "--from", "nothing").Code)
	world.Must(t, "starter", "remove", "other-line")
	world.Must(t, "source", "remove", "moved")
}

func TestClientsComeFromATable(t *testing.T) {
	table := "\ufeffname,title,email\nlark-rise,Lark Rise Ukulele,a@lark.example\nmoor-top,\"Moor Top, Pipes\",b@moor.example\n"
	r := world.WithInput(t, table, "client", "import", "-")
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, world.Must(t, "client", "show", "moor-top"), "Moor Top, Pipes")
	require.Equal(t, 2, world.WithInput(t, "title\nx\n", "client", "import", "-").Code)
}

func TestTwoPeopleAtOnceMakeOneSite(t *testing.T) {
	world.Prepared(t)
	school := scenario.Schools(4)[3]
	world.AddClient(t, school)
	svc := world.Service.Client(t)
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
	site := world.Ask[wire.Site](t, "site", "show", school.Name)
	require.Zero(t, site.Report.Faults())
}
