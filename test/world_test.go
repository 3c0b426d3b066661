// Package test drives the real thing end to end: the service as a process on loopback, a real WordPress
// on real servers, the command line as people type it, the console in a real browser.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
)

// world is what all tests share: setting it up takes longer than any of them.
var world struct {
	stack    *stack.Stack
	dir      string
	binary   string
	service  *process
	password string // the owner's
}

func TestMain(m *testing.M) {
	code, err := setUp(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func setUp(m *testing.M) (code int, err error) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("/var/tmp", "nestseed-test-") // not where programs of sites may open temporary files
	if err != nil {
		return 1, err
	}
	defer os.RemoveAll(dir)
	world.dir, world.binary = dir, filepath.Join(dir, "nestseed")
	if err := os.Chmod(dir, 0o755); err != nil {
		return 1, err
	}
	if out, err := exec.Command("go", "build", "-o", world.binary, "../cmd/nestseed").CombinedOutput(); err != nil {
		return 1, fmt.Errorf("build: %w\n%s", err, out)
	}
	world.stack = stack.New(filepath.Join(dir, "stack"))
	if err := os.Mkdir(world.stack.Dir, 0o755); err != nil {
		return 1, err
	}
	defer func() { err = errors.Join(err, world.stack.Stop()) }()
	if err := errors.Join(world.stack.StartMariaDB(ctx), world.stack.StartWeb(ctx), scenario.InstallBase(ctx, world.stack)); err != nil {
		return 1, err
	}
	if world.service, err = serve(filepath.Join(dir, "data"), fmt.Sprintf("127.0.0.1:%d", stack.FreePort())); err != nil {
		return 1, err
	}
	defer func() { err = errors.Join(err, world.service.stop()) }()
	password, err := os.ReadFile(filepath.Join(dir, "data", "owner-password"))
	if err != nil {
		return 1, err
	}
	world.password = strings.TrimSpace(string(password))
	return m.Run(), nil
}

// process is a service that runs.
type process struct {
	cmd    *exec.Cmd
	data   string
	listen string
	out    *bytes.Buffer
	ended  chan error
}

func serve(data, listen string) (*process, error) {
	p := &process{data: data, listen: listen, out: &bytes.Buffer{}, ended: make(chan error, 1)}
	p.cmd = exec.Command(world.binary, "serve")
	p.cmd.Dir = world.dir
	p.cmd.Env = append(os.Environ(), "NESTSEED_DATA="+data, "NESTSEED_LISTEN="+listen)
	p.cmd.Stdout, p.cmd.Stderr = p.out, p.out
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	go func() { p.ended <- p.cmd.Wait() }()
	for range 1200 {
		select {
		case err := <-p.ended:
			return nil, fmt.Errorf("the service ended: %w\n%s", err, p.out)
		case <-time.After(50 * time.Millisecond):
		}
		if res, err := http.Get(p.address() + "/readyz"); err == nil {
			res.Body.Close()
			return p, nil
		}
	}
	return nil, fmt.Errorf("the service does not answer\n%s", p.out)
}

func (p *process) address() string { return "http://" + p.listen }

func (p *process) stop() error {
	p.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case err := <-p.ended:
		return err
	case <-time.After(60 * time.Second):
		return errors.New("the service does not end")
	}
}

// kill ends the service as a loss of power would.
func (p *process) kill(t *testing.T) {
	require.NoError(t, p.cmd.Process.Kill())
	<-p.ended
}

func (p *process) client(t testing.TB) *client.Client {
	token, err := os.ReadFile(filepath.Join(p.data, "owner-token"))
	require.NoError(t, err)
	return client.New(p.address(), strings.TrimSpace(string(token)))
}

// result is what a command did.
type result struct {
	out, err string
	code     int
}

// nestseed runs a command as a person types it.
func nestseed(t testing.TB, args ...string) result {
	return withInput(t, "", args...)
}

func withInput(t testing.TB, input string, args ...string) result {
	t.Helper()
	cmd := exec.Command(world.binary, args...)
	cmd.Dir = world.dir
	cmd.Env = append(os.Environ(), "NESTSEED_SERVER="+world.service.address(), "NESTSEED_DATA="+world.service.data,
		"NESTSEED_DATABASE_PASSWORD="+world.stack.AdminPassword, "XDG_CONFIG_HOME="+filepath.Join(world.dir, "config"))
	cmd.Stdin = strings.NewReader(input)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// must runs a command that has to succeed.
func must(t testing.TB, args ...string) string {
	t.Helper()
	r := nestseed(t, args...)
	require.Zero(t, r.code, "nestseed %v: %s%s", args, r.out, r.err)
	return r.out
}

// ask runs a command with --json and reads its answer.
func ask[T any](t testing.TB, args ...string) (v T) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(must(t, append([]string{"--json"}, args...)...)), &v))
	return v
}

// prepared makes host, source, starter and a first release once, by command line.
func prepared(t testing.TB) {
	t.Helper()
	if nestseed(t, "release", "show", "music-base").code == 0 {
		return
	}
	fields, err := yaml.Marshal(scenario.Fields())
	require.NoError(t, err)
	file := filepath.Join(world.dir, "fields.yaml")
	require.NoError(t, os.WriteFile(file, fields, 0o600))
	must(t, "host", "add", "preview", "--files", "file://"+world.stack.Sites()+"?owner=www-data", "--address", world.stack.Address("{name}"),
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.stack.AdminUser, world.stack.DatabasePort))
	must(t, "source", "add", "base", "--host", "preview", "--path", "base")
	must(t, "starter", "create", "music-base", "--from", "base", "--fields", file)
	must(t, "release", "build", "music-base", "--note", "first")
}

func addClient(t testing.TB, s scenario.School) {
	t.Helper()
	if nestseed(t, "client", "show", s.Name).code == 0 {
		return
	}
	args := []string{"client", "add", s.Name}
	for k, v := range s.Settings {
		args = append(args, "--set", k+"="+v)
	}
	must(t, args...)
}

// nothingLeft says that no folder, database or user of a site is on the host.
func nothingLeft(t testing.TB, name string) {
	t.Helper()
	for _, pattern := range []string{name + "*", "." + name + "*"} {
		left, err := filepath.Glob(filepath.Join(world.stack.Sites(), pattern))
		require.NoError(t, err)
		require.Empty(t, left)
	}
	db, err := world.stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	var n int
	own := "ns_" + strings.ReplaceAll(name, "-", "")
	require.NoError(t, db.QueryRow("SELECT (SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?) + (SELECT COUNT(*) "+
		"FROM mysql.user WHERE User = ?)", own, own).Scan(&n))
	require.Zero(t, n, "database or user %s is left", own)
}
