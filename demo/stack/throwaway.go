package stack

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"nestseed/internal/service/cluster"
)

// ForTest returns a stack in a folder of its own, which other users may enter, as the servers run as theirs. Its servers are
// throwaway ones. It is stopped and removed when the test ends.
func ForTest(t testing.TB) *Stack {
	t.Helper()
	dir, err := os.MkdirTemp(Roomy(), "nestseed-test-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	s := New(dir)
	s.Throwaway = true
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
		os.RemoveAll(dir)
	})
	return s
}

// Roomy is a folder for what tests throw away: in memory where there is enough of it, and never where programs of sites may open temporary
// files.
func Roomy() string {
	const memory, enough = "/dev/shm", 6 << 30
	var s unix.Statfs_t
	if unix.Statfs(memory, &s) == nil && s.Flags&unix.ST_NOEXEC == 0 && s.Bavail*uint64(s.Bsize) > enough {
		return memory
	}
	return "/var/tmp"
}

// throwawayMariaDB are options of a server that survives the end of its process, but not the loss of the machine
// (MariaDB documentation, "InnoDB System Variables").
var throwawayMariaDB = []string{"--innodb-flush-log-at-trx-commit=2", "--innodb-flush-method=nosync", "--innodb-doublewrite=0",
	"--innodb-log-file-size=16M"}

// throwawayPostgres are settings to the same effect (PostgreSQL manual, 20.5 "Write Ahead Log").
const throwawayPostgres = "fsync = off\nsynchronous_commit = off\nfull_page_writes = off\n"

// leaves reports whether a file of an application is left out where sites are thrown away: styles and scripts that are there in a shorter
// form as well, which is the one that is sent, and styles for writing from right to left. They are half of WordPress, and each test
// would pack, place and read them several times.
func (s *Stack) leaves(file string) bool {
	if !s.Throwaway {
		return false
	}
	ext := filepath.Ext(file)
	if ext != ".css" && ext != ".js" {
		return false
	}
	name := strings.TrimSuffix(file, ext)
	_, err := os.Stat(name + ".min" + ext)
	return err == nil || strings.HasSuffix(strings.TrimSuffix(name, ".min"), "-rtl")
}

// ThrowawayPostgres puts a PostgreSQL into a folder, for tests: cluster.Start starts it there.
func ThrowawayPostgres(ctx context.Context, dir string) error {
	return fromTemplate(dir, "postgres", "/usr/lib/postgresql/*/bin/postgres", func(template string) error {
		c, err := cluster.Start(ctx, template)
		if err != nil {
			return err
		}
		if err := c.Stop(); err != nil {
			return err
		}
		data := filepath.Join(template, "postgres", "data")
		if err := os.Remove(filepath.Join(data, "postmaster.opts")); err != nil { // has the port
			return err
		}
		settings, err := os.OpenFile(filepath.Join(data, "postgresql.auto.conf"), os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		_, err = settings.WriteString(throwawayPostgres)
		return errors.Join(err, settings.Close())
	})
}

// fromTemplate copies a server's first data folder into dir. It is made once for each build of the server's program.
func fromTemplate(dir, name, program string, prepare func(template string) error) error {
	found, _ := filepath.Glob(program)
	if len(found) == 0 {
		return fmt.Errorf("%s is not installed", name)
	}
	slices.Sort(found)
	build, err := os.Stat(found[len(found)-1])
	if err != nil {
		return err
	}
	template := filepath.Join(templates(), fmt.Sprintf("%s-%d-%d", name, build.Size(), build.ModTime().Unix()))
	if _, err := os.Stat(template); errors.Is(err, fs.ErrNotExist) {
		if err := makeTemplate(template, prepare); err != nil {
			return fmt.Errorf("prepare %s for tests: %w", name, err)
		}
	}
	if out, err := exec.Command("cp", "-a", template+"/.", dir).CombinedOutput(); err != nil {
		return fmt.Errorf("copy %s: %w\n%s", template, err, out)
	}
	return nil
}

// templates is a folder of this user that the accounts of the servers may enter.
func templates() string {
	return filepath.Join("/var/tmp", fmt.Sprintf("nestseed-templates-%d", os.Geteuid()))
}

// makeTemplate makes a template whole or not at all. Of two who make it at once, one gives up its own.
func makeTemplate(template string, prepare func(string) error) error {
	parent := filepath.Dir(template)
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return err
	}
	if info, err := os.Lstat(parent); err != nil || !info.IsDir() || info.Sys().(*syscall.Stat_t).Uid != uint32(os.Geteuid()) {
		return fmt.Errorf("%s belongs to another user; remove it", parent)
	}
	draft, err := os.MkdirTemp(parent, "draft-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(draft)
	if err := os.Chmod(draft, 0o755); err != nil {
		return err
	}
	if err := prepare(draft); err != nil {
		return err
	}
	err = os.Rename(draft, template)
	if _, there := os.Stat(template); there == nil {
		return nil
	}
	return err
}
