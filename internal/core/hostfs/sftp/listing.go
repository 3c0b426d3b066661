package sftp

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// listingBytes is how much the other side may send of names while one folder is listed: some 500,000 names.
const listingBytes = 48 << 20

// errEndless says that a listing has no end.
var errEndless = errors.New("the host lists a folder without end, or with more files than any site has in one")

// names counts the bytes of names that the other side sends: it reads along, packet by packet (draft-ietf-secsh-filexfer-02, section 3:
// the length of what follows, the type, and the rest).
type names struct {
	from  io.Reader
	bytes atomic.Int64

	head []byte // of the packet, until its type is known
	left uint32 // of the packet
	is   bool   // it is one of names
}

const packetOfNames = 104 // SSH_FXP_NAME

func (n *names) Read(p []byte) (int, error) {
	got, err := n.from.Read(p)
	for rest := p[:got]; len(rest) > 0; {
		if n.left == 0 {
			take := min(5-len(n.head), len(rest))
			n.head = append(n.head, rest[:take]...)
			rest = rest[take:]
			if len(n.head) == 5 {
				n.left, n.is = max(binary.BigEndian.Uint32(n.head), 1)-1, n.head[4] == packetOfNames
				n.head = n.head[:0]
			}
			continue
		}
		take := min(n.left, uint32(len(rest))) //nolint:gosec // a buffer's length
		if n.is {
			n.bytes.Add(int64(take))
		}
		n.left -= take
		rest = rest[take:]
	}
	return got, err
}

// begin starts the transfer of files over a connection.
func begin(conn *ssh.Client) (*sftp.Client, *names, error) {
	session, err := conn.NewSession()
	if err != nil {
		return nil, nil, err
	}
	if err := session.RequestSubsystem("sftp"); err != nil {
		return nil, nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	n := &names{from: out}
	files, err := sftp.NewClientPipe(n, in, sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(64))
	return files, n, err
}

// bounded returns a context that ends when more names come than a folder has.
func (n *names) bounded(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancelCause(ctx)
	before, done := n.bytes.Load(), make(chan struct{})
	go func() {
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				if n.bytes.Load()-before > listingBytes {
					cancel(errEndless)
				}
			}
		}
	}()
	return ctx, func() {
		close(done)
		cancel(nil)
	}
}
