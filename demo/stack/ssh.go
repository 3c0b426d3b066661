package stack

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// SSH is a running OpenSSH server that lets one account in, with a key.
type SSH struct {
	Port       int
	User       string
	PrivateKey string // in PEM
	HostKey    string // the public one, as in authorized_keys
}

const sshdConf = `ListenAddress 127.0.0.1
Port %d
HostKey %[2]s/%[3]s_host_key
AuthorizedKeysFile %[2]s/%[3]s_authorized_keys
PidFile none
StrictModes no
UsePAM %[4]s
PermitRootLogin yes
PasswordAuthentication no
KbdInteractiveAuthentication no
AllowTcpForwarding yes
MaxStartups 100
MaxSessions 100
Subsystem sftp internal-sftp
`

// StartSSH starts the server, for files only or also for commands. Where the stack runs as root, the account is that of the web server,
// as it is on hosting, or root where that one has no shell for commands.
func (s *Stack) StartSSH(ctx context.Context, commands bool) (*SSH, error) {
	name, account, port := "sshd-files", runs(cmp.Or(s.FilesUser, s.WebUser)), &s.FilesPort
	if commands {
		name, port = "sshd-commands", &s.CommandsPort
		if account == "www-data" {
			account = runs("root") // that one has no shell
		}
	}
	if *port == 0 {
		*port = FreePort()
	}
	out := &SSH{Port: *port, User: account}
	pam := "no"
	if os.Geteuid() == 0 {
		pam = "yes" // lets accounts in that have no password
	}
	config := fmt.Sprintf(sshdConf, *port, s.Dir, name, pam)
	if !commands {
		config += "ForceCommand internal-sftp\n"
	}
	var err error
	var public string
	if out.PrivateKey, public, err = s.key(name + "_key"); err != nil {
		return nil, err
	}
	if _, out.HostKey, err = s.key(name + "_host_key"); err != nil {
		return nil, err
	}
	for file, text := range map[string]string{name + ".conf": config, name + "_authorized_keys": public + "\n"} {
		if err := os.WriteFile(s.path(file), []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	if _, yes := s.alive(name); !yes {
		if os.Geteuid() == 0 {
			if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // it begins only with this folder
				return nil, err
			}
		}
		sshd, err := exec.LookPath("/usr/sbin/sshd")
		if err != nil {
			return nil, errors.New("sshd is not installed; run: apt-get install openssh-server")
		}
		if err := s.start(name, sshd, "-D", "-e", "-f", s.path(name+".conf")); err != nil {
			return nil, err
		}
	}
	return out, wait(20*time.Second, func() error {
		c, err := (&net.Dialer{}).DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", *port))
		if err != nil {
			return fmt.Errorf("sshd does not answer: %w; see %s", err, s.path(name+".log"))
		}
		return c.Close()
	})
}

// key returns a key pair (RFC 8709) that is made the first time.
func (s *Stack) key(name string) (private, public string, err error) {
	text, err := os.ReadFile(s.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return "", "", err
		}
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			return "", "", err
		}
		text = pem.EncodeToMemory(block)
		if err := os.WriteFile(s.path(name), text, 0o600); err != nil {
			return "", "", err
		}
	} else if err != nil {
		return "", "", err
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return "", "", err
	}
	return string(text), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), nil
}

// Files is the address of a folder of this machine over SSH.
func (h *SSH) Files(folder string) string {
	return fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", h.User, h.Port, folder)
}
