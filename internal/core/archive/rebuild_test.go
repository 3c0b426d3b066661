package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
)

func buildBefore(t testing.TB, in Input, to string) *Built {
	f, err := os.Create(to)
	require.NoError(t, err)
	defer f.Close()
	b, err := Build(context.Background(), f, in, progress.Discard)
	require.NoError(t, err)
	return b
}

// later is when the release before was built: well after the files of the site were made, change times included.
func later() time.Time { return time.Now().Add(time.Hour).Truncate(time.Second).UTC() }

func TestARebuildCopiesWhatDidNotChangeAndGivesTheSameBytes(t *testing.T) {
	dir, in := site(t)
	in.Manifest.Made = later()
	build(t, in, filepath.Join(dir, "1.zip"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "base/wp-load.php"), []byte("<?php // new"), 0o755))
	again, whole := in, in
	again.Before = open(t, filepath.Join(dir, "1.zip"))
	for _, x := range []*Input{&again, &whole} {
		x.Manifest.Number, x.Manifest.Made = 2, later().Add(time.Hour).Truncate(time.Hour)
	}
	b := buildBefore(t, again, filepath.Join(dir, "2.zip"))
	buildBefore(t, whole, filepath.Join(dir, "3.zip"))
	require.Equal(t, b.Manifest.Totals.Files-2, b.Copied.Files, "all but the settings file and the changed one")
	two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
	require.NoError(t, err)
	three, err := os.ReadFile(filepath.Join(dir, "3.zip"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(two, three), "copying must not show in the archive")
	v, err := open(t, filepath.Join(dir, "2.zip")).Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
}

func TestAFileWhoseTimeWasSetBackIsReadAgain(t *testing.T) {
	dir, in := site(t)
	time.Sleep(1200 * time.Millisecond) // releases are dated by the second
	in.Manifest.Made = time.Now().Truncate(time.Second)
	build(t, in, filepath.Join(dir, "1.zip"))
	p := filepath.Join(dir, "base/wp-load.php")
	require.NoError(t, os.WriteFile(p, []byte("<?PHP"), 0o755))
	require.NoError(t, os.Chtimes(p, time.Unix(1700000000, 0), time.Unix(1700000000, 0)))
	in.Before = open(t, filepath.Join(dir, "1.zip"))
	b := buildBefore(t, in, filepath.Join(dir, "2.zip"))
	require.Equal(t, b.Manifest.Totals.Files-2, b.Copied.Files)
	r, err := open(t, filepath.Join(dir, "2.zip")).File("files/wp-load.php")
	require.NoError(t, err)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	require.Equal(t, "<?PHP", string(text))
}

// busy is a site on which files change while they are read: a file grows when it has been read to its end,
// so many times.
type busy struct {
	hostfs.FS
	file  string
	left  int
	grown func()
}

func (b *busy) Sub(name string) (hostfs.FS, error) {
	sub, err := b.FS.Sub(name)
	b.FS = sub
	return b, err
}

func (b *busy) Open(name string) (io.ReadCloser, error) {
	f, err := b.FS.Open(name)
	if err != nil || !strings.HasSuffix(name, b.file) {
		return f, err
	}
	return &busyFile{f.(*os.File), b}, nil
}

type busyFile struct {
	*os.File
	b *busy
}

func (f *busyFile) Read(p []byte) (int, error) {
	n, err := f.File.Read(p)
	if err == io.EOF && f.b.left > 0 {
		f.b.left--
		f.b.grown()
	}
	return n, err
}

func TestFilesThatChangeWhileTheyAreReadAreReadAgain(t *testing.T) {
	for _, name := range []string{"wp-content/uploads/ünïcode näme.txt", "wp-content/uploads/big.jpg"} {
		for times, note := range map[int]string{1: "it was read again", 100: "changed each time"} {
			t.Run(fmt.Sprint(filepath.Base(name), times), func(t *testing.T) {
				dir, in := site(t)
				p := filepath.Join(dir, "base", name)
				grow := func() {
					f, err := os.OpenFile(p, os.O_APPEND|os.O_WRONLY, 0)
					require.NoError(t, err)
					defer f.Close()
					_, err = f.Write([]byte("more"))
					require.NoError(t, err)
				}
				in.FS = &busy{FS: in.FS, file: filepath.Base(name), left: times, grown: grow}
				b := buildBefore(t, in, filepath.Join(dir, "1.zip"))
				require.Contains(t, fmt.Sprint(b.Manifest.Notes), note)
				a := open(t, filepath.Join(dir, "1.zip"))
				v, err := a.Verify(context.Background(), progress.Discard)
				require.NoError(t, err)
				require.Empty(t, v.Faults)
				if times == 1 {
					now, err := os.ReadFile(p)
					require.NoError(t, err)
					r, err := a.File("files/" + name)
					require.NoError(t, err)
					packed, err := io.ReadAll(r)
					require.NoError(t, err)
					require.True(t, bytes.Equal(now, packed))
				}
				out, err := exec.Command("unzip", "-tq", filepath.Join(dir, "1.zip")).CombinedOutput()
				require.NoError(t, err, string(out))
			})
		}
	}
}

func TestEntriesThatAreTakenBackLeaveNoTrace(t *testing.T) {
	for _, size := range []int{10, bufferBytes - 1, 3 * bufferBytes} {
		f, err := os.Create(filepath.Join(t.TempDir(), "x.zip"))
		require.NoError(t, err)
		z := &zipFile{out: f}
		write := func(name string, n int) {
			h := header(name, 0o644, time.Unix(1700000000, 0))
			body := make([]byte, n)
			rand.New(rand.NewSource(int64(n))).Read(body)
			h.CRC32, h.UncompressedSize64, h.CompressedSize64 = crc32.ChecksumIEEE(body), uint64(n), uint64(n)
			require.NoError(t, z.begin(h, n%2 == 1))
			_, err := z.Write(body)
			require.NoError(t, err)
			require.NoError(t, z.end())
		}
		write("first", 5)
		write("gone", size)
		z.rollBack()
		write("second", size+1)
		write("gone too", 2*size)
		z.rollBack()
		n, err := z.finish()
		require.NoError(t, err)
		require.NoError(t, f.Truncate(n))
		r, err := zip.NewReader(f, n)
		require.NoError(t, err)
		require.Len(t, r.File, 2)
		for _, e := range r.File {
			_, err := readAll(e, 1<<30)
			require.NoError(t, err, e.Name)
		}
		out, err := exec.Command("unzip", "-tq", f.Name()).CombinedOutput()
		require.NoError(t, err, string(out))
		f.Close()
	}
}

func TestAFullDiskAnywhereFailsWithTheReasonAndHangsNowhere(t *testing.T) {
	dir, in := site(t)
	file := filepath.Join(dir, "r.zip")
	build(t, in, file)
	info, err := os.Stat(file)
	require.NoError(t, err)
	for _, room := range []int64{0, 1000, info.Size() / 3, info.Size() - 100} {
		f, err := os.CreateTemp(t.TempDir(), "")
		require.NoError(t, err)
		_, err = Build(context.Background(), &small{f, room}, in, progress.Discard)
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

// all returns every node of contents, once, by path.
func all(t *testing.T, c *Contents) map[string]string {
	t.Helper()
	out := map[string]string{}
	_, err := c.pass(func(n *Node) {
		require.NotContains(t, out, n.Path)
		out[n.Path] = fmt.Sprint(n.Name, n.Folder, n.Bytes, n.Packed, n.Files, n.Area, n.Link, n.Modified)
	})
	require.NoError(t, err)
	return out
}

func TestTheIndexOfABuildIsThatOfItsArchive(t *testing.T) {
	dir, in := site(t)
	b := buildBefore(t, in, filepath.Join(dir, "r.zip"))
	a := open(t, filepath.Join(dir, "r.zip"))
	index, err := a.Index(in.Identity.Kind)
	require.NoError(t, err)
	require.Equal(t, all(t, NewContents(index, &a.Manifest)), all(t, NewContents(b.Index, &b.Manifest)))
}

func TestNamesThatSortAroundTheSlashFindTheirFolder(t *testing.T) {
	dir, in := site(t)
	for _, p := range []string{"x/a", "x-y/b", "x.y", "x/c/d", "x0"} {
		p = filepath.Join(dir, "base/wp-content/uploads", p)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte("1234567"), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "base/wp-content/uploads/nothing"), 0o755))
	b := buildBefore(t, in, filepath.Join(dir, "r.zip"))
	c := NewContents(b.Index, &b.Manifest)
	nodes := all(t, c)
	require.Contains(t, nodes["wp-content/uploads/x"], "xtrue 14 14")
	require.Contains(t, nodes["wp-content/uploads/nothing"], "nothingtrue 0 0")
	require.NotContains(t, nodes["wp-content/uploads/x"], "1970", "a folder has the time of its entry")
	inside, err := c.Children("wp-content/uploads/x", 100)
	require.NoError(t, err)
	require.Len(t, inside.Nodes, 2)
	require.Equal(t, int64(1), inside.Nodes[0].Files)
}

// However a tree looks, every folder has the sums of what is below it, and its map too.
func TestFoldersHaveTheSumsOfWhatIsBelowThem(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sizes, entries := map[string]int64{}, []filelist.Entry{}
		for _, p := range rapid.SliceOfNDistinct(rapid.StringMatching(`([ab-][b.-]?/){0,3}[c-]{1,2}x`), 0, 30, rapid.ID).Draw(t, "paths") {
			n := rapid.Int64Range(0, 1000).Draw(t, "bytes")
			sizes[p] = n
			entries = append(entries, filelist.Entry{Path: FilesDir + p, Bytes: n, Packed: 1, Mode: 0o644, Area: "core"})
		}
		filelist.Sort(entries)
		want := map[string]int64{}
		var total int64
		for p, n := range sizes {
			total += n
			for at := p; at != "."; at = path.Dir(at) {
				want[at] += n
			}
		}
		m := &Manifest{Tables: []TableTotal{{Name: "posts", Rows: 3, Entries: 1}}}
		entries = append(entries, filelist.Entry{Path: rowsName("posts", 0), Bytes: 5})
		filelist.Sort(entries)
		c := NewContents(filelist.Encode(entries), m)
		got := map[string]int64{}
		out, err := c.pass(func(n *Node) { got[n.Path] = n.Bytes })
		require.NoError(t, err)
		want["database"], want["database/posts"] = 5, 5
		require.Equal(t, want, got)
		require.Equal(t, total+5, out.Bytes)
		all, err := c.Map("", 8)
		require.NoError(t, err)
		require.Equal(t, total+5, all.Bytes)
		var check func(n *MapNode)
		check = func(n *MapNode) {
			var sum int64
			for _, c := range n.Children {
				sum += c.Bytes
				check(c)
			}
			if len(n.Children) > 0 {
				require.Equal(t, n.Bytes, sum, n.Path)
			}
		}
		check(all)
	})
}

// What is beyond the largest is one node of a size map.
func TestASizeMapHasTheLargestAndTheOthers(t *testing.T) {
	var entries []filelist.Entry
	var total int64
	for i := range 500 {
		entries = append(entries, filelist.Entry{Path: fmt.Sprintf("%ssheets/score-%03d.pdf", FilesDir, i), Bytes: int64(i), Mode: 0o644, Area: "media"})
		total += int64(i)
	}
	c := NewContents(filelist.Encode(entries), &Manifest{})
	m, err := c.Map("sheets", 1)
	require.NoError(t, err)
	require.Len(t, m.Children, mapChildren+1)
	require.Equal(t, int64(499), m.Children[0].Bytes)
	others := m.Children[mapChildren]
	require.Equal(t, []string{"others", "", "media"}, []string{others.Name, others.Path, others.Area})
	var kept int64
	for _, n := range m.Children {
		kept += n.Bytes
	}
	require.Equal(t, total, kept)
	first, err := c.Children("sheets", 7)
	require.NoError(t, err)
	require.Len(t, first.Nodes, 7)
	require.Equal(t, "sheets/score-499.pdf", first.Nodes[0].Path)
}

// flaky is a site whose files, or whose database, go away in the middle.
type flaky struct {
	hostfs.FS
	gone string
}

func (f *flaky) Sub(name string) (hostfs.FS, error) {
	sub, err := f.FS.Sub(name)
	return &flaky{sub, f.gone}, err
}

func (f *flaky) Open(name string) (io.ReadCloser, error) {
	if strings.HasSuffix(name, f.gone) {
		return nil, &os.PathError{Op: "open", Path: name, Err: os.ErrNotExist}
	}
	return f.FS.Open(name)
}

func TestFilesThatVanishAreNotedAndTheRestIsWhole(t *testing.T) {
	for _, gone := range []string{"uploads/empty", "uploads/big.jpg", "uploads/big.txt"} {
		dir, in := site(t)
		in.FS = &flaky{in.FS, gone}
		b := buildBefore(t, in, filepath.Join(dir, "1.zip"))
		require.Contains(t, fmt.Sprint(b.Manifest.Notes), gone+" vanished")
		v, err := open(t, filepath.Join(dir, "1.zip")).Verify(context.Background(), progress.Discard)
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
		dir, in := site(t)
		in = withRows(t, in, rowsBefore)
		in.DB = &cutDB{in.DB, after}
		f, err := os.Create(filepath.Join(dir, "1.zip"))
		require.NoError(t, err)
		_, err = Build(context.Background(), f, in, progress.Discard)
		require.ErrorContains(t, err, "no database server answers")
		f.Close()
	}
}
