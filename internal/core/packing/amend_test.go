package packing

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/kind"
)

const commented = `# What goes to new schools.
list: starter

leave-out:
  # The old site's films.
  paths:
    - "films/**"   # 4 GB
    - backup

  tables: [statistics, "log_*"]
# People
empty:
- comments
drop-rows:
  - table: posts
    column: post_type
    values: [revision, draft]
`

func amended(t require.TestingT, text string, edit Edit) string {
	l, err := Parse([]byte(text))
	require.NoError(t, err)
	require.Empty(t, edit.Apply(l))
	out, err := Amend(text, l)
	require.NoError(t, err)
	got, err := Parse([]byte(out))
	require.NoError(t, err, out)
	want, err := l.Text()
	require.NoError(t, err)
	have, err := got.Text()
	require.NoError(t, err)
	require.Equal(t, string(want), string(have), out)
	return out
}

func TestAnEditKeepsTheWordsThatPeopleWrote(t *testing.T) {
	edit := Edit{LeaveOut: []string{"**/*.bak"}, LeaveOutTables: []string{"searches"}, Empty: []string{"votes"}, BlankOptions: []string{"key"},
		DropRows: []kind.Rows{{Table: "posts", Column: "post_type", Values: []string{"trash"}}}, Suffixes: []string{"mp4"}}
	out := amended(t, commented, edit)
	for _, words := range []string{"# What goes to new schools.\nlist: starter\n\nleave-out:\n  # The old site's films.\n  paths:\n" +
		"    - \"films/**\"   # 4 GB\n    - backup\n", "\n# People\nempty:\n- comments\n- votes\n"} {
		require.Contains(t, out, words)
	}
	edit.TakeBack = true
	back := amended(t, out, edit)
	require.Contains(t, back, "    - \"films/**\"   # 4 GB\n    - backup\n")
	require.Contains(t, back, "# People\nempty:\n- comments\n")
	require.NotContains(t, back, "mp4")
}

func TestSeveralItemsAtTheEndOfAListAreTakenBack(t *testing.T) {
	out := amended(t, "list: a\nempty:\n- users\n- votes\n- words\n", Edit{Empty: []string{"votes", "words"}, TakeBack: true})
	require.Equal(t, "list: a\nempty:\n- users\n", out)
	out = amended(t, "empty:\n- users\n- votes\nlist: a\n", Edit{Empty: []string{"users", "votes"}, TakeBack: true})
	require.NotContains(t, out, "votes")
}

func TestAnEditIsKnownToBeInAList(t *testing.T) {
	list, err := Parse([]byte(commented))
	require.NoError(t, err)
	require.True(t, Edit{LeaveOut: []string{"backup"}, Empty: []string{"comments"}}.In(list))
	require.False(t, Edit{LeaveOut: []string{"backup"}, Empty: []string{"votes"}}.In(list))
	require.False(t, Edit{DropRows: []kind.Rows{{Table: "posts", Column: "post_type", Values: []string{"trash"}}}}.In(list))
}

// Whatever is added and taken back again, the text reads as the list, and what was there before keeps its comments.
func TestAnyEditOfAnyStockListReadsAsTheList(t *testing.T) {
	texts := []string{commented, "list: a\n", "list: a\nleave-out: {}\nempty:\n", "leave-out:\n    paths:\n    - a\nlist: b\n", "{list: a, empty: [b]}\n"}
	for _, name := range []string{"starter", "whole-site"} {
		l, _ := stock(t, name)
		text, err := l.Text()
		require.NoError(t, err)
		texts = append(texts, string(text))
	}
	words := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b c", "films/**", "x: y", "# no", "- z", "'q'", "*", "null", "12", "{a}", "\\*"}), 0, 3)
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SampledFrom(texts).Draw(t, "text")
		for range rapid.IntRange(1, 4).Draw(t, "edits") {
			text = amended(t, text, Edit{LeaveOut: []string{"p/" + rapid.StringMatching(`[a-z:#]{1,6}`).Draw(t, "path")},
				LeaveOutTables: words.Draw(t, "tables"), Empty: words.Draw(t, "empty"), BlankOptions: words.Draw(t, "options"),
				TakeBack: rapid.Bool().Draw(t, "back")})
		}
	})
}
