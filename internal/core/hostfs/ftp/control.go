package ftp

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"net/url"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
)

// patience is how long the other side may take to answer anything.
const patience = 30 * time.Second

// control is one connection for commands (RFC 959, section 2.3). It is for one goroutine at a time.
type control struct {
	conn     net.Conn
	text     *textproto.Conn
	said     *limited // what text reads
	host     string   // that data connections go to, whatever PASV says
	tls      *tls.Config
	features map[string]string
	used     time.Time
}

// login is who logs in where.
type login struct {
	address, user, password string
	secure                  bool
	name                    string // that a certificate is for
	known                   string
	shown                   func(string)
}

func loginOf(u *url.URL, a hostfs.Access) (*login, error) {
	l := &login{address: net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "21")), user: u.User.Username(), password: a.Password,
		secure: u.Scheme == "ftps", name: u.Hostname(), known: a.HostKey, shown: a.Shown}
	if u.Hostname() == "" || l.user == "" || !strings.HasPrefix(u.Path, "/") {
		return nil, errors.New("write the address of the files like ftps://user@host/folder")
	}
	ip := net.ParseIP(u.Hostname())
	if !l.secure && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, errors.New("ftp:// would send the password in the clear; write ftps://user@host/folder, which is FTP with TLS")
	}
	if l.password == "" {
		return nil, errors.New("nothing is known that this account logs in with; give its password")
	}
	return l, nil
}

// dial connects and logs in.
func (l *login) dial(ctx context.Context) (_ *control, err error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", l.address)
	if err != nil {
		return nil, fmt.Errorf("the host does not answer at %s: %w", l.address, err)
	}
	host, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
	c := &control{host: host, features: map[string]string{}}
	c.speak(conn)
	defer func() {
		if err != nil {
			c.conn.Close()
		}
	}()
	if _, _, err := c.answer(220); err != nil {
		return nil, fmt.Errorf("the host at %s does not speak FTP as expected: %w", l.address, err)
	}
	if l.secure {
		if err := c.protect(ctx, l); err != nil {
			return nil, err
		}
	}
	code, said, err := c.cmd(0, "USER %s", l.user)
	if err == nil && code == 331 {
		code, said, err = c.cmd(0, "PASS %s", l.password)
	}
	if err != nil {
		return nil, err
	}
	if code/100 != 2 {
		if code == 421 {
			return nil, &textproto.Error{Code: code, Msg: said}
		}
		return nil, fmt.Errorf("the host at %s does not let %s in: the password is not that of the account (%d %s)", l.address, l.user, code,
			said)
	}
	if l.secure {
		for _, command := range []string{"PBSZ 0", "PROT P"} { // RFC 4217, section 9
			if _, _, err := c.cmd(200, "%s", command); err != nil {
				return nil, fmt.Errorf("the host at %s does not protect what is transferred: %w", l.address, err)
			}
		}
	}
	if _, _, err := c.cmd(200, "TYPE I"); err != nil {
		return nil, err
	}
	c.feat()
	if _, utf8 := c.features["UTF8"]; utf8 {
		c.cmd(0, "OPTS UTF8 ON") //nolint:errcheck // RFC 2640: it is on by itself with most
	}
	return c, nil
}

// protect begins TLS on the connection (RFC 4217, section 4).
func (c *control) protect(ctx context.Context, l *login) error {
	if _, _, err := c.cmd(234, "AUTH TLS"); err != nil {
		return fmt.Errorf("the host at %s offers no TLS, and without it the password would be sent in the clear; ask the hosting company for "+
			"FTP with TLS (FTPS), or for SFTP: %w", l.address, err)
	}
	c.tls = &tls.Config{ServerName: l.name, MinVersion: tls.VersionTLS12,
		ClientSessionCache: tls.NewLRUClientSessionCache(4), // servers want the data connection to go on with the same session
		InsecureSkipVerify: true,                            //nolint:gosec // VerifyConnection does it, and knows keys that were shown before
		VerifyConnection:   l.verify}
	conn := tls.Client(c.conn, c.tls)
	if err := conn.HandshakeContext(ctx); err != nil {
		if errors.Is(err, hostfs.ErrHostKey) {
			return err
		}
		return fmt.Errorf("TLS with the host at %s: %w", l.address, err)
	}
	c.speak(conn)
	return nil
}

// verify takes a certificate that somebody known vouches for. Many hosts have one that nobody does: that is taken when it is first
// shown, and must be shown again.
func (l *login) verify(state tls.ConnectionState) error {
	leaf := state.PeerCertificates[0]
	between := x509.NewCertPool()
	for _, c := range state.PeerCertificates[1:] {
		between.AddCert(c)
	}
	_, err := leaf.Verify(x509.VerifyOptions{DNSName: l.name, Intermediates: between})
	if err == nil {
		return nil
	}
	shown := "certificate " + base64.StdEncoding.EncodeToString(leaf.Raw)
	switch {
	case l.known == "" && l.shown != nil:
		l.known = shown
		l.shown(shown)
		return nil
	case l.known == shown:
		return nil
	}
	sum := sha256.Sum256(leaf.Raw)
	return fmt.Errorf("%w: its certificate (SHA-256 %x) is neither vouched for nor the one that it has shown until now; somebody may be "+
		"listening in between. Ask the hosting company, and only if it has changed the certificate let the new one be taken", hostfs.ErrHostKey,
		sum)
}

// answerBytes is how long an answer may be: the longest is a list of features.
const answerBytes = 64 << 10

// limited reads no more than an answer.
type limited struct {
	net.Conn
	left int
}

func (l *limited) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, errors.New("the host answers without end")
	}
	n, err := l.Conn.Read(p[:min(len(p), l.left)])
	l.left -= n
	return n, err
}

// speak makes a connection the one that commands go over.
func (c *control) speak(conn net.Conn) {
	c.conn, c.said = conn, &limited{Conn: conn}
	c.text = textproto.NewConn(c.said)
}

func (c *control) wait() { c.conn.SetDeadline(time.Now().Add(patience)) } //nolint:errcheck // a closed connection says so next

// cmd sends a command and reads the answer, which must have a code; 0 takes every one.
func (c *control) cmd(expect int, format string, args ...any) (code int, said string, err error) {
	line := fmt.Sprintf(format, args...)
	if strings.ContainsAny(line, "\r\n\x00") { // a name would become a command
		return 0, "", fmt.Errorf("%w: a name with the end of a line in it cannot be told to an FTP server", fs.ErrInvalid)
	}
	c.wait()
	c.used = time.Now()
	if _, err := c.text.Cmd("%s", line); err != nil {
		return 0, "", err
	}
	return c.answer(expect)
}

func (c *control) answer(expect int) (int, string, error) {
	c.wait()
	c.said.left = answerBytes
	code, said, err := c.text.ReadResponse(expect)
	var told *textproto.Error
	if expect == 0 && errors.As(err, &told) {
		err = nil
	}
	return code, said, err
}

// feat asks what the other side can do beyond RFC 959 (RFC 2389).
func (c *control) feat() {
	code, said, err := c.cmd(0, "FEAT")
	if err != nil || code != 211 {
		return
	}
	for _, line := range strings.Split(said, "\n") {
		name, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		c.features[strings.ToUpper(name)] = rest
	}
}

// data opens a connection for data and sends the command that uses it.
func (c *control) data(ctx context.Context, offset int64, format string, args ...any) (net.Conn, error) {
	port, err := c.passive()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(c.host, strconv.Itoa(port)))
	if err != nil {
		return nil, fmt.Errorf("no connection for data to the host (ask the hosting company whether passive FTP is open): %w", err)
	}
	if offset > 0 {
		if _, _, err := c.cmd(350, "REST %d", offset); err != nil {
			conn.Close()
			return nil, err
		}
	}
	if _, _, err := c.cmd(1, format, args...); err != nil {
		conn.Close()
		return nil, err
	}
	if c.tls != nil {
		secured := tls.Client(conn, c.tls)
		if err := secured.HandshakeContext(ctx); err != nil {
			conn.Close()
			c.answer(0) //nolint:errcheck // it says that the transfer failed
			return nil, fmt.Errorf("TLS for data: %w", err)
		}
		conn = secured
	}
	return &patient{conn}, nil
}

// patient gives up on data that does not move.
type patient struct{ net.Conn }

func (p *patient) Read(b []byte) (int, error) {
	p.SetReadDeadline(time.Now().Add(patience)) //nolint:errcheck // see wait
	return p.Conn.Read(b)
}

func (p *patient) Write(b []byte) (int, error) {
	p.SetWriteDeadline(time.Now().Add(patience)) //nolint:errcheck // see wait
	return p.Conn.Write(b)
}

// passive asks for a port (RFC 2428, section 3; RFC 959, section 4.1.2).
func (c *control) passive() (int, error) {
	code, said, err := c.cmd(0, "EPSV")
	if err != nil {
		return 0, err
	}
	if code == 229 {
		if _, rest, found := strings.Cut(said, "|||"); found {
			text, _, _ := strings.Cut(rest, "|")
			return strconv.Atoi(text)
		}
	}
	if _, said, err = c.cmd(227, "PASV"); err != nil {
		return 0, err
	}
	start, end := strings.IndexByte(said, '('), strings.LastIndexByte(said, ')')
	if start < 0 || end < start {
		return 0, fmt.Errorf("the host answers PASV with %q", said)
	}
	parts := strings.Split(said[start+1:end], ",")
	if len(parts) != 6 {
		return 0, fmt.Errorf("the host answers PASV with %q", said)
	}
	high, err1 := strconv.Atoi(parts[4])
	low, err2 := strconv.Atoi(parts[5])
	return high<<8 | low, errors.Join(err1, err2)
}

// retrieve reads all of what a command sends, which may not be more than most.
func (c *control) retrieve(ctx context.Context, offset, most int64, format string, args ...any) ([]byte, error) {
	conn, err := c.data(ctx, offset, format, args...)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(conn, most+1))
	conn.Close()
	if err != nil {
		return nil, err
	}
	if int64(len(text)) > most {
		c.conn.Close() // its answer is not waited for
		return nil, fmt.Errorf("the host sends more than %d bytes", most)
	}
	_, _, err = c.answer(2)
	return text, err
}
