package sftp_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"nestseed/demo/stack"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/hostfstest"
	_ "nestseed/internal/core/hostfs/sftp"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func start(t *testing.T, commands bool) *stack.SSH {
	t.Helper()
	s, err := stack.ForTest(t).StartSSH(t.Context(), commands)
	require.NoError(t, err)
	return s
}

// folder makes an empty folder that the account of the server may write to.
func folder(t *testing.T, s *stack.SSH) string {
	t.Helper()
	top, err := os.MkdirTemp("", "host")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(top) })
	require.NoError(t, os.Chmod(top, 0o755))
	dir := filepath.Join(top, "www")
	require.NoError(t, os.Mkdir(dir, 0o755))
	stack.Give(s.User, dir)
	return dir
}

func access(s *stack.SSH, dir string) hostfs.Access {
	return hostfs.Access{Address: s.Files(dir), PrivateKey: s.PrivateKey, HostKey: s.HostKey}
}

func TestOpenSSHDoesWhatEveryHostDoes(t *testing.T) {
	for name, commands := range map[string]bool{"with commands": true, "files only": false} {
		t.Run(name, func(t *testing.T) {
			s := start(t, commands)
			hostfstest.Run(t, func(t *testing.T) hostfstest.Host {
				dir := folder(t, s)
				fsys, err := hostfs.Open(t.Context(), access(s, dir))
				require.NoError(t, err)
				t.Cleanup(func() { require.NoError(t, fsys.Close()) })
				return hostfstest.Host{FS: fsys, Dir: dir}
			})
		})
	}
}

func TestAHostThatShowsAnotherKeyIsRefused(t *testing.T) {
	s := start(t, true)
	a := access(s, folder(t, s))
	shown := ""
	a.HostKey, a.Shown = "", func(key string) { shown = key }
	fsys, err := hostfs.Open(t.Context(), a)
	require.NoError(t, err)
	require.NoError(t, fsys.Close())
	require.Equal(t, s.HostKey, shown, "what it shows first is told")
	a.Shown = nil
	_, err = hostfs.Open(t.Context(), a)
	require.ErrorIs(t, err, hostfs.ErrHostKey, "what nobody wants to be told is not taken")
	a.HostKey = start(t, true).HostKey
	_, err = hostfs.Open(t.Context(), a)
	require.ErrorIs(t, err, hostfs.ErrHostKey)
	require.ErrorContains(t, err, "SHA256:")
}

func TestWhoIsNotLetInIsTold(t *testing.T) {
	s := start(t, true)
	dir := folder(t, s)
	other := start(t, true)
	for want, a := range map[string]hostfs.Access{
		"does not let":                       {Address: s.Files(dir), PrivateKey: other.PrivateKey},
		"nothing is known":                   {Address: s.Files(dir)},
		"cannot be read":                     {Address: s.Files(dir), PrivateKey: "-----BEGIN"},
		"does not answer":                    {Address: fmt.Sprintf("sftp://%s@127.0.0.1:1%s", s.User, dir), PrivateKey: s.PrivateKey},
		"write the address":                  {Address: "sftp://files.example" + dir, PrivateKey: s.PrivateKey},
		`the option "owner"`:                 {Address: s.Files(dir + "?owner=x"), PrivateKey: s.PrivateKey},
		"folder /no/such/folder of the host": {Address: s.Files("/no/such/folder"), PrivateKey: s.PrivateKey},
		"no agent is known here":             {Address: s.Files(dir) + "?agent=yes"},
	} {
		t.Setenv("SSH_AUTH_SOCK", "")
		a.Shown = func(string) {}
		_, err := hostfs.Open(t.Context(), a)
		require.ErrorContains(t, err, want)
		require.NotContains(t, err.Error(), "PRIVATE")
	}
}

func TestAnAgentLogsIn(t *testing.T) {
	s := start(t, true)
	keys := agent.NewKeyring()
	key, err := ssh.ParseRawPrivateKey([]byte(s.PrivateKey))
	require.NoError(t, err)
	require.NoError(t, keys.Add(agent.AddedKey{PrivateKey: key}))
	socket := filepath.Join(t.TempDir(), "agent")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				agent.ServeAgent(keys, c) //nolint:errcheck // it ends with the line
			}()
		}
	}()
	t.Setenv("SSH_AUTH_SOCK", socket)
	dir := folder(t, s)
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: s.Files(dir) + "?agent=yes&seen=/srv/www", HostKey: s.HostKey})
	require.NoError(t, err)
	defer fsys.Close()
	require.Equal(t, "/srv/www", fsys.Root(), "where the programs of the host see it")
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "a", nil, 0o644))
	require.FileExists(t, filepath.Join(dir, "a"))
}

func TestWhatTheHostReachesIsReachedThroughIt(t *testing.T) {
	s := start(t, true)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		c, err := l.Accept()
		if err == nil {
			io.WriteString(c, "from within") //nolint:errcheck // the reader sees it
			c.Close()
		}
	}()
	fsys, err := hostfs.Open(t.Context(), access(s, folder(t, s)))
	require.NoError(t, err)
	defer fsys.Close()
	c, err := fsys.(hostfs.Dialer).Dial(t.Context(), "tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	text, err := io.ReadAll(c)
	require.NoError(t, err)
	require.Equal(t, "from within", string(text))
}

// passwordServer is a server of this process, as OpenSSH would need an account with a password on this machine. Its lines can be cut.
type passwordServer struct {
	l       net.Listener
	mu      sync.Mutex
	conns   []net.Conn
	logins  int
	running sync.WaitGroup
}

func startPasswordServer(t *testing.T, serves ...func(io.ReadWriteCloser)) *passwordServer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	config := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if c.User() == "studio" && string(password) == "seven scales" {
			return nil, nil
		}
		return nil, errors.New("no")
	}}
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &passwordServer{l: l}
	s.running.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			s.mu.Lock()
			s.conns = append(s.conns, c)
			s.logins++
			s.mu.Unlock()
			s.running.Go(func() { serve(c, config, serves...) })
		}
	})
	t.Cleanup(func() {
		l.Close()
		s.cut()
		s.running.Wait()
	})
	return s
}

func (s *passwordServer) cut() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.conns {
		c.Close()
	}
	s.conns = nil
}

func serve(c net.Conn, config *ssh.ServerConfig, serves ...func(io.ReadWriteCloser)) {
	defer c.Close()
	_, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for n := range channels {
		ch, requests, err := n.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				isFiles := r.Type == "subsystem" && strings.HasSuffix(string(r.Payload), "sftp")
				r.Reply(isFiles, nil) //nolint:errcheck // the line ends
				if isFiles && len(serves) > 0 {
					go serves[0](ch)
				} else if isFiles {
					server, err := sftp.NewServer(ch)
					if err == nil {
						go server.Serve() //nolint:errcheck // the line ends
					}
				}
			}
		}()
	}
}

func (s *passwordServer) open(t *testing.T, dir, password string) (hostfs.FS, error) {
	return hostfs.Open(t.Context(), hostfs.Access{Address: fmt.Sprintf("sftp://studio@%s%s", s.l.Addr(), dir), Password: password,
		Shown: func(string) {}})
}

func TestAPasswordLogsIn(t *testing.T) {
	s := startPasswordServer(t)
	dir := t.TempDir()
	fsys, err := s.open(t, dir, "seven scales")
	require.NoError(t, err)
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, "a", []byte("x"), 0o644))
	require.NoError(t, fsys.Close())
	_, err = s.open(t, dir, "six scales")
	require.ErrorContains(t, err, "does not let studio in")
	require.NotContains(t, err.Error(), "six scales")
}

func TestABrokenLineIsMended(t *testing.T) {
	s := startPasswordServer(t)
	dir := t.TempDir()
	fsys, err := s.open(t, dir, "seven scales")
	require.NoError(t, err)
	defer fsys.Close()
	content := make([]byte, 2<<20)
	_, err = rand.Read(content)
	require.NoError(t, err)
	w, err := fsys.Create(t.Context(), "site/file", 0o644)
	require.NoError(t, err)
	for i := 0; i < len(content); i += 256 << 10 {
		if i == 512<<10 || i == 1<<20 {
			s.cut()
		}
		_, err := w.Write(content[i : i+256<<10])
		require.NoError(t, err)
	}
	s.cut()
	require.NoError(t, w.Close())
	there, err := os.ReadFile(filepath.Join(dir, "site/file"))
	require.NoError(t, err)
	require.True(t, string(content) == string(there), "every byte is there, once")

	in, err := fsys.Open(t.Context(), "site/file")
	require.NoError(t, err)
	read := make([]byte, 0, len(content))
	for buf := make([]byte, 300<<10); ; {
		n, err := in.Read(buf)
		read = append(read, buf[:n]...)
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		if len(read)%(512<<10) == 0 {
			s.cut()
		}
	}
	require.NoError(t, in.Close())
	require.True(t, string(content) == string(read))
	s.cut()
	_, err = fsys.Stat(t.Context(), "site/file")
	require.NoError(t, err)
	require.Greater(t, s.logins, 3)

	// When the host is gone it is said, and soon.
	s.l.Close()
	s.cut()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	_, err = fsys.Stat(ctx, "site/file")
	require.ErrorContains(t, err, "does not answer")
}
