package stack

import (
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// Line is a way to a server on loopback that can be cut, as when the server is lost.
type Line struct {
	listener net.Listener
	to       string
	mu       sync.Mutex
	open     []net.Conn
	dead     bool
	limit    int64 // after so many bytes it is cut; 0 for never
	forever  bool  // and for good
	delay    time.Duration
}

// Delay lets everything that is sent from now on, either way, arrive so much later.
func (l *Line) Delay(each time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.delay = each
}

// late is a piece on its way.
type late struct {
	at    time.Time
	bytes []byte
}

// hold copies what comes in to out, each piece as late as the line says. As much is on its way as a long line holds.
func (l *Line) hold(out io.Writer, in io.Reader) {
	way := make(chan late, 4096)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for p := range way {
			time.Sleep(time.Until(p.at))
			if _, err := out.Write(p.bytes); err != nil {
				break
			}
		}
		for range way { // what is still on its way is lost
		}
	}()
	for {
		buf := make([]byte, 32<<10)
		n, err := in.Read(buf)
		if n > 0 {
			l.mu.Lock()
			at := time.Now().Add(l.delay)
			l.mu.Unlock()
			way <- late{at, buf[:n]}
		}
		if err != nil {
			break
		}
	}
	close(way)
	<-ended
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
	go func() { l.hold(&counted{there, l}, in); there.Close() }()
	go func() { l.hold(in, there); in.Close() }()
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

// CutAfter cuts it once so many more bytes were sent to the server; with forever, for good.
func (l *Line) CutAfter(bytes int64, forever bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.limit, l.forever = bytes, forever
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
		c.l.Cut(c.l.forever)
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
