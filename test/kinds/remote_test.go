package kinds

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/core/zone/zonetest"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// remoteHost makes a host whose files are reached over SSH, on a line that delays everything, and whose database is reached through it.
func remoteHost(t *testing.T, name string, on *stack.Stack, commands bool, delay time.Duration) *stack.Line {
	t.Helper()
	ssh, err := on.StartSSH(t.Context(), commands)
	require.NoError(t, err)
	line, err := stack.NewLine(ssh.Port)
	require.NoError(t, err)
	t.Cleanup(func() { line.Close() })
	ssh.Port = line.Port()
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte(ssh.PrivateKey), 0o600))
	args := []string{"--files", ssh.Files(on.Sites()), "--files-key-file", key, "--address", on.Address("{name}"),
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/?through=files", world.Stack.AdminUser, world.Stack.DatabasePort)}
	said := world.Must(t, append([]string{"host", "add", name}, args...)...)
	require.Contains(t, said, "SHA256:", "the key that it shows is shown")
	require.NotContains(t, world.Must(t, "--json", "host", "show", name), "PRIVATE")
	line.Delay(delay)
	return line
}

func TestTheMainJobOverSSH(t *testing.T) {
	world.Prepared(t)
	line := remoteHost(t, "files-only", world.Stack, false, 2*time.Millisecond)
	school := scenario.Schools(8)[7]
	mainJobOn(t, "files-only", school, remoteBase{"base", "wp-config.php", filepath.Join(world.Dir, "fields.yaml")}, func() { line.CutAfter(3<<20, false) })
	before := tree(t, school.Name)
	replaced := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", "music-base", "--host", "files-only", "--replace", "--keep", "users")
	require.Zero(t, replaced.Report.Faults(), "%+v", replaced.Report)
	world.Must(t, "site", "rotate", school.Name)
	world.Must(t, "site", "hold", school.Name)
	world.Must(t, "site", "open", school.Name)
	world.Must(t, "site", "undo", school.Name)
	world.Checked(t, school.Name)
	require.Equal(t, before, tree(t, school.Name), "the site as it was")
	world.Must(t, "site", "retire", school.Name)
	world.NothingLeft(t, school.Name)
}

func TestTheMainJobOverFTP(t *testing.T) {
	world.Prepared(t)
	ftp, err := world.Stack.StartFTP(t.Context())
	if errors.Is(err, stack.ErrRoot) {
		t.Skip(err)
	}
	require.NoError(t, err)
	line, err := stack.NewLine(ftp.Port)
	require.NoError(t, err)
	t.Cleanup(func() { line.Close() })
	ftp.Port = line.Port()
	password := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(password, []byte(ftp.Password), 0o600))
	// Such hosting lets nobody into its databases from outside: what was given is reached through a page of ours.
	passwords := filepath.Join(t.TempDir(), "passwords")
	require.NoError(t, os.WriteFile(passwords, []byte("seven-scales-a\nseven-scales-b"), 0o600))
	require.NoError(t, world.Stack.MakeDatabase(t.Context(), "u4712_a", "seven-scales-a", ""))
	require.NoError(t, world.Stack.MakeDatabase(t.Context(), "u4712_b", "seven-scales-b", ""))
	throughPage := func(name string) string {
		return fmt.Sprintf("mysql://%s@127.0.0.1:%d/%s?through=page", name, world.Stack.DatabasePort, name)
	}
	world.Must(t, "host", "add", "over-ftp", "--files", ftp.Files(world.Stack.Sites()), "--files-password-file", password, "--address",
		world.Stack.Address("{name}"), "--database-password-file", passwords, "--database", throughPage("u4712_a"), "--database",
		throughPage("u4712_b"))
	// Each file is a connection with TLS of its own, so the site is one of some hundred files.
	require.NoError(t, world.Stack.InstallDrupal(t.Context(), stack.StandIn{Name: "ftp-base", Title: "Folk music", Engine: "mysql",
		Database: "ftp_base", Prefix: "lad_", DatabasePassword: "seven-scales-over-ftp", Salt: "pepper-of-the-ftp-base", Admin: "ines",
		AdminPassword: "let-me-in-please", AdminEmail: "ines@loomandladder.example", Pages: []stack.Page{{Title: "Sessions", Body: "<p>Mondays</p>"}}}))
	for i := range 150 {
		file := filepath.Join(world.Stack.Sites(), "ftp-base/themes/oak", fmt.Sprintf("part-%d/%d.css", i%7, i))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(strings.Repeat("p { margin: 0 }\n", i*9)), 0o644))
	}
	world.Must(t, "source", "add", "ftp-base", "--host", "preview", "--path", "ftp-base", "--address", world.Stack.Address("ftp-base"))
	school := scenario.Schools(9)[8]
	mainJobOn(t, "over-ftp", school, remoteBase{"ftp-base", "sites/default/settings.php", ""}, func() { line.CutAfter(20<<10, false) })
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("seven-scales-over-ftp"), 0o600))
	world.Must(t, "source", "add", "through-page", "--host", "over-ftp", "--path", "ftp-base", "--address", world.Stack.Address("ftp-base"), "--database",
		throughPage("ftp_base"), "--database-password-file", secret)
	require.Positive(t, world.Ask[wire.Survey](t, "source", "survey", "through-page").Totals.Tables)
	left, err := filepath.Glob(filepath.Join(world.Stack.Sites(), "ftp-base", "nestseed-asks-*"))
	require.NoError(t, err)
	require.Empty(t, left)
	world.Must(t, "site", "retire", school.Name)
	world.NothingLeft(t, school.Name)
	world.NothingLeft(t, "nestseed-asks")
}

// remoteBase is a site whose files are reached over a network, and here too.
type remoteBase struct{ source, settings, fields string }

// mainJobOn does the main job where files are reached over a network alone: read a source, build, make, replace, undo. cut lets the
// line break a little later.
func mainJobOn(t *testing.T, host string, school scenario.School, base remoteBase, cut func()) {
	tested := world.Ask[wire.HostTest](t, "host", "test", host)
	require.Zero(t, tested.Faults(), "%+v", tested.Steps)
	require.Contains(t, world.Must(t, "host", "test", host), "and reads what is placed")

	source, starter, fields := "base-"+host, "music-"+host, []string{}
	if base.fields != "" {
		fields = []string{"--fields", base.fields}
	}
	world.Must(t, "source", "add", source, "--host", host, "--path", base.source, "--address", world.Stack.Address(base.source))
	survey := world.Ask[wire.Survey](t, "source", "survey", source)
	near := world.Ask[wire.Survey](t, "source", "survey", base.source)
	require.Equal(t, near.Totals.Files, survey.Totals.Files)
	require.Equal(t, near.Totals.Bytes, survey.Totals.Bytes)
	world.Must(t, append([]string{"starter", "create", starter, "--from", source}, fields...)...)
	world.Must(t, "release", "build", starter)
	require.Contains(t, world.Must(t, "release", "verify", starter), "every sum holds")
	world.Must(t, append([]string{"starter", "create", "near-" + starter, "--from", base.source}, fields...)...)
	world.Must(t, "release", "build", "near-"+starter)
	same := world.Ask[wire.Comparison](t, "release", "compare", "near-"+starter, starter)
	require.Zero(t, same.Added.Files+same.Removed.Files+same.Changed.Files, "what is read over a network is what is read here")

	world.AddClient(t, school)
	made := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", starter, "--host", host)
	require.Zero(t, made.Report.Faults(), "%+v", made.Report)
	settings, err := os.Stat(filepath.Join(world.Stack.Sites(), school.Name, base.settings))
	require.NoError(t, err)
	require.Zero(t, settings.Mode().Perm()&0o007, "others do not read the settings")

	// The line breaks while a site is put in its place. Either that is mended, or what was made is taken back and the old one stands there.
	before := tree(t, school.Name)
	cut()
	broken := world.Nestseed(t, "site", "provision", school.Name, "--from", "near-"+starter, "--host", host, "--replace", "--set", "title=Seen or not")
	if broken.Code == 0 {
		world.Must(t, "site", "undo", school.Name)
	}
	require.Eventually(t, func() bool {
		left, err := filepath.Glob(filepath.Join(world.Stack.Sites(), "."+school.Name+".nestseed-*"))
		return err == nil && len(left) == 0
	}, 60*time.Second, 200*time.Millisecond, "%s", world.Must(t, "run", "list"))
	require.Equal(t, before, tree(t, school.Name))
}

// tree lists what is in a site's folder, without what tells its host which folder it is.
func tree(t *testing.T, site string) (out []string) {
	t.Helper()
	root := filepath.Join(world.Stack.Sites(), site)
	require.NoError(t, filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && d.Name() != ".nestseed-folder" {
			info, err := d.Info()
			if errors.Is(err, os.ErrNotExist) {
				return nil
			}
			out = append(out, fmt.Sprint(strings.TrimPrefix(p, root), info.Size(), info.Mode()))
		}
		return err
	}))
	return out
}

func TestAHostWithCommandsTakesOneStream(t *testing.T) {
	world.Prepared(t)
	shell := stack.ForTest(t)
	shell.WebUser = "postgres" // a system account that has a shell
	require.NoError(t, shell.StartWeb(t.Context()))
	remoteHost(t, "with-commands", shell, true, 5*time.Millisecond)
	school := scenario.Schools(10)[9]
	world.AddClient(t, school)
	made := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", "music-base", "--host", "with-commands")
	require.Zero(t, made.Report.Faults(), "%+v", made.Report)
	world.Must(t, "site", "retire", school.Name)
	left, err := os.ReadDir(shell.Sites())
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestAHostThatShowsAnotherKeyIsNotUsed(t *testing.T) {
	world.Prepared(t)
	remoteHost(t, "two-faced", world.Stack, false, 0)
	h := world.Ask[wire.Host](t, "host", "show", "two-faced")
	other, err := world.Stack.StartSSH(t.Context(), true)
	require.NoError(t, err)
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte(other.PrivateKey), 0o600))
	svc := world.Service.Client(t)
	_, err = svc.ChangeHost(t.Context(), "two-faced", wire.ChangedHost{FilesKey: "not a key"})
	var problem *client.Problem
	require.ErrorAs(t, err, &problem)
	require.Contains(t, problem.Error(), "private key cannot be read")
	r := world.Nestseed(t, "host", "set", "two-faced", "--files", other.Files(world.Stack.Sites()), "--files-key-file", key)
	require.Zero(t, r.Code, "another machine has another key: %s", r.Err)
	require.NotEqual(t, h.HostKey, world.Ask[wire.Host](t, "host", "show", "two-faced").HostKey)
}

// A service that is told which DNS server to ask says where a site's name leads, and what a move to other name servers would lose.
func TestDNSIsAskedAboutASitesName(t *testing.T) {
	zones := map[string]string{"localhost": `localhost. 3600 IN SOA ns1.localhost. office.localhost. 1 3600 600 86400 300
localhost. 3600 IN NS ns1.localhost.
localhost. 3600 IN MX 10 mail.post.example.
ns1.localhost. 3600 IN A 127.0.0.1
named.localhost. 300 IN A 127.0.0.1`}
	t.Setenv("NESTSEED_DNS", zonetest.Serve(t, false, zones))
	p, err := world.Serve(filepath.Join(world.Dir, "dns-data"), fmt.Sprintf("127.0.0.1:%d", stack.FreePort()))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, p.Stop()) })
	svc, ctx := p.Client(t), t.Context()
	_, err = svc.AddHost(ctx, wire.NewHost{Name: "preview", Files: "file://" + world.Stack.Sites() + "?owner=www-data", WebRoot: "{name}",
		Address: world.Stack.Address("{name}"), Database: world.Stack.DatabaseURL(), Connect: fmt.Sprintf("127.0.0.1:%d", world.Stack.WebPort)})
	require.NoError(t, err)
	_, err = svc.AddSource(ctx, wire.NewSource{Name: "base", Host: "preview", Path: "base"})
	require.NoError(t, err)
	_, err = svc.CreateStarter(ctx, wire.NewStarter{Name: "music-base", Source: "base", Fields: scenario.NewFields()})
	require.NoError(t, err)
	school := scenario.Schools(1)[0]
	_, err = svc.AddClient(ctx, wire.NewClient{Name: "named", Settings: school.Settings})
	require.NoError(t, err)
	done := func(run wire.Run, err error) {
		t.Helper()
		require.NoError(t, err)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		require.Equal(t, "done", run.Status, run.Error)
	}
	done(svc.BuildRelease(ctx, "music-base", wire.NewRelease{}))
	done(svc.ProvisionSite(ctx, wire.NewSite{Client: "named", From: "music-base", Host: "preview"}))

	d, err := svc.DNS(ctx, "named", nil)
	require.NoError(t, err)
	require.True(t, d.Leads, "%+v", d)
	require.Equal(t, []string{"127.0.0.1"}, d.Want)
	require.Equal(t, "localhost.", d.Zone)
	require.Len(t, d.Mail, 1)
	require.Contains(t, d.ZoneFile, "localhost.\t3600\tIN\tMX\t10 mail.post.example.")
	require.Empty(t, d.Lost)
	d, err = svc.DNS(ctx, "named", []string{"127.0.0.1"})
	require.NoError(t, err)
	require.Contains(t, strings.Join(d.Sentences, "\n"), "are on 127.0.0.1 too")

	file := filepath.Join(t.TempDir(), "zone")
	cmd := exec.Command(world.Binary, "site", "dns", "named", "--zone-file", file)
	cmd.Env = append(os.Environ(), "NESTSEED_SERVER="+p.Address(), "NESTSEED_DATA="+p.Data)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "leads to the site's host")
	require.Contains(t, string(out), "mail.post.example.")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, d.ZoneFile, string(text))
	moves := exec.Command(world.Binary, "site", "move", "named", "--host", "preview", "--address", world.Stack.Address("other"), "--plan")
	moves.Env = cmd.Env
	out, err = moves.CombinedOutput()
	require.Contains(t, string(out), "mail of localhost has records in DNS (MX 10 mail.post.example.)", err)
	done(svc.RetireSite(ctx, "named", true))
}
