package hosts

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
	"nestseed/internal/service/vault"
)

func TestTheRoomOfHostsIsLookedAtAndKept(t *testing.T) {
	ctx, db, dir := context.Background(), recordstest.Open(t), t.TempDir()
	v, err := vault.Open(db, "", filepath.Join(dir, "key"))
	require.NoError(t, err)
	s := &Hosts{DB: db, Vault: v}
	for name, folder := range map[string]string{"here": "sites", "gone": "removed"} {
		at := filepath.Join(dir, folder)
		require.NoError(t, os.Mkdir(at, 0o755))
		_, err := db.AddHost(ctx, records.Host{Name: name, Files: "file://" + at, WebRoot: "{name}", Address: "http://{name}.example"})
		require.NoError(t, err)
	}
	h, err := db.Host(ctx, "here")
	require.NoError(t, err)
	require.Nil(t, h.Room, "nobody has looked")
	require.NoError(t, os.Remove(filepath.Join(dir, "removed")))
	require.NoError(t, s.LookAtRooms(ctx))
	h, err = db.Host(ctx, "here")
	require.NoError(t, err)
	require.Positive(t, *h.Room.FreeBytes)
	require.Empty(t, h.Room.Trouble)
	gone, err := db.Host(ctx, "gone")
	require.NoError(t, err)
	require.Nil(t, gone.Room.FreeBytes)
	require.Contains(t, gone.Room.Trouble, "removed", "it says which folder is not there")

	// What a host has told belongs to what it was.
	h.Files = "file://" + dir
	require.NoError(t, db.ChangeHost(ctx, h))
	h, err = db.Host(ctx, "here")
	require.NoError(t, err)
	require.Nil(t, h.Room)
	require.NoError(t, db.RemoveHost(ctx, "gone"))
	require.NoError(t, s.lookAtRoom(ctx, gone), "one that was removed meanwhile is no fault")
	ended, cancel := context.WithCancel(ctx)
	cancel()
	require.Error(t, s.LookAtRooms(ended))
}
