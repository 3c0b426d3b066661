package hostcheck

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net"
	"path"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/stack"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/local"
	_ "nestseed/internal/core/hostfs/sftp"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	_ "nestseed/internal/core/sitedb/mysql"
)

func byName(t *testing.T, steps []check.Check) map[string]check.Check {
	t.Helper()
	out := map[string]check.Check{}
	for _, s := range steps {
		require.NotEmpty(t, s.Sentence, s.Name)
		out[s.Name] = s
	}
	return out
}

func TestAHostThatDoesEverythingPassesAndIsLeftAsItWas(t *testing.T) {
	fsys, err := local.Open(t.TempDir())
	require.NoError(t, err)
	defer fsys.Close()
	steps := byName(t, Files(t.Context(), fsys))
	for _, name := range []string{"write", "rename", "link", "exchange", "space"} {
		require.Equal(t, check.Pass, steps[name].Result, "%+v", steps[name])
	}
	require.NoError(t, fsys.Walk(t.Context(), ".", func(e hostfs.Entry) error {
		t.Errorf("%s is left", e.Path)
		return nil
	}, func(string, error) {}))
}

// poor is a host that can do less than others.
type poor struct {
	hostfs.FS
	readOnly, garbles, noModes bool
}

type garbling struct{ io.WriteCloser }

func (g garbling) Write(p []byte) (int, error) {
	kept := make([]byte, 0, len(p))
	for _, c := range p {
		if c != '\r' {
			kept = append(kept, c)
		}
	}
	_, err := g.WriteCloser.Write(kept)
	return len(p), err
}

func (p poor) Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	if p.readOnly {
		return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrPermission}
	}
	if p.noModes {
		mode = 0o644
	}
	w, err := p.FS.Create(ctx, name, mode)
	if err == nil && p.garbles {
		return garbling{w}, nil
	}
	return w, err
}

func (p poor) Symlink(context.Context, string, string) error { return hostfs.ErrNoLinks }

func TestWhatAHostCannotDoIsToldWithWhatToAskFor(t *testing.T) {
	for what, c := range map[string]struct {
		host   poor
		step   string
		result check.Result
		ask    string
	}{
		"nothing can be written":        {poor{readOnly: true}, "write", check.Fail, "let our account make"},
		"bytes are changed on the way":  {poor{garbles: true}, "write", check.Fail, "binary mode"},
		"modes cannot be set":           {poor{noModes: true}, "write", check.Warn, "chmod"},
		"links cannot be made":          {poor{}, "link", check.Warn, "another way"},
		"folders cannot change places":  {poor{}, "exchange", check.Fail, "let our account make"},
		"nobody knows how much is free": {poor{}, "space", check.Warn, "How much space"},
	} {
		fsys, err := local.Open(t.TempDir())
		require.NoError(t, err)
		c.host.FS = fsys
		step, there := byName(t, Files(t.Context(), c.host))[c.step]
		require.True(t, there, what)
		require.Equal(t, c.result, step.Result, "%s: %+v", what, step)
		require.Contains(t, step.Remedy, c.ask, what)
		require.NoError(t, fsys.Close())
	}
}

func TestWhyAHostIsNotReachedIsTold(t *testing.T) {
	const files = "sftp://studio@files.example:2222/home/studio/www"
	for _, c := range []struct {
		err  error
		name string
		ask  string
	}{
		{&net.OpError{Op: "dial", Err: errors.New("connection refused")}, "reachability", "SFTP (file transfer over SSH)"},
		{hostfs.ErrHostKey, "host key", "fingerprint"},
		{errors.New("unable to authenticate"), "log-in", "Logging in as studio at files.example:2222"},
	} {
		step := NotReached(files, c.err)
		require.Equal(t, check.Fail, step.Result)
		require.Equal(t, c.name, step.Name)
		require.Contains(t, step.Remedy, c.ask)
	}
	require.Equal(t, "log-in", NotReached("file:///srv/www", fs.ErrNotExist).Name)
	require.Empty(t, Name(t.Context(), "file:///srv/www"))
	require.Empty(t, Name(t.Context(), "sftp://studio@127.0.0.1/www"), "a number needs no name")
	require.Equal(t, check.Pass, Name(t.Context(), "sftp://studio@localhost/www")[0].Result)
	gone := Name(t.Context(), "sftp://studio@nothing.invalid/www")
	require.Equal(t, check.Fail, gone[0].Result)
	require.Contains(t, gone[0].Remedy, "nothing.invalid")
}

func TestWhatRunsProgramsIsJudged(t *testing.T) {
	fsys, err := local.Open(t.TempDir())
	require.NoError(t, err)
	defer fsys.Close()
	now := time.Now()
	in := path.Join(fsys.Root(), "asks")
	apart, open := true, false
	good := byName(t, Runtime(provision.Runtime{Name: "PHP", Version: "8.2.30", Account: "www-data", Folder: in, AskedAt: now, Clock: now,
		Apart: &apart}, fsys, in))
	for _, s := range good {
		require.Equal(t, check.Pass, s.Result, "%+v", s)
	}
	require.Len(t, good, 3)
	bad := byName(t, Runtime(provision.Runtime{Name: "PHP", Version: "8.2.30", Account: "www-data", Unreadable: true, Folder: "/home/x/www/asks",
		AskedAt: now, Clock: now.Add(-time.Hour), Apart: &open}, fsys, in))
	require.Equal(t, check.Warn, bad["sites apart"].Result)
	require.Contains(t, bad["sites apart"].Remedy, "open_basedir")
	require.Equal(t, check.Fail, bad["programs"].Result)
	require.Contains(t, bad["folder"].Sentence, "?seen=")
	require.Contains(t, bad["clock of the web server"].Remedy, "1h0m0s")
}

func TestADatabaseServerIsTried(t *testing.T) {
	s := stack.ForTest(t)
	require.NoError(t, s.StartMariaDB(t.Context(), "--max-allowed-packet=1M"))
	server, err := sitedb.Connect(s.DatabaseURL())
	require.NoError(t, err)
	defer server.Close()
	for range 2 {
		steps := byName(t, Database(t.Context(), server))
		require.Equal(t, check.Pass, steps["database"].Result)
		require.Equal(t, check.Warn, steps["database limits"].Result, "%+v", steps)
		require.Contains(t, steps["database limits"].Remedy, "max_allowed_packet")
		require.Equal(t, check.Pass, steps["clock of the database"].Result)
		require.Equal(t, check.Pass, steps["database rights"].Result, "%+v", steps)
		there, err := server.DatabaseExists(t.Context(), probe)
		require.NoError(t, err)
		require.False(t, there, "what was made is dropped")
		require.NoError(t, server.CreateDatabase(t.Context(), probe), "as if the next one had been cut off")
		require.NoError(t, server.DropDatabase(t.Context(), probe))
		require.NoError(t, server.CreateDatabase(t.Context(), probe))
	}
	// Somebody else's database of that name is not dropped.
	admin, err := s.Admin()
	require.NoError(t, err)
	defer admin.Close()
	_, err = admin.ExecContext(t.Context(), "CREATE TABLE nestseed_test.theirs (n int)")
	require.NoError(t, err)
	require.Equal(t, check.Fail, byName(t, Database(t.Context(), server))["database rights"].Result)
	there, err := server.DatabaseExists(t.Context(), probe)
	require.NoError(t, err)
	require.True(t, there)
	// An account that may make nothing is told what to ask for.
	_, err = admin.ExecContext(t.Context(), "DROP DATABASE nestseed_test")
	require.NoError(t, err)
	require.NoError(t, server.CreateDatabase(t.Context(), "alder"))
	require.NoError(t, server.CreateUser(t.Context(), "alder", "seven scales", "alder"))
	few, err := sitedb.Connect("mysql://alder:seven%20scales@" + server.SiteAddress() + "/")
	require.NoError(t, err)
	defer few.Close()
	step := byName(t, Database(t.Context(), few))["database rights"]
	require.Equal(t, check.Fail, step.Result)
	require.Contains(t, step.Remedy, "CREATE USER")
}
