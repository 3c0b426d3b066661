package sftp

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"nestseed/internal/core/hostfs"
)

// patience is how long a host may take to answer.
const patience = 20 * time.Second

// dialer returns what opens a line. An agent is that of whoever runs the service (draft-ietf-sshm-ssh-agent). What
// cannot work is said before anything is reached.
func dialer(u *url.URL, a hostfs.Access, useAgent bool) (func(context.Context) (*ssh.Client, error), error) {
	methods, err := logins(a, useAgent)
	if err != nil {
		return nil, err
	}
	if useAgent && os.Getenv("SSH_AUTH_SOCK") == "" {
		return nil, errors.New("no agent is known here (SSH_AUTH_SOCK is not set where the service runs)")
	}
	address := net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "22"))
	known := a.HostKey
	return func(ctx context.Context) (*ssh.Client, error) {
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		var shown ssh.PublicKey
		auth := methods
		if useAgent {
			keys, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
			if err != nil {
				return nil, fmt.Errorf("the agent does not answer: %w", err)
			}
			defer keys.Close()
			auth = append(auth[:len(auth):len(auth)], ssh.PublicKeysCallback(agent.NewClient(keys).Signers))
		}
		config := &ssh.ClientConfig{User: u.User.Username(), Auth: auth, Timeout: patience,
			HostKeyAlgorithms: algorithms(known),
			HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
				shown = key
				if known == "" && a.Shown == nil {
					return fmt.Errorf("%w: none is known, and nobody takes the one that it shows, %s", hostfs.ErrHostKey,
						ssh.FingerprintSHA256(key))
				}
				return judge(known, key)
			}}
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
		if err != nil {
			return nil, fmt.Errorf("the host does not answer at %s: %w", address, err)
		}
		deadline, _ := ctx.Deadline()
		conn.SetDeadline(deadline) //nolint:errcheck // a TCP connection has deadlines
		c, chans, requests, err := ssh.NewClientConn(conn, address, config)
		if err != nil {
			conn.Close()
			return nil, explain(u, err, shown != nil)
		}
		conn.SetDeadline(time.Time{}) //nolint:errcheck // a TCP connection has deadlines
		if known == "" {
			known = text(shown)
		}
		if a.Shown != nil {
			a.Shown(text(shown))
		}
		return ssh.NewClient(c, chans, requests), nil
	}, nil
}

func logins(a hostfs.Access, useAgent bool) (methods []ssh.AuthMethod, err error) {
	if a.PrivateKey != "" {
		var signer ssh.Signer
		if a.Passphrase != "" {
			signer, err = ssh.ParsePrivateKeyWithPassphrase([]byte(a.PrivateKey), []byte(a.Passphrase))
		} else {
			signer, err = ssh.ParsePrivateKey([]byte(a.PrivateKey))
		}
		var missing *ssh.PassphraseMissingError
		switch {
		case errors.As(err, &missing):
			return nil, errors.New("the private key is locked; give its passphrase too")
		case err != nil:
			return nil, errors.New("the private key cannot be read; give it in the format that OpenSSH writes")
		}
		methods = append(methods, ssh.PublicKeys(signer))
	}
	if a.Password != "" {
		methods = append(methods, ssh.Password(a.Password), ssh.KeyboardInteractive(
			func(_, _ string, questions []string, _ []bool) ([]string, error) {
				answers := make([]string, len(questions))
				for i := range answers {
					answers[i] = a.Password
				}
				return answers, nil
			}))
	}
	if len(methods) == 0 && !useAgent {
		return nil, errors.New("nothing is known that this account logs in with; give a password, a private key, or agent=yes in the address")
	}
	return methods, nil
}

func text(key ssh.PublicKey) string { return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) }

// algorithms asks for a key of the sort that is known: a host has several.
func algorithms(known string) []string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(known))
	if err != nil {
		return nil
	}
	if key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{key.Type()}
}

func judge(known string, shown ssh.PublicKey) error {
	if known == "" {
		return nil
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(known))
	if err == nil && bytes.Equal(key.Marshal(), shown.Marshal()) {
		return nil
	}
	before := "one that cannot be read"
	if err == nil {
		before = ssh.FingerprintSHA256(key)
	}
	return fmt.Errorf("%w: it has shown %s until now, and shows %s; somebody may be listening in between. Ask the hosting company, and "+
		"only if it has changed the key let the host's new key be taken", hostfs.ErrHostKey, before, ssh.FingerprintSHA256(shown))
}

// explain says what a line that was not opened means. Once the host has shown the right key, what is left to fail is the log-in.
func explain(u *url.URL, err error, shown bool) error {
	var negotiation *ssh.AlgorithmNegotiationError
	switch {
	case errors.Is(err, hostfs.ErrHostKey):
		return err
	case errors.As(err, &negotiation):
		return fmt.Errorf("%w, or speaks another SSH: %w", hostfs.ErrHostKey, err)
	case shown:
		return fmt.Errorf("the host at %s does not let %s in: the password or key is not that of the account (%w)", u.Host,
			u.User.Username(), err)
	}
	return fmt.Errorf("the host at %s does not speak SSH as expected: %w", u.Host, err)
}
