package main

import (
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
	"nestseed/internal/service/cluster"
	"nestseed/internal/wire"
)

// copies is how many copies of the service work on the same records and the same store.
const copies = 3

// world is copies of the service on a PostgreSQL of their own, a host with real servers, and a source.
type world struct {
	dir     string
	stack   *stack.Stack
	binary  string
	server  *cluster.Cluster
	copies  [copies]*stack.Service // nil where one does not run
	listen  [copies]string
	token   string
	client  *client.Client // of a copy that runs
	admin   *sql.DB
	release string // that sites are made from
	disks   []disk // that can be filled
}

func newWorld(ctx context.Context) (w *world, err error) {
	dir, err := os.MkdirTemp(stack.Roomy(), "nestseed-chaos-")
	if err != nil {
		return nil, err
	}
	w = &world{dir: dir, binary: filepath.Join(dir, "nestseed")}
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
	for _, folder := range []string{w.stack.Dir, w.data(), w.store()} {
		if err := os.Mkdir(folder, 0o755); err != nil {
			return w, err
		}
	}
	for _, folder := range []string{w.stack.Sites(), w.store()} {
		if d, mounted := mount(folder); mounted {
			w.disks = append(w.disks, d)
		}
	}
	if err := errors.Join(w.stack.StartMariaDB(ctx), w.stack.StartWeb(ctx), scenario.InstallBase(ctx, w.stack)); err != nil {
		return w, err
	}
	if w.admin, err = w.stack.Admin(); err != nil {
		return w, err
	}
	w.admin.SetConnMaxIdleTime(time.Second) // its server is restarted
	// One that waits for the disk: what it has confirmed must be there after it was killed.
	if w.server, err = cluster.Start(ctx, w.data()); err != nil {
		return w, err
	}
	if err := w.start(); err != nil {
		return w, err
	}
	return w, w.prepare(ctx)
}

func (w *world) data() string  { return filepath.Join(w.dir, "data") }
func (w *world) store() string { return filepath.Join(w.dir, "store") }

// start starts the copies that do not run. The first of all makes the key and the owner.
func (w *world) start() error {
	for i := range w.copies {
		if w.copies[i] != nil {
			continue
		}
		if w.listen[i] == "" {
			w.listen[i] = fmt.Sprintf("127.0.0.1:%d", stack.FreePort())
		}
		data := filepath.Join(w.dir, fmt.Sprint("copy-", i))
		if key, err := os.ReadFile(filepath.Join(w.dir, "copy-0", "vault-key")); err == nil && i > 0 {
			err = errors.Join(os.MkdirAll(data, 0o755), os.WriteFile(filepath.Join(data, "vault-key"), key, 0o600))
			if err != nil {
				return err
			}
		}
		out, err := os.OpenFile(data+".log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		defer out.Close()
		service := &stack.Service{Binary: w.binary, Data: data, Listen: w.listen[i], Out: out,
			Env: []string{"NESTSEED_RECORDS=" + w.server.Address(), "NESTSEED_STORE=" + w.store()}}
		if err := service.Start(); err != nil {
			return err
		}
		if err := service.Ready(); err != nil {
			return errors.Join(err, service.Kill())
		}
		w.copies[i] = service
		if i == 0 && w.token == "" {
			text, err := os.ReadFile(filepath.Join(data, "owner-token"))
			if err != nil {
				return err
			}
			w.token = strings.TrimSpace(string(text))
		}
	}
	w.ask(0)
	return nil
}

// said is what the copies wrote, the last of it, and what lies on the host.
func (w *world) said(ctx context.Context) string {
	var out strings.Builder
	for i := range w.copies {
		text, _ := os.ReadFile(filepath.Join(w.dir, fmt.Sprint("copy-", i, ".log")))
		fmt.Fprintf(&out, "copy %d:\n%s\n", i, text[max(0, len(text)-6000):])
	}
	list, _ := exec.CommandContext(ctx, "ls", "-la", "--sort=time", w.stack.Sites()).CombinedOutput()
	fmt.Fprintf(&out, "sites:\n%s\n", list)
	return out.String() + w.standstill(ctx)
}

// ask lets the copy of a number answer from now on.
func (w *world) ask(i int) { w.client = client.New(w.copies[i].Address(), w.token) }

// kill ends a copy as a loss of power would.
func (w *world) kill(i int) {
	w.copies[i].Kill()
	w.copies[i] = nil
}

// control runs pg_ctl on the records' PostgreSQL.
func (w *world) control(args ...string) error {
	bins, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pg_ctl")
	args = append([]string{"-u", "postgres", "--", bins[len(bins)-1], "-s", "-w", "-D", filepath.Join(w.data(), "postgres", "data")}, args...)
	cmd := exec.Command("runuser", args...)
	cmd.Dir = "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("pg_ctl %v: %w\n%s", args, err, out)
	}
	return nil
}

// restartRecords kills the records' PostgreSQL, and starts it again on the same port after a while.
func (w *world) restartRecords(after time.Duration) error {
	pidFile, err := os.ReadFile(filepath.Join(w.data(), "postgres", "data", "postmaster.pid"))
	if err != nil {
		return err
	}
	if err := w.control("stop", "-m", "immediate"); err != nil {
		return err
	}
	time.Sleep(after)
	return w.control("start", "-l", filepath.Join(w.data(), "postgres", "log"), "-o",
		fmt.Sprintf("-p %s -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=200", strings.Split(string(pidFile), "\n")[3]))
}

// endSessions ends all sessions of the copies with the records, as a fail-over does.
func (w *world) endSessions(ctx context.Context) error {
	conn, err := w.records(ctx)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type = 'client backend'")
	return err
}

// records opens a connection to the records.
func (w *world) records(ctx context.Context) (*pgx.Conn, error) {
	return pgx.Connect(ctx, w.server.Address())
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
	var err error
	for i, c := range w.copies {
		if c != nil && c.Stop() != nil {
			w.kill(i)
		}
	}
	if w.admin != nil {
		err = w.admin.Close()
	}
	if w.server != nil {
		err = errors.Join(err, w.server.Stop())
	}
	if w.stack != nil {
		err = errors.Join(err, w.stack.Stop())
	}
	for _, d := range w.disks {
		err = errors.Join(err, d.unmount())
	}
	return errors.Join(err, os.RemoveAll(w.dir))
}
