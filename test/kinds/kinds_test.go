package kinds

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// everyHost makes a host that has a server of every engine, once.
var everyHost = sync.OnceValue(func() error {
	return world.Stack.StartPostgres(context.Background())
})

func hostOfEveryEngine(t *testing.T) {
	t.Helper()
	require.NoError(t, everyHost())
	if world.Nestseed(t, "host", "show", "every").Code == 0 {
		return
	}
	for host, at := range places("every") {
		world.Must(t, "host", "add", host, "--files", "file://"+world.Stack.Sites()+"?owner=www-data", "--address", at[1], "--web-root", at[0],
			"--database", world.Stack.DatabaseURL(), "--database", world.Stack.PostgresURL())
	}
}

// places are a host, one beside it for moves, and one for sites that share code: folder and address of each.
func places(host string) map[string][2]string {
	return map[string][2]string{host: {"{name}", world.Stack.Address("{name}")}, host + "-live": {"live-{name}", world.Stack.Address("live-{name}")},
		host + "-shared": {"{name}", world.Stack.SharedAddress("{name}")}}
}

// pairs are the kinds, each with the engines of databases that it can have.
var pairs = []struct{ kind, engine string }{{"drupal", "mysql"}, {"joomla", "mysql"}, {"drupal", "postgres"}, {"joomla", "postgres"},
	{"drupal", "sqlite"}, {"wordpress", "sqlite"}, {"noticeboard", "none"}}

// usual are the ways that each change goes: every two of kind, engine and host meet in one of them, or in the tests of WordPress on MariaDB.
// All others are tried with PAIRS=all.
var usual = map[string][]string{
	"every":        {"drupal on mysql", "joomla on mysql", "drupal on postgres", "wordpress on sqlite", "noticeboard on none"},
	"over-ssh":     {"drupal on sqlite", "joomla on postgres", "noticeboard on none"},
	"over-ftp-all": {"drupal on sqlite", "joomla on postgres", "noticeboard on none"},
}

// TestTheMainJobOnEveryKindHostAndDatabase goes from a source to a client's site and back: for each kind on each database that it can have,
// on this machine's folders, over SSH alone, and with files over FTP. (WordPress on MariaDB, over SSH and FTP too, has tests of its own.)
func TestTheMainJobOnEveryKindHostAndDatabase(t *testing.T) {
	hosts := map[string]func(t *testing.T, host string){"every": func(t *testing.T, _ string) { hostOfEveryEngine(t) }, "over-ssh": hostOverSSH,
		"over-ftp-all": hostOverFTP}
	hostOfEveryEngine(t)
	refused := world.Nestseed(t, "source", "add", "no-kind", "--host", "every", "--path", noticeboard(t, "no-kind"))
	require.Contains(t, refused.Err, "no known kind of site")
	file, err := filepath.Abs("../../docs/kinds/noticeboard.yaml") // described in a file of one's own
	require.NoError(t, err)
	world.Must(t, "kind", "check", file)
	world.Must(t, "kind", "add", file)
	require.Contains(t, world.Must(t, "kind", "list"), "Noticeboard")
	for _, host := range slices.Sorted(maps.Keys(hosts)) {
		t.Run(host, func(t *testing.T) {
			if world.Nestseed(t, "host", "show", host).Code != 0 {
				hosts[host](t, host)
			}
			for _, pair := range pairs {
				name := pair.kind + " on " + pair.engine
				if os.Getenv("PAIRS") != "all" && !slices.Contains(usual[host], name) {
					continue
				}
				t.Run(name, func(t *testing.T) {
					t.Parallel()
					mainJobOfKind(t, pair.kind, pair.engine, host)
				})
			}
		})
		nothingLeftOnPostgres(t)
	}
}

// noticeboard installs a site of that kind, and returns its folder below the host's.
func noticeboard(t *testing.T, name string) string {
	t.Helper()
	require.NoError(t, world.Stack.InstallNoticeboard(t.Context(), stack.StandIn{Name: name, Title: "Notices", Salt: "pepper-of-" + name,
		AdminPassword: "let-me-in-please"}))
	return name
}

// hostOverSSH makes a host whose files and databases are reached over SSH alone, and another one for moves.
func hostOverSSH(t *testing.T, host string) {
	ssh, err := world.Stack.StartSSH(t.Context(), false)
	require.NoError(t, err)
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte(ssh.PrivateKey), 0o600))
	mysql, postgres := world.Stack.DatabaseURL()+"?through=files", strings.Replace(world.Stack.PostgresURL(), "?sslmode=disable", "?through=files", 1)
	for name, at := range places(host) {
		world.Must(t, "host", "add", name, "--files", ssh.Files(world.Stack.Sites()), "--files-key-file", key, "--address", at[1],
			"--web-root", at[0], "--database", mysql, "--database", postgres)
	}
	tested := world.Ask[wire.HostTest](t, "host", "test", host)
	require.Zero(t, tested.Faults(), "%+v", tested.Steps)
}

// hostOverFTP makes a host whose files are reached over FTP, and another one for moves.
func hostOverFTP(t *testing.T, host string) {
	ftp, err := world.Stack.StartFTP(t.Context())
	if errors.Is(err, stack.ErrRoot) {
		t.Skip(err)
	}
	require.NoError(t, err)
	password := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(password, []byte(ftp.Password), 0o600))
	for name, folder := range map[string]string{host: "{name}", host + "-live": "live-{name}"} {
		world.Must(t, "host", "add", name, "--files", ftp.Files(world.Stack.Sites()), "--files-password-file", password, "--address",
			world.Stack.Address(folder), "--web-root", folder, "--database", world.Stack.DatabaseURL(), "--database", world.Stack.PostgresURL())
	}
}

// family is how the sites of a kind are made, and where in them the parts lie that the main job looks at.
type family struct {
	install    func(t *testing.T, in stack.StandIn)
	media      string
	code       string // a file of its code
	keep       string // what can be kept of a site that is replaced
	told       bool   // the site tells its own address
	login      string // where people log in, while visitors are kept out; "" where they cannot be
	database   string // the file of its database on SQLite
	showsPages bool
}

var families = map[string]family{
	"drupal": {media: "sites/default/files", code: "modules/recital/recital.info.yml", keep: "users", login: "/user/login", showsPages: true,
		database: "sites/default/database/base.sqlite",
		install:  func(t *testing.T, in stack.StandIn) { require.NoError(t, world.Stack.InstallDrupal(t.Context(), in)) }},
	"joomla": {media: "images", code: "libraries/index.html", keep: "users", login: "/administrator/index.php", showsPages: true,
		install: func(t *testing.T, in stack.StandIn) { require.NoError(t, world.Stack.InstallJoomla(t.Context(), in)) }},
	"noticeboard": {media: "uploads", code: "themes/plain/plain.css", keep: "content", told: true,
		install: func(t *testing.T, in stack.StandIn) {
			require.NoError(t, world.Stack.InstallNoticeboard(t.Context(), in))
		}},
	"wordpress": {media: "wp-content/uploads", code: "wp-includes/blocks/list/style.min.css", keep: "users", told: true, login: "/wp-login.php", showsPages: true,
		database: "wp-content/database/.ht.sqlite", install: wordpressInAFile},
}

// wordpressInAFile installs all of WordPress with its database in a file, and a front page.
func wordpressInAFile(t *testing.T, in stack.StandIn) {
	require.NoError(t, world.Stack.InstallWordPress(t.Context(), stack.WordPress{Name: in.Name, Title: in.Title, Whole: true, SQLite: true, Prefix: in.Prefix,
		DatabasePassword: in.DatabasePassword, AdminPassword: in.AdminPassword, Salt: in.Salt, AdminEmail: in.AdminEmail}))
	dir := filepath.Join(world.Stack.Sites(), in.Name)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "wp-content/uploads/hall.png"), stack.OnePixel, 0o644))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "wp-content/themes/twentytwentytwo")))
	body := "<pre>" + in.Pages[0].Body + in.Pages[1].Body + "</pre>"
	cmd := exec.Command("sqlite3", filepath.Join(dir, in.Database), fmt.Sprintf(`UPDATE %[1]sposts SET post_content = '%[2]s' WHERE ID = 2;
		UPDATE %[1]soptions SET option_value = 'page' WHERE option_name = 'show_on_front';
		UPDATE %[1]soptions SET option_value = '2' WHERE option_name = 'page_on_front'`, in.Prefix, strings.ReplaceAll(body, "'", "''")))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, world.Stack.Own(dir))
}

func mainJobOfKind(t *testing.T, kind, engine, host string) {
	of := families[kind]
	base := "base-" + host + "-" + kind + "-" + engine
	in := stack.StandIn{Name: base, Title: "Loom & Ladder base", Engine: engine, Database: strings.ReplaceAll(base, "-", "_"), Prefix: "lad_",
		DatabasePassword: "seven-scales-" + engine, Salt: "pepper-and-salt-of-the-base-site", Admin: "ines", AdminPassword: "let-me-in-please",
		AdminEmail: "ines@loomandladder.example"}
	if engine == "sqlite" {
		in.Database = of.database
	}
	at, folder := world.Stack.Address(base), of.media
	in.Pages = []stack.Page{
		{Title: "Lessons", Body: `<p>It's "piano" \ 'violin' – ß 漢 🎻</p><img src="` + at + "/" + folder + `/hall.png" alt="The hall">`},
		{Title: "Concerts", Body: `<p><a href="` + at + `/">Back to ` + at + `</a></p>`},
	}
	of.install(t, in)
	home := world.Shows(t, at+"/")
	require.Contains(t, home, "Loom &amp; Ladder base")

	add := []string{"source", "add", base, "--host", host, "--path", base}
	if !of.told {
		refused := world.Nestseed(t, add...)
		require.Equal(t, 2, refused.Code)
		require.Contains(t, refused.Err, "say what the address is", "its address stands nowhere in it")
		add = append(add, "--address", at)
	}
	world.Must(t, add...)
	survey := world.Ask[wire.Survey](t, "source", "survey", base)
	require.Equal(t, "Loom & Ladder base", survey.Title)
	require.NotEmpty(t, survey.Version)
	for _, f := range survey.Findings {
		require.NotContains(t, f.What, "not active", "%s", f.Where)
	}
	world.Must(t, "starter", "create", base, "--from", base)
	world.Must(t, "packing", "check", base)
	world.Must(t, "release", "build", base)
	require.Contains(t, world.Must(t, "release", "verify", base), "every sum holds")
	to := filepath.Join(t.TempDir(), "release.zip")
	world.Must(t, "release", "download", base, "--to", to)
	packed, err := exec.Command("unzip", "-p", to).Output()
	require.NoError(t, err)
	for _, secret := range []string{in.DatabasePassword, in.Salt, in.AdminEmail} {
		require.False(t, strings.Contains(string(packed), secret), "%s is in the release", secret)
	}

	school := scenario.Schools(10)[9]
	school.Name = host + "-" + kind + "-" + engine
	world.AddClient(t, school)
	made := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", base, "--host", host)
	require.Zero(t, made.Report.Faults(), "%+v", made.Report)
	home = world.Shows(t, made.Address+"/")
	require.NotContains(t, home, at)
	expected := []string{made.Address + "/" + folder + "/hall.png", school.Settings["title"]}
	if of.showsPages {
		expected = append(expected, "ß 漢 🎻", `It's "piano" \ 'violin'`)
	}
	for _, shown := range expected {
		require.Contains(t, strings.ReplaceAll(home, "&#039;", "'"), shown)
	}
	require.Contains(t, world.Shows(t, at+"/"), "Loom &amp; Ladder base", "the source is as it was")
	require.NotContains(t, world.Shows(t, at+"/"), made.Address)

	before := tree(t, school.Name)
	world.Must(t, "site", "rotate", school.Name)
	world.Checked(t, school.Name)
	replaced := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", base, "--host", host, "--replace", "--keep", of.keep)
	require.Zero(t, replaced.Report.Faults(), "%+v", replaced.Report)
	world.Must(t, "site", "undo", school.Name)
	world.Checked(t, school.Name)
	cached := func(line string) bool { return strings.HasPrefix(line, "/var/cache/") }
	require.Len(t, slices.DeleteFunc(tree(t, school.Name), cached), len(slices.DeleteFunc(before, cached)), "the site as it was")
	world.Must(t, "site", "keep-copy", school.Name)
	held := world.Nestseed(t, "--json", "site", "hold", school.Name)
	if of.login != "" {
		require.Zero(t, held.Code, held.Err)
		status, body := world.Visit(t, made.Address+"/")
		require.Equal(t, 503, status)
		require.Contains(t, body, "This site opens soon")
		world.Shows(t, made.Address+of.login)
		world.Checked(t, school.Name)
		if kind == "joomla" { // whose settings file is written anew when somebody saves its configuration
			file := filepath.Join(world.Stack.Sites(), school.Name, "configuration.php")
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			saved := bytes.Replace(text, []byte(" require __DIR__ . '/nestseed-hold.php';\n"), nil, 1)
			require.NotEqual(t, text, saved)
			require.NoError(t, os.WriteFile(file, saved, 0o644))
			status, _ = world.Visit(t, made.Address+"/")
			require.Equal(t, 503, status, "visitors are kept out all the same")
		}
		copied := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", base, "--host", host, "--replace", "--hold")
		require.Zero(t, copied.Report.Faults(), "%+v", copied.Report)
		world.Must(t, "site", "undo", school.Name)
		world.Checked(t, school.Name)
		world.Must(t, "site", "open", school.Name)
		world.Shows(t, made.Address+"/")
	} else {
		require.NotZero(t, held.Code)
		require.Contains(t, held.Err, "cannot be held", "what a kind says nothing of is not done, and said")
	}

	// On another host, and back; newer code, and back.
	moved := world.Ask[wire.Site](t, "site", "move", school.Name, "--host", host+"-live")
	require.Zero(t, moved.Report.Faults(), "%+v", moved.Report)
	require.NotContains(t, world.Shows(t, moved.Address+"/"), made.Address)
	world.Must(t, "site", "undo", school.Name)
	world.Checked(t, school.Name)
	require.NoError(t, os.WriteFile(filepath.Join(world.Stack.Sites(), base, of.code), []byte("/* newer */"), 0o644))
	world.Must(t, "release", "build", base)
	refreshed := world.Ask[wire.Site](t, "site", "refresh", school.Name, "--to", base)
	require.Zero(t, refreshed.Report.Faults(), "%+v", refreshed.Report)
	newer, err := os.ReadFile(filepath.Join(world.Stack.Sites(), school.Name, of.code))
	require.NoError(t, err)
	require.Contains(t, string(newer), "newer")
	world.Must(t, "site", "undo", school.Name)
	world.Checked(t, school.Name)
	world.Must(t, "site", "retire", school.Name)
	world.NothingLeft(t, school.Name)
	left, err := filepath.Glob(filepath.Join(world.Stack.Sites(), "*"+school.Name+"*"))
	require.NoError(t, err)
	require.Len(t, left, 1, "the base site alone: %v", left)
}

// nothingLeftOnPostgres says that no database or role that was made for a site is on the server.
func nothingLeftOnPostgres(t *testing.T) {
	t.Helper()
	db, err := pgx.Connect(t.Context(), world.Stack.PostgresURL())
	require.NoError(t, err)
	defer db.Close(t.Context())
	var left []string
	require.NoError(t, db.QueryRow(t.Context(), `SELECT COALESCE(array_agg(name), '{}') FROM (SELECT datname AS name FROM pg_database UNION ALL
		SELECT rolname FROM pg_roles) x WHERE name LIKE 'ns\_%'`).Scan(&left))
	require.Empty(t, left)
}

func TestADraftOfAKindIsABeginning(t *testing.T) {
	hostOfEveryEngine(t)
	require.NoError(t, world.Stack.InstallNoticeboard(t.Context(), stack.StandIn{Name: "drafted", Title: "Notices", Salt: "pepper-of-the-drafted-0815",
		AdminPassword: "let-me-in-please"}))
	require.NoError(t, world.Stack.InstallJoomla(t.Context(), stack.StandIn{Name: "drafted-cms", Title: "Lessons", Engine: "postgres", Database: "drafted_cms",
		Prefix: "lad_", DatabasePassword: "seven-scales-drafted", Salt: "pepper-and-salt-of-the-draft", Admin: "ines", AdminPassword: "let-me-in-please",
		AdminEmail: "ines@loomandladder.example"}))
	for site, lines := range map[string][]string{
		"drafted": {`files: ["config/.site.yaml"]`, "syntax: yaml", `address: [{setting: "site.url"}]`, `site-title: {setting: "site.title"}`, `site-email: {setting: "site.email"}`,
			`salts: ["secret"]`, `caches: ["var/cache"]`},
		"drafted-cms": {`files: ["configuration.php"]`, "syntax: php", `driver: "JConfig->dbtype"`, `drivers: {postgres: ["pgsql"]}`, `name: "JConfig->db"`,
			`password: "JConfig->password"`, `prefix: "JConfig->dbprefix"`, `"JConfig->secret"`, `site-title: {setting: "JConfig->sitename"}`, "hash: bcrypt",
			`- table: "users"`, `"password": "{hash}"`, `empty: ["session"]`, `area: media, match: ["images/**"]`},
	} {
		name := strings.ReplaceAll(site, "drafted", "own")
		text := world.Must(t, "kind", "draft", name, "--host", "every", "--path", site, "--address", world.Stack.Address(site))
		for _, line := range lines {
			require.Contains(t, text, line)
		}
		require.NotContains(t, text, "seven-scales", "it tells no secret")
		file := filepath.Join(t.TempDir(), "kind.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		world.Must(t, "kind", "check", file)
	}
	require.Equal(t, 3, world.Nestseed(t, "kind", "draft", "own", "--host", "nowhere", "--path", "x").Code)
	require.Equal(t, 2, world.Nestseed(t, "kind", "draft", "own", "--host", "every", "--path", "nowhere").Code)
}

func TestAKindIsAddedChangedAndRemoved(t *testing.T) {
	text, err := os.ReadFile("../../docs/kinds/noticeboard.yaml")
	require.NoError(t, err)
	dir := t.TempDir()
	file := func(change func(string) string) string {
		name := filepath.Join(dir, "kind.yaml")
		require.NoError(t, os.WriteFile(name, []byte(change(strings.Replace(string(text), "name: noticeboard", "name: pinboard", 1))), 0o600))
		return name
	}
	same := func(s string) string { return s }
	world.Must(t, "kind", "add", file(same))
	require.Contains(t, world.Must(t, "kind", "show", "pinboard"), "title: Noticeboard")
	world.Must(t, "kind", "add", file(func(s string) string { return strings.Replace(s, "title: Noticeboard", "title: Pinboard", 1) }))
	require.Contains(t, world.Must(t, "kind", "list"), "Pinboard")
	for what, change := range map[string]func(string) string{
		"comes with the program": func(s string) string { return strings.Replace(s, "name: pinboard", "name: wordpress", 1) },
		"unknown field":          func(s string) string { return s + "\nlogn: {}\n" },
		"packing list called":    func(s string) string { return strings.Replace(s, "whole-site: |", "other: |", 1) },
		"no area":                func(s string) string { return strings.Replace(s, "by-folder: [themes]", "by-folder: [nothing]", 1) },
	} {
		r := world.Nestseed(t, "kind", "add", file(change))
		require.Equal(t, 2, r.Code, what)
		require.Contains(t, r.Err, what)
	}
	world.Must(t, "kind", "remove", "pinboard")
	require.Equal(t, 3, world.Nestseed(t, "kind", "show", "pinboard").Code)
	require.Equal(t, 2, world.Nestseed(t, "kind", "remove", "wordpress").Code)
}

// A site whose database is a file comes with it: in its folder, or given beside.
// A kind whose signs fit a source that is there does not take it over: what it packs would be packed by rules that know none of its secrets.
func TestAKindThatFitsASourceOfAnotherDoesNotTakeItOver(t *testing.T) {
	must := func(words ...string) string { return world.Must(t, words...) }
	hostOfEveryEngine(t)
	path := noticeboard(t, "taken")
	file, err := filepath.Abs("../../docs/kinds/noticeboard.yaml")
	require.NoError(t, err)
	must("kind", "add", file)
	must("source", "add", "taken", "--host", "every", "--path", path)
	must("starter", "create", "taken", "--from", "taken")
	must("release", "build", "taken")
	before := world.Ask[wire.Release](t, "release", "show", "taken@1")
	greedy := filepath.Join(t.TempDir(), "greedy.yaml")
	require.NoError(t, os.WriteFile(greedy, []byte("name: greedy\ntitle: Greedy\ndetect: [index.php]\nlists:\n  starter: |\n    list: starter\n"+
		"  whole-site: |\n    list: whole-site\n"), 0o600))
	require.Contains(t, must("kind", "add", greedy), "its signs also fit the sources ")
	t.Cleanup(func() { must("kind", "remove", "greedy") })

	must("release", "build", "taken", "--full")
	after := world.Ask[wire.Release](t, "release", "show", "taken@2")
	require.Equal(t, []string{"noticeboard", before.Manifest.Defined}, []string{after.Manifest.Kind, after.Manifest.Defined})
	require.Equal(t, before.Manifest.Totals, after.Manifest.Totals)
	refused := world.Nestseed(t, "source", "add", "greedy", "--host", "every", "--path", path)
	require.NotZero(t, refused.Code)
	require.Contains(t, refused.Err, "looks like more than one kind of site (greedy, noticeboard); say which it is")
	require.Equal(t, "greedy", world.Ask[wire.Source](t, "source", "add", "greedy", "--host", "every", "--path", path, "--kind", "greedy",
		"--address", world.Stack.Address("taken")).Kind)
	must("source", "remove", "greedy")
}

func TestASiteWithItsDatabaseInAFileIsImported(t *testing.T) {
	hostOfEveryEngine(t)
	const base = "base-in-a-file"
	require.NoError(t, world.Stack.InstallDrupal(t.Context(), stack.StandIn{Name: base, Title: "Folk music", Engine: "sqlite",
		Database: "sites/default/database/folk.sqlite", Salt: "pepper-of-the-base-in-a-file", Admin: "ines", AdminPassword: "let-me-in-please",
		AdminEmail: "ines@loomandladder.example", Pages: []stack.Page{{Title: "Sessions", Body: "<p>Every Monday – ß 🎻</p>"}}}))
	file := filepath.Join(world.Stack.Sites(), base, "sites/default/database/folk.sqlite")
	out, err := exec.Command("sqlite3", file, "CREATE TRIGGER backdoor AFTER INSERT ON users BEGIN DELETE FROM node; END").CombinedOutput()
	require.NoError(t, err, "%s", out)
	whole, without := filepath.Join(t.TempDir(), "site.zip"), filepath.Join(t.TempDir(), "files.zip")
	for _, args := range [][]string{{whole, "."}, {without, ".", "-x", "*.sqlite"}} {
		zip := exec.Command("zip", append([]string{"-q", "-r"}, args...)...)
		zip.Dir = filepath.Join(world.Stack.Sites(), base)
		require.NoError(t, zip.Run())
	}
	for name, args := range map[string][]string{"folk-whole": {whole}, "folk-beside": {without, "--database", file}} {
		world.Must(t, append([]string{"release", "import", name}, args...)...)
		release := world.Ask[wire.Release](t, "release", "show", name)
		require.Equal(t, "SQLite", release.Manifest.Database.Engine)
		require.NotEmpty(t, release.Manifest.Tables)
		require.Contains(t, strings.Join(release.Manifest.Notes, "; "), "trigger backdoor is left out")
		school := scenario.Schools(11)[10]
		school.Name = name
		world.AddClient(t, school)
		made := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", name, "--host", "every")
		require.Zero(t, made.Report.Faults(), "%+v", made.Report)
		require.Contains(t, world.Shows(t, made.Address+"/"), "Every Monday – ß 🎻")
		world.Must(t, "site", "retire", school.Name)
	}
	broken := filepath.Join(t.TempDir(), "broken.sqlite")
	require.NoError(t, os.WriteFile(broken, []byte("SQLite format 3\x00"+strings.Repeat("x", 9000)), 0o600))
	r := world.Nestseed(t, "release", "import", "folk-broken", without, "--database", broken)
	require.NotZero(t, r.Code)
	require.Contains(t, r.Err, "cannot be read")
}

// A site on PostgreSQL comes as an archive of its files and a dump of the server's own program.
func TestASiteOnPostgresIsImported(t *testing.T) {
	hostOfEveryEngine(t)
	const base, secret = "base-imported", "seven-scales-imported"
	require.NoError(t, world.Stack.InstallDrupal(t.Context(), stack.StandIn{Name: base, Title: "Folk music", Engine: "postgres", Database: "base_imported",
		DatabasePassword: secret, Salt: "pepper-of-the-imported-base", Admin: "ines", AdminPassword: "let-me-in-please",
		AdminEmail: "ines@loomandladder.example", Pages: []stack.Page{{Title: "Sessions", Body: "<p>Every Monday – ß 🎻</p>"}}}))
	dir := t.TempDir()
	archive, dump := filepath.Join(dir, "site.zip"), filepath.Join(dir, "site.dump")
	zip := exec.Command("zip", "-q", "-r", archive, ".")
	zip.Dir = filepath.Join(world.Stack.Sites(), base)
	require.NoError(t, zip.Run())
	u, err := url.Parse(world.Stack.PostgresURL())
	require.NoError(t, err)
	out := exec.Command("pg_dump", "-h", "127.0.0.1", "-p", u.Port(), "-U", "base_imported", "-Fc", "-f", dump, "base_imported")
	out.Env = append(os.Environ(), "PGPASSWORD="+secret)
	said, err := out.CombinedOutput()
	require.NoError(t, err, string(said))

	world.Must(t, "release", "import", "folk", archive, "--database", dump)
	release := world.Ask[wire.Release](t, "release", "show", "folk")
	require.Equal(t, "PostgreSQL", release.Manifest.Database.Engine)
	require.NotEmpty(t, release.Manifest.Tables)
	school := scenario.Schools(11)[10]
	school.Name = "imported-folk"
	world.AddClient(t, school)
	made := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", "folk", "--host", "every")
	require.Zero(t, made.Report.Faults(), "%+v", made.Report)
	require.Contains(t, world.Shows(t, made.Address+"/"), "Every Monday – ß 🎻")
	world.Must(t, "site", "retire", school.Name)
}
