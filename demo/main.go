// Command demo fills in the scenario of Loom & Ladder on loopback servers and runs the main job: a real
// site in, client sites out. It leaves everything running and can be run again.
//
//	demo up     install nothing, start everything, do the job, print every address
//	demo down   stop what up started
package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/goccy/go-yaml"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/service"
	"nestseed/internal/wire"
)

const (
	servicePort  = 8470
	webPort      = 8480
	databasePort = 8481
	filesPort    = 8482
	schools      = 3
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	d, err := newDemo()
	if err == nil {
		switch {
		case len(os.Args) == 2 && os.Args[1] == "up":
			err = d.up(ctx)
		case len(os.Args) == 2 && os.Args[1] == "try":
			err = d.try(ctx)
		case len(os.Args) == 2 && os.Args[1] == "down":
			err = d.down()
		default:
			err = errors.New("say up, try or down")
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "\ndemo:", err)
		os.Exit(1)
	}
}

type demo struct {
	*stages
	dir    string
	state  string // folder of the service in it
	binary string
	stack  *stack.Stack
}

// newDemo chooses the folder: .demo here, or one under /var/tmp when other users, whom the servers run
// as, cannot enter this one.
func newDemo() (*demo, error) {
	here, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	d := &demo{state: "nestseed", dir: filepath.Join(here, ".demo"), binary: filepath.Join(here, "bin", "nestseed")}
	if os.Geteuid() == 0 && !enterable(here) {
		d.dir = "/var/tmp/nestseed-demo"
	}
	if v := os.Getenv("NESTSEED_DEMO"); v != "" {
		d.dir = v
	}
	d.stack = stack.New(d.dir)
	d.stack.WebPort, d.stack.DatabasePort = port("NESTSEED_DEMO_WEB_PORT", webPort), port("NESTSEED_DEMO_DATABASE_PORT", databasePort)
	d.stack.FilesPort = port("NESTSEED_DEMO_FILES_PORT", filesPort)
	if err := os.MkdirAll(d.dir, 0o755); err != nil {
		return nil, err
	}
	d.stages, err = newStages(d.dir)
	return d, err
}

func port(name string, fallback int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return fallback
}

// enterable reports whether every folder down to dir may be entered by anyone.
func enterable(dir string) bool {
	for ; dir != "/"; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err != nil || info.Mode().Perm()&0o001 == 0 {
			return false
		}
	}
	return true
}

func (d *demo) listen() string {
	return fmt.Sprintf("127.0.0.1:%d", port("NESTSEED_DEMO_PORT", servicePort))
}

func (d *demo) data() string { return filepath.Join(d.dir, d.state) }

func (d *demo) up(ctx context.Context) error {
	if err := d.servers(ctx); err != nil {
		return err
	}
	if _, err := d.stack.StartSSH(ctx, false); err != nil { // the service looks at its hosts when it starts
		return err
	}
	d.begin("The service")
	if err := d.startService(); err != nil {
		return err
	}
	if err := d.job(ctx); err != nil {
		return err
	}
	return d.summary(ctx)
}

// servers starts them, with the agency's base site.
func (d *demo) servers(ctx context.Context) error {
	d.begin("MariaDB, php-fpm and nginx on loopback, in %s", d.dir)
	if err := d.stack.StartMariaDB(ctx); err != nil {
		return err
	}
	if err := d.stack.StartWeb(ctx); err != nil {
		return err
	}
	return d.once("base-ready", func() error {
		d.begin("The agency's base site: a real WordPress at %s", d.stack.Address("base"))
		if err := scenario.InstallBase(ctx, d.stack); err != nil {
			return fmt.Errorf("%w; to start over: make stop, then remove %s", err, d.dir)
		}
		return nil
	})
}

func (d *demo) startService() error {
	if d.service().Answers() {
		if !d.outdated() {
			return nil
		}
		d.stopService()
	}
	log, err := os.OpenFile(filepath.Join(d.dir, "nestseed.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	service := d.service()
	service.Out, service.Detached, service.Env = log, true, []string{"NESTSEED_SAMPLE=" + filepath.Join(d.dir, "sample.json")}
	if err := service.Start(); err != nil {
		return err
	}
	if err := service.Ready(); err != nil {
		return err
	}
	return d.keepPassword()
}

func (d *demo) service() *stack.Service {
	return &stack.Service{Binary: d.binary, Data: d.data(), Listen: d.listen()}
}

// keepPassword keeps the owner's first password, so that the demo can be run again. It is the demo's alone.
func (d *demo) keepPassword() error {
	err := os.Rename(filepath.Join(d.data(), service.PasswordFile), d.passwordFile())
	if errors.Is(err, os.ErrNotExist) {
		return nil // an earlier start has told it
	}
	return err
}

func (d *demo) passwordFile() string {
	if d.state == trying {
		return filepath.Join(d.dir, "try-password")
	}
	return filepath.Join(d.dir, "console-password")
}

func (d *demo) client() *client.Client {
	c, _ := d.service().Client() // without a token, the first call says so
	return c
}

// nestseed runs a command as a person would, showing it first.
func (d *demo) nestseed(ctx context.Context, args ...string) error {
	shown := make([]string, len(args))
	for i, a := range args {
		shown[i] = a
		if strings.ContainsAny(a, " '{}?*&|") {
			shown[i] = strconv.Quote(a)
		}
	}
	fmt.Fprintln(d.out(), "\n$ nestseed", strings.Join(shown, " "))
	cmd := exec.CommandContext(ctx, d.binary, args...)
	cmd.Env = append(os.Environ(), "NESTSEED_SERVER=http://"+d.listen(), "NESTSEED_DATA="+d.data(), "NESTSEED_DATABASE_PASSWORD="+
		d.stack.AdminPassword)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = d.out(), io.MultiWriter(d.out(), &said)
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("nestseed %s: %w: %s", strings.Join(args[:2], " "), err, strings.TrimSpace(said.String()))
	}
	return nil
}

// step is a command, left out when what it makes is there.
type step struct {
	there func() error
	args  []string
}

// job is the main job by command line. What was done by an earlier demo is not done again.
func (d *demo) job(ctx context.Context) error {
	d.begin("Survey, packing list, first release; three schools get their sites")
	svc := d.client()
	fields, tasks := filepath.Join(d.dir, "music-base-fields.yaml"), filepath.Join(d.dir, "launch-tasks.yaml")
	if err := errors.Join(writeYAML(fields, scenario.Fields()), writeYAML(tasks, scenario.LaunchTasks())); err != nil {
		return err
	}
	steps := []step{
		{exists(svc.Host, ctx, "preview"), []string{"host", "add", "preview", "--files", "file://" + d.stack.Sites() + "?owner=www-data",
			"--web-root", "{name}",
			"--address", d.stack.Address("{name}"), "--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", d.stack.AdminUser, d.stack.DatabasePort)}},
		{func() error {
			if of, err := svc.Agency(ctx); err != nil || of.Name != "" {
				return err
			}
			return errNotYet
		}, []string{"agency", "set", "--name", "Loom & Ladder", "--contact", "studio@loom-ladder.example", "--colour", "#8a5fa8"}},
		{exists(svc.Source, ctx, "base"), []string{"source", "add", "base", "--host", "preview", "--path", "base"}},
		{surveyed(svc, ctx, "base"), []string{"source", "survey", "base"}},
		{exists(svc.Starter, ctx, "music-base"), []string{"starter", "create", "music-base", "--from", "base", "--fields", fields, "--tasks",
			tasks}},
		{exists(svc.Release, ctx, "music-base"), []string{"release", "build", "music-base", "--note", "first release for the schools"}},
	}
	badge := filepath.Join(d.dir, "badge.jpg")
	if err := scenario.WritePicture(badge, 4711); err != nil {
		return err
	}
	for i, s := range scenario.Schools(schools) {
		add := []string{"client", "add", s.Name}
		for k, v := range s.Settings {
			add = append(add, "--set", k+"="+v)
		}
		if i == 0 { // one has its own look
			add = append(add, "--set", "colour=#8a5fa8", "--file", "badge="+badge)
		}
		steps = append(steps, step{exists(svc.Client, ctx, s.Name), add},
			step{exists(svc.Site, ctx, s.Name), []string{"site", "provision", s.Name, "--from", "music-base@1", "--host", "preview"}})
	}
	if err := d.steps(ctx, steps); err != nil {
		return err
	}
	if err := d.later(ctx, svc); err != nil {
		return err
	}
	if err := d.fromElsewhere(ctx, svc); err != nil {
		return err
	}
	if err := d.october(ctx, svc); err != nil {
		return err
	}
	if err := d.november(ctx, svc); err != nil {
		return err
	}
	if err := d.hosting(ctx, svc); err != nil {
		return err
	}
	return errors.Join(d.others(ctx, svc), d.tenants(ctx, svc))
}

func hosted() scenario.School { return scenario.Schools(12)[6] }

// hosting is a school that has hosting of its own, where files are reached over SSH alone and the database only from there.
func (d *demo) hosting(ctx context.Context, svc *client.Client) error {
	d.begin("A school with hosting of its own, reached over SSH alone")
	ssh, err := d.stack.StartSSH(ctx, false)
	if err != nil {
		return err
	}
	school := hosted()
	key := filepath.Join(d.dir, "hosting-key")
	if err := os.WriteFile(key, []byte(ssh.PrivateKey), 0o600); err != nil {
		return err
	}
	add := []string{"client", "add", school.Name}
	for k, v := range school.Settings {
		add = append(add, "--set", k+"="+v)
	}
	return d.steps(ctx, []step{
		{exists(svc.Host, ctx, "hosting"), []string{"host", "add", "hosting", "--files", ssh.Files(d.stack.Sites()), "--files-key-file", key,
			"--address", d.stack.Address("{name}"), "--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/?through=files", d.stack.AdminUser,
				d.stack.DatabasePort)}},
		{exists(svc.Client, ctx, school.Name), add},
		{exists(svc.Site, ctx, school.Name), []string{"site", "provision", school.Name, "--from", "music-base", "--host", "hosting"}},
	})
}

func writeYAML(file string, v any) error {
	text, err := yaml.Marshal(v)
	if err != nil {
		return err
	}
	return os.WriteFile(file, text, 0o644)
}

// errNotYet says that what a step does is not done yet, as does the service's "not found".
var errNotYet = errors.New("it is not there yet")

func (d *demo) steps(ctx context.Context, steps []step) error {
	for _, s := range steps {
		if err := s.there(); err == nil {
			continue
		} else if p := (*client.Problem)(nil); !errors.Is(err, errNotYet) && (!errors.As(err, &p) || p.Status != http.StatusNotFound) {
			return err
		}
		if err := d.nestseed(ctx, s.args...); err != nil {
			return err
		}
	}
	return nil
}

// once does something that is not done again by a later demo.
func (d *demo) once(mark string, do func() error) error {
	file := filepath.Join(d.dir, mark)
	if _, err := os.Stat(file); err == nil {
		return nil
	}
	if err := do(); err != nil {
		return err
	}
	return os.WriteFile(file, nil, 0o644)
}

// later is the base site some weeks on: a second release that is too large, the cause, the remedy, a third.
func (d *demo) later(ctx context.Context, svc *client.Client) error {
	if exists(svc.Release, ctx, "music-base@3")() == nil {
		return nil
	}
	d.begin("Autumn: the base site has changed, and holds a forgotten copy of itself; two more releases")
	err := d.once("base-autumn", func() error { return scenario.Autumn(ctx, d.stack) })
	if err != nil {
		return err
	}
	again := func() error { return &client.Problem{Status: http.StatusNotFound} }
	return d.steps(ctx, []step{
		{exists(svc.Release, ctx, "music-base@2"), []string{"release", "build", "music-base", "--note", "autumn pictures and colours"}},
		{again, []string{"release", "compare", "music-base@1", "music-base@2"}},
		{again, []string{"source", "survey", "base"}},
		{again, []string{"packing", "leave-out", "music-base", scenario.ForgottenArchive}},
		{again, []string{"release", "build", "music-base", "--note", "autumn, without the forgotten copy"}},
	})
}

// fromElsewhere imports what another agency handed over, by link, and makes a site of it.
func (d *demo) fromElsewhere(ctx context.Context, svc *client.Client) error {
	d.begin("Another agency hands over a site: a tar.bz2 and a dump, imported by link")
	err := d.once("harbour-ready", func() error { return scenario.Harbour(ctx, d.stack) })
	if err != nil {
		return err
	}
	at := d.stack.Address("files") + "/"
	return d.steps(ctx, []step{
		{exists(svc.Release, ctx, "harbour"), []string{"release", "import", "harbour", at + scenario.HarbourFiles, "--database",
			at + scenario.HarbourDump, "--note", "handed over in October"}},
		{exists(svc.Client, ctx, "harbour-hub"), []string{"client", "add", "harbour-hub", "--set", "title=Harbour Music Hub", "--set",
			"email=office@harbour.example"}},
		{exists(svc.Site, ctx, "harbour-hub"), []string{"site", "provision", "harbour-hub", "--from", "harbour", "--host", "preview"}},
	})
}

// october is the day on which the other schools come at once, from a table, and stay held until each agrees; and one
// of the first has its site replaced by one from the newest release, with what its visitors wrote.
func (d *demo) october(ctx context.Context, svc *client.Client) error {
	d.begin("October: seven schools from one table, held until each agrees; one site replaced, undone, replaced")
	all := scenario.Schools(12)
	table := filepath.Join(d.dir, "clients.csv")
	if err := scenario.WriteTable(table, slices.DeleteFunc(slices.Clone(all[schools+1:]), func(s scenario.School) bool {
		return s.Name == hosted().Name
	})); err != nil {
		return err
	}
	replaced := all[schools-1]
	err := d.once("comments-ready", func() error { return scenario.Comments(ctx, d.stack, replaced) })
	if err != nil {
		return err
	}
	replace := []string{"site", "provision", replaced.Name, "--from", "music-base", "--host", "preview", "--replace", "--keep", "comments",
		"--keep", "users"}
	ofFirst := func() error {
		s, err := svc.Site(ctx, replaced.Name)
		if err == nil && s.Release == "music-base@1" {
			err = &client.Problem{Status: http.StatusNotFound}
		}
		return err
	}
	err = d.steps(ctx, []step{
		{exists(svc.Site, ctx, all[11].Name), []string{"site", "provision", "--table", table, "--from", "music-base", "--host", "preview",
			"--hold"}},
		{ofFirst, []string{"site", "keep-copy", replaced.Name}},
		{ofFirst, replace},
	})
	if err != nil {
		return err
	}
	return d.once("undone", func() error {
		return errors.Join(d.nestseed(ctx, "site", "undo", replaced.Name, "--plan"), d.nestseed(ctx, "site", "undo", replaced.Name),
			d.nestseed(ctx, replace...))
	})
}

// november is when sites go live: one takes the newest code, one moves to its own address on another host, one is
// compared with the base site in screenshots, one is handed over.
func (d *demo) november(ctx context.Context, svc *client.Client) error {
	d.begin("November: a site takes newer code, one moves, one is compared in screenshots, one is handed over")
	all := scenario.Schools(12)
	refreshed, moved, seen, handed := all[0].Name, all[1].Name, all[2].Name, all[4].Name
	first := func(name string, done func(wire.Site) bool) func() error {
		return func() error {
			s, err := svc.Site(ctx, name)
			if err == nil && !done(s) {
				err = &client.Problem{Status: http.StatusNotFound}
			}
			return err
		}
	}
	err := d.steps(ctx, []step{
		{first(refreshed, func(s wire.Site) bool { return s.Behind == 0 }), []string{"site", "refresh", refreshed}},
		{exists(svc.Host, ctx, "town"), []string{"host", "add", "town", "--files", "file://" + d.stack.Sites() + "?owner=www-data", "--web-root",
			"{name}-school",
			"--address", d.stack.Address("{name}-school"), "--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", d.stack.AdminUser,
				d.stack.DatabasePort)}},
		{first(moved, func(s wire.Site) bool { return s.Host == "town" }), []string{"site", "move", moved, "--host", "town", "--visible"}},
		{first(handed, func(s wire.Site) bool { return len(s.Handovers) > 0 }), []string{"site", "handover", handed}},
	})
	if err != nil {
		return err
	}
	return d.once("looked", func() error { return d.nestseed(ctx, "site", "side-by-side", seen) })
}

func exists[T any](show func(context.Context, string) (T, error), ctx context.Context, name string) func() error {
	return func() error {
		_, err := show(ctx, name)
		return err
	}
}

func surveyed(svc *client.Client, ctx context.Context, source string) func() error {
	return func() error {
		s, err := svc.Source(ctx, source)
		if err == nil && s.Survey == nil {
			return &client.Problem{Status: http.StatusNotFound}
		}
		return err
	}
}

// summary tells what was made, on one screen.
func (d *demo) summary(ctx context.Context) error {
	d.end()
	svc := d.client()
	releases, err := svc.Releases(ctx, "")
	if err != nil {
		return err
	}
	clients, err := svc.Clients(ctx)
	if err != nil {
		return err
	}
	sites, err := svc.Sites(ctx, client.SitesBy{})
	if err != nil {
		return err
	}
	password, err := os.ReadFile(d.passwordFile())
	if err != nil {
		return err
	}
	fmt.Printf("\nLoom & Ladder on this machine, after %.0f s: %d clients, %d releases, %d sites\n\n", d.seconds(), len(clients), len(releases), len(sites))
	line := func(what, address, about string) { fmt.Printf("  %-18s %-46s %s\n", what, address, about) }
	line("the base site", d.stack.Address("base"), "a real WordPress, the source of music-base")
	all := scenario.Schools(12)
	for _, shown := range []struct{ what, site string }{{"a school", all[0].Name}, {"moved", all[1].Name}, {"replaced", all[2].Name},
		{"over SSH", hosted().Name}, {"from elsewhere", "harbour-hub"}, {"on PostgreSQL", "folk-sessions"}, {"one of ten tenants", all[0].Name + "-summer"}} {
		s, err := svc.Site(ctx, shown.site)
		if err != nil {
			return err
		}
		about := s.Title + ", from " + s.Release
		if s.Report != nil {
			about += fmt.Sprintf(": %d checks, %d faults", len(s.Report.Checks), s.Report.Faults())
		}
		line(shown.what, s.Address, about)
	}
	fmt.Printf("\n  console            http://%s  log in as owner with %s\n", d.listen(), strings.TrimSpace(string(password)))
	fmt.Printf("  commands           export NESTSEED_SERVER=http://%s NESTSEED_DATA=%s\n", d.listen(), d.data())
	fmt.Printf("  try next           bin/nestseed site list; bin/nestseed release compare music-base@1 music-base@2\n")
	fmt.Printf("                     or in the console: Sites, %s, Replace\n", all[0].Name)
	fmt.Printf("  what was run       %s\n", d.log.Name())
	fmt.Println("  stop it            make stop")
	return nil
}

// down stops the service, gently, and the servers.
func (d *demo) down() error {
	d.stopService()
	d.state = trying
	d.stopService()
	return d.stack.Stop()
}

func (d *demo) stopService() {
	pid, ok := d.servicePID()
	if !ok {
		return
	}
	syscall.Kill(pid, syscall.SIGTERM)
	for range 1200 {
		if _, ok := d.servicePID(); !ok {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// outdated reports whether the service that runs is of another build than the one that is there now.
func (d *demo) outdated() bool {
	pid, ok := d.servicePID()
	if !ok {
		return false
	}
	runs, err := os.Stat(fmt.Sprintf("/proc/%d/exe", pid))
	if err != nil {
		return false
	}
	there, err := os.Stat(d.binary)
	return err == nil && !os.SameFile(runs, there)
}

// servicePID reads the process from the service's lock file, and makes sure that it is our binary.
func (d *demo) servicePID() (int, bool) {
	f, err := os.Open(filepath.Join(d.data(), "lock"))
	if err != nil {
		return 0, false
	}
	defer f.Close()
	line, _ := bufio.NewReader(f).ReadString('\n')
	pid, err := strconv.Atoi(strings.TrimSpace(line))
	if err != nil {
		return 0, false
	}
	cmdline, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return pid, err == nil && strings.Contains(string(cmdline), "nestseed\x00serve")
}
