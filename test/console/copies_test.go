package console

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/service/cluster"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// copyOf starts a copy of the service that shares records, store and vault key with others; wait waits until it answers.
func copyOf(t *testing.T, records, store, key string) (p *world.Process, wait func()) {
	t.Helper()
	p, err := world.Start(t.TempDir(), fmt.Sprintf("127.0.0.1:%d", stack.FreePort()), "NESTSEED_RECORDS="+records, "NESTSEED_STORE="+store,
		"NESTSEED_VAULT_KEY="+key)
	require.NoError(t, err)
	t.Cleanup(func() { p.Stop() })
	return p, func() { require.NoError(t, p.Ready()) }
}

// Two copies of the service work on the same records and the same store: each takes any run, also of what was sent to the
// other, and when one is killed the other ends its work.
func TestOfTwoCopiesOneIsKilled(t *testing.T) {
	world.Prepared(t)
	ctx := context.Background()
	folder, err := os.MkdirTemp(world.Dir, "records-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	server, err := cluster.Start(ctx, folder)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Stop()) })
	text, err := os.ReadFile(filepath.Join(world.Service.Data, "vault-key"))
	require.NoError(t, err)
	key, store := base64.StdEncoding.EncodeToString(text), t.TempDir()

	one, oneAnswers := copyOf(t, server.Address(), store, key)
	two, twoAnswers := copyOf(t, server.Address(), store, key)
	oneAnswers()
	twoAnswers()
	token := ""
	for _, p := range []*world.Process{one, two} {
		if text, err := os.ReadFile(filepath.Join(p.Data, "owner-token")); err == nil {
			require.Empty(t, token, "two copies that start at once make one owner")
			token = strings.TrimSpace(string(text))
		}
	}
	at := [2]*client.Client{client.New(one.Address(), token), client.New(two.Address(), token)}

	_, err = at[0].AddHost(ctx, wire.NewHost{Name: "preview", Files: "file://" + world.Stack.Sites() + "?owner=www-data", WebRoot: "{name}",
		Address: world.Stack.Address("{name}"),
		Database: fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.Stack.AdminUser,
			world.Stack.DatabasePort), DatabasePassword: world.Stack.AdminPassword})
	require.NoError(t, err)
	_, err = at[1].AddSource(ctx, wire.NewSource{Name: "base", Host: "preview", Path: "base"})
	require.NoError(t, err)
	_, err = at[0].CreateStarter(ctx, wire.NewStarter{Name: "twin", Source: "base", List: "starter", Fields: scenario.NewFields()})
	require.NoError(t, err)
	ended := func(svc *client.Client, run wire.Run, err error) wire.Run {
		t.Helper()
		require.NoError(t, err)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		return run
	}
	for _, svc := range at {
		run, err := svc.BuildRelease(ctx, "twin", wire.NewRelease{})
		require.Equal(t, "done", ended(svc, run, err).Status)
	}

	// What is sent to one is imported by either.
	file := filepath.Join(t.TempDir(), "twin.zip")
	f, err := os.Create(file)
	require.NoError(t, err)
	_, _, err = at[1].Download(ctx, "twin@1", 0, f)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	for _, name := range []string{"brought-one", "brought-two", "brought-three"} {
		id, err := at[0].Upload(ctx, file, func(int64, int64) {})
		require.NoError(t, err)
		run, err := at[1].ImportRelease(ctx, name, wire.NewImport{Files: []wire.GivenFile{{Upload: id}}})
		run = ended(at[1], run, err)
		require.Equal(t, "done", run.Status, run.Error)
	}
	left, err := os.ReadDir(filepath.Join(store, "uploads"))
	require.NoError(t, err)
	require.Empty(t, left, "what was imported is not kept twice")

	// Work is under way in both when one of them is killed.
	var runs []wire.Run
	for i, school := range scenario.Schools(4) {
		_, err := at[i%2].AddClient(ctx, wire.NewClient{Name: "twin-" + school.Name, Settings: school.Settings})
		require.NoError(t, err)
		run, err := at[i%2].ProvisionSite(ctx, wire.NewSite{Client: "twin-" + school.Name, From: "twin@2", Host: "preview"})
		require.NoError(t, err)
		runs = append(runs, run)
	}
	for range 3 {
		run, err := at[0].BuildRelease(ctx, "twin", wire.NewRelease{Full: true})
		require.NoError(t, err)
		runs = append(runs, run)
	}
	time.Sleep(700 * time.Millisecond)
	require.NoError(t, one.Kill())
	made := 0
	for _, run := range runs {
		run = ended(at[1], run, nil)
		if run.Job == "build" {
			require.Equal(t, "done", run.Status, run.Error)
		} else if run.Status != "done" {
			require.Contains(t, run.Error, "taken back", "%s", run.Title)
			made--
		}
	}
	sites, err := at[1].Sites(ctx, client.SitesBy{})
	require.NoError(t, err)
	require.Len(t, sites, 4+made)
	for _, s := range sites {
		res, err := stack.Client().Get(s.Address + "/")
		require.NoError(t, err)
		res.Body.Close()
		run, err := at[1].RetireSite(ctx, s.Name, true)
		require.Equal(t, "done", ended(at[1], run, err).Status)
	}
	for _, school := range scenario.Schools(4) {
		world.NothingLeft(t, "twin-"+school.Name)
	}
	scratch, err := filepath.Glob(filepath.Join(store, ".scratch-*"))
	require.NoError(t, err)
	require.Empty(t, scratch, "nothing half made stays in the store")
	for _, ref := range []string{"twin@1", "twin@2", "twin@3", "twin@4", "twin@5", "brought-one@1"} {
		run, err := at[1].VerifyRelease(ctx, ref)
		require.Equal(t, "done", ended(at[1], run, err).Status, ref)
	}
}
