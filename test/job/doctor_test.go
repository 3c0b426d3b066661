package job

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/test/world"
)

func TestDoctorComparesTheRecordsWithTheHosts(t *testing.T) {
	s := world.SiteOf(t, 7)
	require.Zero(t, world.Nestseed(t, "doctor", "--hosts").Code, world.Nestseed(t, "doctor", "--hosts").Out)

	// What nobody has recorded, as an attempt leaves it that was killed at the wrong moment.
	stray := filepath.Join(world.Stack.Sites(), "."+s.Name+".nestseed-999-1")
	require.NoError(t, os.Mkdir(stray, 0o755))
	world.Execute(t, "CREATE DATABASE ns_stray_999_1")
	r := world.Nestseed(t, "doctor", "--hosts")
	require.Equal(t, 5, r.Code)
	require.Contains(t, r.Out, filepath.Base(stray)+" on host preview was made by this service, and no record names it")
	require.Contains(t, r.Out, "database ns_stray_999_1 on host preview was made by this service")
	require.NoError(t, os.Remove(stray))
	world.Execute(t, "DROP DATABASE ns_stray_999_1")

	// What a record names and somebody has taken away.
	aside := s.Folder + "-aside"
	require.NoError(t, os.Rename(s.Folder, aside))
	r = world.Nestseed(t, "doctor", "--hosts")
	require.Contains(t, r.Out, "folder "+s.Name+" on host preview is not there, and site "+s.Name+" names it")
	require.NoError(t, os.Rename(aside, s.Folder))
	require.Zero(t, world.Nestseed(t, "doctor", "--hosts").Code)
}
