package kinds

import (
	"context"
	"database/sql"
	"fmt"
	"html"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
	"nestseed/test/attack"
	"nestseed/test/world"
)

// tenants makes schools that share the code of an install.
func tenants(t *testing.T, install string, names ...string) (made []wire.Site) {
	t.Helper()
	for i, name := range names {
		school := scenario.Schools(i + 1)[i]
		school.Name = name
		world.AddClient(t, school)
		site := world.Ask[wire.Site](t, "site", "provision", name, "--tenant-of", install)
		require.Zero(t, site.Report.Faults(), "%+v", site.Report)
		require.Equal(t, install, site.Install)
		made = append(made, site)
	}
	return made
}

// isLink reports whether a name in a site's folder leads to shared code.
func isLink(t *testing.T, site, name string) bool {
	t.Helper()
	info, err := os.Lstat(filepath.Join(world.Stack.Sites(), site, name))
	require.NoError(t, err)
	return info.Mode()&os.ModeSymlink != 0
}

func TestSitesShareTheCodeOfAnInstall(t *testing.T) {
	world.Prepared(t)
	refused := world.Nestseed(t, "site", "plan", "alder-valley", "--tenant-of", "nowhere")
	require.Equal(t, 3, refused.Code, refused.Err)
	world.StarterOf(t, "shared-base")
	world.Must(t, "release", "build", "shared-base")
	world.Must(t, "install", "add", "schools", "--from", "shared-base", "--host", "shared")
	require.NotZero(t, world.Nestseed(t, "install", "add", "schools", "--from", "shared-base", "--host", "shared").Code, "it has that code")
	made := tenants(t, "schools", "tenant-a", "tenant-b", "tenant-c")
	for _, s := range made {
		require.Contains(t, html.UnescapeString(world.Shows(t, s.Address+"/")), s.Title)
		require.NotContains(t, world.Shows(t, s.Address+"/"), world.Stack.Address("base"))
		require.True(t, isLink(t, s.Name, "wp-includes"))
		require.False(t, isLink(t, s.Name, "wp-content/uploads"))
	}
	require.Contains(t, world.Must(t, "install", "show", "schools"), "tenant-b")
	require.Contains(t, world.Nestseed(t, "install", "remove", "schools").Err, "in use")

	// What is done with sites is done with tenants.
	a, name := made[0], made[0].Name
	world.Must(t, "site", "rotate", name)
	world.Must(t, "site", "hold", name)
	status, _ := world.Visit(t, a.Address+"/")
	require.Equal(t, 503, status)
	status, _ = world.Visit(t, made[1].Address+"/")
	require.Equal(t, 200, status, "its neighbour is not held")
	world.Must(t, "site", "open", name)
	world.Checked(t, name)
	world.Must(t, "site", "keep-copy", name)
	copies := world.Ask[wire.Site](t, "site", "show", name).Copies
	require.Less(t, copies[0].Bytes, a.Bytes+(2<<20), "no code is in its safety copy")
	world.Must(t, "site", "put-back", name, fmt.Sprint(copies[0].ID))
	world.Checked(t, name)
	require.True(t, isLink(t, name, "wp-includes"))
	world.Must(t, "site", "undo", name)
	world.Checked(t, name)
	// Out into a site of its own, and in again.
	out := world.Ask[wire.Site](t, "site", "refresh", name, "--to", "shared-base", "--own-code")
	require.Zero(t, out.Report.Faults(), "%+v", out.Report)
	require.False(t, isLink(t, name, "wp-includes"))
	require.Empty(t, world.Ask[wire.Site](t, "site", "show", name).Install)
	in := world.Ask[wire.Site](t, "site", "refresh", name, "--to", "shared-base", "--tenant-of", "schools")
	require.Zero(t, in.Report.Faults(), "%+v", in.Report)
	require.True(t, isLink(t, name, "wp-includes"))
	require.Equal(t, "schools", world.Ask[wire.Site](t, "site", "show", name).Install)

	// Another address where it stands.
	also := filepath.Join(world.Stack.Sites(), "tenant-moved")
	require.NoError(t, os.Symlink(made[1].Name, also), "as the web server is told")
	t.Cleanup(func() { os.Remove(also) })
	world.Must(t, "site", "move", made[1].Name, "--host", "shared", "--address", world.Stack.SharedAddress("tenant-moved"))
	require.Equal(t, 1, strings.Count(world.Must(t, "install", "show", "schools"), "tenant-moved"))
	world.Must(t, "site", "undo", made[1].Name)
	world.Checked(t, made[1].Name)

	world.Must(t, "site", "retire", name, "--no-copy")
	world.NothingLeft(t, name)
	doors, err := filepath.Glob(filepath.Join(world.Stack.Sites(), ".installs/schools/*/tenants/*"))
	require.NoError(t, err)
	require.Len(t, doors, 2, "%v", doors)
	for _, s := range made[1:] {
		world.Must(t, "site", "retire", s.Name, "--no-copy")
	}
	require.Contains(t, world.Nestseed(t, "install", "remove", "schools").Err, "safety copies of "+name)
	for _, s := range made {
		for _, c := range world.Ask[wire.Site](t, "site", "show", s.Name).Copies {
			world.Must(t, "site", "drop-copy", s.Name, fmt.Sprint(c.ID))
		}
	}
	world.Must(t, "install", "remove", "schools")
	_, err = os.Stat(filepath.Join(world.Stack.Sites(), ".installs"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

// Two hosts may be the same folder of a server, as previews and live sites: each removes what is its own.
func TestInstallsOfTwoHostsLieInOneFolder(t *testing.T) {
	world.Prepared(t)
	hostOfEveryEngine(t)
	code := func(install string) string {
		found, err := filepath.Glob(filepath.Join(world.Stack.Sites(), ".installs", install, "*", "wp-load.php"))
		require.NoError(t, err)
		return strings.Join(found, " ")
	}
	world.Must(t, "install", "add", "here", "--from", "music-base", "--host", "shared")
	world.Must(t, "install", "add", "next-door", "--from", "music-base", "--host", "every")
	world.Must(t, "install", "remove", "here")
	require.Empty(t, code("here"))
	require.NotEmpty(t, code("next-door"))
	world.Must(t, "install", "remove", "next-door")
	require.NoDirExists(t, filepath.Join(world.Stack.Sites(), ".installs"))
}

// TestTheTenantsOfATableShowTheirPagesTogether makes three, one of which has a fault that its home page shows.
func TestTheTenantsOfATableShowTheirPagesTogether(t *testing.T) {
	world.Prepared(t)
	world.StarterOf(t, "halls-base")
	ext := world.InBase("wp-content/mu-plugins/breaks.php")
	require.NoError(t, os.MkdirAll(filepath.Dir(ext), 0o755))
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(ext)) })
	require.NoError(t, os.WriteFile(ext, []byte("<?php\nadd_action( 'template_redirect', function () { 'Broken' === get_bloginfo() && "+
		"http_response_code( 500 ) && exit( 'broken' ); } );"), 0o644))
	world.Must(t, "release", "build", "halls-base")
	world.Must(t, "install", "add", "halls", "--from", "halls-base", "--host", "shared")
	var table strings.Builder
	table.WriteString("client,title,email,contact,phone,measurement,booking_licence\n")
	for i, name := range []string{"hall-a", "hall-b", "hall-c", "hall-d"} {
		title := map[bool]string{true: "Broken", false: "Hall " + name}[name == "hall-c"]
		fmt.Fprintf(&table, "%[1]s,%[2]s,office@%[1]s.example,office@%[1]s.example,01632 96020%[3]d,M-7K2P4D,LB-7K2P4D\n", name, title, i)
	}
	r := world.WithInput(t, table.String(), "site", "provision", "--table", "-", "--tenant-of", "halls")
	require.Equal(t, 5, r.Code, r.Out+r.Err)
	report := func(name string) *wire.Report { return world.Ask[wire.Site](t, "site", "show", name).Report }
	whole, part, broken := report("hall-a"), report("hall-b"), report("hall-c")
	require.Greater(t, whole.Pages, 10)
	require.Zero(t, whole.Faults())
	require.Equal(t, "hall-a", part.Like)
	require.Zero(t, part.Faults(), "%+v", part.Checks)
	require.Less(t, part.Pages, whole.Pages)
	require.GreaterOrEqual(t, part.Pages+report("hall-d").Pages, whole.Pages/2, "what is opened is dealt out")
	require.Empty(t, broken.Like, "where something is wrong, all is looked at")
	require.NotZero(t, broken.Faults())
	world.Must(t, "site", "check", "hall-b", "--full")
	require.Empty(t, report("hall-b").Like)
	require.Equal(t, whole.Pages, report("hall-b").Pages)
	for _, name := range []string{"hall-a", "hall-b", "hall-c", "hall-d"} {
		world.Must(t, "site", "retire", name, "--no-copy")
	}
	world.Must(t, "install", "remove", "halls")
}

// TestAttackOfATenantReachesNothingOfAnother attacks with what somebody has who has broken into one: its database account, its administrator,
// and the account that its programs run as.
func TestAttackOfATenantReachesNothingOfAnother(t *testing.T) {
	world.Prepared(t)
	world.StarterOf(t, "guarded-base")
	world.Must(t, "release", "build", "guarded-base")
	world.Must(t, "install", "add", "guarded", "--from", "guarded-base", "--host", "shared")
	made := tenants(t, "guarded", "guard-a", "guard-b")
	a, b := made[0], made[1]
	folder := func(s wire.Site) string { return filepath.Join(world.Stack.Sites(), s.Name) }

	password := strings.TrimSpace(world.Must(t, "vault", "reveal", "site", a.Name, "database"))
	db, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/", a.Database, password, world.Stack.DatabasePort))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("SELECT * FROM " + a.Database + "." + a.Prefix + "options LIMIT 1")
	require.NoError(t, err)
	_, err = db.Exec("SELECT * FROM " + b.Database + "." + b.Prefix + "options LIMIT 1")
	require.ErrorContains(t, err, "denied")

	// Its administrator changes no code: it is that of all.
	browser := world.LogsIn(t, a)
	for _, page := range []string{"plugin-install.php", "theme-install.php", "plugin-editor.php", "theme-editor.php", "update-core.php?action=do-core-upgrade"} {
		res, err := browser.Get(a.Address + "/wp-admin/" + page)
		require.NoError(t, err)
		res.Body.Close()
		require.NotEqual(t, 200, res.StatusCode, page)
	}

	// Programs that somebody has put into its folder, with settings of PHP of their own. They look in all ways that they know.
	status, _ := world.Visit(t, b.Address+"/") // so that PHP has compiled what the other runs
	require.Equal(t, 200, status)
	script := `<?php
	header('Content-Type: text/plain');
	$all = [];
	$ways = [
		'file' => function ($name) { return @is_dir($name) ? @scandir($name) : @file_get_contents($name); },
		'open' => function ($name) { $f = @fopen($name, 'r'); return $f ? fread($f, 9) : false; },
		'glob' => function ($name) { return @glob(is_dir($name) ? $name . '/*' : $name) ?: false; },
		'ini_set' => function ($name) { @ini_set('open_basedir', '/'); return @file_get_contents($name); },
		'link' => function ($name) { @symlink($name, __DIR__ . '/b'); $read = @file_get_contents(__DIR__ . '/b'); @unlink(__DIR__ . '/b'); return $read; },
		'hard link' => function ($name) { $ok = @link($name, __DIR__ . '/h'); @unlink(__DIR__ . '/h'); return $ok; },
		'program' => function ($name) { return function_exists('shell_exec') ? shell_exec('cat ' . escapeshellarg($name)) ?: false : false; },
		'pipe' => function ($name) { return function_exists('popen') ? fread(popen('cat ' . escapeshellarg($name), 'r'), 9) : false; },
		'include' => function ($name) { ob_start(); $was = defined('DB_PASSWORD'); @include $name; ob_end_clean(); return defined('DB_PASSWORD') && !$was; },
	];
	foreach (['settings' => '%[1]s/wp-config.php', 'uploads' => '%[1]s/wp-content/uploads', 'doors' => '%[2]s/tenants/%[3]s/wp-config.php', 'system' => '/etc/passwd',
		'temporary' => '/tmp/nestseed-of-another'] as $what => $name) {
		foreach ($ways as $way => $try) {
			try { $got = $try($name); } catch (Throwable $e) { $got = false; }
			if ($got !== false) { $all[] = "$what READ by $way"; }
		}
	}
	foreach (['%[2]s/wp-includes/version.php', '%[2]s/index.php', '%[2]s/new.php', dirname(__DIR__, 3) . '/.user.ini'] as $name) {
		if (@file_put_contents($name, '<?php', FILE_APPEND) !== false) { $all[] = "WRITTEN $name"; }
	}
	@unlink(dirname(__DIR__, 3) . '/.user.ini');
	@rename(dirname(__DIR__, 3) . '/.user.ini', __DIR__ . '/away');
	if (!is_file(dirname(__DIR__, 3) . '/.user.ini')) { $all[] = 'GONE'; }
	$all[] = file_put_contents(ini_get('upload_tmp_dir') . '/x', 'x') === 1 ? 'own temporary files' : 'no temporary files';
	@unlink(ini_get('upload_tmp_dir') . '/x');
	echo implode("\n", $all);`
	require.NoError(t, os.WriteFile("/tmp/nestseed-of-another", []byte("an upload of another"), 0o644))
	t.Cleanup(func() { os.Remove("/tmp/nestseed-of-another") })
	code, err := filepath.Glob(filepath.Join(world.Stack.Sites(), ".installs/guarded/*"))
	require.NoError(t, err)
	require.Len(t, code, 1)
	host, err := url.Parse(b.Address)
	require.NoError(t, err)
	found := filepath.Join(folder(a), "wp-content/uploads/found")
	require.NoError(t, os.Mkdir(found, 0o755))
	for name, text := range map[string][]byte{"found.php": fmt.Appendf(nil, script, folder(b), code[0], host.Hostname()),
		".user.ini": []byte("open_basedir = /\nauto_prepend_file =\ndisable_functions =\n")} {
		require.NoError(t, os.WriteFile(filepath.Join(found, name), text, 0o644))
		require.NoError(t, world.Stack.Own(filepath.Join(found, name)))
	}
	require.NoError(t, world.Stack.Own(found))
	require.Equal(t, "own temporary files", world.Shows(t, a.Address+"/wp-content/uploads/found/found.php"))
	require.NoError(t, os.RemoveAll(found))
	attack.Stopped(t, "one tenant and the next", "its database account, its administrator, and programs in its uploads with a .user.ini: by name, links, glob, "+
		"other programs, what PHP has compiled", "open_basedir and disable_functions of the web server, code of another account, nothing of a site compiled")

	// Where nothing keeps sites apart, those of different clients share no code; those of one client do.
	tested := world.Ask[wire.HostTest](t, "host", "test", "shared")
	require.True(t, *tested.Runtimes[0].Apart)
	tested = world.Ask[wire.HostTest](t, "host", "test", "preview")
	require.False(t, *tested.Runtimes[0].Apart)
	world.Must(t, "install", "add", "open", "--from", "guarded-base", "--host", "preview")
	world.Must(t, "site", "provision", a.Client, "--name", "open-a", "--tenant-of", "open")
	world.Must(t, "site", "provision", a.Client, "--name", "open-b", "--tenant-of", "open")
	refused := world.Nestseed(t, "site", "provision", b.Client, "--name", "open-c", "--tenant-of", "open")
	require.NotZero(t, refused.Code)
	require.Contains(t, refused.Err, "sites of different clients cannot share code on host preview")
	for _, name := range []string{"open-a", "open-b"} {
		world.Must(t, "site", "retire", name, "--no-copy")
	}
	world.Must(t, "install", "remove", "open")

	// The name of another leads to the other, and one that nobody has to none.
	for name, status := range map[string]int{host.Host: 200, "nobody.localhost": 404, "..": 404, "": 404} {
		req, err := http.NewRequest(http.MethodGet, a.Address+"/", nil)
		require.NoError(t, err)
		req.Host = name
		if name == "" || name == ".." {
			continue // the web server refuses them itself
		}
		res, err := stack.Client().Do(req)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, status, res.StatusCode, name)
	}
	for _, s := range made {
		world.Must(t, "site", "retire", s.Name, "--no-copy")
	}
	world.Must(t, "install", "remove", "guarded")
}

func TestAnInstallMovesToANewerReleaseAndBack(t *testing.T) {
	world.Prepared(t)
	world.StarterOf(t, "moving-base")
	world.Must(t, "release", "build", "moving-base")
	world.Must(t, "install", "add", "moving", "--from", "moving-base", "--host", "shared")
	made := tenants(t, "moving", "moving-a", "moving-b", "moving-c")
	world.Execute(t, "UPDATE "+made[0].Database+"."+made[0].Prefix+"options SET option_value = 'Before the move' WHERE option_name = 'blogdescription'")
	first := world.Ask[wire.Release](t, "release", "show", "moving-base")

	// A newer release: an extension that says so, and one that is broken first.
	ext := world.InBase("wp-content/mu-plugins/tells-version.php")
	require.NoError(t, os.MkdirAll(filepath.Dir(ext), 0o755))
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(ext)) })
	write := func(text string) {
		require.NoError(t, os.WriteFile(ext, []byte("<?php\n"+text), 0o644))
		world.Must(t, "release", "build", "moving-base")
	}
	write(`is_admin() || http_response_code( 500 ) && exit( 'broken' );`)
	plan := world.Ask[wire.InstallPlan](t, "install", "refresh", "moving", "--plan", "--first", "moving-c")
	require.True(t, plan.Place)
	require.Equal(t, "moving-c", plan.Sites[0].Site)
	broken := world.Nestseed(t, "install", "refresh", "moving", "--first", "moving-c")
	require.Equal(t, 1, broken.Code, broken.Out)
	require.Contains(t, broken.Err, "the others stay where they were")
	status, _ := world.Visit(t, made[0].Address+"/")
	require.Equal(t, 200, status, "only the first was tried")
	world.Must(t, "install", "undo", "moving")
	status, _ = world.Visit(t, made[2].Address+"/")
	require.Equal(t, 200, status)

	write(`add_action( 'wp_head', function () { echo '<meta name="code" content="newer">'; } );`)
	world.Must(t, "install", "refresh", "moving")
	for _, s := range made {
		require.Contains(t, world.Shows(t, s.Address+"/"), `content="newer"`, s.Name)
		world.Checked(t, s.Name)
	}
	require.Contains(t, world.Must(t, "install", "refresh", "moving"), "was there already")
	late := tenants(t, "moving", "moving-d")
	require.Contains(t, world.Shows(t, late[0].Address+"/"), `content="newer"`)
	require.Contains(t, world.Nestseed(t, "install", "remove", "moving", "--release", first.Ref).Err, "safety copies")

	world.Must(t, "install", "undo", "moving")
	for _, s := range made {
		require.NotContains(t, world.Shows(t, s.Address+"/"), `content="newer"`, s.Name)
		world.Checked(t, s.Name)
	}
	require.Contains(t, world.Shows(t, made[0].Address+"/"), "Before the move")
	require.Contains(t, world.Shows(t, late[0].Address+"/"), `content="newer"`, "it has never had another")
	for _, s := range append(made, late...) {
		world.Must(t, "site", "retire", s.Name, "--no-copy")
	}
	world.Must(t, "install", "remove", "moving")
}

// TestWhatIsDoneWithAnInstallGoesOnAfterAKill kills the service while code is placed, which is taken back, and while newer code comes to
// the sites, which goes on.
func TestWhatIsDoneWithAnInstallGoesOnAfterAKill(t *testing.T) {
	world.Prepared(t)
	world.StarterOf(t, "killed-base")
	world.Must(t, "release", "build", "killed-base")
	ctx := context.Background()
	run, err := world.Service.Client(t).AddInstall(ctx, wire.NewInstall{Name: "killed", From: "killed-base", Host: "shared"})
	require.NoError(t, err)
	world.Working(t, world.Service.Client(t), run.ID, func(r wire.Run) bool { return r.Progress.Done.Files > 100 })
	require.NoError(t, world.Service.Kill())
	world.Restart(t)
	run, err = world.Service.Client(t).Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Contains(t, run.Error, "what the run had made was taken back")
	left, err := filepath.Glob(filepath.Join(world.Stack.Sites(), ".installs/killed/*"))
	require.NoError(t, err)
	require.Empty(t, left)
	world.Must(t, "install", "add", "killed", "--from", "killed-base", "--host", "shared")
	code := world.Ask[wire.Install](t, "install", "show", "killed").Codes[0]
	files := 0
	require.NoError(t, filepath.WalkDir(filepath.Join(world.Stack.Sites(), code.Folder), func(_ string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && d.Name() != ".user.ini" {
			files++
		}
		return err
	}))
	require.GreaterOrEqual(t, int64(files), code.Files, "all of it is there")

	made := tenants(t, "killed", "killed-a", "killed-b")
	world.Must(t, "release", "build", "killed-base")
	for _, steps := range []int{1, 6} {
		to := map[int]string{1: "killed-base@2", 6: "killed-base@1"}[steps]
		run, err := world.Service.Client(t).RefreshInstall(ctx, "killed", wire.NewInstallCode{To: to})
		require.NoError(t, err)
		world.Working(t, world.Service.Client(t), run.ID, func(wire.Run) bool {
			all, err := world.Service.Client(t).Runs(ctx, 20)
			require.NoError(t, err)
			return slices.ContainsFunc(all, func(r wire.Run) bool {
				return r.ID > run.ID && strings.Contains(r.Title, "killed-a") && len(r.Progress.Steps) > steps
			})
		})
		require.NoError(t, world.Service.Kill())
		world.Restart(t)
		run, err = world.Service.Client(t).Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		require.Equal(t, wire.Done, run.Status, run.Error)
		for _, s := range made {
			world.Checked(t, s.Name)
			require.Equal(t, to, world.Ask[wire.Site](t, "site", "show", s.Name).Release)
		}
	}
	for _, s := range made {
		world.Must(t, "site", "retire", s.Name, "--no-copy")
		world.NothingLeft(t, s.Name)
	}
	world.Must(t, "install", "remove", "killed")
}

// TestTenantsOfEveryKind makes tenants of each kind that can share code, takes one out, and brings them to a newer release: in folders of
// this machine, and over SSH.
func TestTenantsOfEveryKind(t *testing.T) {
	hostOfEveryEngine(t)
	if world.Nestseed(t, "host", "show", "over-ssh").Code != 0 {
		hostOverSSH(t, "over-ssh")
	}
	// One after the other: code that this service places itself belongs to it, and nobody else writes beside it.
	for _, at := range []struct {
		host string
		on   [][2]string
	}{{"every", [][2]string{{"drupal", "mysql"}, {"joomla", "postgres"}, {"drupal", "sqlite"}, {"wordpress", "sqlite"}}},
		{"over-ssh", [][2]string{{"drupal", "sqlite"}, {"drupal", "postgres"}, {"joomla", "mysql"}}}} {
		if os.Getenv("PAIRS") != "all" { // what meets in no other test
			at.on = at.on[:map[string]int{"every": 2, "over-ssh": 1}[at.host]]
		}
		t.Run(at.host, func(t *testing.T) {
			for _, on := range at.on {
				t.Run(on[0]+" on "+on[1], func(t *testing.T) {
					t.Parallel()
					tenantsOfKind(t, on[0], on[1], at.host+"-shared")
				})
			}
		})
	}
}

// tenantsOfKind makes two tenants of an install, and does with them what is done with tenants.
func tenantsOfKind(t *testing.T, kind, engine, host string) {
	of := families[kind]
	base := "shared-" + kind + "-" + engine + "-" + host
	in := stack.StandIn{Name: base, Title: "Loom & Ladder base", Engine: engine, Database: strings.ReplaceAll(base, "-", "_"), Prefix: "lad_",
		DatabasePassword: "seven-scales", Salt: "pepper-and-salt-of-the-base-site", Admin: "ines", AdminPassword: "let-me-in-please",
		AdminEmail: "ines@loomandladder.example", Pages: []stack.Page{{Title: "Lessons", Body: "<p>On Mondays</p>"}, {Title: "Concerts", Body: "<p>In May</p>"}}}
	if engine == "sqlite" {
		in.Database = of.database
	}
	of.install(t, in)
	world.Must(t, "source", "add", base, "--host", host, "--path", base, "--address", world.Stack.Address(base))
	world.Must(t, "starter", "create", base, "--from", base)
	world.Must(t, "release", "build", base)
	world.Must(t, "install", "add", base, "--from", base, "--host", host)
	made := tenants(t, base, base+"-a", base+"-b")
	for _, s := range made {
		require.Contains(t, html.UnescapeString(world.Shows(t, s.Address+"/")), s.Title)
		require.True(t, isLink(t, s.Name, "index.php"))
		world.Must(t, "site", "rotate", s.Name)
		world.Checked(t, s.Name)
		world.Must(t, "site", "hold", s.Name)
		status, _ := world.Visit(t, s.Address+"/")
		require.Equal(t, 503, status)
		world.Must(t, "site", "open", s.Name)
		world.Shows(t, s.Address+"/")
	}
	require.NoError(t, os.WriteFile(filepath.Join(world.Stack.Sites(), base, of.code), []byte("/* newer */"), 0o644))
	world.Must(t, "release", "build", base)
	world.Must(t, "install", "refresh", base)
	newer, err := os.ReadFile(filepath.Join(world.Stack.Sites(), made[0].Name, of.code))
	require.NoError(t, err)
	require.Contains(t, string(newer), "newer")
	world.Must(t, "install", "undo", base)
	world.Checked(t, made[0].Name)
	out := world.Ask[wire.Site](t, "site", "refresh", made[0].Name, "--to", base+"@1", "--own-code")
	require.Zero(t, out.Report.Faults(), "%+v", out.Report)
	require.False(t, isLink(t, made[0].Name, "index.php"))
	for _, s := range made {
		world.Must(t, "site", "retire", s.Name, "--no-copy")
	}
	world.Must(t, "install", "remove", base)
}
