// Package world is what the end-to-end tests drive: the service as a process on loopback, a real WordPress on real servers, the command
// line as people type it, the console in a real browser. A package of tests has one world, which its TestMain makes:
//
//	func TestMain(m *testing.M) { world.Main(m) }
package world

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
)

// What all tests of a package share: setting it up takes longer than any of them.
var (
	Stack    *stack.Stack
	Dir      string
	Binary   string
	Service  *Process
	Password string // the owner's
)

// Main runs the tests of a package in a world of its own.
func Main(m *testing.M) {
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M) (code int, err error) {
	ctx := context.Background()
	if Dir, err = os.MkdirTemp(stack.Roomy(), "nestseed-test-"); err != nil {
		return 1, err
	}
	defer os.RemoveAll(Dir)
	data, servers := filepath.Join(Dir, "data"), filepath.Join(Dir, "stack")
	if err := errors.Join(os.Chmod(Dir, 0o755), os.Mkdir(data, 0o755), os.Mkdir(servers, 0o755), build()); err != nil {
		return 1, err
	}
	defer stopBrowser()
	Stack = stack.New(servers)
	Stack.Throwaway = true
	defer func() { err = errors.Join(err, Stack.Stop()) }()
	if err := errors.Join(Stack.StartMariaDB(ctx), Stack.StartWeb(ctx), scenario.InstallBase(ctx, Stack),
		stack.ThrowawayPostgres(ctx, data)); err != nil {
		return 1, err
	}
	if Service, err = Serve(data, fmt.Sprintf("127.0.0.1:%d", stack.FreePort())); err != nil {
		return 1, err
	}
	defer func() { err = errors.Join(err, Service.Stop()) }()
	password, err := os.ReadFile(filepath.Join(data, "owner-password"))
	if err != nil {
		return 1, err
	}
	Password = strings.TrimSpace(string(password))
	return m.Run(), nil
}

// build takes the program that NESTSEED_BINARY names, which make has built for all packages, or builds one.
func build() error {
	if Binary = os.Getenv("NESTSEED_BINARY"); Binary != "" {
		return nil
	}
	Binary = filepath.Join(Dir, "nestseed")
	if out, err := exec.Command("go", "build", "-o", Binary, "nestseed/cmd/nestseed").CombinedOutput(); err != nil {
		return fmt.Errorf("build: %w\n%s", err, out)
	}
	return nil
}

// Result is what a command did.
type Result struct {
	Out, Err string
	Code     int
}

// Nestseed runs a command as a person types it.
func Nestseed(t testing.TB, args ...string) Result {
	return WithInput(t, "", args...)
}

func WithInput(t testing.TB, input string, args ...string) Result {
	t.Helper()
	cmd := exec.Command(Binary, args...)
	cmd.Dir = Dir
	cmd.Env = append(os.Environ(), "NESTSEED_SERVER="+Service.Address(), "NESTSEED_DATA="+Service.Data,
		"NESTSEED_DATABASE_PASSWORD="+Stack.AdminPassword, "XDG_CONFIG_HOME="+filepath.Join(Dir, "config"))
	cmd.Stdin = strings.NewReader(input)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return Result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// Must runs a command that has to succeed.
func Must(t testing.TB, args ...string) string {
	t.Helper()
	r := Nestseed(t, args...)
	require.Zero(t, r.Code, "nestseed %v: %s%s", args, r.Out, r.Err)
	return r.Out
}

// Ask runs a command with --json and reads its answer.
func Ask[T any](t testing.TB, args ...string) (v T) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(Must(t, append([]string{"--json"}, args...)...)), &v))
	return v
}

// Prepared makes host, source, starter and a first release once, by command line.
func Prepared(t testing.TB) {
	t.Helper()
	if Nestseed(t, "release", "show", "music-base").Code == 0 {
		return
	}
	fields, err := yaml.Marshal(scenario.Fields())
	require.NoError(t, err)
	file := filepath.Join(Dir, "fields.yaml")
	require.NoError(t, os.WriteFile(file, fields, 0o600))
	Must(t, "host", "add", "preview", "--files", "file://"+Stack.Sites()+"?owner=www-data", "--address", Stack.Address("{name}"),
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", Stack.AdminUser, Stack.DatabasePort))
	Must(t, "host", "add", "shared", "--files", "file://"+Stack.Sites()+"?owner=www-data", "--address", Stack.SharedAddress("{name}"),
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", Stack.AdminUser, Stack.DatabasePort))
	Must(t, "source", "add", "base", "--host", "preview", "--path", "base")
	Must(t, "starter", "create", "music-base", "--from", "base", "--fields", file)
	Must(t, "release", "build", "music-base", "--note", "first")
}
