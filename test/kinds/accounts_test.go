package kinds

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/core/check"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// shell runs a command of the system.
func shell(t *testing.T, name string, args ...string) {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
}

// Files are reached with an account, and PHP runs as another one. Where both share a group, what PHP reads and writes is placed for the group;
// where they share nothing, no site is made, and it is said what to ask the hosting company for.
func TestTheAccountOfTheFilesIsNotThatOfPHP(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("accounts are made as root")
	}
	world.Prepared(t)
	account := fmt.Sprintf("loom-%d", os.Getpid())
	shell(t, "useradd", "--system", "--no-create-home", "--shell", "/usr/sbin/nologin", "--user-group", "--groups", "www-data", account)
	t.Cleanup(func() { shell(t, "userdel", account) })
	dir, err := os.MkdirTemp(stack.Roomy(), "nestseed-accounts-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	on := stack.New(dir)
	on.FilesUser = account
	t.Cleanup(func() { require.NoError(t, on.Stop()) })
	require.NoError(t, on.StartWeb(t.Context()))
	ssh, err := on.StartSSH(t.Context(), false)
	require.NoError(t, err)
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte(ssh.PrivateKey), 0o600))
	programs := func() wire.Check {
		var tested wire.HostTest
		require.NoError(t, json.Unmarshal([]byte(world.Nestseed(t, "--json", "host", "test", "accounts").Out), &tested))
		for _, s := range tested.Steps {
			if s.Name == "programs" {
				return s
			}
		}
		t.Fatal("the host was not asked for its programs")
		return wire.Check{}
	}
	school := scenario.Schools(8)[6]
	world.AddClient(t, school)
	plan := func() wire.Plan {
		var p wire.Plan
		said := world.Nestseed(t, "--json", "site", "plan", school.Name, "--name", "accounts-school", "--from", "music-base", "--host", "accounts")
		require.NoError(t, json.Unmarshal([]byte(said.Out), &p), said.Err)
		return p
	}

	shell(t, "chown", account+":"+account, on.Sites())
	shell(t, "chmod", "0755", on.Sites())
	world.Must(t, "host", "add", "accounts", "--files", ssh.Files(on.Sites()), "--files-key-file", key, "--address", on.Address("{name}"),
		"--database", world.Stack.DatabaseURL())
	s := programs()
	require.Equal(t, wire.Result(check.Fail), s.Result, s.Sentence)
	require.Contains(t, s.Sentence, "runs as the account www-data there, which cannot read the settings files")
	require.Contains(t, s.Remedy, "in one group that our folder belongs to, with the set-group bit")
	refused := plan()
	require.NotEmpty(t, refused.Problems)
	require.Contains(t, refused.Problems[0], "chmod g+s")

	shell(t, "chown", account+":www-data", on.Sites())
	shell(t, "chmod", "2775", on.Sites())
	s = programs()
	require.NotEqual(t, wire.Result(check.Fail), s.Result, "%s: %s", s.Sentence, s.Remedy)
	ready := plan()
	require.Empty(t, ready.Problems)
	require.Contains(t, ready.Runtime, "as the account www-data: folders for uploads and caches are placed so that their group may write in them")
	made := world.Ask[wire.Site](t, "site", "provision", school.Name, "--name", "accounts-school", "--from", "music-base", "--host",
		"accounts")
	require.Zero(t, made.Report.Faults(), "%+v", made.Report)
	site := filepath.Join(on.Sites(), "accounts-school")
	asPHP := func(script string) error {
		return exec.Command("runuser", "-u", "www-data", "--", "sh", "-c", "umask 002; cd "+site+" && "+script).Run()
	}
	require.NoError(t, asPHP("cat wp-config.php && mkdir -p wp-content/uploads/2027/01 && echo choir > wp-content/uploads/2027/01/choir.txt"))
	require.Error(t, asPHP("echo '<?php' >> wp-config.php"))
	require.Error(t, asPHP("echo '<?php' > wp-content/plugins/own.php"), "programs do not write programs")
	info, err := os.Stat(filepath.Join(site, "wp-config.php"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o640), info.Mode().Perm())

	replaced := world.Ask[wire.Site](t, "site", "provision", school.Name, "--name", "accounts-school", "--from", "music-base", "--host", "accounts", "--replace", "--keep",
		"users")
	require.Zero(t, replaced.Report.Faults(), "%+v", replaced.Report)
	world.Must(t, "site", "undo", "accounts-school")
	require.FileExists(t, filepath.Join(site, "wp-content/uploads/2027/01/choir.txt"))
	world.Must(t, "site", "retire", "accounts-school")
	require.NoDirExists(t, site)

	// The service writes into the same folder, for another host: what it places has the group, too.
	world.Must(t, "host", "add", "accounts-folder", "--files", "file://"+on.Sites(), "--address", on.Address("{name}"), "--database",
		world.Stack.DatabaseURL())
	beside := world.Ask[wire.Site](t, "site", "provision", school.Name, "--name", "accounts-beside", "--from", "music-base", "--host", "accounts-folder")
	require.Zero(t, beside.Report.Faults(), "%+v", beside.Report)
	require.NotEqual(t, wire.Result(check.Fail), programs().Result)
	world.Must(t, "site", "retire", "accounts-beside")

	// Where it must be told whose files they are, the test says so, and changes it if asked.
	shell(t, "chown", account+":"+account, on.Sites())
	shell(t, "chmod", "0755", on.Sites())
	require.Contains(t, world.Nestseed(t, "host", "test", "accounts-folder").Out, "nestseed host test accounts-folder --apply")
	world.Must(t, "host", "test", "accounts-folder", "--apply")
	require.Contains(t, world.Ask[wire.Host](t, "host", "show", "accounts-folder").Files, "?owner=www-data")
}
