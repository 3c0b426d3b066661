package build_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/build/buildtest"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
)

func TestAnArchiveOpensWithOrdinaryToolsAndItsSumsHold(t *testing.T) {
	dir, in := buildtest.Site(t)
	file := filepath.Join(dir, "r.zip")
	m := buildtest.Build(t, in, file)
	out, err := exec.Command("unzip", "-t", file).CombinedOutput()
	require.NoError(t, err, string(out))

	unpacked := filepath.Join(dir, "out")
	out, err = exec.Command("unzip", "-q", file, "-d", unpacked).CombinedOutput()
	require.NoError(t, err, string(out))
	sums := exec.Command("sha256sum", "--quiet", "--strict", "-c", archive.SumsName)
	sums.Dir = unpacked
	out, err = sums.CombinedOutput()
	require.NoError(t, err, string(out))

	target, err := os.Readlink(filepath.Join(unpacked, "files/wp-content/uploads/link.jpg"))
	require.NoError(t, err)
	require.Equal(t, "big.jpg", target)
	info, err := os.Stat(filepath.Join(unpacked, "files/wp-load.php"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o755), info.Mode().Perm())
	require.NoFileExists(t, filepath.Join(unpacked, "files/wp-content/cache/page.html"))
	require.Equal(t, int64(1), m.Totals.Links)

	list, err := exec.Command("unzip", "-Z1", file).Output()
	require.NoError(t, err)
	names := strings.Split(strings.TrimSpace(string(list)), "\n")
	require.Equal(t, archive.ManifestName, names[0])
	require.Equal(t, archive.SumsName, names[len(names)-1])
}

func TestSecretsOfTheSettingsFileAreNowhereInTheArchive(t *testing.T) {
	dir, in := buildtest.Site(t)
	file := filepath.Join(dir, "r.zip")
	m := buildtest.Build(t, in, file)
	a := buildtest.Open(t, file)
	for _, f := range a.Entries() {
		if f.Mode().IsDir() {
			continue
		}
		r, err := a.File(f.Name)
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NotContains(t, string(text), "pineapple", f.Name)
	}
	require.Contains(t, m.Blanked, archive.Blanked{What: "setting DB_PASSWORD", Times: 1})
	require.Contains(t, fmt.Sprint(m.Notes), "notes.txt holds the source's DB_PASSWORD and was left out")
	require.Contains(t, fmt.Sprint(m.Notes), "evil is a link to /etc/passwd")
}

func TestTheSameInputGivesTheSameBytes(t *testing.T) {
	dir, in := buildtest.Site(t)
	buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	buildtest.Build(t, in, filepath.Join(dir, "2.zip"))
	one, err := os.ReadFile(filepath.Join(dir, "1.zip"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(one, two))
}

func TestABuildThatIsCancelledEnds(t *testing.T) {
	_, in := buildtest.Site(t)
	ctx, cancel := context.WithCancel(context.Background())
	f, err := os.CreateTemp(t.TempDir(), "")
	require.NoError(t, err)
	defer f.Close()
	_, err = build.Release(ctx, &stopAfter{File: f, left: 2 << 20, stop: cancel}, in, progress.Discard)
	require.ErrorIs(t, err, context.Canceled)
}

func TestABuildOnAFullDiskFailsWithTheReason(t *testing.T) {
	_, in := buildtest.Site(t)
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	_, err = build.Release(context.Background(), full, in, progress.Discard)
	require.ErrorContains(t, err, "no space left")
}

type stopAfter struct {
	*os.File
	left int
	stop func()
}

func (s *stopAfter) WriteAt(p []byte, at int64) (int, error) {
	if s.left -= len(p); s.left < 0 {
		s.stop()
	}
	return s.File.WriteAt(p, at)
}

func TestAFullDiskAnywhereFailsWithTheReasonAndHangsNowhere(t *testing.T) {
	dir, in := buildtest.Site(t)
	file := filepath.Join(dir, "r.zip")
	buildtest.Build(t, in, file)
	info, err := os.Stat(file)
	require.NoError(t, err)
	for _, room := range []int64{0, 1000, info.Size() / 3, info.Size() - 100} {
		f, err := os.CreateTemp(t.TempDir(), "")
		require.NoError(t, err)
		_, err = build.Release(context.Background(), &small{f, room}, in, progress.Discard)
		require.ErrorContains(t, err, "no room", room)
		f.Close()
	}
}

// small is a disk with so much room.
type small struct {
	*os.File
	room int64
}

func (s *small) WriteAt(p []byte, at int64) (int, error) {
	if at+int64(len(p)) > s.room {
		return 0, fmt.Errorf("no room")
	}
	return s.File.WriteAt(p, at)
}

// flaky is a site whose files, or whose database, go away in the middle.
type flaky struct {
	hostfs.FS
	gone string
}

func (f *flaky) Sub(ctx context.Context, name string) (hostfs.FS, error) {
	sub, err := f.FS.Sub(ctx, name)
	return &flaky{sub, f.gone}, err
}

func (f *flaky) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	if strings.HasSuffix(name, f.gone) {
		return nil, &os.PathError{Op: "open", Path: name, Err: os.ErrNotExist}
	}
	return f.FS.Open(ctx, name)
}

func TestFilesThatVanishAreNotedAndTheRestIsWhole(t *testing.T) {
	for _, gone := range []string{"uploads/empty", "uploads/big.jpg", "uploads/big.txt"} {
		dir, in := buildtest.Site(t)
		in.FS = &flaky{in.FS, gone}
		b := buildtest.Rebuild(t, in, filepath.Join(dir, "1.zip"))
		require.Contains(t, fmt.Sprint(b.Manifest.Notes), gone+" vanished")
		v, err := buildtest.Open(t, filepath.Join(dir, "1.zip")).Verify(context.Background(), progress.Discard)
		require.NoError(t, err)
		require.Empty(t, v.Faults)
	}
}

// cutDB is a database that is lost after some rows.
type cutDB struct {
	sitedb.Reader
	after int
}

type cutSnapshot struct {
	sitedb.Snapshot
	db *cutDB
}

func (c *cutDB) Snapshot(ctx context.Context) (sitedb.Snapshot, error) {
	s, err := c.Reader.Snapshot(ctx)
	return &cutSnapshot{s, c}, err
}

func (c *cutSnapshot) Rows(ctx context.Context, t *sitedb.Table, each func(row [][]byte) error) error {
	return c.Snapshot.Rows(ctx, t, func(row [][]byte) error {
		if c.db.after--; c.db.after < 0 {
			return fmt.Errorf("no database server answers at 127.0.0.1:3306")
		}
		return each(row)
	})
}

func TestALostDatabaseEndsABuildWithTheReason(t *testing.T) {
	for _, after := range []int{0, 3, 9} {
		dir, in := buildtest.Site(t)
		in = buildtest.WithRows(t, in, buildtest.RowsBefore)
		in.DB = &cutDB{in.DB, after}
		f, err := os.Create(filepath.Join(dir, "1.zip"))
		require.NoError(t, err)
		_, err = build.Release(context.Background(), f, in, progress.Discard)
		require.ErrorContains(t, err, "no database server answers")
		f.Close()
	}
}
