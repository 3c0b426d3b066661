package sidebyside

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
	"time"
)

// nobody is the account that the browser runs as when the service is root: one that owns nothing.
const nobody = "nobody"

// workspace makes the folder that a browser keeps its profile in, which is all that it may write to.
func workspace() (dir string, as *syscall.Credential, err error) {
	if dir, err = os.MkdirTemp("", "nestseed-screenshots-"); err != nil {
		return "", nil, err
	}
	if os.Geteuid() != 0 {
		return dir, nil, nil
	}
	u, err := user.Lookup(nobody)
	if err != nil {
		return "", nil, errors.Join(fmt.Errorf("the browser is not run as root, and there is no account %q: %w", nobody, err), os.RemoveAll(dir))
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(dir, uid, gid); err != nil {
		return "", nil, errors.Join(err, os.RemoveAll(dir))
	}
	return dir, &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid), Groups: []uint32{uint32(gid)}}, nil
}

// confine lets a browser start with nothing of the service: another account, an environment of its own, another folder. Its
// own sandbox stays on.
func confine(cmd *exec.Cmd, dir string, as *syscall.Credential) {
	cmd.Dir = dir
	cmd.Env = []string{"PATH=/usr/bin:/bin", "HOME=" + dir, "TMPDIR=" + dir, "XDG_CONFIG_HOME=" + dir, "XDG_CACHE_HOME=" + dir, "LANG=C.UTF-8"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Setpgid: true, Pdeathsig: syscall.SIGKILL}
}

// process is a browser that runs.
type process struct {
	cmd    *exec.Cmd
	bridge *bridge
	ended  chan struct{} // closed when the browser has ended
	served chan struct{} // closed when nothing is passed on any more
}

// startTime is how long a browser may take until it can be driven.
const startTime = 30 * time.Second

// start runs a browser, which is driven over its pipe.
func start(browser, dir string, as *syscall.Credential, flags ...string) (*process, error) {
	b, err := newBridge()
	if err != nil {
		return nil, err
	}
	p := &process{cmd: exec.Command(browser, append(flags, "--remote-debugging-pipe", "--user-data-dir="+dir, "about:blank")...), bridge: b,
		ended: make(chan struct{}), served: make(chan struct{})}
	confine(p.cmd, dir, as)
	p.cmd.ExtraFiles = b.theirs
	err = p.cmd.Start()
	b.started()
	if err != nil {
		return nil, errors.Join(err, b.close())
	}
	go func() {
		defer close(p.ended)
		p.cmd.Wait() //nolint:errcheck // it is ended here
	}()
	go func() {
		defer close(p.served)
		b.serve()
	}()
	return p, nil
}

// stop ends the browser with all its processes.
func (p *process) stop() {
	syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
	<-p.ended
	p.bridge.close()
	<-p.served
}
