package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/wire"
)

// said is what a part of the command line prints.
func said(print func(*app)) string {
	var out bytes.Buffer
	print(&app{out: &out})
	return out.String()
}

func TestDescentIsOneLine(t *testing.T) {
	s := wire.Site{Name: "brook-lane", Descent: []wire.Ancestor{{Noun: "release", Name: "second@1", Gone: true},
		{Noun: "source", Name: "second-line"}, {Noun: "site", Name: "alder", Gone: true}, {Noun: "release",
			Name: "music-base@3"}, {Noun: "source", Name: "base", Gone: true}}}
	require.Equal(t, "brook-lane ← second@1 (archive discarded) ← source second-line ← alder (retired) ← music-base@3 ← source "+
		"base (removed)", descent(s))
	s.Descent, s.Behind = s.Descent[3:4], 1
	require.Equal(t, "brook-lane ← music-base@3; 1 release behind", descent(s))
	s.Behind = 4
	require.Equal(t, "brook-lane ← music-base@3; 4 releases behind", descent(s))
}

func TestRulesForSafetyCopiesAreSentences(t *testing.T) {
	for rule, want := range map[wire.CopyRule]string{
		{}: "all are kept until a person drops them", {Last: 1}: "the newest is kept", {Last: 5}: "the last 5 are kept",
		{Days: 30}: "each is kept for 30 days", {Last: 5, Days: 30}: "the last 5 are kept, each for 30 days",
	} {
		require.Equal(t, want, copyRule(rule))
	}
}

func TestASiteSaysWhatAPersonNeedsToKnow(t *testing.T) {
	at := time.Date(2026, 11, 25, 9, 30, 0, 0, time.Local)
	s := wire.Site{Name: "alder-valley", Title: "Alder Valley Music School", Address: "http://alder-valley.localhost",
		Release: "music-base@3", Client: "alder-valley", Host: "preview",
		Folder: "/srv/www/alder-valley", Files: 2744, Bytes: 66e6, Database: "ns_aldervalley", Rows: 260, Prefix: "av_",
		LoginAt: "http://alder-valley.localhost/wp-login.php", Accounts: "log in as alder-valley-admin",
		Held: true, Quiet: true, Upgraded: "53497", Adjustments: []string{"2 scheduled jobs run again"}, Kept: map[string]int64{"comments": 12},
		Rewritten: wire.RewriteTally{Replaced: 78, Serialised: 3, Broken: 1, Forms: map[string]int64{"plain": 76, "percent-encoded": 2},
			Samples: []wire.RewriteSample{{Form: "plain", Where: "options", Before: "at http://base.localhost/a",
				After: "at http://alder-valley.localhost/a"}, {Form: "plain", Where: "posts", Before: "x", After: "y"}}},
		Steps: []wire.StepTime{{Name: "Swap in", Millis: 2}}, Handovers: []wire.Handover{{MadeAt: at, MadeBy: "ines", OpenedAt: &at},
			{MadeAt: at, MadeBy: "ines", WithdrawnAt: &at}, {MadeAt: at, MadeBy: "ines", ExpiresAt: at}},
		Copies: []wire.SafetyCopy{{ID: 7, MadeAt: at, Why: "replaced", Bytes: 66e6, Release: "music-base@1", Where: ".alder-valley.nestseed-9"}},
		Tasks: []wire.LaunchTask{{Key: "booking", Title: "Enter the licence", Detail: "It is bound to the address.",
			Page: "http://alder-valley.localhost/wp-admin/"}, {Key: "form", Title: "Send a message", DoneAt: &at, DoneBy: "ines"}}}
	text := said(func(a *app) { a.printSite(s) })
	for _, line := range []string{
		"alder-valley: Alder Valley Music School\n", "held      visitors see a holding page; nestseed site open alder-valley lets them in\n",
		"mail      kept from going out", "upgraded  its tables were brought to version 53497", "adjusted  2 scheduled jobs run again\n",
		"kept      comments: 12 rows\n",
		"rewritten 78 places (2 percent-encoded, 76 plain); 3 inside serialised values; serialised values that were broken before: 1, mended: 0",
		"          plain, in options: at http://base.localhost/a → at http://alder-valley.localhost/a\n",
		"opened 25 Nov 2026, 09:30\n", "withdrawn\n", "open until 25 Nov 2026", "7            25 Nov 2026, 09:30  replaced  music-base@1  66 " +
			"MB  .alder-valley.nestseed-9\n",
		"□ booking               Enter the licence\n    It is bound to the address.\n    " +
			"http://alder-valley.localhost/wp-admin/\n", "✓ form                  Send a message (ines, 25 Nov 2026, 09:30)\n", "not checked yet\n",
	} {
		require.Contains(t, text, line)
	}
	s.RetiredAt = &at
	require.Contains(t, said(func(a *app) { a.printSite(s) }), "retired   25 Nov 2026, 09:30; what is said here is how it was")
}

func TestSitesThatAreBehindHeldOrRetiredAreToldInTheList(t *testing.T) {
	at := time.Date(2026, 11, 25, 9, 30, 0, 0, time.Local)
	text := said(func(a *app) {
		a.printSites([]wire.SiteRow{
			{Name: "a", Release: "m@1", Behind: 2, Checks: wire.CheckCounts{At: &at, Passed: 1, Failed: 1}},
			{Name: "b", Release: "m@3", Held: true, Checks: wire.CheckCounts{At: &at, Warned: 1}},
			{Name: "c", Release: "m@1", Behind: 2, RetiredAt: &at}, {Name: "d", Release: "m@3", Checks: wire.CheckCounts{At: &at, Passed: 1}},
			{Name: "e", Release: "m@3", Checks: wire.CheckCounts{At: &at, Passed: 12, Warned: 1, Accepted: 1}}})
	})
	for _, part := range []string{"m@1, 2 behind", "✗ 1 of 2 failed", "! 1 of 1 warn, held", "retired 25 Nov 2026", "✓ 1 passed", "✓ 12 passed, 1 accepted"} {
		require.Contains(t, text, part)
	}
}

func TestAPlanSaysWhatIsMissingAndThatNothingIsTouched(t *testing.T) {
	p := wire.Plan{SitePlan: wire.SitePlan{Name: "alder", Release: "music-base@3", Address: "http://alder.localhost",
		Steps: []wire.PlanStep{{Title: "Place files", Detail: "beside /srv/www/alder", Amount: "2744 files"}},
		Values: []wire.Value{{Key: "title", Value: "Alder", Origin: "client", To: []string{"option blogname"}},
			{Key: "measurement", Problem: "is missing", To: []string{"option x"}}},
		Generated: []string{"password of database user ns_alder"}, Missing: []string{"measurement"},
		Problems: []string{"/srv/www/alder exists already"}, Replaces: "12 files, 1 MB, and database ns_old", Keeps: []string{"comments"},
		Counts: []wire.Count{{Where: "options", Places: 60}, {Where: "posts", Places: 1200}}, Samples: []wire.ValueSample{{Where: "options",
			Text: "…http://base…"}}, ExpectedMillis: 1500}, Mark: "abc"}
	text := said(func(a *app) { a.printPlan(p) })
	for _, part := range []string{" 1  Place files  (2744 files)\n    beside /srv/www/alder\n", "✗ is missing",
		"stands there now:  12 files, 1 MB, and database ns_old; kept as a safety copy", "is taken over:     comments",
		"will be replaced:  1,260 places: options 60, posts 1,200", "    options: …http://base…", "✗ /srv/www/alder exists already",
		"✗ missing or not fitting: measurement", "not possible like this; nothing has been touched; about 1.5 s; mark abc"} {
		require.Contains(t, text, part)
	}
	p.SitePlan.Refresh = &wire.Refreshed{Units: []wire.UnitChange{{Unit: "wp-includes", Changed: 3}},
		Stays: []string{"wp-content/plugins/own"}, Edited: []string{"wp-login.php"}}
	text = said(func(a *app) { a.printPlan(p) })
	require.Contains(t, text, "stays, as the release does not have it: wp-content/plugins/own")
	require.Contains(t, text, "! changed on the site by somebody, and replaced: wp-login.php")
	require.NotContains(t, text, "blogname", "values stay as they are")
	p.SitePlan.Refresh.Units = nil
	require.Contains(t, said(func(a *app) { a.printPlan(p) }), "the site has this code already")
}

func TestLongListsOfNamesAreCut(t *testing.T) {
	var names []string
	for range shownNames + 3 {
		names = append(names, "x")
	}
	require.Contains(t, some(names), "and 3 more")
	require.Equal(t, "a, b", some([]string{"a", "b"}))
}

func TestATablesReportHasALineForEachSite(t *testing.T) {
	text := said(func(a *app) {
		a.printTable(wire.TableResult{Made: 3, Failed: 1, Rows: []wire.TableOutcome{{Site: "a", Status: wire.Done, Address: "http://a.example",
			Millis: 1700}, {Site: "b", Status: wire.Failed, Error: "measurement is missing"},
			{Site: "c", Status: "there", Address: "http://c.example"}, {Site: "d", Status: wire.Done, Address: "http://d.example", Faults: 2}}})
	})
	require.Regexp(t, `✓  a     http://a.example +1\.7 s`, text)
	require.Regexp(t, `✗  b     measurement is missing`, text)
	require.Regexp(t, `✓  c     http://c.example \(was there already\)`, text)
	require.Regexp(t, `!  d     http://d.example; 2 checks failed`, text)
	require.Contains(t, text, "3 made, 1 failed\n")
}

func TestWhatWasSeenSideBySideIsATable(t *testing.T) {
	seen := wire.SideBySide{Source: "base", Left: "http://base.localhost", Right: "http://alder.localhost",
		Pages: []wire.SideBySidePage{{Path: "lessons/", Share: 0.018, Places: 3, Left: "1-left.png", Right: "1-right.png"},
			{Path: "x", Problem: "did not open within 30s"}}}
	text := said(func(a *app) { a.printSideBySide("http://127.0.0.1:8470", "alder", "", seen) })
	require.Regexp(t, `/lessons/ +1\.8 % +3  1-left\.png  1-right\.png`, text)
	require.Contains(t, text, "✗ did not open within 30s")
	require.Contains(t, text, "http://127.0.0.1:8470/sites/alder/side-by-side")
	require.Contains(t, said(func(a *app) { a.printSideBySide("", "alder", "pictures", seen) }), "the pictures are in pictures")
}

func TestTheSheetForPrintingHoldsWhatItIsGivenAndNoMarkup(t *testing.T) {
	name := filepath.Join(t.TempDir(), "sheet.html")
	s := wire.Sheet{Title: `Brook Lane <Strings> & Voices`, Address: "http://brook-lane.localhost",
		LoginAt: "http://brook-lane.localhost/wp-login.php", Login: "brook-lane-admin", Held: true,
		ToDo: []string{"Log in."}, Tasks: []wire.LaunchTask{{Title: "Enter the licence",
			Detail: "Again."}}, Values: []wire.Value{{Label: "Tagline", Value: "<script>alert(1)</script>"}}}
	require.NoError(t, writeSheet(name, s))
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	for _, part := range []string{"Brook Lane &lt;Strings&gt; &amp; Voices", "brook-lane-admin", "<li>Log in.</li>", "Enter the licence",
		"not on paper", "holding page"} {
		require.Contains(t, string(text), part)
	}
	require.NotContains(t, string(text), "<script>")
	require.ErrorIs(t, writeSheet(name, s), os.ErrExist)
}

func TestTheReportOfChecksShowsEvidenceAndRemedy(t *testing.T) {
	text := said(func(a *app) {
		a.printReport(&wire.Report{Pages: 15, TookMillis: 1200,
			Checks: []wire.Check{{Name: "pages", Result: wire.Pass, Sentence: "15 pages open"},
				{Name: "login", Result: wire.Fail, Sentence: "does not work", Evidence: []string{"401"}, Remedy: "set a new password"}}})
	})
	require.Contains(t, text, "15 pages in 1.2 s\n✓ pages                 15 pages open\n✗ login                 does not work\n    401\n  "+
		"  remedy: set a new password\n")
}
