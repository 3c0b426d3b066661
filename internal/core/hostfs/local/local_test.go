package local

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/hostfstest"

	"github.com/stretchr/testify/require"
)

func TestLocalFoldersDoWhatEveryHostDoes(t *testing.T) {
	hostfstest.Run(t, func(t *testing.T) hostfstest.Host {
		dir := filepath.Join(t.TempDir(), "host")
		require.NoError(t, os.Mkdir(dir, 0o755))
		fsys, err := Open(dir)
		require.NoError(t, err)
		t.Cleanup(func() { fsys.Close() })
		return hostfstest.Host{FS: fsys, Dir: dir}
	})
}

func TestASocketIsNoFile(t *testing.T) {
	dir := t.TempDir()
	fsys, err := Open(dir)
	require.NoError(t, err)
	defer fsys.Close()
	l, err := net.Listen("unix", filepath.Join(dir, "socket"))
	require.NoError(t, err)
	defer l.Close()
	_, err = fsys.Open(t.Context(), "socket")
	require.ErrorIs(t, err, hostfs.ErrNotRegular)
}

func TestAnOwnerWhoIsNotThereIsNamed(t *testing.T) {
	_, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + t.TempDir() + "?owner=nobody-of-this-name"})
	require.ErrorContains(t, err, "nobody-of-this-name")
	_, err = hostfs.Open(t.Context(), hostfs.Access{Address: "file:///no/such/folder/at/all"})
	require.ErrorContains(t, err, "/no/such/folder/at/all")
}

func TestUnknownWaysAreRefusedWithAnExample(t *testing.T) {
	_, err := hostfs.Open(t.Context(), hostfs.Access{Address: "gopher://u:secret@x/y"})
	require.ErrorIs(t, err, hostfs.ErrUnsupported)
	require.NotContains(t, err.Error(), "secret")
}
