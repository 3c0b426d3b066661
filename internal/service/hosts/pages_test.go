package hosts

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/sitepage"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
	"nestseed/internal/service/vault"
)

// Pages that instances have left are removed by whoever looks next; those of one that is alive stay, and a host that is away is no hindrance.
func TestPagesThatWereLeftAreRemoved(t *testing.T) {
	ctx, db, dir := t.Context(), recordstest.Open(t), t.TempDir()
	v, err := vault.Open(db, "", filepath.Join(dir, "key"))
	require.NoError(t, err)
	s := &Hosts{DB: db, Vault: v}
	host := func(name string) (records.Host, string) {
		at := filepath.Join(dir, name)
		require.NoError(t, os.Mkdir(at, 0o755))
		h, err := db.AddHost(ctx, records.Host{Name: name, Files: "file://" + at, WebRoot: "{name}", Address: "http://{name}.example"})
		require.NoError(t, err)
		return h, at
	}
	gone, away := host("gone")
	here, at := host("here")
	alive, dead := recordstest.Instance(t, db), int64(4711)
	place := func(h records.Host, folder, name string, instance int64) string {
		file := filepath.Join(dir, h.Name, folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, nil, 0o644))
		require.NoError(t, db.AddPage(ctx, records.Page{HostID: h.ID, Folder: folder, Name: name}, instance))
		return file
	}
	old := place(here, "alder", sitepage.Prefix+"old.php", dead)
	asked := place(here, "nestseed-asks/public", sitepage.Prefix+"asked.php", dead)
	under := place(here, "alder", sitepage.Prefix+"now.php", alive)
	require.NoError(t, db.AddPage(ctx, records.Page{HostID: here.ID, Folder: "alder", Name: sitepage.Prefix + "never-written.php"}, dead))
	require.NoError(t, db.AddPage(ctx, records.Page{HostID: here.ID, Folder: "no-more", Name: sitepage.Prefix + "x.php"}, dead))
	place(gone, "alder", sitepage.Prefix+"x.php", dead)
	require.NoError(t, os.RemoveAll(away))

	require.Error(t, s.ClearPages(ctx), "one host is away")
	require.NoFileExists(t, old)
	require.NoFileExists(t, asked)
	require.NoDirExists(t, filepath.Join(at, "nestseed-asks"), "the folders go that were made for it")
	require.DirExists(t, filepath.Join(at, "alder"))
	require.FileExists(t, under)
	left, err := db.Pages(ctx, false)
	require.NoError(t, err)
	require.Len(t, left, 2, "that of the host that is away, and the one that is in use")

	// One that whoever placed it could not remove is left for others.
	journal := s.Pages(here.ID, "alder")
	require.NoError(t, journal.Left(ctx, filepath.Base(under)))
	require.Error(t, s.ClearPages(ctx))
	require.NoFileExists(t, under)
}
