// Package relay reaches over HTTP what only programs on a host can reach, such as a database server that lets nobody in from outside. A
// page of ours is placed in a folder that the web server serves; it passes bytes on for signed requests, and is taken away in the end.
//
//	r := relay.New(relay.Place{Spot: spot, Send: send}, "tcp://127.0.0.1:3306")
//	defer r.Close()
//	conn, err := r.Dial(ctx, "tcp", "") // as if from there
//
// One request keeps the connections open while there are some, since a program on such a host lives as long as its request; the others
// bring bytes and fetch them. What is sent is as secret as the way there: Send is to go by TLS.
package relay

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nestseed/internal/core/sitepage"
)

//go:embed relay.php
var page string

const (
	// silent is when the page answers nothing any more; another one is placed before.
	silent = 15 * time.Minute
	// mostBytes is how much one request brings: web servers take a megabyte at least.
	mostBytes = 512 << 10
	// waits is how long a request waits for bytes to fetch.
	waits = 2 * time.Second
	// together is how many requests there are at a time besides the one that keeps: a host runs few programs at once.
	together = 2
)

// ErrNoAnswer says that the page does not work on the host.
var ErrNoAnswer = errors.New("the page that passes on to the database does not answer")

// Place is where the page is put, and how it is asked for.
type Place struct {
	sitepage.Spot
	// Send asks for a page of the folder, with a body. The response is the caller's to close.
	Send func(ctx context.Context, page string, body []byte) (*http.Response, error)
}

// Relay is a page on a host that passes bytes on.
type Relay struct {
	place Place
	to    string
	slots chan struct{}

	mu   sync.Mutex
	now  *placed // nil before somebody dials
	last int     // number of the last connection
}

// placed is a page that was placed.
type placed struct {
	relay *Relay
	page  *sitepage.Page
	key   []byte
	stop  context.CancelFunc // ends the request that keeps
	ended chan struct{}      // closed when that has ended
}

// New makes a relay to an address as PHP knows it: tcp://host:port or unix:///path. Nothing is placed before it is dialled.
func New(place Place, to string) *Relay {
	return &Relay{place: place, to: to, slots: make(chan struct{}, together)}
}

// begin places the page, and asks it to keep connections, unless that is done.
func (r *Relay) begin(ctx context.Context) (*placed, error) {
	if r.now != nil {
		select {
		case <-r.now.ended: // nobody has used it for a while
		default:
			return r.now, nil
		}
	}
	if err := r.end(); err != nil {
		return nil, err
	}
	key := rand.Text()
	p := &placed{relay: r, key: []byte(key), ended: make(chan struct{})}
	var err error
	p.page, err = r.place.Place(ctx, ".php", 0o644, func(stem string) []byte {
		return []byte(strings.NewReplacer("{to}", base64.StdEncoding.EncodeToString([]byte(r.to)), "{name}", stem, "{key}", key,
			"{until}", strconv.FormatInt(time.Now().Add(silent).Unix(), 10)).Replace(page))
	})
	if err != nil {
		return nil, err
	}
	keep, stop := context.WithCancel(context.WithoutCancel(ctx))
	r.now, p.stop = p, stop
	started := make(chan error, 1)
	go p.keep(keep, started)
	select {
	case err = <-started:
	case <-ctx.Done():
		err = ctx.Err()
	}
	if err != nil {
		return nil, errors.Join(err, r.end())
	}
	return p, nil
}

// keep is the request that keeps connections.
func (p *placed) keep(ctx context.Context, started chan<- error) {
	defer close(p.ended)
	res, err := p.relay.place.Send(ctx, p.page.Name+"?"+p.signed("keep", 0, 0, 0, nil), nil)
	if err != nil {
		started <- err
		return
	}
	defer res.Body.Close()
	first := make([]byte, 64)
	n, _ := res.Body.Read(first)
	if says := string(first[:n]); res.StatusCode != http.StatusOK || !strings.HasPrefix(says, ".") {
		started <- fmt.Errorf("%w: %d %s %s", ErrNoAnswer, res.StatusCode, http.StatusText(res.StatusCode), says)
		return
	}
	started <- nil
	io.Copy(io.Discard, res.Body)
}

// end takes the page away.
func (r *Relay) end() error {
	p := r.now
	if p == nil {
		return nil
	}
	r.now = nil
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	select {
	case <-p.ended:
	default:
		p.pass(ctx, "stop", 0, 0, 0, nil) // at the latest it notices that nobody listens
	}
	p.stop()
	<-p.ended
	return p.page.Remove(context.Background())
}

// Close takes the page away, and with it what is open.
func (r *Relay) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.end()
}

func (p *placed) signed(op string, id, seq int, wait time.Duration, body []byte) string {
	sum := sha256.Sum256(body)
	at, number, next := strconv.FormatInt(time.Now().Unix(), 10), strconv.Itoa(id), strconv.Itoa(seq)
	until := strconv.FormatInt(wait.Milliseconds(), 10)
	mac := hmac.New(sha256.New, p.key)
	mac.Write([]byte(strings.Join([]string{at, op, number, next, until, hex.EncodeToString(sum[:])}, " ")))
	return url.Values{"at": {at}, "op": {op}, "id": {number}, "seq": {next}, "wait": {until},
		"by": {hex.EncodeToString(mac.Sum(nil))}}.Encode()
}

// pass sends one request. It returns io.EOF where the other side has ended.
func (p *placed) pass(ctx context.Context, op string, id, seq int, wait time.Duration, body []byte) ([]byte, error) {
	select {
	case p.relay.slots <- struct{}{}:
		defer func() { <-p.relay.slots }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	res, err := p.relay.place.Send(ctx, p.page.Name+"?"+p.signed(op, id, seq, wait, body), body)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	all, err := io.ReadAll(io.LimitReader(res.Body, 8<<20))
	if err != nil {
		return nil, err
	}
	says, rest, whole := bytes.Cut(all, []byte("\n"))
	switch {
	case res.StatusCode != http.StatusOK || !whole:
		return nil, fmt.Errorf("%w: %d %s %.200s", ErrNoAnswer, res.StatusCode, http.StatusText(res.StatusCode), all)
	case string(says) == "ok":
		return rest, nil
	case string(says) == "end":
		return nil, io.EOF
	}
	return nil, errors.New(string(says))
}

// Dial opens a connection to where the relay leads, whatever address is given.
func (r *Relay) Dial(ctx context.Context, _, _ string) (net.Conn, error) {
	r.mu.Lock()
	p, err := r.begin(ctx)
	r.last++
	id := r.last
	r.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if _, err := p.pass(ctx, "open", id, 0, 0, nil); err != nil {
		return nil, fmt.Errorf("reach %s from the host: %w", r.to, err)
	}
	c := &conn{page: p, id: id, seq: 1}
	c.ctx, c.cancel = context.WithCancel(context.WithoutCancel(ctx))
	return c, nil
}

// conn is one connection through a relay. What is written goes along with the next reading.
type conn struct {
	page   *placed
	id     int
	ctx    context.Context
	cancel context.CancelFunc

	mu   sync.Mutex // one request of a connection at a time: they have an order
	seq  int
	out  []byte
	in   []byte
	err  error
	once sync.Once
	till atomic.Int64 // when reading and writing end, in nanoseconds of Unix time; 0 for never
}

// exchange sends what was written, and fetches what has come meanwhile.
func (c *conn) exchange(wait time.Duration) error {
	if c.err != nil {
		return c.err
	}
	if till := c.till.Load(); till != 0 && time.Now().UnixNano() >= till {
		return os.ErrDeadlineExceeded
	}
	n := min(len(c.out), mostBytes)
	in, err := c.page.pass(c.ctx, "data", c.id, c.seq, wait, c.out[:n])
	c.seq++
	if err != nil {
		c.err = err
		return err
	}
	c.out, c.in = append(c.out[:0], c.out[n:]...), append(c.in, in...)
	return nil
}

// Read implements net.Conn.
func (c *conn) Read(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for len(c.in) == 0 {
		wait := waits
		if len(c.out) > mostBytes {
			wait = 0
		}
		if err := c.exchange(wait); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.in)
	c.in = c.in[n:]
	return n, nil
}

// Write implements net.Conn.
func (c *conn) Write(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err != nil {
		return 0, c.err
	}
	c.out = append(c.out, p...)
	for len(c.out) >= mostBytes {
		if err := c.exchange(0); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// Close implements net.Conn.
func (c *conn) Close() error {
	c.once.Do(func() {
		c.cancel() // what waits is over
		c.mu.Lock()
		defer c.mu.Unlock()
		select {
		case <-c.page.ended:
		default:
			if c.err == nil {
				ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
				defer cancel()
				c.page.pass(ctx, "close", c.id, c.seq, 0, c.out) // at the latest it is closed with the page
			}
		}
		c.err = net.ErrClosed
	})
	return nil
}

type address string

func (address) Network() string  { return "relay" }
func (a address) String() string { return string(a) }

func (c *conn) LocalAddr() net.Addr  { return address("here") }
func (c *conn) RemoteAddr() net.Addr { return address(c.page.relay.to) }

// SetDeadline implements net.Conn. It is kept as exactly as requests last.
func (c *conn) SetDeadline(t time.Time) error {
	if c.till.Store(0); !t.IsZero() {
		c.till.Store(t.UnixNano())
	}
	return nil
}

func (c *conn) SetReadDeadline(t time.Time) error  { return c.SetDeadline(t) }
func (c *conn) SetWriteDeadline(t time.Time) error { return c.SetDeadline(t) }
