package main

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// world is a service with a PostgreSQL of its own, a host with real servers, and a source.
type world struct {
	dir     string
	stack   *stack.Stack
	binary  string
	listen  string
	service *stack.Service // nil when it does not run
	log     bytes.Buffer
	client  *client.Client
	admin   *sql.DB
	release string // that sites are made from
}

func newWorld(ctx context.Context) (w *world, err error) {
	dir, err := os.MkdirTemp("", "nestseed-chaos-")
	if err != nil {
		return nil, err
	}
	w = &world{dir: dir, binary: filepath.Join(dir, "nestseed"), listen: fmt.Sprintf("127.0.0.1:%d", stack.FreePort())}
	defer func() {
		if err != nil {
			err = errors.Join(err, w.close())
		}
	}()
	if err := os.Chmod(dir, 0o755); err != nil {
		return w, err
	}
	if out, err := exec.CommandContext(ctx, "go", "build", "-o", w.binary, "nestseed/cmd/nestseed").CombinedOutput(); err != nil {
		return w, fmt.Errorf("build: %w\n%s", err, out)
	}
	w.stack = stack.New(filepath.Join(dir, "stack"))
	w.stack.Throwaway = true
	if err := os.Mkdir(w.stack.Dir, 0o755); err != nil {
		return w, err
	}
	if err := errors.Join(w.stack.StartMariaDB(ctx), w.stack.StartWeb(ctx), scenario.InstallBase(ctx, w.stack)); err != nil {
		return w, err
	}
	if w.admin, err = w.stack.Admin(); err != nil {
		return w, err
	}
	if err := os.Mkdir(w.data(), 0o755); err != nil {
		return w, err
	}
	if err := errors.Join(stack.ThrowawayPostgres(ctx, w.data()), w.start()); err != nil {
		return w, err
	}
	return w, w.prepare(ctx)
}

func (w *world) data() string { return filepath.Join(w.dir, "data") }

// start starts the service, if it does not run.
func (w *world) start() (err error) {
	if w.service != nil {
		return nil
	}
	w.log.Reset()
	service := &stack.Service{Binary: w.binary, Data: w.data(), Listen: w.listen, Out: &w.log}
	if err := service.Start(); err != nil {
		return err
	}
	if err := service.Ready(); err != nil {
		return errors.Join(err, service.Kill())
	}
	w.service = service
	w.client, err = service.Client()
	return err
}

// killService ends the service as a loss of power would.
func (w *world) killService() {
	w.service.Kill()
	w.service = nil
}

// restartRecords kills the records' PostgreSQL while the service runs, and starts it again on the same port.
func (w *world) restartRecords() error {
	data := filepath.Join(w.data(), "postgres", "data")
	pidFile, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return err
	}
	port := strings.Split(string(pidFile), "\n")[3]
	bins, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pg_ctl")
	control := func(args ...string) error {
		args = append([]string{"-u", "postgres", "--", bins[len(bins)-1], "-s", "-w", "-D", data}, args...)
		cmd := exec.Command("runuser", args...)
		cmd.Dir = "/"
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("pg_ctl %v: %w\n%s", args, err, out)
		}
		return nil
	}
	if err := control("stop", "-m", "immediate"); err != nil {
		return err
	}
	time.Sleep(time.Second)
	return control("start", "-l", filepath.Join(w.data(), "postgres", "log"), "-o",
		fmt.Sprintf("-p %s -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=60", port))
}

// records opens a connection to the records.
func (w *world) records(ctx context.Context) (*pgx.Conn, error) {
	password, err := os.ReadFile(filepath.Join(w.data(), "postgres-password"))
	if err != nil {
		return nil, err
	}
	pid, err := os.ReadFile(filepath.Join(w.data(), "postgres", "data", "postmaster.pid"))
	if err != nil {
		return nil, err
	}
	return pgx.Connect(ctx, fmt.Sprintf("postgres://nestseed:%s@127.0.0.1:%s/postgres?sslmode=disable", password,
		strings.Split(string(pid), "\n")[3]))
}

// prepare makes hosts, source, starter, a first release and a client.
func (w *world) prepare(ctx context.Context) error {
	for _, name := range []string{"preview", "live"} {
		pattern := "{name}"
		if name == "live" {
			pattern = "{name}-live"
		}
		_, err := w.client.AddHost(ctx, wire.NewHost{Name: name, Files: "file://" + w.stack.Sites() + "?owner=www-data", WebRoot: pattern,
			Address:  w.stack.Address(pattern),
			Database: fmt.Sprintf("mysql://%s@127.0.0.1:%d/", w.stack.AdminUser, w.stack.DatabasePort), DatabasePassword: w.stack.AdminPassword})
		if err != nil {
			return err
		}
	}
	if _, err := w.client.AddSource(ctx, wire.NewSource{Name: "base", Host: "preview", Path: "base"}); err != nil {
		return err
	}
	if _, err := w.client.CreateStarter(ctx, wire.NewStarter{Name: "music-base", Source: "base", Fields: scenario.NewFields()}); err != nil {
		return err
	}
	if _, err := w.client.AddClient(ctx, wire.NewClient{Name: school.Name, Settings: school.Settings}); err != nil {
		return err
	}
	r, err := w.client.BuildRelease(ctx, "music-base", wire.NewRelease{Note: "first"})
	if err == nil {
		r, err = w.client.Wait(ctx, r.ID, nil)
	}
	if err == nil && r.Status != "done" {
		err = errors.New(r.Error)
	}
	w.release = "music-base@1"
	return err
}

func (w *world) close() error {
	if w.service != nil && w.service.Stop() != nil {
		w.killService()
	}
	var err error
	if w.admin != nil {
		err = w.admin.Close()
	}
	if w.stack != nil {
		err = errors.Join(err, w.stack.Stop())
	}
	return errors.Join(err, os.RemoveAll(w.dir))
}
