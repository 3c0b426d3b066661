// Package sshtest starts a real OpenSSH server for tests, on loopback, with everything it needs in a folder of its own.
package sshtest

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Server is a running server that lets one account in, with a key.
type Server struct {
	Address    string // host and port
	User       string
	PrivateKey string // in PEM
	HostKey    string // the public one, as in authorized_keys
}

// Account is who is let in for files only when the tests run as root: the account that web servers have.
const Account = "www-data"

// Options change what the server allows.
type Options struct {
	FilesOnly bool // no commands
}

// Start starts a server that ends with the test. It lets in whoever runs the test, or, for files only and run as root, Account.
func Start(t testing.TB, o Options) *Server {
	t.Helper()
	sshd, err := exec.LookPath("/usr/sbin/sshd")
	require.NoError(t, err, "openssh-server is needed; make install installs it")
	dir, err := os.MkdirTemp("", "sshd")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	me, err := user.Current()
	require.NoError(t, err)
	s := &Server{User: me.Username}
	if os.Geteuid() == 0 {
		if o.FilesOnly {
			s.User = Account // it has no shell
		}
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	}
	var hostKey string
	hostKey, s.HostKey = newKey(t)
	var public string
	s.PrivateKey, public = newKey(t)
	write := func(name, text string, mode os.FileMode) string {
		name = filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(name, []byte(text), mode))
		return name
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.Address = l.Addr().String()
	l.Close()
	_, port, _ := net.SplitHostPort(s.Address)
	forced := ""
	if o.FilesOnly {
		forced = "ForceCommand internal-sftp\n"
	}
	config := write("sshd_config", fmt.Sprintf(`ListenAddress 127.0.0.1
Port %s
HostKey %s
AuthorizedKeysFile %s
StrictModes no
UsePAM no
PasswordAuthentication no
KbdInteractiveAuthentication no
AllowTcpForwarding yes
PidFile %s
MaxStartups 100
MaxSessions 100
PerSourcePenalties no
PermitRootLogin yes
Subsystem sftp internal-sftp
%s`, port, write("host_key", hostKey, 0o600), write("authorized_keys", public+"\n", 0o644), filepath.Join(dir, "pid"), forced), 0o644)
	if err := exec.Command(sshd, "-t", "-f", config).Run(); err != nil { // before OpenSSH 9.8
		text, _ := os.ReadFile(config)
		write("sshd_config", strings.Replace(string(text), "PerSourcePenalties no\n", "", 1), 0o644)
	}
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	defer log.Close()
	cmd := exec.Command(sshd, "-D", "-e", "-f", config)
	cmd.Stderr = log
	// Sessions are in groups of their own; the group of the listener is enough to end it, and they end with their lines.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait() //nolint:errcheck // it was killed
	})
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", s.Address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "sshd does not listen")
	return s
}

// newKey makes a key pair (RFC 8709).
func newKey(t testing.TB) (private, public string) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block)), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
}

// Folder makes an empty folder that the account of the server may write to.
func (s *Server) Folder(t testing.TB) string {
	t.Helper()
	top, err := os.MkdirTemp("", "host")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(top) })
	require.NoError(t, os.Chmod(top, 0o755))
	dir := filepath.Join(top, "www")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, Give(dir, s.User))
	return dir
}

// Give makes a file or folder an account's, where the tests run as root.
func Give(name, account string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	u, err := user.Lookup(account)
	if err != nil {
		return err
	}
	var uid, gid int
	if _, err := fmt.Sscan(u.Uid+" "+u.Gid, &uid, &gid); err != nil {
		return err
	}
	return os.Lchown(name, uid, gid)
}
