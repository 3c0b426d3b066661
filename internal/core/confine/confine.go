// Package confine runs what parses bytes of strangers in a process of its own, where running out of memory or time harms nobody: the same
// program once more, which has no network and the account nobody where it was started by root, and may use so much memory and so much
// time of a processor.
//
//	var unpack = confine.Register("unpack", func(args []string, in io.Reader, out io.Writer) error { … })
//
//	r, err := unpack.Start(ctx, in, "xz")   // reads what the function writes
//
// A function is registered when its package is initialised; the program becomes a confined one there, before anything else is done. What it
// writes is as untrusted as what it reads: whoever reads it has to bound it.
package confine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Limits of a confined process.
const (
	MemoryBytes = 512 << 20
	seconds     = 900 // of a processor
	nobody      = 65534
)

// ErrTooMuch says that a confined process took more memory or time than it may, or was ended in another way.
var ErrTooMuch = errors.New("took more memory or time than it may")

const mark = "nestseed-confined:"

var memory uint64 = MemoryBytes

// Func is what runs confined.
type Func func(args []string, in io.Reader, out io.Writer) error

// Command is a registered function.
type Command struct{ name string }

// Register makes a function one that runs confined. In a process that was started for it, it runs here and the process ends.
func Register(name string, do Func) Command {
	if len(os.Args) > 0 && os.Args[0] == mark+name {
		os.Exit(run(do))
	}
	return Command{name}
}

// run runs a function within the limits. A sentence about what went wrong goes to the standard error.
func run(do Func) int {
	err := limit()
	if err == nil {
		err = do(os.Args[1:], os.Stdin, os.Stdout)
	}
	if err != nil {
		fmt.Fprint(os.Stderr, err)
		return 1
	}
	return 0
}

// limit gives up what the process does not need. The limit of memory is of all that is written to (RLIMIT_DATA, setrlimit(2)); the
// collector works harder before.
//
// No file and no connection can be opened any more: there is a number for each that is open, and no further one.
func limit() error {
	// The runtime opens what it waits with when it first needs it.
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	first := r.Fd()
	if err := errors.Join(r.Close(), w.Close()); err != nil {
		return err
	}
	debug.SetMemoryLimit(int64(memory) / 2)
	debug.SetTraceback("none")
	for what, most := range map[int]uint64{unix.RLIMIT_DATA: memory, unix.RLIMIT_CPU: seconds, unix.RLIMIT_FSIZE: 0, unix.RLIMIT_CORE: 0,
		unix.RLIMIT_NOFILE: uint64(first)} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return err
		}
	}
	if os.Geteuid() != 0 {
		return nil
	}
	return errors.Join(syscall.Setgroups(nil), syscall.Setresgid(nobody, nobody, nobody), syscall.Setresuid(nobody, nobody, nobody))
}

// process is a confined process that is read from.
type process struct {
	cmd    *exec.Cmd
	out    io.ReadCloser
	said   *limited
	cancel context.CancelFunc
	ended  bool
	err    error
}

// limited keeps the first bytes that are written to it.
type limited struct {
	bytes.Buffer
	most int
}

func (l *limited) Write(p []byte) (int, error) {
	l.Buffer.Write(p[:min(len(p), max(0, l.most-l.Len()))])
	return len(p), nil
}

// Start runs the function on what is read from in, and returns what it writes, until its end or an error: ErrTooMuch, or that of the
// function. Closing it ends the process.
func (c Command) Start(ctx context.Context, in io.Reader, args ...string) (io.ReadCloser, error) {
	ctx, cancel := context.WithCancel(ctx)
	p, err := c.start(ctx, in, args, true)
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.ENOSYS) { // there are no networks of one's own to be had here
		p, err = c.start(ctx, in, args, false)
	}
	if err != nil {
		cancel()
		return nil, fmt.Errorf("start a confined process: %w", err)
	}
	p.cancel = cancel
	return p, nil
}

func (c Command) start(ctx context.Context, in io.Reader, args []string, apart bool) (*process, error) {
	p := &process{cmd: exec.CommandContext(ctx, "/proc/self/exe"), said: &limited{most: 1000}}
	p.cmd.Args = append([]string{mark + c.name}, args...)
	p.cmd.Env = []string{"GOGC=50", "GOMAXPROCS=2"}
	p.cmd.Dir = "/"
	p.cmd.Stdin, p.cmd.Stderr = in, p.said
	p.cmd.WaitDelay = 5 * time.Second
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if apart && os.Geteuid() == 0 {
		p.cmd.SysProcAttr.Cloneflags = syscall.CLONE_NEWNET | syscall.CLONE_NEWIPC
	}
	var err error
	if p.out, err = p.cmd.StdoutPipe(); err != nil {
		return nil, err
	}
	return p, p.cmd.Start()
}

func (p *process) Read(b []byte) (int, error) {
	if p.ended {
		return 0, p.err
	}
	n, err := p.out.Read(b)
	if err == nil {
		return n, nil
	}
	p.end()
	return n, p.err
}

// end waits for the process, and says how it ended.
func (p *process) end() {
	p.ended, p.err = true, io.EOF
	err := p.cmd.Wait()
	var exit *exec.ExitError
	switch {
	case err == nil || errors.Is(err, syscall.EPIPE): // it may leave input unread
	case errors.As(err, &exit) && exit.ExitCode() == 1 && p.said.Len() > 0:
		p.err = errors.New(p.said.String())
	case errors.As(err, &exit):
		p.err = ErrTooMuch
		if text := p.said.String(); !strings.Contains(text, "out of memory") && !strings.Contains(text, "cannot allocate memory") {
			p.err = fmt.Errorf("%w (%s)", ErrTooMuch, exit)
		}
	default:
		p.err = err
	}
}

func (p *process) Close() error {
	p.cancel()
	if !p.ended {
		p.out.Close()
		p.cmd.Wait() //nolint:errcheck // it was ended
		p.ended, p.err = true, os.ErrClosed
	}
	return nil
}

// Run runs the function on bytes, and returns what it writes, of which there may be so much. Errors: ErrTooMuch.
func (c Command) Run(ctx context.Context, in []byte, most int64, args ...string) ([]byte, error) {
	r, err := c.Start(ctx, bytes.NewReader(in), args...)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	out, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(out)) > most {
		err = ErrTooMuch
	}
	return out, err
}
