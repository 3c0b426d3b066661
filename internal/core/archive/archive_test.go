package archive

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
)

const password = "pw-Q7x!pineapple"

// site makes a small site on disk: every sort of entry that a real one has.
func site(t testing.TB) (dir string, in Input) {
	dir = t.TempDir()
	put := func(name string, content []byte) {
		p := filepath.Join(dir, "base", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, content, 0o644))
		require.NoError(t, os.Chtimes(p, time.Unix(1700000000, 0), time.Unix(1700000000, 0)))
	}
	noise := make([]byte, 9<<20)
	rand.New(rand.NewSource(1)).Read(noise)
	put("wp-includes/version.php", []byte("<?php $wp_version = '6.1.9'; $required_php_version = '5.6.20';"))
	put("wp-load.php", []byte("<?php"))
	put("wp-admin/index.php", []byte("<?php"))
	put("wp-config.php", []byte("<?php define('DB_NAME','lad');define('DB_USER','u');define('DB_PASSWORD','"+password+"');define('AUTH_KEY','kk-"+password+"-salt');$table_prefix='lad_';"))
	put("wp-content/uploads/big.jpg", noise)
	put("wp-content/uploads/big.txt", bytes.Repeat([]byte("music for all "), 700_000))
	put("wp-content/uploads/ünïcode näme.txt", []byte("hello"))
	put("wp-content/uploads/back\\slash.txt", []byte("x"))
	put("wp-content/uploads/empty", nil)
	put("wp-content/uploads/notes.txt", []byte("the password is "+password))
	put("wp-content/cache/page.html", []byte("cached"))
	require.NoError(t, os.Symlink("big.jpg", filepath.Join(dir, "base/wp-content/uploads/link.jpg")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "base/wp-content/uploads/evil")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "base/wp-load.php"), 0o755))

	fsys, err := hostfs.Open("file://" + dir)
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	kinds, err := kind.Stock()
	require.NoError(t, err)
	id, err := kind.Identify(fsys, "base", kinds)
	require.NoError(t, err)
	list, err := packing.Parse([]byte(id.Kind.Lists["starter"]))
	require.NoError(t, err)
	list.Only = "files"
	return dir, Input{FS: fsys, Root: "base", Identity: id, List: list, Manifest: Manifest{
		ID: "id", Starter: "music-base", Number: 1, Made: time.Unix(1700000000, 0).UTC(), By: "ines", Note: "first", Source: "base", Origin: Origin{Address: "http://base.localhost"},
	}}
}

func build(t testing.TB, in Input, to string) *Manifest {
	f, err := os.Create(to)
	require.NoError(t, err)
	defer f.Close()
	b, err := Build(context.Background(), f, in, progress.Discard)
	require.NoError(t, err)
	pinned, err := open(t, to).Pinned()
	require.NoError(t, err)
	require.Equal(t, b.SumsSHA256, pinned)
	return &b.Manifest
}

func open(t testing.TB, file string) *Archive {
	f, err := os.Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	a, err := Open(f, info.Size())
	require.NoError(t, err)
	return a
}

func TestAnArchiveOpensWithOrdinaryToolsAndItsSumsHold(t *testing.T) {
	dir, in := site(t)
	file := filepath.Join(dir, "r.zip")
	m := build(t, in, file)
	out, err := exec.Command("unzip", "-t", file).CombinedOutput()
	require.NoError(t, err, string(out))

	unpacked := filepath.Join(dir, "out")
	out, err = exec.Command("unzip", "-q", file, "-d", unpacked).CombinedOutput()
	require.NoError(t, err, string(out))
	sums := exec.Command("sha256sum", "--quiet", "--strict", "-c", SumsName)
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
	require.Equal(t, ManifestName, names[0])
	require.Equal(t, SumsName, names[len(names)-1])
}

func TestSecretsOfTheSettingsFileAreNowhereInTheArchive(t *testing.T) {
	dir, in := site(t)
	file := filepath.Join(dir, "r.zip")
	m := build(t, in, file)
	a := open(t, file)
	for name, f := range a.byName {
		if f.Mode().IsDir() {
			continue
		}
		r, err := a.File(name)
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NotContains(t, string(text), "pineapple", name)
	}
	require.Contains(t, m.Blanked, Blanked{"setting DB_PASSWORD", 1})
	require.Contains(t, fmt.Sprint(m.Notes), "notes.txt holds the source's DB_PASSWORD and was left out")
	require.Contains(t, fmt.Sprint(m.Notes), "evil is a link to /etc/passwd")
}

func TestTheSameInputGivesTheSameBytes(t *testing.T) {
	dir, in := site(t)
	build(t, in, filepath.Join(dir, "1.zip"))
	build(t, in, filepath.Join(dir, "2.zip"))
	one, err := os.ReadFile(filepath.Join(dir, "1.zip"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(one, two))
}

func TestVerifyNamesWhatIsDamaged(t *testing.T) {
	dir, in := site(t)
	file := filepath.Join(dir, "r.zip")
	build(t, in, file)
	v, err := open(t, file).Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)

	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	at := bytes.Index(raw, []byte("files/wp-content/uploads/big.jpg")) + 1<<20
	raw[at] ^= 1
	require.NoError(t, os.WriteFile(file, raw, 0o644))
	v, err = open(t, file).Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Len(t, v.Faults, 1)
	require.Equal(t, "files/wp-content/uploads/big.jpg", v.Faults[0].Entry)
	require.Contains(t, v.Usable, "the database is whole")
}

func TestContentsAddUp(t *testing.T) {
	dir, in := site(t)
	file := filepath.Join(dir, "r.zip")
	m := build(t, in, file)
	a := open(t, file)
	index, err := a.Index(in.Identity.Kind)
	require.NoError(t, err)
	c := NewContents(index, &a.Manifest)
	children, err := c.Children("wp-content/uploads", 10)
	require.NoError(t, err)
	require.Equal(t, m.Totals.Bytes, children.Bytes)
	require.Equal(t, m.Totals.Files+m.Totals.Links, children.Files)
	require.Equal(t, "wp-content/uploads/big.txt", children.Nodes[0].Path)
	require.Equal(t, "media", children.Nodes[0].Area)
	require.Less(t, children.Nodes[0].Packed, children.Nodes[0].Bytes/50)
	for _, p := range []string{"", "wp-content/", "/wp-content/uploads"} {
		largest, err := c.Largest(p, 2)
		require.NoError(t, err)
		require.Len(t, largest.Nodes, 2)
		require.Equal(t, "wp-content/uploads/big.jpg", largest.Nodes[1].Path)
	}
	found, err := c.Find("", "*.jpg", 10)
	require.NoError(t, err)
	require.Len(t, found.Nodes, 2)
	found, err = c.Find("wp-includes", "*.jpg", 10)
	require.NoError(t, err)
	require.Equal(t, []*Node{}, found.Nodes)
	_, err = c.Find("", "[", 10)
	require.ErrorIs(t, err, ErrPattern)
	alone, err := c.Children("wp-content/uploads/big.jpg", 10)
	require.NoError(t, err)
	require.Len(t, alone.Nodes, 1)
	_, err = c.Children("nope", 10)
	require.ErrorIs(t, err, ErrNoEntry)
	_, err = c.Map("nope", 2)
	require.ErrorIs(t, err, ErrNoEntry)
	_, err = NewContents(index[:len(index)-9], &a.Manifest).Children("", 10)
	require.ErrorIs(t, err, filelist.ErrDamaged)
}

func TestABuildThatIsCancelledEnds(t *testing.T) {
	_, in := site(t)
	ctx, cancel := context.WithCancel(context.Background())
	f, err := os.CreateTemp(t.TempDir(), "")
	require.NoError(t, err)
	defer f.Close()
	_, err = Build(ctx, &stopAfter{File: f, left: 2 << 20, stop: cancel}, in, progress.Discard)
	require.ErrorIs(t, err, context.Canceled)
}

func TestABuildOnAFullDiskFailsWithTheReason(t *testing.T) {
	_, in := site(t)
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	_, err = Build(context.Background(), full, in, progress.Discard)
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

func TestHostileNamesAndLinksAreRefused(t *testing.T) {
	for _, name := range []string{"", "/etc/passwd", `\x`, `C:\x`, "a/../b", "..", "a//b", "./a", "a\x00b", `..\x`, strings.Repeat("x", 256)} {
		require.Error(t, CheckName(name), "%q", name)
	}
	require.NoError(t, CheckName("files/wp-content/a..b/c"))
	require.True(t, linkStays("a/b", "../c"))
	for _, target := range []string{"/etc", "../../x", "", `..\..\x`} {
		require.False(t, linkStays("a/b", target), target)
	}
}

func FuzzOpen(f *testing.F) {
	dir, in := site(f)
	in.List.LeaveOut.Paths = append(in.List.LeaveOut.Paths, "wp-content/uploads/big.*")
	build(f, in, filepath.Join(dir, "r.zip"))
	raw, err := os.ReadFile(filepath.Join(dir, "r.zip"))
	require.NoError(f, err)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, b []byte) {
		a, err := Open(bytes.NewReader(b), int64(len(b)))
		if err == nil {
			_, _ = a.Verify(context.Background(), progress.Discard)
		}
	})
}
