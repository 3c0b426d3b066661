package stack

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// FTP is a running FTP server with TLS that lets one account in, with any password.
type FTP struct {
	Port     int
	User     string
	Password string
}

const vsftpdConf = `listen=YES
listen_address=127.0.0.1
listen_port=%d
background=NO
anonymous_enable=NO
local_enable=YES
write_enable=YES
guest_enable=YES
guest_username=%s
virtual_use_local_privs=YES
local_umask=022
chmod_enable=YES
chroot_local_user=NO
pam_service_name=%s
secure_chroot_dir=%s/empty
seccomp_sandbox=NO
max_clients=100
max_per_ip=100
ssl_enable=YES
force_local_logins_ssl=YES
force_local_data_ssl=YES
rsa_cert_file=%[4]s/vsftpd.pem
rsa_private_key_file=%[4]s/vsftpd.pem
`

// ErrRoot says that a server can be started by root only.
var ErrRoot = errors.New("vsftpd starts as root only")

// StartFTP starts the server. Files are made as the web server's account. Errors: ErrRoot.
func (s *Stack) StartFTP(ctx context.Context) (*FTP, error) {
	if os.Geteuid() != 0 {
		return nil, ErrRoot
	}
	if s.FTPPort == 0 {
		s.FTPPort = FreePort()
	}
	out := &FTP{Port: s.FTPPort, User: "studio", Password: "seven scales"}
	// Who may log in is asked of PAM, whose files are in one folder of the system; Stop removes this one. It looks at the account only.
	users := s.path("ftp-users")
	for file, text := range map[string]string{
		users: out.User + "\n",
		s.ftpPAM(): fmt.Sprintf("auth required pam_listfile.so item=user sense=allow onerr=fail file=%s\n"+
			"account required pam_permit.so\nsession required pam_permit.so\n", users),
		s.path("vsftpd.conf"): fmt.Sprintf(vsftpdConf, s.FTPPort, runs(s.WebUser), filepath.Base(s.ftpPAM()), s.Dir),
	} {
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(os.MkdirAll(s.path("empty"), 0o755), s.certificate("vsftpd.pem")); err != nil {
		return nil, err
	}
	if _, yes := s.alive("vsftpd"); !yes {
		if err := s.start("vsftpd", "/usr/sbin/vsftpd", s.path("vsftpd.conf")); err != nil {
			return nil, fmt.Errorf("%w; run: apt-get install vsftpd", err)
		}
	}
	return out, wait(20*time.Second, func() error {
		c, err := (&net.Dialer{}).DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", s.FTPPort))
		if err != nil {
			return fmt.Errorf("vsftpd does not answer: %w; see %s", err, s.path("vsftpd.log"))
		}
		return c.Close()
	})
}

func (s *Stack) ftpPAM() string { return fmt.Sprintf("/etc/pam.d/nestseed-ftp-%d", s.FTPPort) }

// certificate makes a key and a certificate that nobody vouches for.
func (s *Stack) certificate(name string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	raw, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()),
		Subject: pkix.Name{CommonName: "files.example"}, NotAfter: time.Now().AddDate(1, 0, 0)}, &x509.Certificate{SerialNumber: big.NewInt(1),
		Subject: pkix.Name{CommonName: "files.example"}}, key.Public(), key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	text := append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})...)
	return os.WriteFile(s.path(name), text, 0o600)
}

// Files is the address of a folder of this machine over FTP.
func (h *FTP) Files(folder string) string {
	return fmt.Sprintf("ftps://%s@127.0.0.1:%d%s", h.User, h.Port, folder)
}
