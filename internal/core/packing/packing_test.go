package packing

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/sitedb"
)

func stock(t *testing.T, name string) (*List, *kind.Kind) {
	list, err := Parse([]byte(kindtest.Named(t, "wordpress").Lists[name]))
	require.NoError(t, err)
	return list, kindtest.Named(t, "wordpress")
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
	e := m.Editor(options, nil)
	row := func(name, value string) [][]byte { return [][]byte{[]byte("1"), []byte(name), []byte(value)} }
	require.False(t, e.Edit(row("_transient_feed", "x")))
	require.False(t, e.Edit(row("auth_salt", "x")))
	mailRow := row("admin_email", "ines@loomandladder.example")
	require.True(t, e.Edit(mailRow))
	require.Equal(t, "", string(mailRow[2]))
	require.Equal(t, int64(1), e.Blanked["option admin_email"])

	posts := &sitedb.Table{Name: "lad_posts", Columns: []sitedb.Column{{Name: "post_password"}, {Name: "post_status"},
		{Name: "comment_count"}}}
	post := [][]byte{[]byte("hush"), []byte("publish"), []byte("0")}
	require.True(t, m.Editor(posts, nil).Edit(post))
	require.Equal(t, []string{"", "private"}, []string{string(post[0]), string(post[1])})
	require.Nil(t, m.Editor(&sitedb.Table{Name: "lad_terms", Columns: []sitedb.Column{{Name: "name"}}}, nil))
}

func TestEditingAListKeepsItValid(t *testing.T) {
	list, k := stock(t, "starter")
	edit := Edit{LeaveOut: []string{"wp-content/uploads/backup", "wp-content/uploads/backup"}, PutBack: []string{"nope", "**/*.log"},
		Empty:          []string{"users", "links"},
		LeaveOutTables: []string{"*_sessions"}, Suffixes: []string{"mp4"}, BlankOptions: []string{"licence"}, BlankValues: []Inside{{"school",
			[]string{"api", "token"}}},
		DropRows: []kind.Rows{{Table: "posts", Column: "post_type", Values: []string{"revision", "draft"}}}}
	require.Equal(t, []string{"nope"}, edit.Apply(list))
	require.Empty(t, Edit{LeaveOut: []string{"wp-content/uploads/backup"},
		BlankValues: []Inside{{"school", []string{"api", "token"}}}}.Apply(list))
	require.Len(t, list.Blank.Values, 1)
	text, err := list.Text()
	require.NoError(t, err)
	again, err := Parse(text)
	require.NoError(t, err)
	require.Equal(t, list, again)
	m, err := again.Compile(k, "")
	require.NoError(t, err)
	rule, out := m.LeavesOut("wp-content/uploads/backup/old.zip", 1)
	require.True(t, out)
	require.Equal(t, "wp-content/uploads/backup", rule)
	rule, out = m.LeavesOut("wp-content/uploads/choir.MP4", 1)
	require.True(t, out)
	require.Equal(t, "suffix mp4", rule)
	_, out = m.LeavesOutTable("shop_sessions")
	require.True(t, out)

	problems := m.Check(func(yield func(string, int64) bool) { yield("wp-content/uploads/backup/old.zip", 1) }, []string{"users"}, nil)
	require.NotContains(t, problems, Problem{"leave-out: wp-content/uploads/backup", "matches nothing in the source"})
	require.Contains(t, problems, Problem{"leave-out: suffix mp4", "matches nothing in the source"})
	require.Contains(t, problems, Problem{"table comments", "is not in the source's database"})
}

func TestPatternsAreMatchedAsTheGlobLibraryMatchesThem(t *testing.T) {
	patterns := []string{"a/b", "a/c/**", "**/.git/**", "**/*.log", "**/error_log", "wp-config.php?*", "x/*/y.txt", "{p,q}/z", "**/n-*"}
	parts := []string{"a", "b", "c", ".git", "x.log", "error_log", "wp-config.php.bak", "x", "y.txt", "p", "z", "n-1", ".log"}
	l := &List{LeaveOut: LeaveOut{Paths: patterns}}
	m, err := l.Compile(&kind.Kind{}, "")
	require.NoError(t, err)
	sweep := m.Sweep()
	rapid.Check(t, func(t *rapid.T) {
		p := strings.Join(rapid.SliceOfN(rapid.SampledFrom(parts), 1, 5).Draw(t, "path"), "/")
		want := slices.ContainsFunc(patterns, func(g string) bool {
			return doublestar.MatchUnvalidated(g, p) || !strings.ContainsAny(g, wildcards) && strings.HasPrefix(p, g+"/")
		})
		_, got := m.LeavesOut(p, 1)
		_, swept := sweep(p, 1)
		require.Equal(t, want, got, p)
		require.Equal(t, want, swept, p)
	})
}

func table(name string, columns ...string) sitedb.Table {
	t := sitedb.Table{Name: "lad_" + name}
	for _, c := range columns {
		t.Columns = append(t.Columns, sitedb.Column{Name: c})
	}
	return t
}

func cells(values ...string) [][]byte {
	row := make([][]byte, len(values))
	for i, v := range values {
		row[i] = []byte(v)
	}
	return row
}

// pass does a scan over rows that have exactly the scan's columns, as a build does.
func pass(s *Scan, rows ...[][]byte) {
	for again := true; again; {
		again = false
		for _, r := range rows {
			again = s.Row(r) && s.Again || again
		}
	}
}

func TestDroppingRowsDropsWhatBelongsToThem(t *testing.T) {
	_, k := stock(t, "starter")
	l := &List{KeepRows: []kind.Rows{{Table: "posts", Column: "post_type", Values: []string{"page", "attach*"}}}}
	m, err := l.Compile(k, "lad_")
	require.NoError(t, err)
	tables := []sitedb.Table{table("comments", "comment_ID", "comment_post_ID", "comment_parent"),
		table("commentmeta", "meta_id", "comment_id"),
		table("posts", "ID", "post_title", "post_parent", "post_type"), table("postmeta", "meta_id", "post_id"), table("term_relationships",
			"object_id", "term_taxonomy_id")}
	dropped := Dropped{}
	scans := m.Scans(tables, dropped)
	require.Len(t, scans, 2)
	require.Equal(t, []string{"ID", "post_parent", "post_type"}, scans[0].Columns)
	require.True(t, scans[0].Again)
	// 3 is a post; 2, an attachment of it, comes before it, as numbers need not follow the tree.
	pass(scans[0], cells("1", "0", "page"), cells("2", "3", "attachment"), cells("3", "0", "post"), cells("4", "1", "attachment"))
	require.Equal(t, "comments", scans[1].Table)
	pass(scans[1], cells("10", "3", "0"), cells("11", "1", "0"), cells("12", "1", "10"))

	drops := func(i int, row [][]byte) bool { return !m.Editor(&tables[i], dropped).Edit(row) }
	require.False(t, drops(2, cells("1", "t", "0", "page")))
	require.True(t, drops(2, cells("2", "t", "3", "attachment")))
	require.True(t, drops(3, cells("1", "2")))
	require.False(t, drops(3, cells("1", "4")))
	require.True(t, drops(0, cells("10", "3", "0")))
	require.True(t, drops(0, cells("12", "1", "10")))
	require.True(t, drops(1, cells("1", "12")))
	require.False(t, drops(1, cells("1", "11")))
	require.True(t, drops(4, cells("3", "1")))
}

func TestWithoutRulesForRowsNothingIsScanned(t *testing.T) {
	_, k := stock(t, "starter")
	m, err := (&List{DropRows: []kind.Rows{{Table: "options", Column: "option_name", Values: []string{"x"}}}}).Compile(k, "lad_")
	require.NoError(t, err)
	require.Empty(t, m.Scans([]sitedb.Table{table("posts", "ID"), table("options", "option_name")}, Dropped{}))
}

func TestKeysHoldNumbersAndTexts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		set, want := NewKeys(), map[string]bool{}
		for _, k := range rapid.SliceOf(rapid.OneOf(rapid.StringMatching(`[0-9]{1,20}`), rapid.StringMatching(`[a-f-]{0,4}`))).Draw(t, "keys") {
			require.Equal(t, !want[k], set.Add([]byte(k)))
			want[k] = true
		}
		for k := range want {
			require.True(t, set.Has([]byte(k)))
		}
		require.False(t, set.Has([]byte("absent")))
		require.False(t, set.Has(nil))
		require.Equal(t, int64(len(want)), set.Len())
	})
}

func TestValuesInsideOptionsAreBlanked(t *testing.T) {
	_, k := stock(t, "starter")
	l := &List{Blank: Blank{Values: []Inside{{"school", []string{"api", "token"}}, {"tracking", []string{"id"}},
		{"tracking", []string{"gone"}}}}}
	m, err := l.Compile(k, "lad_")
	require.NoError(t, err)
	options := table("options", "option_id", "option_name", "option_value")
	e := m.Editor(&options, nil)
	row := cells("1", "school", `a:2:{s:4:"name";s:3:"Elm";s:3:"api";a:1:{s:5:"token";s:6:"s3cret";}}`)
	require.True(t, e.Edit(row))
	require.Equal(t, `a:2:{s:4:"name";s:3:"Elm";s:3:"api";a:1:{s:5:"token";s:0:"";}}`, string(row[2]))
	row = cells("2", "tracking", `{"id":"LL-778","on":true}`)
	require.True(t, e.Edit(row))
	require.Equal(t, `{"id":"","on":true}`, string(row[2]))
	require.Equal(t, map[string]int64{"value school › api › token": 1, "value tracking › id": 1}, e.Blanked)
	require.Contains(t, e.Missed, "tracking › gone")
}

func TestCheckNamesRulesThatContradict(t *testing.T) {
	_, k := stock(t, "starter")
	l, err := Parse([]byte(`
list: mixed
leave-out: {paths: ["wp-content/**", "wp-content/cache/**", wp-config.php, "no/such"], tables: [links, options], suffixes: [tmp]}
empty: [links, comments, nowhere]
keep-rows: [{table: posts, column: post_type, values: [page, note]}]
drop-rows: [{table: posts, column: post_type, values: [note]}, {table: options, column: option_name, values: ["temp_*"]}, {table: comments, column: comment_approved, values: [spam]}]
fields:
  - {key: a, label: A, type: email, default: nobody, to: [{option: temp_a}]}
  - {key: c, label: C, to: [{setting: DB_HOST}]}
  - {key: b, label: B, to: [{cell: {table: comments, column: x, where: y, is: z}}]}
`))
	require.NoError(t, err)
	m, err := l.Compile(k, "lad_")
	require.NoError(t, err)
	paths := func(yield func(string, int64) bool) {
		_ = yield("wp-config.php", 1) && yield("wp-content/cache/a.html", 1) && yield("wp-content/b", 1)
	}
	problems := m.Check(paths, []string{"lad_posts", "lad_links", "lad_comments", "lad_commentmeta", "lad_options"}, nil)
	said := map[string]string{}
	for _, p := range problems {
		said[p.Rule] += p.Why + ";"
	}
	require.Contains(t, said["leave-out: wp-config.php"], "settings file")
	require.Contains(t, said["leave-out: wp-content/cache/**"]+said["leave-out: wp-content/**"], "needless")
	require.Contains(t, said["leave-out: no/such"], "matches nothing")
	require.Contains(t, said["leave-out: suffix tmp"], "matches nothing")
	require.Contains(t, said["table links"], "both emptied and left out")
	require.Contains(t, said["table nowhere"], "is not in the source")
	require.Contains(t, said["table options"], "settings are")
	require.Contains(t, said["table commentmeta"], "empty it too")
	require.Contains(t, said["rows of posts by post_type"], `"note" is both kept and dropped`)
	require.Contains(t, said["rows of comments by comment_approved"], "emptied")
	require.Contains(t, said["field a"], "drop-rows")
	require.Contains(t, said["field a"], "mail address")
	require.Contains(t, said["field b"], "no rows")
	require.Equal(t, "goes to setting DB_HOST, which each site has its own of;", said["field c"])
}

func TestStockListsHaveNoContradictions(t *testing.T) {
	for _, name := range []string{"starter", "whole-site"} {
		list, k := stock(t, name)
		m, err := list.Compile(k, "lad_")
		require.NoError(t, err)
		for _, p := range m.Check(func(func(string, int64) bool) {}, []string{"lad_posts", "lad_options", "lad_users", "lad_usermeta",
			"lad_comments", "lad_commentmeta", "lad_postmeta"}, nil) {
			require.Contains(t, p.Why, "matches nothing", "%s: %s", name, p.Rule)
		}
	}
}

func TestBadListsAreRefusedWithTheReason(t *testing.T) {
	for text, why := range map[string]string{
		"nonsense: 1":                                          "unknown field",
		"only: pictures":                                       "only",
		"leave-out: {paths: ['/etc']}":                         "relative to the web root",
		"leave-out: {paths: ['a[']}":                           "not a pattern",
		"fields: [{key: a, to: []}]":                           "at least one place",
		"fields: [{key: a, pattern: '(', to: [{option: x}]}]":  "pattern",
		"fields: [{key: a, to: [{}]}]":                         "an option or a setting",
		"fields: [{key: a, to: [{token: ab, files: [x]}]}]":    "four characters",
		"fields: [{key: a, to: [{token: abcd, files: [/x]}]}]": "relative",
		"fields: [{key: a, to: [{cell: {table: x}}]}]":         "a cell needs",
		"drop-rows: [{table: a}]":                              "are needed",
		"blank: {values: [{option: a}]}":                       "a path",
		"launch-tasks: [{key: a}]":                             "title",
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

func FuzzParse(f *testing.F) {
	wordpress := kindtest.Named(f, "wordpress")
	for _, text := range wordpress.Lists {
		f.Add(text)
	}
	f.Add("leave-out: {paths: ['[a', '{b']}")
	f.Fuzz(func(t *testing.T, text string) {
		l, err := Parse([]byte(text))
		if err != nil {
			return
		}
		m, err := l.Compile(wordpress, "lad_")
		require.NoError(t, err)
		m.LeavesOut("wp-content/uploads/a.jpg", 5)
		m.Check(func(yield func(string, int64) bool) { yield("a/b", 1) }, []string{"lad_posts"}, nil)
		out, err := l.Text()
		require.NoError(t, err)
		_, err = Parse(out)
		require.NoError(t, err, "%s", out)
	})
}

func TestSuffixesUnderTheirOldNameAreRead(t *testing.T) {
	list, err := Parse([]byte("leave-out: {paths: [a], endings: [mp4], suffixes: [mov]}\n"))
	require.NoError(t, err)
	require.Equal(t, LeaveOut{Paths: []string{"a"}, Suffixes: []string{"mov", "mp4"}}, list.LeaveOut)
	var of List
	require.NoError(t, json.Unmarshal([]byte(`{"list":"x","leave-out":{"paths":["a"],"endings":["mp4"]}}`), &of))
	require.Equal(t, LeaveOut{Paths: []string{"a"}, Suffixes: []string{"mp4"}}, of.LeaveOut)
	text, err := json.Marshal(of)
	require.NoError(t, err)
	require.Contains(t, string(text), `"suffixes":["mp4"]`)
	require.NotContains(t, string(text), "endings")
	_, err = Parse([]byte("leave-out:\n  paths: [a]\n  sufixes: [mp4]\n"))
	require.ErrorContains(t, err, "sufixes", "what is not known is refused, with its name")
}

func TestWhatIsBlankedIsKnown(t *testing.T) {
	b := Blank{Settings: []string{"KEY"}, Options: []string{"admin_email"}, Values: []Inside{{"site", []string{"mail"}}},
		Columns: []Cell{{Table: "posts", Column: "password"}}}
	for place, want := range map[*kind.Value]bool{
		{Setting: "KEY"}: true, {Setting: "OTHER"}: false, {Option: "admin_email"}: true, {Option: "title"}: false,
		{Option: "site", Path: []string{"mail"}}: true, {Option: "site", Path: []string{"mail", "from"}}: true, {Option: "site", Path: []string{"name"}}: false,
		{Option: "site"}: false, {Cell: &kind.Spot{Table: "posts", Column: "password"}}: true, {Cell: &kind.Spot{Table: "posts", Column: "title"}}: false,
	} {
		require.Equal(t, want, b.Has(*place), "%s", place)
	}
}

func TestFieldsTakeWhatTheirTypesSay(t *testing.T) {
	logo := FileOf(strings.Repeat("a1", 32), "logo.png")
	for _, c := range []struct{ sort, value, wrong string }{
		{"colour", "#1c6b4f", ""}, {"colour", "#fff", ""}, {"colour", "violet", "is not a colour"}, {"colour", "#12345", "is not a colour"},
		{"image", logo, ""}, {"image", "https://alder.example/logo.png", ""}, {"image", "logo.png", "neither a file"}, {"image", "file:abc/logo.png", "neither a file"},
		{"file", logo, ""}, {"file", "javascript:alert(1)", "neither a file"}, {"file", "file:///etc/passwd", "neither a file"},
		{"file", FileOf(strings.Repeat("a1", 32), "../x.pdf"), "neither a file"}, {"long-text", "one\ntwo", ""}, {"page", "lessons", ""},
	} {
		f := Field{Key: "x", Type: c.sort}
		if err := f.Check(c.value); c.wrong == "" {
			require.NoError(t, err, "%+v", c)
		} else {
			require.ErrorContains(t, err, c.wrong, "%+v", c)
		}
	}
	sum, name := AsFile(logo)
	require.Equal(t, []string{strings.Repeat("a1", 32), "logo.png"}, []string{sum, name})
	_, err := Parse([]byte("list: starter\nfields:\n  - {key: title, label: Title, to: [{option: blogname, as: url}]}\n"))
	require.ErrorContains(t, err, "as is for fields of the types image and file")
}
