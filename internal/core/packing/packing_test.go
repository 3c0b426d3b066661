package packing

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
)

func stock(t *testing.T, name string) (*List, *kind.Kind) {
	kinds, err := kind.Stock()
	require.NoError(t, err)
	list, err := Parse([]byte(kinds[0].Lists[name]))
	require.NoError(t, err)
	return list, kinds[0]
}

func TestStockListsLeaveOutCachesAndKeepContent(t *testing.T) {
	for _, name := range []string{"starter", "whole-site"} {
		list, k := stock(t, name)
		m, err := list.Compile(k, "lad_")
		require.NoError(t, err)
		for p, want := range map[string]bool{
			"wp-content/cache/a/b.html": true, "wp-content/cache": true, "wp-content/uploads/a.jpg": false, "wp-config.php": false,
			"wp-content/plugins/x/.git/config": name == "starter", "wp-config.php.bak": name == "starter", "a/b/debug.log": name == "starter",
		} {
			_, out := m.LeavesOut(p, 1)
			require.Equal(t, want, out, "%s: %s", name, p)
		}
		_, out := m.LeavesOutTable("other_posts")
		require.True(t, out)
	}
}

func TestRowsAreDroppedAndBlanked(t *testing.T) {
	list, k := stock(t, "starter")
	m, err := list.Compile(k, "lad_")
	require.NoError(t, err)
	require.True(t, m.Empties("lad_users"))

	options := &sitedb.Table{Name: "lad_options", Columns: []sitedb.Column{{Name: "option_id"}, {Name: "option_name"}, {Name: "option_value"}}}
	e := m.Editor(options)
	row := func(name, value string) [][]byte { return [][]byte{[]byte("1"), []byte(name), []byte(value)} }
	require.False(t, e.Edit(row("_transient_feed", "x")))
	require.False(t, e.Edit(row("auth_salt", "x")))
	mailRow := row("admin_email", "ines@loomandladder.example")
	require.True(t, e.Edit(mailRow))
	require.Equal(t, "", string(mailRow[2]))
	require.Equal(t, int64(1), e.Blanked["option admin_email"])

	posts := &sitedb.Table{Name: "lad_posts", Columns: []sitedb.Column{{Name: "post_password"}, {Name: "post_status"}, {Name: "comment_count"}}}
	post := [][]byte{[]byte("hush"), []byte("publish"), []byte("0")}
	require.True(t, m.Editor(posts).Edit(post))
	require.Equal(t, []string{"", "private"}, []string{string(post[0]), string(post[1])})
	require.Nil(t, m.Editor(&sitedb.Table{Name: "lad_terms", Columns: []sitedb.Column{{Name: "name"}}}))
}

func TestEditingAListKeepsItValid(t *testing.T) {
	list, k := stock(t, "starter")
	list.Leave("wp-content/uploads/backup", "wp-content/uploads/backup")
	require.Equal(t, []string{"nope"}, list.PutBack("nope", "**/*.log"))
	text, err := list.Text()
	require.NoError(t, err)
	again, err := Parse(text)
	require.NoError(t, err)
	require.Equal(t, list, again)
	m, err := again.Compile(k, "")
	require.NoError(t, err)
	rule, out := m.LeavesOut("wp-content/uploads/backup/old.zip", 1)
	require.True(t, out)
	require.Equal(t, "wp-content/uploads/backup/**", rule)

	problems := m.Check(func(yield func(string, int64) bool) { yield("wp-content/uploads/backup/old.zip", 1) }, []string{"users"})
	require.NotContains(t, problems, Problem{"leave-out: wp-content/uploads/backup", "matches nothing in the source"})
	require.Contains(t, problems, Problem{"table comments", "is not in the source's database"})
}

func TestBadListsAreRefusedWithTheReason(t *testing.T) {
	for text, why := range map[string]string{
		"nonsense: 1":                                         "unknown field",
		"only: pictures":                                      "only",
		"leave-out: {paths: ['/etc']}":                        "relative to the web root",
		"leave-out: {paths: ['a[']}":                          "not a pattern",
		"fields: [{key: a, to: []}]":                          "at least one place",
		"fields: [{key: a, pattern: '(', to: [{option: x}]}]": "pattern",
		"fields: [{key: a, to: [{}]}]":                        "an option or a setting",
	} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, why, text)
	}
}

func TestFieldsJudgeTheirValues(t *testing.T) {
	f := Field{Key: "m", Required: true, Pattern: "M-[0-9A-Z]{6}", Example: "M-7K2P4D"}
	require.ErrorIs(t, f.Check(""), ErrMissing)
	require.ErrorContains(t, f.Check("M-1"), "M-7K2P4D")
	require.NoError(t, f.Check("M-7K2P4D"))
	require.Error(t, (&Field{Type: "email"}).Check("office"))
	require.Error(t, (&Field{Type: "number"}).Check("ten"))
	require.Error(t, (&Field{Type: "choice", Choices: []string{"a"}}).Check("b"))
}
