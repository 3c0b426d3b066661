package console

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// disk is a file system of a size of its own.
func disk(t *testing.T, megabytes int) string {
	t.Helper()
	dir := t.TempDir()
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%dm", megabytes)); err != nil {
		t.Skipf("no file system can be mounted here: %v", err)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(dir, unix.MNT_DETACH)) })
	return dir
}

// fillDisk leaves nothing free on a disk, until the file that it returns is removed.
func fillDisk(t *testing.T, dir string) (file string) {
	t.Helper()
	file = filepath.Join(dir, "somebody-elses.bin")
	f, err := os.Create(file)
	require.NoError(t, err)
	defer f.Close()
	for size := 1 << 20; size >= 4096; size /= 2 {
		for err = nil; err == nil; {
			_, err = f.Write(make([]byte, size))
		}
		require.ErrorIs(t, err, unix.ENOSPC)
	}
	return file
}

// When the disk of archives is full, work ends with a sentence that says so, what was there stays whole, and nothing half
// made takes up room.
func TestAFullDiskOfArchivesHarmsNothing(t *testing.T) {
	world.Prepared(t)
	ctx := context.Background()
	store := disk(t, 600)
	dir, err := os.MkdirTemp(world.Dir, "full-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Setenv("NESTSEED_STORE", store)
	p, err := world.Serve(filepath.Join(dir, "data"), fmt.Sprintf("127.0.0.1:%d", stack.FreePort()))
	require.NoError(t, err)
	defer func() { require.NoError(t, p.Stop()) }()
	svc := p.Client(t)
	_, err = svc.AddHost(ctx, wire.NewHost{Name: "preview", Files: "file://" + world.Stack.Sites() + "?owner=www-data", WebRoot: "{name}",
		Address: world.Stack.Address("{name}"),
		Database: fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.Stack.AdminUser,
			world.Stack.DatabasePort), DatabasePassword: world.Stack.AdminPassword})
	require.NoError(t, err)
	_, err = svc.AddSource(ctx, wire.NewSource{Name: "base", Host: "preview", Path: "base"})
	require.NoError(t, err)
	_, err = svc.CreateStarter(ctx, wire.NewStarter{Name: "full", Source: "base", List: "starter", Fields: scenario.NewFields()})
	require.NoError(t, err)
	ended := func(run wire.Run, err error) wire.Run {
		t.Helper()
		require.NoError(t, err)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		return run
	}
	run := ended(svc.BuildRelease(ctx, "full", wire.NewRelease{}))
	require.Equal(t, "done", run.Status, run.Error)
	school := scenario.Schools(1)[0]
	_, err = svc.AddClient(ctx, wire.NewClient{Name: "brimful", Settings: school.Settings})
	require.NoError(t, err)
	run = ended(svc.ProvisionSite(ctx, wire.NewSite{Client: "brimful", From: "full", Host: "preview"}))
	require.Equal(t, "done", run.Status, run.Error)
	file := filepath.Join(t.TempDir(), "full.zip")
	f, err := os.Create(file)
	require.NoError(t, err)
	_, _, err = svc.Download(ctx, "full@1", 0, f)
	require.NoError(t, err)
	require.NoError(t, f.Close())

	filler := fillDisk(t, store)
	answers := func() {
		t.Helper()
		res, err := stack.Client().Get(world.Stack.Address("brimful") + "/")
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, 200, res.StatusCode)
	}
	for what, start := range map[string]func() (wire.Run, error){
		"build":  func() (wire.Run, error) { return svc.BuildRelease(ctx, "full", wire.NewRelease{Full: true}) },
		"copy":   func() (wire.Run, error) { return svc.KeepCopy(ctx, "brimful") },
		"retire": func() (wire.Run, error) { return svc.RetireSite(ctx, "brimful", false) },
	} {
		run := ended(start())
		require.Equal(t, "failed", run.Status, what)
		require.Contains(t, run.Error, "the disk is full; make room there", what)
		answers()
		left, err := filepath.Glob(filepath.Join(store, ".scratch-*"))
		require.NoError(t, err)
		require.Empty(t, left, what)
	}
	_, err = svc.Upload(ctx, file, func(int64, int64) {})
	var problem *client.Problem
	require.ErrorAs(t, err, &problem)
	require.Contains(t, problem.Detail, "there is room for", "an upload that does not fit is refused before it is sent")

	require.NoError(t, os.Remove(filler))
	_, err = svc.Upload(ctx, file, func(sent, _ int64) {
		if sent == 0 {
			filler = fillDisk(t, store)
		}
	})
	require.ErrorAs(t, err, &problem)
	require.Equal(t, 507, problem.Status)
	require.Contains(t, problem.Detail, "the disk of the service is full", "so is one during which the disk fills up")
	require.NoError(t, os.Remove(filler))
	_, err = svc.Upload(ctx, file, nil)
	require.NoError(t, err, "and it goes on when there is room")
	run = ended(svc.VerifyRelease(ctx, "full@1"))
	require.Equal(t, "done", run.Status, run.Error)
	run = ended(svc.BuildRelease(ctx, "full", wire.NewRelease{Full: true}))
	require.Equal(t, "done", run.Status, "when there is room again it goes on as before: %s", run.Error)
	run = ended(svc.RetireSite(ctx, "brimful", false))
	require.Equal(t, "done", run.Status, run.Error)
	world.NothingLeft(t, "brimful")
}
