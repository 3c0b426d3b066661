package provision

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/progress"
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
		table := archive.TableTotal{Name: "lad_posts", Entries: rapid.IntRange(1, 500).Draw(t, "entries"),
			Bytes: rapid.Int64Range(1, 20*unitBytes).Draw(t, "bytes")}
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
	feeder := func(values string) *rowFeeder {
		f := &rowFeeder{dialect: sqltext.MySQL, mk: &maker{rewriter: r, plan: &Plan{}, report: progress.Discard}, worker: r.Worker(),
			unit: rowsUnit{entries: []string{"db/rows/0001.sql"}},
			sc:   sqltext.NewScanner(strings.NewReader("INSERT INTO `t` (`a`,`b`) VALUES "+values+";\n"), 1<<20)}
		require.NoError(t, f.statement())
		f.begin([]string{"b"})
		return f
	}
	for _, value := range []string{"_binary", "_latin1 ", "NOW()", "@@version", "SLEEP(9)", "a"} {
		_, err := feeder("(1," + value + ")").next()
		require.ErrorIs(t, err, sqltext.ErrSyntax, value)
	}
	f := feeder("(_binary 'harp',''),(NULL,'it\\'s'),(0x4142,TRUE)")
	for _, want := range []string{`["harp" ""]`, `["" "it's"]`, `["AB" "1"]`} {
		row, err := f.next()
		require.NoError(t, err)
		require.Equal(t, want, fmt.Sprintf("%q", row))
		require.Equal(t, strings.HasPrefix(want, `["" "i`), row[0] == nil, "NULL and an empty text differ")
		require.NotNil(t, row[1])
	}
	_, err = f.next()
	require.Equal(t, io.EOF, err)
	sum := uint64(crc32.ChecksumIEEE([]byte("it's"))) + uint64(crc32.ChecksumIEEE([]byte("1")))
	require.Equal(t, []uint64{0, sum}, f.sums)
	_, err = feeder("(1,2,3)").next()
	require.ErrorIs(t, err, archive.ErrDamaged)
	f.sc = sqltext.NewScanner(strings.NewReader("INSERT INTO `t` (`a`) VALUES (1);"), 1<<20)
	_, err = f.next()
	require.ErrorIs(t, err, archive.ErrDamaged, "the columns change")
}

// told is a loader that says what it was prepared to say.
type told struct {
	sitedb.Loader
	sums  []uint64
	plain []uint64
	err   error
	asked []string
	wide  bool
}

func (l *told) Sums(_ context.Context, _ string, columns []string, wide bool) ([]uint64, error) {
	l.asked, l.wide = columns, wide
	return l.sums, l.err
}

func (l *told) PlainSums(context.Context, string, []sitedb.Column) ([]uint64, error) {
	return l.plain, l.err
}

func TestWhatWasSentIsComparedWithWhatIsThere(t *testing.T) {
	sent := func() *tableSums {
		s := &tableSums{table: archive.TableTotal{Name: "lad_posts", Rows: 3, UTF8Only: true}, release: "music-base@2",
			columns: []string{"post_title", "post_content", "filled_in_by_the_server"}, sums: map[string]uint64{}}
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
	require.ErrorContains(t, err, "those that release music-base@2 names")
	s := sent()
	s.rows.Store(2)
	require.ErrorContains(t, s.verify(t.Context(), l, "av_posts"),
		"took 2 rows of 3; the archive may be damaged: verify release music-base@2")
	l.err = errors.New("the server has gone away")
	require.ErrorIs(t, sent().verify(t.Context(), l, "av_posts"), l.err)
	l.err, l.sums, l.plain = nil, []uint64{11, 22}, []uint64{7}
	s = sent()
	s.plain = []sitedb.Column{{Name: "ID", Type: "bigint"}, {Name: "not_sent", Type: "int"}, {Name: "post_title", Type: "text"}}
	s.table.Sums = map[string]uint64{"ID": 7, "not_sent": 1}
	require.NoError(t, s.verify(t.Context(), l, "av_posts"))
	s.table.Sums["ID"] = 8
	require.ErrorContains(t, s.verify(t.Context(), l, "av_posts"), "column ID of table lad_posts does not hold")
	numbers := &tableSums{table: archive.TableTotal{Name: "lad_numbers"}, sums: map[string]uint64{}}
	require.NoError(t, numbers.verify(t.Context(), nil, "av_numbers"), "a table without texts has only its count")
}

// Text of any length is rewritten, and its marks are filled in; what is serialised and too long to be mended stays.
func TestVeryLongTextsAreRewrittenToo(t *testing.T) {
	r, err := rewrite.New(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "https://alder-valley.example"}}})
	require.NoError(t, err)
	mk := &maker{rewriter: r, tokens: []token{{field: "founded", text: []byte("%FOUNDED%"), value: "1998", files: []string{"**"}}},
		result: &Result{}}
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
	w := &placer{Worker: r.Worker()}
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

func TestALinkIsWrittenFromWhereItStands(t *testing.T) {
	for _, c := range [][3]string{
		{"alder-valley", ".installs/schools/base-1/index.php", "../.installs/schools/base-1/index.php"},
		{"alder-valley/wp-content/plugins", ".installs/s/wp-content/plugins/forms", "../../../.installs/s/wp-content/plugins/forms"},
		{".installs/s/base-1/tenants", "alder-valley", "../../../../alder-valley"},
		{"www/alder/public", "www/.installs/s", "../../.installs/s"},
		{".", "a/b", "a/b"},
	} {
		require.Equal(t, c[2], away(c[0], c[1]), "%v", c)
	}
}
