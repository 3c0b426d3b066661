package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nestseed/demo/stack"
	"nestseed/internal/wire"
)

// way is a way to a host's files, with what moves one file of the same bytes over it.
type way struct {
	name string
	line *stack.Line
	host wire.NewHost
	bulk string // a script; {file} is sent
}

// remote places a bare CMS over SSH and FTP beside the plain transfer of the same bytes in one file, on a quick line and on a slow one.
// Rows go straight to the database server: only the files are on the line.
func (b *bench) remote() error {
	file := filepath.Join(b.dir, "base.tar")
	if _, err := b.shell(fmt.Sprintf("tar -cf %s -C %s base", file, b.stack.Sites())); err != nil {
		return err
	}
	shell := stack.New(filepath.Join(b.dir, "shell"))
	shell.WebUser = "postgres" // a system account that has a shell
	if err := os.Mkdir(shell.Dir, 0o755); err != nil {
		return err
	}
	defer shell.Stop()
	if err := shell.StartWeb(b.ctx); err != nil {
		return err
	}
	var ways []way
	for _, on := range []struct {
		name     string
		stack    *stack.Stack
		commands bool
	}{{"SSH, files only", b.stack, false}, {"SSH with commands", shell, true}} {
		w, err := b.overSSH(on.name, on.stack, on.commands)
		if err != nil {
			return err
		}
		ways = append(ways, w)
	}
	w, err := b.overFTP()
	if err != nil {
		return err
	}
	for _, w := range append(ways, w) {
		defer w.line.Close()
		if err := b.over(w, file); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) overSSH(name string, on *stack.Stack, commands bool) (w way, err error) {
	ssh, err := on.StartSSH(b.ctx, commands)
	if err != nil {
		return w, err
	}
	if w.line, err = stack.NewLine(ssh.Port); err != nil {
		return w, err
	}
	ssh.Port = w.line.Port()
	key := filepath.Join(b.dir, fmt.Sprintf("key-%d", ssh.Port))
	if err := os.WriteFile(key, []byte(ssh.PrivateKey), 0o600); err != nil {
		return w, err
	}
	w.name = name
	w.host = wire.NewHost{Name: fmt.Sprintf("line-%d", ssh.Port), Files: ssh.Files(on.Sites()), FilesKey: ssh.PrivateKey, WebRoot: "{name}",
		Address: on.Address("{name}"), Database: b.stack.DatabaseURL()}
	w.bulk = fmt.Sprintf("scp -q -P %d -i %s -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR {file} %s@127.0.0.1:%s/bulk.tar",
		ssh.Port, key, ssh.User, on.Sites())
	return w, nil
}

func (b *bench) overFTP() (w way, err error) {
	ftp, err := b.stack.StartFTP(b.ctx)
	if err != nil {
		return w, err
	}
	if w.line, err = stack.NewLine(ftp.Port); err != nil {
		return w, err
	}
	ftp.Port = w.line.Port()
	w.name = "FTP with TLS"
	w.host = wire.NewHost{Name: fmt.Sprintf("line-%d", ftp.Port), Files: ftp.Files(b.stack.Sites()), FilesPassword: ftp.Password,
		WebRoot: "{name}", Address: b.stack.Address("{name}"), Database: b.stack.DatabaseURL()}
	w.bulk = fmt.Sprintf("curl -sS -k --ssl-reqd -u '%s:%s' -T {file} ftp://127.0.0.1:%d/%s/bulk.tar", ftp.User, ftp.Password, ftp.Port, b.stack.Sites())
	return w, nil
}

// over measures one way. Over FTP the line delays commands only: data goes past it.
func (b *bench) over(w way, file string) error {
	if _, err := b.svc.AddHost(b.ctx, w.host); err != nil {
		return err
	}
	for _, delay := range []time.Duration{0, 20 * time.Millisecond} {
		w.line.Delay(delay)
		site := fmt.Sprintf("%s-%d", w.host.Name, delay.Milliseconds())
		ours := func(round int) (time.Duration, error) {
			run, _, err := b.wait(b.svc.ProvisionSite(b.ctx, wire.NewSite{Client: "alder-valley", Name: fmt.Sprintf("%s-%d", site, round), From: "music-base",
				Host: w.host.Name}))
			for _, s := range run.Progress.Steps {
				if s.Name == "Place files and load rows" {
					return time.Duration(s.Millis) * time.Millisecond, err
				}
			}
			return 0, err
		}
		plain := func(int) (time.Duration, error) {
			return b.shell(strings.ReplaceAll(w.bulk, "{file}", file))
		}
		rounds := 3
		if delay > 0 && strings.HasPrefix(w.name, "FTP") {
			rounds = 1 // it takes minutes
		}
		took, err := b.medians(rounds, ours, plain)
		if err != nil {
			return fmt.Errorf("%s: %w", w.name, err)
		}
		fmt.Printf("\n%-40s %6.2f s   one file of the same bytes %.2f s   %.1f times as long   (to reach: 2 over SSH)\n",
			fmt.Sprintf("place over %s, %d ms of delay", w.name, delay.Milliseconds()), took[0].Seconds(), took[1].Seconds(),
			took[0].Seconds()/took[1].Seconds())
	}
	return nil
}
