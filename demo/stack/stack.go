// Package stack runs the servers that the demo and the tests work on, on loopback and in one folder:
// MariaDB, php-fpm and nginx from Debian's packages, with one server block for every NAME.localhost.
//
//	s := stack.New("/var/tmp/demo")
//	err := s.StartMariaDB(ctx); err = s.StartWeb(ctx)
//	defer s.Stop()
//
// A folder served at http://NAME.localhost:PORT is Sites()/NAME, so a site is live once it is there.
// Processes are remembered in the folder, so another process can stop them; only those are stopped.
package stack

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"nestseed/internal/service/cluster"

	_ "github.com/go-sql-driver/mysql" // the driver is used by name
)

// Stack is a folder with servers in it. Ports that are 0 are chosen when a server starts.
type Stack struct {
	Dir           string
	DatabasePort  int
	WebPort       int
	WebUser       string // account of the web server, where the stack runs as root
	FilesUser     string // account that files are reached with, where the stack runs as root; that of the web server unless given
	FilesPort     int    // of the SSH server for files
	CommandsPort  int    // of the one that also runs commands
	FTPPort       int
	PostgresPort  int    // of the server for databases of sites
	WebHost       string // a loopback address; another one is another machine with the same port
	AdminUser     string
	AdminPassword string
	Throwaway     bool // for tests: databases start from a prepared folder and need not survive the loss of the machine

	postgres *cluster.Cluster
}

// New returns the stack in a folder, with what is known of it from an earlier start.
func New(dir string) *Stack {
	s := &Stack{Dir: dir, AdminUser: "placing", WebHost: "127.0.0.1", WebUser: "www-data"}
	if b, err := os.ReadFile(filepath.Join(dir, "admin-password")); err == nil {
		s.AdminPassword = string(b)
	}
	return s
}

// Sites is the folder whose subfolders are served.
func (s *Stack) Sites() string { return filepath.Join(s.Dir, "sites") }

// DatabaseURL is the address of the database server with its administrator.
func (s *Stack) DatabaseURL() string {
	return fmt.Sprintf("mysql://%s:%s@127.0.0.1:%d/", s.AdminUser, s.AdminPassword, s.DatabasePort)
}

// Address is where a site of this name is served.
func (s *Stack) Address(name string) string {
	return fmt.Sprintf("http://%s.localhost:%d", name, s.WebPort)
}

// SharedAddress is where a site of this name is served whose programs are kept from those of other sites, as sites that share code are to be.
func (s *Stack) SharedAddress(name string) string {
	return fmt.Sprintf("http://%s.shared.localhost:%d", name, s.WebPort)
}

// Client returns an HTTP client that finds NAME.localhost on this machine (RFC 6761 section 6.3)
// and does not follow redirects.
func Client() *http.Client {
	dial := &net.Dialer{Timeout: 5 * time.Second}
	return &http.Client{
		Timeout: 60 * time.Second,
		Transport: &http.Transport{DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(addr)
			return dial.DialContext(ctx, network, "127.0.0.1:"+port)
		}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// FreePort returns a port of loopback that nobody listens on.
func FreePort() int {
	l, err := cluster.Listen()
	if err != nil {
		return 0
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

func (s *Stack) path(parts ...string) string {
	return filepath.Join(append([]string{s.Dir}, parts...)...)
}

// Give gives folders to a system user, when we are root and may.
func Give(name string, dirs ...string) { asUser(name, dirs...) }

func asUser(name string, dirs ...string) {
	u, err := user.Lookup(name)
	if err != nil || os.Geteuid() != 0 {
		return
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	for _, d := range dirs {
		os.Chown(d, uid, gid)
	}
}

func runs(as string) string {
	if os.Geteuid() == 0 {
		return as
	}
	u, _ := user.Current()
	return u.Username
}

// start runs a server in the background, its output in a log, and remembers its process.
func (s *Stack) start(name string, args ...string) error {
	log, err := os.OpenFile(s.path(name+".log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start %s: %w", name, err)
	}
	go cmd.Wait()
	return os.WriteFile(s.path(name+".pid"), []byte(strconv.Itoa(cmd.Process.Pid)), 0o644)
}

// alive reports whether the remembered process of a server still runs.
func (s *Stack) alive(name string) (pid int, yes bool) {
	b, err := os.ReadFile(s.path(name + ".pid"))
	if err != nil {
		return 0, false
	}
	pid, _ = strconv.Atoi(strings.TrimSpace(string(b)))
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return pid, err == nil && strings.Contains(string(line), s.Dir)
}

// Stop ends the servers that were started in this folder, and waits for them.
func (s *Stack) Stop() error {
	var err error
	for _, name := range []string{"vsftpd", "sshd-files", "sshd-commands", "nginx", "php-fpm-shared", "php-fpm", "mariadb"} {
		if pid, yes := s.alive(name); yes {
			syscall.Kill(pid, syscall.SIGTERM)
			err = errors.Join(err, wait(20*time.Second, func() error {
				if _, yes := s.alive(name); yes {
					return fmt.Errorf("%s does not end", name)
				}
				return nil
			}))
		}
		os.Remove(s.path(name + ".pid"))
	}
	if s.FTPPort != 0 {
		os.Remove(s.ftpPAM())
	}
	return errors.Join(err, s.stopPostgres())
}

// KillMariaDB ends the database server as a loss of power would; StartMariaDB starts it again.
func (s *Stack) KillMariaDB() error {
	pid, yes := s.alive("mariadb")
	if !yes {
		return errors.New("mariadb does not run")
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		return err
	}
	return wait(20*time.Second, func() error {
		if _, yes := s.alive("mariadb"); yes {
			return errors.New("mariadb does not end")
		}
		return nil
	})
}

func wait(atMost time.Duration, try func() error) error {
	deadline := time.Now().Add(atMost)
	for {
		err := try()
		if err == nil || time.Now().After(deadline) {
			return err
		}
		time.Sleep(30 * time.Millisecond)
	}
}

// StartMariaDB makes the server's data folder the first time, starts it, and makes the administrator.
// settings are further options of mariadbd.
func (s *Stack) StartMariaDB(ctx context.Context, settings ...string) error {
	if s.DatabasePort == 0 {
		s.DatabasePort = FreePort()
	}
	if _, yes := s.alive("mariadb"); yes {
		return nil
	}
	// Each server has a temporary folder of its own: at its start MariaDB removes what it takes for leftovers
	// in the one it is given, and in /tmp that would be the tables of a server beside it.
	data, scratch := s.path("mariadb"), s.path("mariadb-tmp")
	for _, dir := range []string{data, scratch} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		asUser("mysql", dir)
	}
	sock := s.path("mariadb", "m.sock")
	if len(sock) > 100 { // sun_path of unix(7) holds 108
		sock = filepath.Join(os.TempDir(), fmt.Sprintf("nestseed-%d.sock", s.DatabasePort))
	}
	if _, err := os.Stat(filepath.Join(data, "mysql")); err != nil {
		if err := s.installMariaDB(ctx, data, scratch); err != nil {
			return err
		}
	}
	if s.Throwaway {
		settings = append(slices.Clone(throwawayMariaDB), settings...)
	}
	args := append([]string{"mariadbd", "--no-defaults", "--datadir=" + data, "--tmpdir=" + scratch, "--user=" + runs("mysql"), "--socket=" +
		sock,
		"--port=" + strconv.Itoa(s.DatabasePort), "--bind-address=127.0.0.1", "--skip-name-resolve", "--skip-log-bin",
		"--pid-file=" + filepath.Join(data, "m.pid")}, settings...)
	if err := s.start("mariadb", args...); err != nil {
		return err
	}
	root, err := sql.Open("mysql", "root@unix("+sock+")/")
	if err != nil {
		return err
	}
	defer root.Close()
	if err := wait(60*time.Second, root.Ping); err != nil {
		return fmt.Errorf("MariaDB does not answer: %w; see %s", err, s.path("mariadb.log"))
	}
	if s.AdminPassword == "" {
		s.AdminPassword = rand.Text()
		if err := os.WriteFile(s.path("admin-password"), []byte(s.AdminPassword), 0o600); err != nil {
			return err
		}
	}
	for _, stmt := range []string{
		"DELETE FROM mysql.global_priv WHERE User = ''",
		"FLUSH PRIVILEGES",
		fmt.Sprintf("CREATE OR REPLACE USER '%s'@'%%' IDENTIFIED BY '%s'", s.AdminUser, s.AdminPassword),
		fmt.Sprintf("GRANT ALL ON *.* TO '%s'@'%%' WITH GRANT OPTION", s.AdminUser),
	} {
		if _, err := root.ExecContext(ctx, stmt); err != nil {
			return err
		}
	}
	return nil
}

// installMariaDB makes the server's first data folder.
func (s *Stack) installMariaDB(ctx context.Context, data, scratch string) error {
	install := func(data string) error {
		cmd := exec.CommandContext(ctx, "mariadb-install-db", "--no-defaults", "--datadir="+data, "--tmpdir="+scratch, "--user="+runs("mysql"),
			"--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("prepare MariaDB: %w\n%s", err, out)
		}
		return nil
	}
	if !s.Throwaway {
		return install(data)
	}
	return fromTemplate(data, "mariadb", "/usr/sbin/mariadbd", func(template string) error {
		asUser("mysql", template)
		return install(template)
	})
}

// fpmConf is of a php-fpm: %[1]s is the stack's folder, %[2]s the account, %[3]s its name with a hyphen or nothing, %[4]d how many programs
// run at a time.
const fpmConf = `[global]
pid = %[1]s/fpm%[3]s-master.pid
error_log = %[1]s/fpm-error.log
daemonize = no
[sites]
user = %[2]s
group = %[2]s
listen = %[1]s/fpm%[3]s.sock
listen.mode = 0666
pm = static
pm.max_children = %[4]d
php_admin_value[memory_limit] = 256M
php_admin_flag[expose_php] = on
php_admin_value[opcache.validate_timestamps] = 1
php_admin_value[opcache.revalidate_freq] = 0
catch_workers_output = yes
`

// sharedConf follows for the php-fpm of sites that share code. The web server gives it, with each request, what keeps one site from another; no
// program starts another; and what it keeps compiled, which PHP lets every site include, are no programs of a site's own (see uncompiled).
const sharedConf = `php_admin_value[disable_functions] = "exec,passthru,shell_exec,system,popen,proc_open,pcntl_exec,dl,putenv"
php_admin_value[mail.force_extra_parameters] = "-i"
`

const nginxConf = `user %[2]s;
worker_processes 1;
pid %[1]s/nginx-master.pid;
error_log %[1]s/nginx-error.log;
events { worker_connections 256; }
http {
  include /etc/nginx/mime.types;
  access_log off;
  client_body_temp_path %[1]s/nginx-tmp; proxy_temp_path %[1]s/nginx-tmp; fastcgi_temp_path %[1]s/nginx-tmp;
  uwsgi_temp_path %[1]s/nginx-tmp; scgi_temp_path %[1]s/nginx-tmp;
  client_max_body_size 64m;
  server {
    listen %[5]s:%[3]d;
    server_name ~^(?<site>(?!net-)[a-z0-9-]+)\.localhost$;
    root %[4]s/$site;
    index index.php index.html;
    location ~ /\. { return 404; }
    location / { try_files $uri $uri/ /index.php?$args; }
    location ~ \.php$ {
      try_files $uri =404;
      include /etc/nginx/fastcgi_params;
      fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
      fastcgi_param HTTP_HOST $http_host;
      fastcgi_read_timeout 120;
      fastcgi_pass unix:%[1]s/fpm.sock;
    }
  }
  server { # sites that share code: their programs open files of their own folder and of the shared code
    listen %[5]s:%[3]d;
    server_name ~^(?<site>[a-z0-9-]+)\.shared\.localhost$;
    root %[4]s/$site;
    index index.php index.html;
    location ~ /\. { return 404; }
    location / { try_files $uri $uri/ /index.php?$args; }
    location ~ \.php$ {
      try_files $uri =404;
      include /etc/nginx/fastcgi_params;
      fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
      fastcgi_param HTTP_HOST $http_host;
      fastcgi_param PHP_ADMIN_VALUE "open_basedir=$document_root/:%[4]s/.installs/\nupload_tmp_dir=$document_root/.tmp";
      fastcgi_read_timeout 120;
      fastcgi_pass unix:%[1]s/fpm-shared.sock;
    }
  }
  server { # networks of sites: in folders of an address, or with host names before it
    listen %[5]s:%[3]d;
    server_name ~^(?:[a-z0-9-]+\.)?(?<site>net-[a-z0-9-]+)\.localhost$;
    root %[4]s/$site;
    index index.php index.html;
    if (!-e $request_filename) {
      rewrite ^/[a-z0-9-]+(/wp-.*)$ $1 last;
      rewrite ^/[a-z0-9-]+(/.*\.php)$ $1 last;
    }
    location ~ /\. { return 404; }
    location / { try_files $uri $uri/ /index.php?$args; }
    location ~ \.php$ {
      try_files $uri =404;
      include /etc/nginx/fastcgi_params;
      fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
      fastcgi_param HTTP_HOST $http_host;
      fastcgi_read_timeout 120;
      fastcgi_pass unix:%[1]s/fpm.sock;
    }
  }
  server { listen %[5]s:%[3]d default_server; return 404; }
}
`

// StartWeb starts php-fpm and nginx.
func (s *Stack) StartWeb(ctx context.Context) error {
	if s.WebPort == 0 {
		s.WebPort = FreePort()
	}
	for _, d := range []string{s.Sites(), s.path("nginx-tmp")} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return err
		}
	}
	asUser(s.WebUser, s.path("nginx-tmp"), s.Sites())
	as := runs(s.WebUser)
	for name, text := range map[string]string{
		"fpm.conf":        fmt.Sprintf(fpmConf, s.Dir, as, "", 4),
		"fpm-shared.conf": fmt.Sprintf(fpmConf, s.Dir, as, "-shared", 3) + sharedConf,
		"fpm-uncompiled":  uncompiled(s.Sites()),
		"nginx.conf":      fmt.Sprintf(nginxConf, s.Dir, as, s.WebPort, s.Sites(), s.WebHost),
	} {
		if err := os.WriteFile(s.path(name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	fpm, err := fpmBinary()
	if err != nil {
		return err
	}
	// Compiled code of all sites has room, as on a host that sites are sold on.
	room := []string{"-d", "opcache.memory_consumption=1024", "-d", "opcache.interned_strings_buffer=32", "-d",
		"opcache.max_accelerated_files=200000"}
	for name, more := range map[string][]string{"php-fpm": append(room, "--fpm-config", s.path("fpm.conf")),
		"php-fpm-shared": {"--fpm-config", s.path("fpm-shared.conf"), "-d", "opcache.blacklist_filename=" + s.path("fpm-uncompiled")}} {
		if _, yes := s.alive(name); !yes {
			if err := s.start(name, append([]string{fpm, "--nodaemonize"}, more...)...); err != nil {
				return err
			}
		}
	}
	if _, yes := s.alive("nginx"); !yes {
		if err := s.start("nginx", "/usr/sbin/nginx", "-c", s.path("nginx.conf"), "-g", "daemon off;", "-e",
			s.path("nginx-error.log")); err != nil {
			return err
		}
	}
	return wait(20*time.Second, func() error {
		res, err := http.Get(fmt.Sprintf("http://%s:%d/", s.WebHost, s.WebPort))
		if err != nil {
			return fmt.Errorf("nginx does not answer: %w; see %s", err, s.path("nginx-error.log"))
		}
		res.Body.Close()
		_, err = os.Stat(s.path("fpm.sock"))
		_, shared := os.Stat(s.path("fpm-shared.sock"))
		return errors.Join(err, shared)
	})
}

// uncompiled are the beginnings of the names of all files in sites' own folders, for opcache.blacklist_filename. Shared code begins with a dot.
func uncompiled(sites string) string {
	var out strings.Builder
	for _, c := range "abcdefghijklmnopqrstuvwxyz0123456789" {
		fmt.Fprintf(&out, "%s/%c\n", sites, c)
	}
	return out.String()
}

func fpmBinary() (string, error) {
	found, _ := filepath.Glob("/usr/sbin/php-fpm*")
	slices.Sort(found)
	if len(found) == 0 {
		return "", errors.New("php-fpm is not installed; run: apt-get install php-fpm php-mysql")
	}
	return found[len(found)-1], nil
}

// copyTree copies a folder with links followed, without the files that leave says.
func copyTree(from, to string, leave func(file string) bool) error {
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	for _, e := range entries {
		src, dst := filepath.Join(from, e.Name()), filepath.Join(to, e.Name())
		info, err := os.Stat(src)
		if err != nil {
			continue // a link whose package is not installed
		}
		if info.IsDir() {
			err = copyTree(src, dst, leave)
		} else if !leave(src) {
			err = copyFile(src, dst)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	if _, err := io.Copy(out, in); err != nil {
		out.Close()
		return err
	}
	return out.Close()
}
