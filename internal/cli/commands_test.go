package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/wire"
)

// answers is a service that gives prepared answers, and remembers what it was asked.
type answers struct {
	by    map[string]any // METHOD /path, as below /api/v1: what is answered
	asked []string       // METHOD /path body
}

// problem is answered with its status.
type problem struct {
	status int
	detail string
}

func (s *answers) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	what := r.Method + " " + strings.TrimPrefix(r.URL.RequestURI(), "/api/v1")
	s.asked = append(s.asked, strings.TrimSpace(what+" "+string(body)))
	v, known := s.by[what]
	if !known {
		v = problem{http.StatusTeapot, "nobody prepared an answer to " + what}
	}
	switch v := v.(type) {
	case problem:
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(v.status)
		json.NewEncoder(w).Encode(map[string]any{"status": v.status, "detail": v.detail})
	case events:
		w.Header().Set("Content-Type", "text/event-stream")
		for _, run := range v {
			text, _ := json.Marshal(run)
			fmt.Fprintf(w, "data: %s\n\n", text)
		}
	case content:
		v.serve(w, r)
	case nil:
		w.WriteHeader(http.StatusNoContent)
	default:
		json.NewEncoder(w).Encode(v)
	}
}

// events are those of a run, to its end.
type events []wire.Run

// printed is what a command printed, and how it ended.
type printed struct {
	out, err string
	code     int
}

// start begins to answer, and makes commands ask here.
func (s *answers) start(t *testing.T) string {
	t.Helper()
	srv := httptest.NewServer(s)
	t.Cleanup(srv.Close)
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	t.Setenv("NESTSEED_SERVER", srv.URL)
	t.Setenv("NESTSEED_TOKEN", "a-token")
	return srv.URL
}

// typed runs a command against the prepared answers, as main does.
func (s *answers) typed(t *testing.T, input string, words ...string) printed {
	t.Helper()
	s.start(t)
	s.asked = nil
	var out, errOut bytes.Buffer
	code := Run(context.Background(), "test", append([]string{"nestseed"}, words...), strings.NewReader(input), &out, &errOut)
	return printed{out.String(), errOut.String(), code}
}

var begun = time.Date(2026, 11, 25, 9, 30, 0, 0, time.UTC)

// ended is a run that has begun, and its events to its end with a result.
func ended(id int64, title string, result any) (wire.Run, events) {
	begins := wire.Run{ID: id, Title: title, Status: wire.Working, Who: "ines", CreatedAt: begun, StartedAt: &begun}
	working, done := begins, begins
	working.Progress = wire.Progress{Steps: []wire.RunStep{{Name: "Look at the source"}}}
	at := begun.Add(1500 * time.Millisecond)
	text, _ := json.Marshal(result)
	done.Status, done.EndedAt, done.Result = wire.Done, &at, text
	return begins, events{working, done}
}

// failed is the end of a run that did not get to its end.
func failed(id int64, title, status, why string) (wire.Run, events) {
	begins, all := ended(id, title, nil)
	all[1].Status, all[1].Error, all[1].Result = status, why, nil
	return begins, all
}

func TestExitCodesSayWhatSortOfErrorItWas(t *testing.T) {
	for status, code := range map[int]int{404: exitNotFound, 410: exitNotFound, 400: exitUsage, 422: exitUsage, 401: exitRefused,
		403: exitRefused, 409: exitRefused, 429: exitRefused, 500: exitFailed, 503: exitFailed} {
		s := &answers{by: map[string]any{"GET /hosts/preview": problem{status, "so it is; do this"}}}
		p := s.typed(t, "", "host", "show", "preview")
		require.Equal(t, code, p.code, "%d", status)
		require.Equal(t, "nestseed: so it is; do this\n", p.err, "one sentence, on stderr")
		require.Empty(t, p.out)
	}
}

func TestWrongUsageIsASentenceWithTheWayToHelp(t *testing.T) {
	s := &answers{}
	for _, c := range []struct {
		words []string
		says  string
	}{
		{[]string{"sites"}, `there is no command "sites"; see nestseed --help`},
		{[]string{"site", "delete", "x"}, "there is no nestseed site delete; see nestseed site --help"},
		{[]string{"site", "show"}, "takes NAME; it got 0"},
		{[]string{"host", "show", "a", "b"}, "takes NAME; it got 2"},
		{[]string{"host", "list", "a"}, "takes no words; it got 1"},
		{[]string{"site", "provision", "alder", "--host", "preview"}, "say which release with --from"},
		{[]string{"site", "show", "--colour", "x"}, "see nestseed site show --help"},
		{[]string{"client", "add", "alder", "--set", "title"}, `"title" should be KEY=VALUE`},
		{[]string{"client", "set", "alder", "=x"}, `"=x" should be KEY=VALUE`},
		{[]string{"run", "show", "latest"}, `"latest" is not the number of a run; see nestseed run list`},
		{[]string{"site", "put-back", "alder", "newest"}, `"newest" is not the number of a safety copy; nestseed site show lists them`},
		{[]string{"site", "drop-copy", "alder", "x"}, `"x" is not the number of a safety copy`},
		{[]string{"site", "provision", "--from", "m", "--host", "h"}, "takes CLIENT, or --table FILE.csv"},
		{[]string{"site", "plan", "--from", "m", "--host", "h"}, "takes CLIENT, or --table FILE.csv"},
		{[]string{"site", "provision", "--from", "m", "--host", "h", "--table", "x.csv", "--replace"}, "--replace is for one site"},
		{[]string{"site", "provision", "--from", "m", "--host", "h", "--table", "x.csv", "--plan", "1"}, "--plan is for one site"},
		{[]string{"site", "plan", "--from", "m", "--host", "h", "--table", "x.csv", "--keep", "users"}, "--keep is for one site"},
		{[]string{"site", "plan", "--from", "m", "--host", "h", "--table", "x.csv", "--set", "a=b"}, "--set is a column of the table"},
		{[]string{"site", "plan", "alder", "--from", "m", "--host", "h", "--keep", "users"}, "give --replace too"},
		{[]string{"host", "set", "preview"}, "say what to change"},
		{[]string{"source", "set", "base"}, "say what to change"},
		{[]string{"starter", "set", "base"}, `required flag "from" not set`},
	} {
		p := s.typed(t, "", c.words...)
		require.Equal(t, exitUsage, p.code, "%v", c.words)
		require.Contains(t, p.err, c.says, "%v", c.words)
		require.Equal(t, 1, strings.Count(p.err, "\n"), "one line: %q", p.err)
		require.Empty(t, s.asked, "nothing is asked of the service")
	}
}

func TestAServiceThatIsNotThereIsTold(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("NESTSEED_TOKEN", "x")
	var out, errOut bytes.Buffer
	code := Run(t.Context(), "test", []string{"nestseed", "--server", "http://127.0.0.1:1", "host", "list"}, nil, &out, &errOut)
	require.Equal(t, exitFailed, code)
	require.Contains(t, errOut.String(), "127.0.0.1:1")
	require.Equal(t, 1, strings.Count(errOut.String(), "\n"))
}

// Everything that a command only asks for and prints: the same with --json are the documents of the HTTP interface.
func TestListsAndRecordsArePrintedForPeopleAndForPrograms(t *testing.T) {
	used := begun.Add(time.Hour)
	before := int64(90e6)
	for _, c := range []struct {
		words  []string
		ask    string
		answer any
		lines  []string
	}{
		{[]string{"host", "list"}, "GET /hosts", []wire.Host{{Name: "preview", Files: "file:///srv/www", Address: "http://{name}.localhost",
			Database: "mysql://placing@127.0.0.1:3306/"}},
			[]string{"host     files ", "preview  file:///srv/www  http://{name}.localhost  mysql://placing@127.0.0.1:3306/"}},
		{[]string{"host", "list"}, "GET /hosts", []wire.Host{}, nil},
		{[]string{"host", "show", "preview"}, "GET /hosts/preview", wire.Host{Name: "preview", Files: "file:///srv/www", WebRoot: "{name}",
			Connect: "10.0.0.7"}, []string{"web root  {name}", "connect   10.0.0.7"}},
		{[]string{"host", "test", "preview"}, "POST /hosts/preview/test", wire.HostTest{Steps: []wire.Check{
			{Name: "space", Result: wire.Pass, Sentence: "76 GB free"},
			{Name: "link", Result: wire.Warn, Sentence: "no links", Remedy: "Is SFTP offered too?"}}},
			[]string{"✓ space", "76 GB free", "! link", "Ask the hosting company:\n- Is SFTP offered too?"}},
		{[]string{"source", "list"}, "GET /sources",
			[]wire.Source{{Name: "base", Kind: "wordpress", Version: "6.1.9", Address: "http://base.localhost"},
				{Name: "old", Survey: &wire.Survey{Totals: wire.SurveyTotals{Files: 2956, Bytes: 60e6}, Findings: make([]wire.Finding, 4)}}},
			[]string{"base    wordpress 6.1.9  http://base.localhost      -  not surveyed         -", "2,956", "60 MB"}},
		{[]string{"source", "show", "base"}, "GET /sources/base", wire.Source{Name: "base", Kind: "wordpress", Host: "preview", Path: "base"},
			[]string{"not surveyed yet; run: nestseed source survey base"}},
		{[]string{"starter", "list"}, "GET /starters", []wire.Starter{{Name: "music-base", Source: "base", Releases: 3, Newest: 3}},
			[]string{"music-base", "base"}},
		{[]string{"release", "list"}, "GET /releases?starter=",
			[]wire.Release{{Ref: "music-base@2", Made: begun, By: "ines", ArchiveBytes: 120e6, BeforeBytes: &before, Kept: true, VerifiedAt: &used,
				Faults: 2, Sites: 1, Note: "choir"}, {Ref: "music-base@1", ArchiveBytes: 90e6}},
			[]string{"+30 MB", "2 faults   choir", "first", "discarded"}},
		{[]string{"release", "list", "music-base"}, "GET /releases?starter=music-base", []wire.Release{}, nil},
		{[]string{"release", "contents", "m@1", "wp-content", "--largest", "2"}, "GET /releases/m@1/contents?largest=2&path=wp-content",
			wire.Contents{Ref: "m@1", Nodes: []*wire.Node{{Path: "wp-content/uploads", Bytes: 50e6, Packed: 49e6, Files: 812, Folder: true,
				Area: "media"}, {Path: "database/lad_posts", Bytes: 2e6, Packed: 3e5, Rows: 1204, Area: "database"},
				{Path: "wp-content/l", Link: "../l"}}},
			[]string{" 50 MB  ████████████████████   49 MB   812 files  media     wp-content/uploads/", "1,204 rows  database  database/lad_posts",
				"wp-content/l -> ../l"}},
		{[]string{"release", "contents", "m@1", "--find", "*.flac"}, "GET /releases/m@1/contents?find=%2A.flac&path=", wire.Contents{Ref: "m@1"},
			[]string{"nothing there"}},
		{[]string{"release", "discard-archive", "m@1"}, "POST /releases/m@1/discard-archive", wire.Release{Ref: "m@1", ArchiveBytes: 90e6},
			[]string{"the archive of m@1 is gone, 90 MB free; its record stays"}},
		{[]string{"release", "discard-archive", "m@1"}, "POST /releases/m@1/discard-archive", wire.Release{Ref: "m@1", ArchiveBytes: 90e6,
			FreedBytes: new(int64(2e6))}, []string{"the archive of m@1 is gone, 2.0 MB free, the rest is shared with other archives; its " +
			"record stays"}},
		{[]string{"client", "list"}, "GET /clients?limit=1000", wire.ClientPage{Clients: []wire.ClientRow{{Name: "alder", Title: "Alder Valley",
			Settings: 1, Sites: 2}}}, []string{"alder   Alder Valley         1      2"}},
		{[]string{"client", "show", "alder"}, "GET /clients/alder",
			wire.Client{Name: "alder", Settings: map[string]wire.Setting{"title": {Value: "Alder Valley"},
				"licence": {Secret: true}}}, []string{"licence  ••••••••, in the vault", "title    Alder Valley"}},
		{[]string{"client", "add", "alder", "--set", "title=Alder = Valley"}, "POST /clients",
			wire.Client{Name: "alder", Settings: map[string]wire.Setting{"title": {}}}, []string{"client alder added with 1 setting"}},
		{[]string{"site", "list"}, "GET /sites?limit=1000", wire.SitePage{Sites: []wire.SiteRow{{Name: "alder", Release: "m@3"}}}, []string{"not checked"}},
		{[]string{"site", "dns", "alder", "--name-servers", "ns.new.example,ns2.new.example"},
			"POST /sites/alder/dns?name_servers=ns.new.example%2Cns2.new.example", wire.DNS{Sentences: []string{"it leads there"},
				NameServers: []wire.DNSAnswer{{Server: "ns1.alder.example", Addresses: []string{"203.0.113.7"}}},
				Resolvers:   []wire.DNSAnswer{{Server: "9.9.9.9:53", Error: "no answer"}, {Server: "192.0.2.1:53"}},
				Lost:        []wire.DNSRecord{{Name: "alder.example.", Type: "MX", Value: "10 mail.post.example."}}},
			[]string{"it leads there", "its own name server  ns1.alder.example  203.0.113.7", "no answer", "nowhere",
				"would be lost", "10 mail.post.example."}},
		{[]string{"site", "list", "--retired"}, "GET /sites?limit=1000&retired=true&sort=retired",
			wire.SitePage{Sites: []wire.SiteRow{{Name: "alder", RetiredAt: &begun}}}, []string{"retired "}},
		{[]string{"site", "accept", "alder", "values", "--reason", "as in the source"}, "PUT /sites/alder/accepted",
			wire.Site{Report: &wire.Report{Checks: []wire.Check{{Name: "values", Result: wire.Warn, Remedy: "mend it"}}},
				Accepted: []wire.Acceptance{{What: "values", Who: "ines", At: begun, Reason: "as in the source"}}},
			[]string{"! values", "accepted by ines, ", ": as in the source\n"}},
		{[]string{"site", "accept", "alder", "values", "--undo"}, "DELETE /sites/alder/accepted?what=values",
			wire.Site{Report: &wire.Report{Checks: []wire.Check{{Name: "values", Result: wire.Warn, Remedy: "mend it"}}}}, []string{"remedy: mend it"}},
		{[]string{"source", "accept", "base", "logs", "debug.log", "--reason", "small"}, "PUT /sources/base/accepted",
			wire.Source{Accepted: []wire.Acceptance{{What: "logs: debug.log", Who: "ines", At: begun, Reason: "small"}}},
			[]string{"logs: debug.log: accepted by ines, "}},
		{[]string{"site", "tick", "alder", "booking", "--due", "2026-12-01"}, "PUT /sites/alder/tasks/booking",
			wire.Site{Name: "alder", Tasks: []wire.LaunchTask{{Key: "booking", Title: "Enter the licence", Due: &used}}}, []string{"Enter the licence, by "}},
		{[]string{"site", "copy-rule", "alder", "--last", "3", "--days", "30"}, "PUT /sites/alder/copy-rule",
			wire.Site{Name: "alder", CopyRule: wire.CopyRule{Last: 3,
				Days: 30}}, []string{"safety copies of alder: the last 3 are kept, each for 30 days"}},
		{[]string{"site", "tick", "alder", "booking"}, "PUT /sites/alder/tasks/booking",
			wire.Site{Name: "alder", Tasks: []wire.LaunchTask{{Key: "booking", Title: "Enter the licence", DoneAt: &begun,
				DoneBy: "ines"}}}, []string{"✓ booking               Enter the licence (ines, "}},
		{[]string{"site", "hold", "alder"}, "PUT /sites/alder/held", wire.Held{Held: true, Preview: "http://alder.localhost/?see=1"},
			[]string{"alder is held: visitors see a holding page", "http://alder.localhost/?see=1", "nestseed site open alder lets everybody in"}},
		{[]string{"site", "open", "alder"}, "PUT /sites/alder/held", wire.Held{}, []string{"alder is open\n"}},
		{[]string{"site", "open", "alder", "--visible"}, "PUT /sites/alder/held", wire.Held{},
			[]string{"alder is open, to search engines too, and sends its mail"}},
		{[]string{"site", "undo", "alder", "--plan"}, "GET /sites/alder/undo",
			wire.UndoPlan{Site: "alder", Sentences: []string{"the folder goes",
				"the database goes"}}, []string{"- the folder goes\n- the database goes\nnothing has been touched"}},
		{[]string{"site", "move", "alder", "--host", "live", "--plan"}, "POST /sites/alder/move/plan",
			wire.MovePlan{Site: "alder", Sentences: []string{"it is copied"},
				Problems: []string{"no room"}}, []string{"- it is copied\n✗ no room\nnothing has been touched"}},
		{[]string{"site", "refresh", "alder", "--plan"}, "POST /sites/alder/refresh/plan",
			wire.Plan{SitePlan: wire.SitePlan{Name: "alder",
				Refresh: &wire.Refreshed{Units: []wire.UnitChange{{Unit: "wp-includes", Added: 1,
					Changed: 1203}}}}}, []string{"wp-includes      1    1,203        0"}},
		{[]string{"run", "list", "--limit", "1"}, "GET /runs?limit=1",
			[]wire.Run{{ID: 12, Title: "build music-base", Status: wire.Done, Who: "ines", StartedAt: &begun,
				EndedAt: &used}}, []string{" 12  build music-base  done    ines", "3600.0 s"}},
		{[]string{"run", "cancel", "12"}, "POST /runs/12/cancel", wire.Run{ID: 12, Title: "build music-base"},
			[]string{"run 12 (build music-base) was asked to end"}},
		{[]string{"vault", "list"}, "GET /vault", []wire.Secret{{Noun: "site", Owner: "alder", Name: "administrator", CreatedAt: begun}},
			[]string{"site  alder  administrator"}},
		{[]string{"vault", "reveal", "site", "alder", "administrator"}, "POST /vault/reveal", wire.Revealed{Secret: "correct horse"},
			[]string{"correct horse\n"}},
		{[]string{"vault", "rotate-key"}, "POST /vault/rotate-key", wire.Resealed{Secrets: 9, OldKeyKept: true},
			[]string{"9 secrets are sealed with a new key", "run this again when they are over"}},
		{[]string{"kind", "list"}, "GET /kinds", []wire.Kind{{Name: "wordpress", Title: "WordPress", Lists: []string{"starter", "whole-site"}}},
			[]string{"wordpress  WordPress  starter, whole-site"}},
		{[]string{"kind", "show", "wordpress"}, "GET /kinds/wordpress", wire.Kind{Definition: "name: wordpress\n"},
			[]string{"name: wordpress\n"}},
		{[]string{"agency", "show"}, "GET /agency", wire.Agency{Name: "Loom & Ladder", Contact: "studio@loom-ladder.example"},
			[]string{"name     Loom & Ladder", "colour   none"}},
		{[]string{"user", "list"}, "GET /users", []wire.User{{Name: "ines", Role: "owner"}}, []string{"ines", "owner"}},
		{[]string{"packing", "show", "music-base"}, "GET /starters/music-base/packing", wire.Packing{Text: "leave_out: {}\n"},
			[]string{"leave_out: {}\n"}},
	} {
		s := &answers{by: map[string]any{c.ask: c.answer}}
		p := s.typed(t, "", c.words...)
		require.Zero(t, p.code, "%v: %s", c.words, p.err)
		require.True(t, strings.HasPrefix(s.asked[0], c.ask), "%v asked %v", c.words, s.asked)
		for _, line := range c.lines {
			require.Contains(t, p.out, line, "%v", c.words)
		}
		if c.lines == nil {
			require.Empty(t, p.out)
		}
		if c.answer == nil {
			continue
		}
		p = s.typed(t, "", append([]string{"--json"}, c.words...)...)
		require.Zero(t, p.code)
		var answer any = c.answer
		switch page := answer.(type) { // a list is printed whole, as one
		case wire.SitePage:
			answer = page.Sites
		case wire.ClientPage:
			answer = page.Clients
		}
		want, err := json.Marshal(answer)
		require.NoError(t, err)
		require.JSONEq(t, string(want), p.out, "%v", c.words)
	}
}

func TestSecretsAndFilesGoWhereTheyBelong(t *testing.T) {
	dir := t.TempDir()
	secret := filepath.Join(dir, "password")
	require.NoError(t, os.WriteFile(secret, []byte("s3cret\n"), 0o600))
	s := &answers{by: map[string]any{"POST /hosts": wire.Host{Name: "live"}, "POST /sources": wire.Source{Name: "base"}}}
	require.Zero(t, s.typed(t, "", "host", "add", "live", "--files", "file:///srv", "--address", "http://{name}.example", "--database",
		"mysql://placing@127.0.0.1/", "--database-password-file", secret, "--connect", "10.0.0.7").code)
	require.JSONEq(t, `{"name":"live","files":"file:///srv","web_root":"{name}","address":"http://{name}.example","database":"mysql://placing@127.0.0.1/","database_password":"s3cret","connect":"10.0.0.7"}`, strings.TrimPrefix(s.asked[0], "POST /hosts "))
	require.Zero(t, s.typed(t, "typed\n", "source", "add", "base", "--host", "live", "--path", "base", "--database", "mysql://a@b/c",
		"--database-password-file", "-").code)
	require.Contains(t, s.asked[0], `"database_password":"typed"`)
	require.Equal(t, exitFailed, s.typed(t, "", "source", "add", "base", "--host", "live", "--path", "base", "--database-password-file",
		filepath.Join(dir, "nothing")).code)
	require.Empty(t, s.asked)
}

func TestPackingListsAreChangedByCommands(t *testing.T) {
	answer := wire.Packing{Surveyed: true, In: wire.Share{Files: 2700, Bytes: 60e6, Rows: 120, Data: 1e6},
		Out: wire.Share{Files: 41, Bytes: 30e6},
		Saved: map[string]wire.Share{"wp-content/backup/**": {Files: 1, Bytes: 30e6}, "**/*.log": {Files: 40, Bytes: 1e3},
			"nothing/**": {}}, Problems: []wire.ListProblem{{Rule: "nothing/**", Why: "matches nothing"}}}
	s := &answers{by: map[string]any{"POST /starters/m/packing": answer, "PUT /starters/m/packing": answer, "GET /starters/m/packing": answer}}
	for _, c := range []struct {
		words []string
		edit  wire.ListEdit
	}{
		{[]string{"leave-out", "m", "wp-content/backup/**", "*.log"}, wire.ListEdit{LeaveOut: []string{"wp-content/backup/**", "*.log"}}},
		{[]string{"leave-out", "m", "--table", "statistics"}, wire.ListEdit{LeaveOutTables: []string{"statistics"}}},
		{[]string{"leave-out", "m", "--suffix", "mp4", "mov"}, wire.ListEdit{Suffixes: []string{"mp4", "mov"}}},
		{[]string{"put-back", "m", "*.log"}, wire.ListEdit{PutBack: []string{"*.log"}}},
		{[]string{"empty", "m", "comments"}, wire.ListEdit{Empty: []string{"comments"}}},
		{[]string{"drop-rows", "m", "posts", "post_type", "revision", "draft"},
			wire.ListEdit{DropRows: []wire.RowRule{{Table: "posts", Column: "post_type", Values: []string{"revision", "draft"}}}}},
		{[]string{"keep-rows", "m", "users", "ID", "1"},
			wire.ListEdit{KeepRows: []wire.RowRule{{Table: "users", Column: "ID", Values: []string{"1"}}}}},
		{[]string{"blank", "m", "licence", "mail › smtp › password"}, wire.ListEdit{BlankOptions: []string{"licence"},
			BlankValues: []wire.Inside{{Option: "mail", Path: []string{"smtp", "password"}}}}},
	} {
		p := s.typed(t, "", append([]string{"packing"}, c.words...)...)
		require.Zero(t, p.code, p.err)
		want, err := json.Marshal(c.edit)
		require.NoError(t, err)
		require.JSONEq(t, string(want), strings.TrimPrefix(s.asked[0], "POST /starters/m/packing "), "%v", c.words)
		require.Contains(t, p.out, "goes in:  2,700 files, 60 MB; about 120 rows, 1.0 MB\nstays out: 41 files, 30 MB")
		require.Regexp(t, `(?s)30 MB +1  wp-content/backup/\*\*.*1\.0 kB +40  \*\*/\*\.log`, p.out, "what saves most comes first")
		require.NotContains(t, p.out, "nothing/**", "a rule that saves nothing is for the check")
	}
	require.Zero(t, s.typed(t, "leave_out: {}\n", "packing", "set", "m", "-").code)
	require.Equal(t, `PUT /starters/m/packing {"text":"leave_out: {}\n"}`, s.asked[0])
	require.Contains(t, s.typed(t, "", "packing", "check", "m").out, "note: nothing/**: matches nothing")
	s.by["GET /starters/m/packing"] = wire.Packing{}
	require.Contains(t, s.typed(t, "", "packing", "check", "m").out, "run: nestseed source survey")
}

func TestLongWorkIsFollowedToItsEnd(t *testing.T) {
	begins, events := ended(12, "build music-base", wire.BuildResult{Release: "music-base@2", ArchiveBytes: 20e6,
		Copied: wire.Amount{Files: 2700, Bytes: 59e6}, SharedBytes: 19e6})
	s := &answers{by: map[string]any{"POST /starters/music-base/releases": begins, "GET /runs/12/events": events,
		"GET /releases/music-base@2": wire.Release{Ref: "music-base@2", Made: begun, By: "ines", KindTitle: "WordPress", Version: "6.1.9",
			Source: "base", ArchiveBytes: 16e6, Areas: []wire.AreaTotal{{Area: "core", Files: 2000, Bytes: 40e6},
				{Area: "media", Files: 12, Bytes: 20e6}},
			Difference: &wire.Difference{Sentence: "2.1 MB larger: most of it themes/loom (+2.0 MB)"}, ImportedFrom: "x.zip",
			Manifest: &wire.Manifest{LeftOut: []wire.LeftOut{{Rule: "**/*.log", Files: 3, Bytes: 1e6}},
				Blanked: []wire.Blanked{{What: "setting AUTH_KEY", Times: 1}}, Notes: []string{"a.txt vanished"}}}}}
	p := s.typed(t, "", "release", "build", "music-base", "--note", "choir")
	require.Zero(t, p.code, p.err)
	require.Equal(t, `POST /starters/music-base/releases {"note":"choir"}`, s.asked[0])
	require.Equal(t, "build music-base: look at the source\n", p.err, "steps go to stderr")
	for _, line := range []string{"music-base@2 built in 1.5 s, 2,700 files (59 MB) as in the release before, 1.0 MB new in the store\n",
		"WordPress 6.1.9 from base", "core   40 MB  " +
			"████████████████████  2,000\n", "2.1 MB larger: most of it themes/loom (+2.0 MB)", "imported from x.zip",
		"1.0 MB              3  **/*.log", "setting AUTH_KEY               1", "note: a.txt vanished"} {
		require.Contains(t, p.out, line)
	}

	p = s.typed(t, "", "release", "build", "music-base", "--detach")
	require.Zero(t, p.code)
	require.Equal(t, "run 12: build music-base\nfollow it with: nestseed run watch 12\n", p.out)
	require.Len(t, s.asked, 1, "nobody waits")
	var left wire.Run
	require.NoError(t, json.Unmarshal([]byte(s.typed(t, "", "--json", "release", "build", "music-base", "--detach").out), &left))
	require.Equal(t, int64(12), left.ID)

	begins, events = failed(12, "build music-base", wire.Failed, "the disk is full; make room")
	s.by["POST /starters/music-base/releases"], s.by["GET /runs/12/events"] = begins, events
	p = s.typed(t, "", "release", "build", "music-base")
	require.Equal(t, exitFailed, p.code)
	require.Contains(t, p.err, "nestseed: run 12 (build music-base) failed: the disk is full; make room\n")
	require.Empty(t, p.out)
}

func TestARunIsShownWithItsStepsAndItsLog(t *testing.T) {
	run, events := ended(12, "survey base", nil)
	run.Progress = wire.Progress{Step: "Read", Done: wire.Amount{Files: 40, Rows: 7}, Expected: wire.Amount{Files: 2956}, BytesRate: 3e6,
		LeftSecs: 4, Steps: []wire.RunStep{{Name: "Walk", Millis: 120}}}
	s := &answers{by: map[string]any{"GET /runs/12": run, "GET /runs/12/events": events,
		"GET /runs/12/ahead": wire.Ahead{Run: 7, Steps: []wire.StepTime{{Name: "Count", Millis: 30}}},
		"GET /runs/12/log":   []wire.LogLine{{At: begun, Sentence: "one\nline"}}}}
	p := s.typed(t, "", "run", "show", "12")
	require.Zero(t, p.code)
	for _, part := range []string{"run 12: survey base, by ines, ", ": working\n", "40 of 2,956 files · 7 rows · 3.0 MB/s · 5s left\n",
		"    120 ms  Walk\nahead, as in run 7:\n     30 ms  Count\n", "  one line\n"} {
		require.Contains(t, p.out, part)
	}
	p = s.typed(t, "", "run", "watch", "12")
	require.Zero(t, p.code)
	require.Contains(t, p.out, ": done in 1.5 s\n")
	_, s.by["GET /runs/12/events"] = failed(12, "survey base", wire.Cancelled, "cancelled by ines")
	p = s.typed(t, "", "run", "watch", "12")
	require.Equal(t, exitFailed, p.code)
	require.Contains(t, p.err, "run 12 (survey base) cancelled: cancelled by ines")
}

func TestChecksThatFindFaultsEndWithTheirOwnCode(t *testing.T) {
	report := wire.Report{At: begun, Pages: 15, TookMillis: 900, Checks: []wire.Check{{Name: "login", Result: wire.Pass, Sentence: "logs in"},
		{Name: "leftovers", Result: wire.Fail, Sentence: "1 page names the old address", Evidence: []string{"/lessons: http://base.localhost"},
			Remedy: "run it again"}}}
	begins, events := ended(3, "check alder", report)
	s := &answers{by: map[string]any{"POST /sites/alder/check": begins, "POST /sources/base/check": begins, "GET /runs/3/events": events,
		"GET /sites/alder": wire.Site{Name: "alder"}}}
	for _, words := range [][]string{{"site", "check", "alder"}, {"source", "check", "base"}} {
		p := s.typed(t, "", words...)
		require.Equal(t, exitFaults, p.code)
		require.Contains(t, p.out, "✓ login                 logs in\n✗ leftovers             1 page names the old address\n    /lessons: "+
			"http://base.localhost\n    remedy: run it again\n")
		require.NotContains(t, p.err, "nestseed:", "what they found was printed already")
	}
	report.Checks = report.Checks[:1]
	_, s.by["GET /runs/3/events"] = ended(3, "check alder", report)
	require.Zero(t, s.typed(t, "", "site", "check", "alder").code)
}

func TestWorkOnASiteSaysWhatItDid(t *testing.T) {
	site := wire.Site{Name: "alder", Title: "Alder Valley", Address: "http://alder.localhost", Release: "m@3"}
	for _, c := range []struct {
		words  []string
		asks   map[string]any
		start  string
		body   string
		result any
		lines  []string
	}{
		{[]string{"site", "keep-copy", "alder"}, nil, "POST /sites/alder/copies", "", wire.CopyResult{Site: "alder", Bytes: 66e6},
			[]string{"safety copy of alder: 66 MB; nestseed site show alder lists it"}},
		{[]string{"site", "retire", "alder"}, nil, "POST /sites/alder/retire", `{}`, wire.CopyResult{Site: "alder", Bytes: 66e6},
			[]string{"alder is off its host; its last copy is kept: 66 MB; nestseed site list --retired has its record"}},
		{[]string{"site", "retire", "alder", "--no-copy"}, nil, "POST /sites/alder/retire", `{"no_copy":true}`, wire.CopyResult{Site: "alder"},
			[]string{"no last copy was made"}},
		{[]string{"site", "drop-copy", "alder", "7"}, nil, "DELETE /sites/alder/copies/7", "", wire.CopyResult{Site: "alder", Bytes: 66e6},
			[]string{"safety copy 7 of alder is gone; 66 MB are free again"}},
		{[]string{"site", "rotate", "alder"}, nil, "POST /sites/alder/rotate", "", wire.RotateResult{Site: "alder", User: "ns_alder2",
			Admin: "alder-admin"}, []string{"alder works with database user ns_alder2", "nestseed vault reveal site alder administrator"}},
		{[]string{"site", "put-back", "alder", "7"}, nil, "POST /sites/alder/copies/7/put-back", "", wire.ProvisionResult{Site: "alder"},
			[]string{"made in 1.5 s\nalder: Alder Valley\n"}},
		{[]string{"site", "undo", "alder"}, map[string]any{"GET /sites/alder/undo": wire.UndoPlan{Sentences: []string{"the folder goes"},
			Mark: "abc"}}, "POST /sites/alder/undo", `{"mark":"abc"}`, nil, []string{"undone:\n- the folder goes\n"}},
		{[]string{"site", "move", "alder", "--host", "live", "--visible"},
			map[string]any{"POST /sites/alder/move/plan": wire.MovePlan{Mark: "abc"}}, "POST /sites/alder/move",
			`{"host":"live","visible":true,"mark":"abc"}`, wire.MoveResult{Site: "alder"}, []string{"made in 1.5 s"}},
		{[]string{"site", "refresh", "alder", "--to", "m@5"}, map[string]any{"POST /sites/alder/refresh/plan": wire.Plan{Mark: "abc"}},
			"POST /sites/alder/refresh", `{"from":"m@5","mark":"abc"}`, wire.ProvisionResult{Site: "alder"}, []string{"made in 1.5 s"}},
		{[]string{"site", "provision", "alder", "--from", "m", "--host", "preview", "--replace", "--keep", "comments", "--keep", "users",
			"--hold", "--set", "title=A", "--plan", "abc"}, nil, "POST /sites",
			`{"client":"alder","from":"m","host":"preview","set":{"title":"A"},"replace":true,"keep":["comments","users"],"hold":true,"plan":"abc"}`, wire.ProvisionResult{Site: "alder"}, []string{"made in 1.5 s"}},
	} {
		begins, events := ended(5, "work", c.result)
		s := &answers{by: map[string]any{c.start: begins, "GET /runs/5/events": events, "GET /sites/alder": site}}
		for ask, answer := range c.asks {
			s.by[ask] = answer
		}
		p := s.typed(t, "", c.words...)
		require.Zero(t, p.code, "%v: %s", c.words, p.err)
		i := slices.IndexFunc(s.asked, func(a string) bool { return strings.HasPrefix(a, c.start) && !strings.HasPrefix(a, c.start+"/") })
		require.GreaterOrEqual(t, i, 0, "%v", s.asked)
		if body := strings.TrimSpace(strings.TrimPrefix(s.asked[i], c.start)); c.body != "" {
			require.JSONEq(t, c.body, body)
		} else {
			require.Empty(t, body)
		}
		for _, line := range c.lines {
			require.Contains(t, p.out, line)
		}
	}
}

func TestASiteThatWasMadeWithFaultsIsShownAndEndsWithTheirCode(t *testing.T) {
	for _, c := range []struct {
		fresh  []string
		check  wire.Check
		strict bool
		code   int
	}{
		{[]string{"pages"}, wire.Check{Name: "pages", Result: wire.Fail, Sentence: "1 page fails"}, false, exitFaults},
		{nil, wire.Check{Name: "pages", Result: wire.Fail, Sentence: "1 page fails"}, false, 0}, // as before the change
		{nil, wire.Check{Name: "pages", Result: wire.Fail, Sentence: "1 page fails"}, true, exitFaults},
		{nil, wire.Check{Name: "pages", Result: wire.Pass, Sentence: "1 page fails", InSource: &wire.InSource{Result: wire.Fail,
			Evidence: []string{"/old/: 404"}}}, false, 0},
		{nil, wire.Check{Name: "pages", Result: wire.Pass, Sentence: "1 page fails", InSource: &wire.InSource{Result: wire.Fail}}, true, exitFaults},
	} {
		begins, events := ended(5, "work", wire.ProvisionResult{Site: "alder", NewFaults: c.fresh})
		s := &answers{by: map[string]any{"POST /sites": begins, "GET /runs/5/events": events,
			"GET /sites/alder": wire.Site{Name: "alder", Report: &wire.Report{Checks: []wire.Check{c.check}}}}}
		args := []string{"site", "provision", "alder", "--from", "m", "--host", "preview"}
		if c.strict {
			args = append(args, "--strict")
		}
		p := s.typed(t, "", args...)
		require.Equal(t, c.code, p.code)
		require.Contains(t, p.out, "pages                 1 page fails")
		if c.check.InSource != nil && len(c.check.InSource.Evidence) > 0 {
			require.Contains(t, p.out, "also in the source: /old/: 404")
		}
	}
}

func TestATableIsReadBeforeAnythingIsAsked(t *testing.T) {
	file := filepath.Join(t.TempDir(), "clients.csv")
	begins, events := ended(9, "table",
		wire.TableResult{Made: 1, Rows: []wire.TableOutcome{{Site: "alder", Status: wire.Done, Address: "http://alder.localhost"}}})
	s := &answers{by: map[string]any{"POST /sites/table": begins, "GET /runs/9/events": events, "POST /clients": wire.Client{Name: "alder"},
		"POST /sites/table/plan": wire.TablePlan{Ready: 1, There: 1, Wrong: 1,
			Rows: []wire.TableRowPlan{{Site: "alder", Client: "alder", Address: "http://alder.localhost", Ready: true, NewClient: true},
				{Site: "brook", Client: "brook", Address: "http://brook.localhost", There: true}, {Site: "x", Client: "x",
					Problems: []string{"title is missing"}}}}}}
	table := func(text string, words ...string) printed {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return s.typed(t, text, words...)
	}
	provision := []string{"site", "provision", "--from", "m", "--host", "preview", "--table", file}
	for text, says := range map[string]string{
		"":                          "has no rows",
		"client,title\n":            "has no rows; the first line names the columns, each further one is a site",
		"name,title\nalder,A\n":     "has no column client; it has name, title",
		"client,title\nalder\n":     "wrong number of fields",
		"client,title\nalder,\"A\n": "extraneous or missing \"",
	} {
		p := table(text, append(provision, "--mail")...)
		require.Equal(t, exitUsage, p.code, "%q", text)
		require.Contains(t, p.err, says)
		require.Empty(t, s.asked)
	}
	text := "\ufeffclient,name,address,title,phone\nalder,alder-site,http://a.example,\"Alder, Valley\",\n"
	p := table(text, append(provision, "--mail")...)
	require.Zero(t, p.code, p.err)
	require.JSONEq(t, `{"from":"m","host":"preview","mail":true,"rows":[{"client":"alder","name":"alder-site","address":"http://a.example","set":{"title":"Alder, Valley"}}]}`, strings.TrimPrefix(s.asked[0], "POST /sites/table "), "an empty cell is not a setting")
	require.Contains(t, p.out, "1 made, 0 failed")
	p = table(text, "site", "plan", "--from", "m", "--host", "preview", "--table", "-")
	require.Zero(t, p.code, p.err)
	for _, line := range []string{"✓  alder  alder (added)  http://alder.localhost\n", "http://brook.localhost (is there already, and stays)",
		"✗  x      x              title is missing", "1 would be made, 1 are there, 1 would fail; nothing has been touched"} {
		require.Contains(t, p.out, line)
	}

	p = table("name,title\nalder,A\nbrook,\n", "client", "import", file)
	require.Zero(t, p.code, p.err)
	require.Equal(t, "2 clients added\n", p.out)
	require.Equal(t, []string{`POST /clients {"name":"alder","settings":{"title":"A"}}`, `POST /clients {"name":"brook"}`}, s.asked)
	s.by["POST /clients"] = problem{409, `client "alder" is there already`}
	p = table("name,title\nalder,A\n", "client", "import", file)
	require.Equal(t, exitRefused, p.code)
	require.Contains(t, p.err, `alder: client "alder" is there already; 0 of 1 clients were added`)
}

func TestTheServiceIsFoundFromFlagsEnvironmentAndLogin(t *testing.T) {
	config, data := t.TempDir(), t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", config)
	t.Setenv("NESTSEED_DATA", data)
	t.Setenv("NESTSEED_SERVER", "")
	t.Setenv("NESTSEED_TOKEN", "")
	s := &answers{by: map[string]any{"GET /me": wire.Me{Name: "ines", Role: "owner"}, "GET /hosts": []wire.Host{}}}
	var tokens []string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		tokens = append(tokens, r.Header.Get("Authorization"))
		s.ServeHTTP(w, r)
	}))
	defer srv.Close()
	list := func(words ...string) int {
		var out, errOut bytes.Buffer
		return Run(t.Context(), "test", append(append([]string{"nestseed"}, words...), "host", "list"), nil, &out, &errOut)
	}
	require.NoError(t, os.WriteFile(filepath.Join(data, "owner-token"), []byte("of-the-folder\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(data, "address"), []byte("http://another.example\n"), 0o644))
	require.Zero(t, list("--server", srv.URL))
	require.Equal(t, []string{""}, tokens, "an owner's token is sent to its own service only")
	tokens = nil
	require.NoError(t, os.WriteFile(filepath.Join(data, "address"), []byte(srv.URL+"\n"), 0o644))
	require.Zero(t, list("--server", srv.URL+"/"))
	require.NoError(t, os.MkdirAll(filepath.Join(config, "nestseed"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(config, "nestseed", "access.yaml"), []byte("server: "+srv.URL+"\ntoken: of-login\n"), 0o600))
	require.Zero(t, list())
	require.Zero(t, list("--token", "of-the-flag"))
	t.Setenv("NESTSEED_TOKEN", "of-the-environment")
	require.Zero(t, list())
	require.Equal(t, []string{"Bearer of-the-folder", "Bearer of-login", "Bearer of-the-flag", "Bearer of-the-environment"}, tokens)
}

func TestWhatADamagedReleaseStillHasIsPrinted(t *testing.T) {
	result := archive.Verification{Entries: 2700, Bytes: 60e6,
		Faults: []archive.Fault{{Entry: "files/index.php",
			What: "does not have the sum it had when it was made"}}, Usable: []string{"the database is whole"}}
	begins, events := ended(4, "verify m@1", result)
	s := &answers{by: map[string]any{"POST /releases/m@1/verify": begins, "GET /runs/4/events": events}}
	p := s.typed(t, "", "release", "verify", "m@1")
	require.Equal(t, exitFaults, p.code)
	require.Contains(t, p.out, "✗ files/index.php does not have the sum it had when it was made\nthe database is whole\n")
	result.Faults = nil
	_, s.by["GET /runs/4/events"] = ended(4, "verify m@1", result)
	p = s.typed(t, "", "release", "verify", "m@1")
	require.Zero(t, p.code)
	require.Equal(t, "m@1 is whole: 2,700 entries, 60 MB, every sum holds\n", p.out)
	require.Equal(t, exitFailed, s.typed(t, "", "release", "verify", "./nothing.zip").code)
}

func TestADifferenceIsPrintedByAreaFileTableAndSetting(t *testing.T) {
	d := wire.Comparison{Summary: "31 MB larger: wp-content/backup (+30 MB)", Before: 16e6, After: 47e6, Added: wire.FileTally{Files: 2},
		Changed: wire.FileTally{Files: 1}}
	d.Areas = []wire.AreaDelta{{Area: "other", Packed: 30e6, Bytes: 30e6, Added: 1}, {Area: "themes", Packed: -1e6, Bytes: -2e6, Changed: 1}}
	for i := range 23 {
		d.Files = append(d.Files, wire.FileDelta{Path: fmt.Sprintf("f%02d", i), Change: "added", Packed: int64(1000 * (30 - i))})
	}
	d.Tables = []wire.TableDelta{{Table: "lad_posts", Change: "changed", Added: 2, Changed: 1, Bytes: 900, Note: "it has no primary key"}}
	d.Values = []wire.ValueDelta{{Where: "option blogname", Change: "changed", Before: "Loom", After: strings.Repeat("long ", 20)}}
	begins, events := ended(4, "compare", d)
	s := &answers{by: map[string]any{"POST /comparisons": begins, "GET /runs/4/events": events}}
	p := s.typed(t, "", "release", "compare", "m@1", "source")
	require.Zero(t, p.code, p.err)
	require.Equal(t, `POST /comparisons {"from":"m@1","to_source":true}`, s.asked[0])
	for _, part := range []string{"31 MB larger: wp-content/backup (+30 MB)\narchive 16 MB -> 47 MB; 2 files added, 0 removed, 1 changed; " +
		"rows of 1 table differ\n", "themes", "-1.0 MB", "+30 kB  added  f00\n", "and 3 more; see --json", "lad_posts  changed           2    " +
		"    0        1  +900 B  it has no primary key", "Loom  long long long long long long long long…"} {
		require.Contains(t, p.out, part)
	}
	require.NotContains(t, p.out, "f20")
}

func TestTheLinesOfAFileThatDifferArePrinted(t *testing.T) {
	s := &answers{by: map[string]any{"GET /releases/m@1/difference?path=style.css&to=m%402": wire.TextDelta{Path: "style.css", Added: 1, Removed: 2, Places: []wire.Place{
		{Before: 9, After: 9, Lines: []wire.DeltaLine{{Change: "same", Text: ":root {"}, {Change: "removed", Text: "--a"}, {Change: "removed", Text: "--b"},
			{Change: "added", Text: "--c\x1b[2J"}}}}},
		"GET /releases/m@1/difference?path=same.css&to=m%402": wire.TextDelta{Path: "same.css"}}}
	p := s.typed(t, "", "release", "compare", "m@1", "m@2", "--file", "style.css")
	require.Zero(t, p.code, p.err)
	require.Equal(t, "style.css: 1 line added, 2 removed\n\nline 9, now 9\n  :root {\n- --a\n- --b\n+ --c\ufffd[2J\n", p.out, "and nothing that a terminal would obey")
	p = s.typed(t, "", "release", "compare", "m@1", "m@2", "--file", "same.css")
	require.Equal(t, "same.css is the same in both\n", p.out)
}

func TestNothingThatIsPrintedIsObeyedByATerminal(t *testing.T) {
	s := &answers{by: map[string]any{"GET /clients/evil": wire.Client{Name: "evil", Settings: map[string]wire.Setting{"title": {Value: "A\x1b]0;B\a\u009bm\r\u202eC"}}}}}
	p := s.typed(t, "", "client", "show", "evil")
	require.Zero(t, p.code, p.err)
	require.Contains(t, p.out, "A\ufffd]0;B\ufffd\ufffdm\ufffd\ufffdC")
	p = s.typed(t, "", "client", "show", "evil", "--json")
	require.Contains(t, p.out, `A\u001b]0;B\u0007\u009bm\r\u202eC`)
	var again wire.Client
	require.NoError(t, json.Unmarshal([]byte(p.out), &again))
	require.Equal(t, "A\x1b]0;B\a\u009bm\r\u202eC", again.Settings["title"].Value, "what other programs read is the same value")
	s.by["GET /kinds/board"] = wire.Kind{Name: "board", Definition: "title: \u2067ב\u2069\n"}
	require.Equal(t, "title: \u2067ב\u2069\n", s.typed(t, "", "kind", "show", "board").out, "what is kept in a file is as it was written")
}

func TestAHostSaysHowMuchRoomItHas(t *testing.T) {
	free, at := int64(2_500_000_000), begun
	for _, c := range []struct {
		room *wire.Room
		use  *wire.HostUse
		says string
		not  string
	}{
		{&wire.Room{FreeBytes: &free, At: at}, &wire.HostUse{Sites: 21, Bytes: 793e6, Largest: 67e6}, "sites     21 sites of 793 MB, the largest 67 MB\nroom      2.5 GB free on ", "reached"},
		{&wire.Room{At: at, Trouble: "nobody answers"}, nil, "room      it could not be reached on ", "sites "},
		{&wire.Room{At: at}, &wire.HostUse{}, "room      it does not tell how much is free", "sites "},
		{nil, nil, "host      preview", "room "},
	} {
		s := &answers{by: map[string]any{"GET /hosts/preview": wire.Host{Name: "preview", Room: c.room, Use: c.use}}}
		p := s.typed(t, "", "host", "show", "preview")
		require.Zero(t, p.code, p.err)
		require.Contains(t, p.out, c.says)
		require.NotContains(t, p.out, c.not)
	}
}
