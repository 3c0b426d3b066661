package provision

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// A table is cut into runs of entries that are about as long as one another, in order, and none is lost.
func TestTablesAreLoadedInRunsOfEntries(t *testing.T) {
	a := &archive.Archive{}
	require.Empty(t, unitsOf(a, archive.TableTotal{Name: "lad_links"}), "a table without rows")
	require.Len(t, unitsOf(a, archive.TableTotal{Name: "lad_posts", Entries: 90, Bytes: unitBytes}), 1)
	rapid.Check(t, func(t *rapid.T) {
		table := archive.TableTotal{Name: "lad_posts", Entries: rapid.IntRange(1, 500).Draw(t, "entries"), Bytes: rapid.Int64Range(1, 20*unitBytes).Draw(t, "bytes")}
		var all []string
		units := unitsOf(a, table)
		for _, u := range units {
			require.Equal(t, table, u.table)
			require.NotEmpty(t, u.entries)
			require.LessOrEqual(t, len(u.entries), len(units[0].entries))
			all = append(all, u.entries...)
		}
		require.Equal(t, a.Rows(table), all)
		require.LessOrEqual(t, int64(len(units)), table.Bytes/unitBytes+1)
	})
}

// An archive may have been changed by anyone: what is no value ends the loading with a sentence, and is never run.
func TestRowsThatHoldNoValuesAreRefused(t *testing.T) {
	r, err := rewrite.New(rewrite.Rules{})
	require.NoError(t, err)
	for _, summed := range []bool{true, false} {
		for _, row := range []string{"_binary", "_latin1 ", "NOW()", "@@version", "SLEEP(9)", "a"} {
			f := &rowFeeder{mk: &maker{rewriter: r}, worker: r.Worker(), out: bufio.NewWriter(io.Discard), summed: []bool{summed}, sums: []uint64{0}}
			require.ErrorIs(t, f.row([]sqltext.Literal{sqltext.Literal(row)}), sqltext.ErrSyntax, row)
		}
		f := &rowFeeder{mk: &maker{rewriter: r}, worker: r.Worker(), out: bufio.NewWriter(io.Discard), summed: []bool{summed}, sums: []uint64{0}}
		require.NoError(t, f.row([]sqltext.Literal{sqltext.Literal("_binary 'harp'")}))
	}
}

// told is a loader that says what it was prepared to say.
type told struct {
	sitedb.Loader
	sums  []uint64
	err   error
	asked []string
	wide  bool
}

func (l *told) Sums(_ context.Context, _ string, columns []string, wide bool) ([]uint64, error) {
	l.asked, l.wide = columns, wide
	return l.sums, l.err
}

func TestWhatWasSentIsComparedWithWhatIsThere(t *testing.T) {
	sent := func() *tableSums {
		s := &tableSums{table: archive.TableTotal{Name: "lad_posts", Rows: 3, Wide: true}, release: "music-base@2", columns: []string{"post_title", "post_content", "filled_in_by_the_server"}, sums: map[string]uint64{}}
		s.rows.Store(3)
		s.add([]string{"ID", "post_title", "post_content"}, []uint64{0, 10, 20})
		s.add([]string{"ID", "post_title", "post_content"}, []uint64{0, 1, 2})
		return s
	}
	l := &told{sums: []uint64{11, 22}}
	require.NoError(t, sent().verify(t.Context(), l, "av_posts"))
	require.Equal(t, []string{"post_title", "post_content"}, l.asked, "columns that were not sent have what the server fills in")
	require.True(t, l.wide)

	l.sums = []uint64{11, 23}
	err := sent().verify(t.Context(), l, "av_posts")
	require.ErrorContains(t, err, "column post_content of table lad_posts does not hold what was loaded into it")
	require.ErrorContains(t, err, "nestseed release show music-base@2")
	s := sent()
	s.rows.Store(2)
	require.ErrorContains(t, s.verify(t.Context(), l, "av_posts"), "took 2 rows of 3; the archive may be damaged: run nestseed release verify music-base@2")
	l.err = errors.New("the server has gone away")
	require.ErrorIs(t, sent().verify(t.Context(), l, "av_posts"), l.err)
	numbers := &tableSums{table: archive.TableTotal{Name: "lad_numbers"}, sums: map[string]uint64{}}
	require.NoError(t, numbers.verify(t.Context(), nil, "av_numbers"), "a table without texts has only its count")
}

// Text of any length is rewritten, and its marks are filled in; what is serialised and too long to be mended stays.
func TestVeryLongTextsAreRewrittenToo(t *testing.T) {
	r, err := rewrite.New(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "https://alder-valley.example"}}})
	require.NoError(t, err)
	mk := &maker{rewriter: r, tokens: []token{{field: "founded", text: []byte("%FOUNDED%"), value: "1998", files: []string{"**"}}}, result: &Result{}}
	line := "{\"page\":\"http:\\/\\/base.localhost\\/lessons\",\"since\":\"%FOUNDED%\"}\n"
	long := strings.Repeat(line, (textBytes+1<<20)/len(line))
	serialised := string(phpval.AppendString(nil, long))
	var archived bytes.Buffer
	z := zip.NewWriter(&archived)
	for name, text := range map[string]string{"files/catalogue.json": long, "files/cache.txt": serialised} {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	in, err := zip.NewReader(bytes.NewReader(archived.Bytes()), int64(archived.Len()))
	require.NoError(t, err)
	w := r.Worker()
	for _, f := range in.File {
		from, err := f.Open()
		require.NoError(t, err)
		var out strings.Builder
		require.NoError(t, mk.fill(&out, from, f, w))
		want := serialised
		if f.Name == "files/catalogue.json" {
			want = strings.ReplaceAll(strings.ReplaceAll(long, `http:\/\/base.localhost`, `https:\/\/alder-valley.example`), "%FOUNDED%", "1998")
		}
		require.True(t, want == out.String(), f.Name)
	}
	n := int64(strings.Count(long, "%FOUNDED%"))
	require.Equal(t, n, w.Tally().Forms["escaped slashes"])
	require.Equal(t, n, mk.result.Tokens["founded"])
}
