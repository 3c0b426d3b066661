package contents_test

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build/buildtest"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/filelist"
)

func TestContentsAddUp(t *testing.T) {
	dir, in := buildtest.Site(t)
	file := filepath.Join(dir, "r.zip")
	m := buildtest.Build(t, in, file)
	a := buildtest.Open(t, file)
	index, err := contents.Index(a, in.Identity.Kind)
	require.NoError(t, err)
	c := contents.New(index, &a.Manifest)
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
	require.Equal(t, []*contents.Node{}, found.Nodes)
	_, err = c.Find("", "[", 10)
	require.ErrorIs(t, err, contents.ErrPattern)
	alone, err := c.Children("wp-content/uploads/big.jpg", 10)
	require.NoError(t, err)
	require.Len(t, alone.Nodes, 1)
	_, err = c.Children("nope", 10)
	require.ErrorIs(t, err, archive.ErrNoEntry)
	_, err = c.Map("nope", 2)
	require.ErrorIs(t, err, archive.ErrNoEntry)
	_, err = contents.New(index[:len(index)-9], &a.Manifest).Children("", 10)
	require.ErrorIs(t, err, filelist.ErrDamaged)
}

// all returns every node of contents, once, by path.
func all(t *testing.T, c *contents.Contents) map[string]string {
	t.Helper()
	out := map[string]string{}
	_, err := c.Pass(func(n *contents.Node) {
		require.NotContains(t, out, n.Path)
		out[n.Path] = fmt.Sprint(n.Name, n.Folder, n.Bytes, n.Packed, n.Files, n.Area, n.Link, n.Modified)
	})
	require.NoError(t, err)
	return out
}

func TestTheIndexOfABuildIsThatOfItsArchive(t *testing.T) {
	dir, in := buildtest.Site(t)
	b := buildtest.Rebuild(t, in, filepath.Join(dir, "r.zip"))
	a := buildtest.Open(t, filepath.Join(dir, "r.zip"))
	index, err := contents.Index(a, in.Identity.Kind)
	require.NoError(t, err)
	require.Equal(t, all(t, contents.New(index, &a.Manifest)), all(t, contents.New(b.Index, &b.Manifest)))
}

func TestNamesThatSortAroundTheSlashFindTheirFolder(t *testing.T) {
	dir, in := buildtest.Site(t)
	for _, p := range []string{"x/a", "x-y/b", "x.y", "x/c/d", "x0"} {
		p = filepath.Join(dir, "base/wp-content/uploads", p)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte("1234567"), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "base/wp-content/uploads/nothing"), 0o755))
	b := buildtest.Rebuild(t, in, filepath.Join(dir, "r.zip"))
	c := contents.New(b.Index, &b.Manifest)
	nodes := all(t, c)
	require.Contains(t, nodes["wp-content/uploads/x"], "xtrue 14 14")
	require.Contains(t, nodes["wp-content/uploads/nothing"], "nothingtrue 0 0")
	require.NotContains(t, nodes["wp-content/uploads/x"], "1970", "a folder has the time of its entry")
	for words, want := range map[string]string{"X-Y": "wp-content/uploads/x-y", "Uploads/X.y": "wp-content/uploads/x.y", "never": ""} {
		found, err := c.Words("", words, 10)
		require.NoError(t, err)
		if want == "" {
			require.Empty(t, found.Nodes)
			continue
		}
		require.Equal(t, want, found.Nodes[0].Path)
	}
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
			entries = append(entries, filelist.Entry{Path: archive.FilesDir + p, Bytes: n, Packed: 1, Mode: 0o644, Area: "core"})
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
		m := &archive.Manifest{Tables: []archive.TableTotal{{Name: "posts", Rows: 3, Entries: 1}}}
		entries = append(entries, filelist.Entry{Path: archive.RowsName("posts", 0), Bytes: 5})
		filelist.Sort(entries)
		c := contents.New(filelist.Encode(entries), m)
		got := map[string]int64{}
		out, err := c.Pass(func(n *contents.Node) { got[n.Path] = n.Bytes })
		require.NoError(t, err)
		want["database"], want["database/posts"] = 5, 5
		require.Equal(t, want, got)
		require.Equal(t, total+5, out.Bytes)
		all, err := c.Map("", 8)
		require.NoError(t, err)
		require.Equal(t, total+5, all.Bytes)
		var check func(n *contents.MapNode)
		check = func(n *contents.MapNode) {
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
		entries = append(entries, filelist.Entry{Path: fmt.Sprintf("%ssheets/score-%03d.pdf", archive.FilesDir, i), Bytes: int64(i), Mode: 0o644,
			Area: "media"})
		total += int64(i)
	}
	c := contents.New(filelist.Encode(entries), &archive.Manifest{})
	m, err := c.Map("sheets", 1)
	require.NoError(t, err)
	require.Len(t, m.Children, contents.MapChildren+1)
	require.Equal(t, int64(499), m.Children[0].Bytes)
	others := m.Children[contents.MapChildren]
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

func BenchmarkContents(b *testing.B) {
	var in []filelist.Entry
	for i := range 203_000 {
		in = append(in, filelist.Entry{Path: fmt.Sprintf("files/wp-content/uploads/%03d/%02d/score-%06d.%s", i/1000, i/20%50, i,
			[]string{"jpg", "txt", "pdf"}[i%3]), Bytes: int64(i), Packed: 12, Modified: 1_790_000_000 + int64(i/1000), Mode: 0o644, Area: "media"})
	}
	filelist.Sort(in)
	packed := filelist.Encode(in)
	b.ReportMetric(float64(len(packed)), "packedbytes")
	b.ReportAllocs()
	for b.Loop() {
		if _, err := contents.New(packed, &archive.Manifest{}).Children("", 1000); err != nil {
			b.Fatal(err)
		}
	}
}
