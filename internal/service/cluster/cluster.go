// Package cluster runs private PostgreSQL servers: that of the records, and, in the demo and in tests, one for the databases of sites.
package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Cluster is a private PostgreSQL, in the service's own folder and on loopback. It runs as the user
// postgres when the service is root, since PostgreSQL refuses to.
type Cluster struct {
	dir      string
	bin      string
	as       *syscall.Credential
	password string
	port     int
}

// ErrNoPostgres says that PostgreSQL's programs are not installed.
var ErrNoPostgres = errors.New("PostgreSQL is not installed; run apt-get install postgresql, or name a server in NESTSEED_RECORDS")

// Start makes the cluster the first time and starts it, or joins it when an earlier service that
// was killed has left it running.
func Start(ctx context.Context, dir string) (*Cluster, error) {
	bins, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pg_ctl")
	if len(bins) == 0 {
		return nil, ErrNoPostgres
	}
	slices.Sort(bins)
	c := &Cluster{dir: filepath.Join(dir, "postgres"), bin: filepath.Dir(bins[len(bins)-1])}
	if os.Geteuid() == 0 {
		u, err := user.Lookup("postgres")
		if err != nil {
			return nil, ErrNoPostgres
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		c.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	if err := c.ready(ctx, dir); err != nil {
		return nil, err
	}
	if c.joined() {
		return c, nil
	}
	return c, c.start(ctx)
}

// ready makes the cluster's folder and files, unless they are there.
func (c *Cluster) ready(ctx context.Context, dir string) error {
	secret := filepath.Join(dir, "postgres-password")
	if b, err := os.ReadFile(secret); err == nil {
		c.password = string(b)
		_, err := os.Stat(filepath.Join(c.dir, "data", "PG_VERSION"))
		if err == nil {
			return nil
		}
		if !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("the records' folder cannot be read: %w; nothing was changed", err)
		}
	}
	if err := c.clear(); err != nil {
		return err
	}
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(c.dir, unfinished), nil, 0o600); err != nil {
		return err
	}
	if c.as != nil {
		if err := os.Chown(c.dir, int(c.as.Uid), int(c.as.Gid)); err != nil {
			return err
		}
	}
	c.password = rand.Text()
	if err := os.WriteFile(secret, []byte(c.password), 0o600); err != nil {
		return err
	}
	given := filepath.Join(c.dir, "first-password")
	if err := os.WriteFile(given, []byte(c.password), 0o600); err != nil {
		return err
	}
	defer os.Remove(given)
	if c.as != nil {
		if err := os.Chown(given, int(c.as.Uid), int(c.as.Gid)); err != nil {
			return err
		}
	}
	cmd := c.command(ctx, "initdb", "-D", filepath.Join(c.dir, "data"), "-U", "nestseed", "-E", "UTF8", "--locale=C.UTF-8", "-A",
		"scram-sha-256", "--pwfile="+given)
	if out, err := cmd.CombinedOutput(); err != nil {
		os.Remove(secret)
		if errors.Is(err, os.ErrPermission) || strings.Contains(string(out), "ermission denied") {
			return fmt.Errorf("PostgreSQL's user cannot enter %s; set NESTSEED_DATA to a folder that other users may enter, like /var/lib/nestseed",
				dir)
		}
		return fmt.Errorf("make the private PostgreSQL: %w\n%s", err, out)
	}
	return os.Remove(filepath.Join(c.dir, unfinished))
}

// unfinished marks a folder in which a cluster is being made: it holds nothing yet.
const unfinished = "unfinished"

// clear removes what was left of a cluster that was being made when somebody was killed. Whatever else is there may be
// records, and is left alone.
func (c *Cluster) clear() error {
	entries, err := os.ReadDir(c.dir)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(entries) == 0 {
		return nil
	}
	if err != nil {
		return fmt.Errorf("the records' folder cannot be read: %w; nothing was changed", err)
	}
	if _, err := os.Stat(filepath.Join(c.dir, unfinished)); err != nil {
		return fmt.Errorf("%s holds something that is not a whole PostgreSQL; bring it back from a copy, or move it away to begin from scratch",
			c.dir)
	}
	return os.RemoveAll(c.dir)
}

func (c *Cluster) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(c.bin, name), args...)
	cmd.Dir = c.dir
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: c.as}
	return cmd
}

// joined reads the port of a cluster that runs already (postmaster.pid: pid, folder, start, port, …).
func (c *Cluster) joined() bool {
	b, err := os.ReadFile(filepath.Join(c.dir, "data", "postmaster.pid"))
	if err != nil {
		return false
	}
	lines := strings.Split(string(b), "\n")
	if len(lines) < 4 {
		return false
	}
	pid, _ := strconv.Atoi(lines[0])
	port, _ := strconv.Atoi(lines[3])
	cmdline, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !strings.Contains(string(cmdline), c.dir) {
		return false
	}
	c.port = port
	return true
}

// lastPort finds the port in what the server was started with last (PostgreSQL manual, 73.1 "Database File Layout", postmaster.opts).
var lastPort = regexp.MustCompile(`"-p" "(\d+)"`)

// listen takes the port of last time, which others may have written down, or else one that is free.
func (c *Cluster) listen() (net.Listener, error) {
	last, _ := os.ReadFile(filepath.Join(c.dir, "data", "postmaster.opts"))
	if m := lastPort.FindSubmatch(last); m != nil {
		if l, err := net.Listen("tcp", "127.0.0.1:"+string(m[1])); err == nil {
			return l, nil
		}
	}
	return Listen()
}

// Listen listens on a port of loopback that is free, and that no connection is given as its own end: a server that is started on it a
// moment later finds it free still. (Linux gives out those from 32768 on, Documentation/networking/ip-sysctl.rst, ip_local_port_range.)
func Listen() (l net.Listener, err error) {
	for range 100 {
		if l, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 12000+mathrand.IntN(20000))); err == nil {
			return l, nil
		}
	}
	return nil, err
}

func (c *Cluster) start(ctx context.Context) error {
	l, err := c.listen()
	if err != nil {
		return err
	}
	c.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	log := filepath.Join(c.dir, "log")
	cmd := c.command(ctx, "pg_ctl", "start", "-w", "-s", "-t", "60", "-D", filepath.Join(c.dir, "data"), "-l", log, "-o",
		fmt.Sprintf("-p %d -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=60 -c shared_buffers=32MB", c.port))
	if out, err := cmd.CombinedOutput(); err != nil {
		tail, _ := os.ReadFile(log)
		return fmt.Errorf("start the private PostgreSQL: %w\n%s%s", err, out, tail[max(0, len(tail)-800):])
	}
	return nil
}

// Address is where the cluster is reached.
func (c *Cluster) Address() string {
	return fmt.Sprintf("postgres://nestseed:%s@127.0.0.1:%d/postgres?sslmode=disable", c.password, c.port)
}

// Stop ends the cluster.
func (c *Cluster) Stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	out, err := c.command(ctx, "pg_ctl", "stop", "-w", "-s", "-m", "fast", "-D", filepath.Join(c.dir, "data")).CombinedOutput()
	if err != nil {
		return fmt.Errorf("stop the private PostgreSQL: %w\n%s", err, out)
	}
	return nil
}
