package stack

import (
	"fmt"
	"io"
	"net"
	"sync"
)

// Line is a way to a server on loopback that can be cut, as when the server is lost.
type Line struct {
	listener net.Listener
	to       string
	mu       sync.Mutex
	open     []net.Conn
	dead     bool
	limit    int64 // after so many bytes it is cut for good; 0 for never
}

// NewLine makes a way to what listens on a port. It is the caller's to close.
func NewLine(port int) (*Line, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	l := &Line{listener: listener, to: fmt.Sprintf("127.0.0.1:%d", port)}
	go func() {
		for {
			in, err := listener.Accept()
			if err != nil {
				return
			}
			l.carry(in)
		}
	}()
	return l, nil
}

// Port is where it listens.
func (l *Line) Port() int { return l.listener.Addr().(*net.TCPAddr).Port }

func (l *Line) carry(in net.Conn) {
	there, err := net.Dial("tcp", l.to)
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil || l.dead {
		in.Close()
		if err == nil {
			there.Close()
		}
		return
	}
	l.open = append(l.open, in, there)
	go func() { io.Copy(&counted{there, l}, in); there.Close() }()
	go func() { io.Copy(in, there); in.Close() }()
}

// Cut ends every connection; with forever, new ones too, until it is mended.
func (l *Line) Cut(forever bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.dead = forever
	for _, c := range l.open {
		c.Close()
	}
	l.open = nil
}

// CutAfter cuts it for good once so many more bytes were sent to the server.
func (l *Line) CutAfter(bytes int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.limit = bytes
}

// counted counts what is sent.
type counted struct {
	io.Writer
	l *Line
}

func (c *counted) Write(p []byte) (int, error) {
	c.l.mu.Lock()
	over := c.l.limit > 0 && c.l.limit <= int64(len(p))
	c.l.limit = max(0, c.l.limit-int64(len(p)))
	c.l.mu.Unlock()
	if over {
		c.l.Cut(true)
		return 0, io.ErrClosedPipe
	}
	return c.Writer.Write(p)
}

// Mend lets connections through again.
func (l *Line) Mend() { l.Cut(false) }

// Close ends it.
func (l *Line) Close() error {
	l.Cut(true)
	return l.listener.Close()
}
