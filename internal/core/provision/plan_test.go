package provision

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/rewrite"
)

func TestPrefixesComeFromTheFirstLettersOfAName(t *testing.T) {
	for name, want := range map[string]string{"alder-valley": "av_", "brook": "b_", "2026-band": "b_", "42": "s_", "a--b": "ab_"} {
		require.Equal(t, want, prefixFor(name), name)
	}
}

func TestNamesThatAreTakenGetANumberAndStayWithinTheirLength(t *testing.T) {
	ctx := context.Background()
	taken := map[string]bool{"ns_alder": true, "ns_alder_2": true, strings.Repeat("n", 32): true}
	is := func(_ context.Context, name string) (bool, error) { return taken[name], nil }
	for name, want := range map[string]string{"ns_brook": "ns_brook", "ns_alder": "ns_alder_3", strings.Repeat("n", 32): strings.Repeat("n",
		30) + "_2"} {
		got, err := freeName(ctx, name, 32, is)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	_, err := freeName(ctx, "x", 32, func(context.Context, string) (bool, error) { return true, nil })
	require.ErrorIs(t, err, ErrPlan)
	lost := errors.New("lost")
	_, err = freeName(ctx, "x", 32, func(context.Context, string) (bool, error) { return false, lost })
	require.ErrorIs(t, err, lost)
}

func TestPasswordsAreLongRandomAndNeedNoQuoting(t *testing.T) {
	seen := map[string]bool{}
	for range 200 {
		p := Password(20)
		require.Len(t, p, 20)
		require.False(t, seen[p])
		seen[p] = true
		require.NotContains(t, p, "'")
		for _, r := range p {
			require.Contains(t, alphabet, string(r))
		}
	}
	for _, odd := range "lIO01'\"\\$&<> %" {
		require.NotContains(t, alphabet, string(odd), "read aloud, or quoted, it would be mistaken")
	}
}

func TestTokensAreFilledInAsTheirFilesAllow(t *testing.T) {
	mk := &maker{result: &Result{}, tokens: []token{{"founded", []byte("%FOUNDED%"), "1998", []string{"theme/**"}},
		{"motto", []byte("%MOTTO%"), `Loud & "clear"`, []string{"**/*.html", "**/*.txt"}}}}
	for name, c := range map[string]struct{ in, want string }{
		"theme/a.php":    {"$y = '%FOUNDED%'; // %FOUNDED%", "$y = '1998'; // 1998"},
		"other/a.php":    {"'%FOUNDED%'", "'%FOUNDED%'"},
		"theme/b.html":   {"<p>%MOTTO%</p>", "<p>Loud &amp; &#34;clear&#34;</p>"},
		"theme/read.txt": {"%MOTTO%, %FOUNDED%", `Loud & "clear", 1998`},
	} {
		got, err := mk.fillTokens(name, []byte(c.in))
		require.NoError(t, err)
		require.Equal(t, c.want, string(got), name)
	}
	require.Equal(t, map[string]int64{"founded": 3, "motto": 2}, mk.result.Tokens)
	mk.tokens[1].files = []string{"**/*.php"}
	_, err := mk.fillTokens("theme/a.php", []byte("'%MOTTO%'"))
	require.ErrorIs(t, err, errBreaksOut, "a value must not end a string of a program")
	require.NoError(t, tokenFits(packing.Target{Token: "%X%", Files: []string{"a.html"}}, `"quoted"`))
	require.ErrorIs(t, tokenFits(packing.Target{Token: "%X%", Files: []string{"a.html", "b.js"}}, `"quoted"`), errBreaksOut)
	require.NoError(t, tokenFits(packing.Target{Option: "blogname"}, `"quoted"`))
}

func TestPartsToKeepAreKnownByTheKind(t *testing.T) {
	k := &kind.Kind{Title: "WordPress", Keep: []kind.Keep{{What: "comments", Tables: []string{"comments"}},
		{What: "users", Tables: []string{"users"}}}}
	parts, err := keepParts(k, []string{"users"})
	require.NoError(t, err)
	require.Equal(t, "users", parts[0].What)
	_, err = keepParts(k, []string{"weather"})
	require.ErrorIs(t, err, ErrPlan)
	require.ErrorContains(t, err, "they have comments, users")
}

func TestAPlanThatIsNotReadySaysAllThatIsWrong(t *testing.T) {
	p := &Plan{Problems: []string{"/srv/www/alder exists already"}, Missing: []string{"title", "measurement"},
		Values: []Value{{Key: "title", Label: "Site title", Problem: "is missing"}, {Key: "phone", Label: "Telephone"},
			{Key: "measurement", Label: "Measurement id", Problem: "does not fit"}}}
	require.False(t, p.Ready())
	_, err := Make(context.Background(), Request{}, p, &ledger{}, nil)
	require.ErrorIs(t, err, ErrPlan)
	for _, part := range []string{"exists already", "Site title (title) is missing", "Measurement id (measurement) does not fit"} {
		require.ErrorContains(t, err, part)
	}
	require.NotContains(t, err.Error(), "Telephone")
	var planned *PlanError
	require.ErrorAs(t, err, &planned)
	require.Equal(t, []string{"/srv/www/alder exists already"}, planned.Problems)
	require.Len(t, planned.Missing, 2)
	require.NoError(t, (&Plan{}).Err())
}

func TestValuesComeFromWhereTheyShould(t *testing.T) {
	field := func(key string, change func(*packing.Field)) packing.Field {
		f := packing.Field{Key: key, Label: key, To: []packing.Target{{Option: key}}}
		if change != nil {
			change(&f)
		}
		return f
	}
	m := &archive.Manifest{Starter: "music-base", Number: 3, List: &packing.List{Fields: []packing.Field{
		field("title", func(f *packing.Field) { f.Required = true }), field("tagline", nil), field("founded",
			func(f *packing.Field) { f.Default = "1998" }),
		field("licence", func(f *packing.Field) { f.Secret = true }), field("empty", nil)}},
		Defaults: []archive.Default{{Key: "title", Value: "Loom & Ladder base site"}, {Key: "tagline", Value: "Music for all ages"}}}
	p := &Plan{}
	moved := &Plan{Rules: rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "http://alder-valley.localhost"}}}}
	moved.values(Request{Kind: &kind.Kind{}}, &archive.Manifest{List: &packing.List{Fields: []packing.Field{field("badge", nil)}},
		Defaults: []archive.Default{{Key: "badge", Value: "http://base.localhost/badge.jpg"}}})
	require.Equal(t, "http://alder-valley.localhost/badge.jpg", moved.Values[0].Value, "as it will be on the site")

	k := &kind.Kind{Address: []kind.Value{{Option: "siteurl"}}}
	p.values(Request{Kind: k, Values: map[string]Given{"licence": {"LB-7K2P4D", "client"}, "colour": {"green", "given"}, "unused": {"x", "client"}}}, m)
	got := map[string]string{}
	for _, v := range p.Values {
		got[v.Key] = v.Value + " from " + v.Origin
	}
	require.Equal(t, map[string]string{"title": " from ", "tagline": "Music for all ages from release",
		"founded": "1998 from default of the field", "licence": "•••••••• from client", "empty": " from "}, got)
	require.Equal(t, []string{"title"}, p.Missing, "the release's own title is not a client's")
	require.Len(t, p.Problems, 1, "what a client has and nobody asks for is no fault")
	require.Contains(t, p.Problems[0], `no field "colour"; it has title, tagline`)
	m.List.Fields[1].To = append(m.List.Fields[1].To, packing.Target{Option: "siteurl"})
	p = &Plan{}
	p.values(Request{Kind: k}, m)
	require.Len(t, p.Problems, 1)
	require.Regexp(t, "^field tagline goes to .*siteurl.*, which each site has its own of", p.Problems[0])
}

func TestTimesAreNearWithinWhatArchivesKeep(t *testing.T) {
	at := time.Unix(1_800_000_000, 0)
	require.True(t, near(at, at.Add(1500*time.Millisecond)))
	require.False(t, near(at, at.Add(3*time.Second)))
	require.False(t, near(at.Add(3*time.Second), at))
}

func TestAnExchangeIsUndoneOnlyWhereItHappened(t *testing.T) {
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + t.TempDir()})
	require.NoError(t, err)
	defer fsys.Close()
	const live, staging = "clients/al der", "clients/.al der.nestseed-7"
	mk := &maker{req: Request{Folder: live, FS: fsys}, staging: staging}
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, live+"/old.txt", nil, 0o644))
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, staging+"/new.txt", nil, 0o644))
	name, err := mk.exchangeName(t.Context())
	require.NoError(t, err)
	there := func(p string) bool { _, err := fsys.Stat(t.Context(), p); return err == nil }

	made := []Made{{What: "staging", Name: staging}, {What: "exchange", Name: name}}
	back := func() error {
		require.NoError(t, seal(t.Context(), fsys, made, ours))
		return undoExchange(t.Context(), fsys, name, ours)
	}
	require.NoError(t, back(), "it was noted and did not happen")
	require.True(t, there(live+"/old.txt"))
	require.NoError(t, hostfs.Exchange(t.Context(), fsys, live, sealed(staging)))
	require.True(t, there(live+"/new.txt"))
	// Nothing that somebody puts into either decides which is which.
	require.NoError(t, hostfs.WriteFile(t.Context(), fsys, sealed(staging)+"/new.txt", nil, 0o644))
	require.NoError(t, fsys.RemoveAll(t.Context(), live+"/new.txt"))
	for range 2 {
		require.NoError(t, back())
		require.True(t, there(live+"/old.txt"), "and twice is no error")
		require.Error(t, hostfs.Exchange(t.Context(), fsys, live, staging), "whoever was overtaken exchanges nothing")
	}
	require.NoError(t, fsys.RemoveAll(t.Context(), sealed(staging)))
	require.NoError(t, back(), "what was made is gone")
	require.NoError(t, fsys.Mkdir(t.Context(), staging, 0o755))
	require.ErrorContains(t, back(), "something else")
	require.Error(t, undoExchange(t.Context(), fsys, "word", ours))
	require.Error(t, undoExchange(t.Context(), fsys, "a %zz b", ours))
}

func TestWhatStaysOfASiteIsToldFromWhatAReleaseBrings(t *testing.T) {
	c := &code{kindtest.Named(t, "wordpress"), "wp-config.php", map[string]bool{"wp-includes": true, "wp-login.php": true, "wp-content/plugins/booking": true}}
	for p, brings := range map[string]bool{
		"wp-includes/a.php": true, "wp-includes/gone/since.php": true, "wp-login.php": true, "wp-content/plugins/booking/own-change.php": true,
		"wp-config.php": false, "wp-content/plugins/own/own.php": false, "wp-content/uploads/a.jpg": false, "wp-custom.php": false,
		kindtest.Named(t, "wordpress").Hold.File: false, kindtest.Named(t, "wordpress").Mail.File: false,
	} {
		require.Equal(t, brings, c.brings(p), p)
		require.Equal(t, !brings, c.stays(p), p)
	}
	require.False(t, c.stays(kindtest.Named(t, "wordpress").Pause.File), "the pause is never carried over")
	require.False(t, c.brings(kindtest.Named(t, "wordpress").Pause.File))
}

func TestAnArchiveCannotHaveAClientsValueLeadASiteElsewhere(t *testing.T) {
	m := &archive.Manifest{List: &packing.List{Fields: []packing.Field{
		{Key: "title", To: []packing.Target{{Option: "blogname"}}}, {Key: "host", Default: "198.51.100.7", To: []packing.Target{{Setting: "DB_HOST"}}},
	}}}
	p := &Plan{}
	p.values(Request{Kind: kindtest.Named(t, "wordpress")}, m)
	require.Len(t, p.Problems, 1)
	require.Contains(t, p.Problems[0], "field host goes to setting DB_HOST, which each site has its own of")
	require.False(t, p.Ready())
}
