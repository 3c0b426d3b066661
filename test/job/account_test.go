package job

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/wire"
	"nestseed/test/attack"
	"nestseed/test/world"
)

// The service as its own account, with what packaging/nestseed.service gives it and nothing more.
func TestAttackTheServiceIsNotRoot(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can become another account")
	}
	world.Prepared(t)
	const account = "backup" // one that Debian has, and that owns nothing here
	data := filepath.Join(world.Dir, "as-an-account")
	require.NoError(t, os.Mkdir(data, 0o700))
	require.NoError(t, exec.Command("chown", account, data).Run())
	listen := fmt.Sprintf("127.0.0.1:%d", stack.FreePort())
	cmd := exec.Command("setpriv", "--reuid="+account, "--regid="+account, "--clear-groups", "--no-new-privs",
		"--bounding-set=-all,+chown,+fowner,+dac_override", "--inh-caps=-all,+chown,+fowner,+dac_override",
		"--ambient-caps=-all,+chown,+fowner,+dac_override", world.Binary, "serve")
	cmd.Dir = data
	cmd.Env = append(os.Environ(), "NESTSEED_DATA="+data, "NESTSEED_LISTEN="+listen, "HOME="+data)
	log, err := os.Create(filepath.Join(world.Dir, "as-an-account.log"))
	require.NoError(t, err)
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt) //nolint:errcheck // it is waited for
		cmd.Wait()                       //nolint:errcheck // the same
	})
	var token []byte
	require.Eventually(t, func() bool {
		token, err = os.ReadFile(filepath.Join(data, "owner-token"))
		return err == nil && len(token) > 0
	}, time.Minute, 50*time.Millisecond)
	svc, ctx := client.New("http://"+listen, strings.TrimSpace(string(token))), t.Context()
	_, err = svc.AddHost(ctx, wire.NewHost{Name: "preview", Files: "file://" + world.Stack.Sites() + "?owner=www-data", WebRoot: "{name}",
		Address: world.Stack.Address("{name}"), Database: world.Stack.DatabaseURL()})
	require.NoError(t, err)
	_, err = svc.AddSource(ctx, wire.NewSource{Name: "base", Host: "preview", Path: "base"})
	require.NoError(t, err)
	_, err = svc.CreateStarter(ctx, wire.NewStarter{Name: "music-base", Source: "base", Fields: scenario.NewFields()})
	require.NoError(t, err)
	ended := func(r wire.Run, err error) wire.Run {
		require.NoError(t, err)
		r, err = svc.Wait(ctx, r.ID, nil)
		require.NoError(t, err)
		require.Equal(t, "done", r.Status, r.Error)
		return r
	}
	ended(svc.BuildRelease(ctx, "music-base", wire.NewRelease{}))
	school := scenario.Schools(12)[11]
	_, err = svc.AddClient(ctx, wire.NewClient{Name: school.Name, Settings: school.Settings})
	require.NoError(t, err)
	ended(svc.ProvisionSite(ctx, wire.NewSite{Client: school.Name, Name: "as-an-account", From: "music-base", Host: "preview"}))
	site, err := svc.Site(ctx, "as-an-account")
	require.NoError(t, err)
	require.Zero(t, site.Report.Faults(), "%+v", site.Report)
	ended(svc.ProvisionSite(ctx, wire.NewSite{Client: school.Name, Name: "as-an-account", From: "music-base", Host: "preview", Replace: true}))
	ended(svc.UndoSite(ctx, "as-an-account", ""))

	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
	require.NoError(t, err)
	require.Regexp(t, `(?m)^CapEff:\t000000000000000b$`, string(status), "to give files away, and to read and replace those of others")
	require.Regexp(t, `(?m)^CapAmb:\t0+$`, string(status), "what it starts has none of that")
	ended(svc.RetireSite(ctx, "as-an-account", true))
	attack.Stopped(t, "the service itself", "is no more than an account: sites are made, replaced, undone and removed",
		"three capabilities, no new privileges; none of them for PostgreSQL, the browser and confined processes")
}
