package sidebyside

import (
	"bufio"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"io"
	"net"
	"os"

	"github.com/gobwas/ws"
	"github.com/gobwas/ws/wsutil"
)

// mostMessage is how long one message of a browser may be: a picture of a page is the longest.
const mostMessage = 96 << 20

// bridge drives a browser over its pipe, where nobody else on this machine can join in, for a library that speaks over a WebSocket
// (RFC 6455). It listens for one connection, at an address that cannot be guessed, and for no other. Messages on the pipe end with a zero
// byte (Chromium, --remote-debugging-pipe).
type bridge struct {
	listener net.Listener
	path     string
	commands *os.File // that the browser reads
	answers  *os.File // that it writes
	theirs   []*os.File
}

func newBridge() (_ *bridge, err error) {
	b := &bridge{path: "/" + rand.Text() + rand.Text()}
	var read, write *os.File
	if read, b.commands, err = os.Pipe(); err != nil {
		return nil, err
	}
	if b.answers, write, err = os.Pipe(); err != nil {
		return nil, errors.Join(err, read.Close(), b.commands.Close())
	}
	b.theirs = []*os.File{read, write} // as 3 and 4
	if b.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, errors.Join(err, read.Close(), write.Close(), b.close())
	}
	return b, nil
}

func (b *bridge) address() string { return "ws://" + b.listener.Addr().String() + b.path }

// started closes what the browser has by now.
func (b *bridge) started() {
	for _, f := range b.theirs {
		f.Close()
	}
}

func (b *bridge) close() error {
	err := errors.Join(b.commands.Close(), b.answers.Close())
	if b.listener != nil {
		b.listener.Close()
	}
	return err
}

// serve passes messages on until either side ends.
func (b *bridge) serve() {
	for {
		conn, err := b.listener.Accept()
		if err != nil {
			return
		}
		up := ws.Upgrader{OnRequest: func(uri []byte) error {
			if subtle.ConstantTimeCompare(uri, []byte(b.path)) != 1 {
				return ws.RejectConnectionError(ws.RejectionStatus(404))
			}
			return nil
		}}
		if _, err := up.Upgrade(conn); err != nil {
			conn.Close()
			continue
		}
		b.listener.Close()
		b.pass(conn)
		return
	}
}

func (b *bridge) pass(conn net.Conn) {
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer conn.Close()
		answers := bufio.NewReaderSize(b.answers, 1<<16)
		for {
			text, err := message(answers)
			if err == nil {
				err = wsutil.WriteServerText(conn, text)
			}
			if err != nil {
				return
			}
		}
	}()
	for {
		text, err := wsutil.ReadClientText(conn)
		if err == nil {
			_, err = b.commands.Write(append(text, 0))
		}
		if err != nil {
			break
		}
	}
	conn.Close()
	b.answers.Close()
	<-ended
}

// message reads one message of the browser.
func message(r *bufio.Reader) ([]byte, error) {
	var out []byte
	for {
		part, err := r.ReadSlice(0)
		out = append(out, part...)
		switch {
		case err == nil:
			return out[:len(out)-1], nil
		case !errors.Is(err, bufio.ErrBufferFull):
			return nil, err
		case len(out) > mostMessage:
			return nil, io.ErrShortBuffer
		}
	}
}
