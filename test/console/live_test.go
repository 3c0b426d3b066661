package console

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

func TestASiteTakesNewerCodeKeepsItsContentAndGoesBack(t *testing.T) {
	s := world.SiteOf(t, 6)
	extension := world.InBase("wp-content/plugins/recital.php")
	require.NoError(t, os.WriteFile(extension, []byte("<?php\n/* Plugin Name: Recital */\n"), 0o644))
	t.Cleanup(func() { os.Remove(extension) })
	world.Must(t, "release", "build", "music-base", "--note", "with recitals")
	newest := world.Ask[wire.Release](t, "release", "show", "music-base")
	world.Execute(t, fmt.Sprintf("UPDATE %s.%soptions SET option_value = 'Written by the school' WHERE option_name = 'blogdescription'", s.Database,
		s.Prefix))
	own := filepath.Join(s.Folder, "wp-content/uploads/own.txt")
	require.NoError(t, os.WriteFile(own, []byte("a programme"), 0o644))
	before, password := world.Standing(t, s), world.Must(t, "vault", "reveal", "site", s.Name, "administrator")

	behind := world.Ask[wire.Site](t, "site", "show", s.Name)
	require.Positive(t, behind.Behind)
	require.Equal(t, []wire.Ancestor{{Noun: "release", Name: s.Release}, {Noun: "source", Name: "base"}}, behind.Descent)
	require.Contains(t, world.Must(t, "site", "list"), fmt.Sprintf("%s, %d behind", s.Release, behind.Behind))
	plan := world.Must(t, "site", "refresh", s.Name, "--plan")
	require.Contains(t, plan, "wp-content/plugins/recital.php")
	require.Contains(t, plan, "nothing has been touched")
	require.Equal(t, before, world.Standing(t, s))

	fresh := world.Ask[wire.Site](t, "site", "refresh", s.Name)
	require.Zero(t, fresh.Report.Faults(), "%+v", fresh.Report)
	require.Equal(t, newest.Ref, fresh.Release)
	require.Zero(t, fresh.Behind)
	require.FileExists(t, filepath.Join(s.Folder, "wp-content/plugins/recital.php"))
	require.FileExists(t, own)
	require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%soptions WHERE option_value = 'Written by the school'", fresh.Database,
		fresh.Prefix)))
	require.Equal(t, s.Prefix, fresh.Prefix)
	require.Equal(t, password, world.Must(t, "vault", "reveal", "site", s.Name, "administrator"))
	require.Equal(t, s.Values, fresh.Values)
	world.LoginInBrowser(t, fresh, strings.TrimSpace(password))
	require.Contains(t, world.Must(t, "site", "refresh", s.Name, "--plan"), "has this code already")

	world.Must(t, "site", "undo", s.Name)
	require.Equal(t, before, world.Standing(t, s))
	world.Must(t, "site", "undo", s.Name)
	world.NothingLeft(t, s.Name)
}

func TestAPreviewKeepsItsMailUntilTheSiteGoesLive(t *testing.T) {
	s := world.SiteOf(t, 6)
	require.True(t, s.Quiet)
	send := `<?php $_SERVER['HTTP_HOST'] = 'x'; require 'wp-load.php'; add_action('wp_mail_failed', function () { echo 'tried'; }); wp_mail('someone@home.example', 'Concert', 'Tonight'); echo get_option('nestseed_mail_kept', 'none kept');`
	out, err := world.Stack.RunPHP(t.Context(), s.Name, send)
	require.NoError(t, err)
	require.Equal(t, "1", out)
	code, text := world.Visit(t, s.Address+"/")
	require.Equal(t, http.StatusOK, code)
	require.True(t, strings.Contains(text, "noindex"))

	require.Contains(t, world.Must(t, "site", "open", s.Name, "--visible"), "sends its mail")
	live := world.Ask[wire.Site](t, "site", "show", s.Name)
	require.False(t, live.Quiet)
	require.True(t, live.Visible)
	out, err = world.Stack.RunPHP(t.Context(), s.Name, send)
	require.NoError(t, err)
	require.Equal(t, "tried1", out, "there is no mail server here, and it was asked for")
	_, text = world.Visit(t, s.Address+"/")
	require.False(t, strings.Contains(text, "noindex"))
	require.Zero(t, world.Nestseed(t, "site", "check", s.Name).Code)
	world.Must(t, "site", "undo", s.Name)
	world.Must(t, "site", "provision", s.Client, "--from", "music-base@1", "--host", "preview", "--mail")
	require.False(t, world.Ask[wire.Site](t, "site", "show", s.Name).Quiet)
	world.Must(t, "site", "undo", s.Name)
}

func TestAHandoverLinkOpensOnce(t *testing.T) {
	s := world.SiteOf(t, 7)
	password := strings.TrimSpace(world.Must(t, "vault", "reveal", "site", s.Name, "administrator"))
	first := world.Ask[wire.Handover](t, "site", "handover", s.Name)
	link := world.Ask[wire.Handover](t, "site", "handover", s.Name, "--days", "3")
	require.WithinDuration(t, time.Now().Add(72*time.Hour), link.ExpiresAt, time.Minute)
	open := func(path string) (int, map[string]any) {
		_, key, _ := strings.Cut(path, "#")
		text, err := json.Marshal(wire.OpenHandover{Key: key})
		require.NoError(t, err)
		res, out := world.Request(t, http.MethodPost, "/api/v1/handovers/open", string(text), nil)
		return res.StatusCode, out
	}
	code, problem := open(first.Path)
	require.Equal(t, http.StatusGone, code)
	require.Contains(t, problem["detail"], "newer one was made")
	code, problem = open("/handover#guess")
	require.Equal(t, http.StatusNotFound, code)
	require.Contains(t, problem["detail"], "copy it whole")

	// It is the agency's page: with its name, its colour, and whom to ask; a logo that could hold a program is refused.
	drawing := filepath.Join(t.TempDir(), "logo.svg")
	require.NoError(t, os.WriteFile(drawing, []byte(`<svg xmlns="http://www.w3.org/2000/svg" onload="alert(1)"/>`), 0o644))
	require.Equal(t, 2, world.Nestseed(t, "agency", "set", "--logo", drawing).Code)
	world.Must(t, "agency", "set", "--name", "Loom & Ladder", "--contact", "studio@loom-ladder.example", "--colour", "#8a5fa8", "--logo", world.InBase("wp-admin/images/w-logo-blue.png"))

	// A client opens it, on a telephone that is not logged in to anything.
	tab, stop := browser.New(t.Context(), 390, 800)
	defer stop()
	var shown, address string
	var wide int
	require.NoError(t, chromedp.Run(tab, chromedp.EmulateViewport(390, 800)))
	world.Do(t, tab, chromedp.Navigate(link.Path), chromedp.WaitVisible("main button", browser.ByQuery))
	require.Nil(t, world.Ask[wire.Site](t, "site", "show", s.Name).Handovers[0].OpenedAt, "looking at the page does not use it up")
	world.Do(t, tab, world.Clicked("main button"), chromedp.WaitVisible("main article", browser.ByQuery),
		chromedp.Text("main article", &shown, browser.ByQuery), chromedp.Location(&address),
		world.Until("document.querySelector('main article img').naturalWidth > 10"),
		chromedp.Evaluate("document.documentElement.scrollWidth - innerWidth", &wide))
	require.Zero(t, wide, "nothing is wider than a telephone")
	require.Contains(t, shown, "Loom & Ladder")
	require.Contains(t, shown, "studio@loom-ladder.example")
	require.Contains(t, shown, password)
	require.Contains(t, shown, s.Title)
	require.NotContains(t, address, "#", "the secret is taken out of the address")
	var printed string
	world.Do(t, tab, chromedp.Evaluate(`(() => { const s = [...document.querySelectorAll('main article code')].map(e => e.closest('.print\\:hidden') !== null); return String(s) })()`, &printed))
	require.Equal(t, "true", printed, "the password is not printed")

	code, problem = open(link.Path)
	require.Equal(t, http.StatusGone, code)
	require.Contains(t, problem["detail"], "was opened on")
	require.Contains(t, auditLog(t), fmt.Sprintf("whoever opened handover %d revealed administrator of site %s", link.ID, s.Name))
	require.NotContains(t, world.Service.Out.String(), password)
	_, key, _ := strings.Cut(link.Path, "#")
	require.NotContains(t, world.Service.Out.String(), key)

	third := world.Ask[wire.Handover](t, "site", "handover", s.Name)
	world.Must(t, "site", "handover", s.Name, "--withdraw")
	code, _ = open(third.Path)
	require.Equal(t, http.StatusGone, code)
	sheet := filepath.Join(t.TempDir(), "sheet.html")
	world.Must(t, "site", "handover", s.Name, "--sheet", sheet)
	text, err := os.ReadFile(sheet)
	require.NoError(t, err)
	require.Contains(t, string(text), s.LoginAt)
	require.NotContains(t, string(text), password)
	require.Contains(t, world.Nestseed(t, "site", "handover", s.Name, "--sheet", sheet).Err, "name a file that is not there yet")
	require.Contains(t, world.Must(t, "site", "show", s.Name), "withdrawn")
}

func token(t *testing.T) string {
	text, err := os.ReadFile(filepath.Join(world.Service.Data, "owner-token"))
	require.NoError(t, err)
	return strings.TrimSpace(string(text))
}

// auditLog is the audit log as lines of who and what.
func auditLog(t *testing.T) string {
	req, err := http.NewRequest(http.MethodGet, world.Service.Address()+"/api/v1/audit", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token(t))
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	var entries []wire.AuditEntry
	require.NoError(t, json.NewDecoder(res.Body).Decode(&entries))
	var lines []string
	for _, e := range entries {
		lines = append(lines, e.Who+" "+e.What)
	}
	return strings.Join(lines, "\n")
}

func TestASiteIsLookedAtBesideItsSource(t *testing.T) {
	s := world.SiteOf(t, 7)
	require.Equal(t, 3, world.Nestseed(t, "site", "side-by-side", "nobody").Code)
	dir := filepath.Join(t.TempDir(), "pictures")
	seen := world.Ask[wire.SideBySide](t, "site", "side-by-side", s.Name, "--pages", "2", "--to", dir)
	require.Equal(t, "base", seen.Source)
	require.Len(t, seen.Pages, 2)
	for _, p := range seen.Pages {
		require.Empty(t, p.Problem)
		require.Positive(t, p.Places, "the titles differ")
		require.Less(t, p.Share, 0.5)
		require.FileExists(t, filepath.Join(dir, p.Left))
		require.FileExists(t, filepath.Join(dir, p.Right))
	}
	res, _ := world.Request(t, http.MethodGet, "/api/v1/sites/"+s.Name+"/side-by-side/1-left.png", "", nil)
	require.Equal(t, http.StatusUnauthorized, res.StatusCode)
	for _, name := range []string{"..%2F..%2Fowner-token", "9-left.png"} {
		res, _ = world.Request(t, http.MethodGet, "/api/v1/sites/"+s.Name+"/side-by-side/"+name, "", map[string]string{"Authorization": "Bearer " +
			token(t)})
		require.GreaterOrEqual(t, res.StatusCode, 400)
	}
}

func TestASiteThatIsItselfASourceContinuesTheLine(t *testing.T) {
	s := world.SiteOf(t, 7)
	folder := filepath.Base(s.Folder)
	world.Must(t, "source", "add", "second-line", "--host", "preview", "--path", folder)
	world.Must(t, "starter", "create", "second-base", "--from", "second-line")
	world.Must(t, "release", "build", "second-base")
	child := world.SiteOf(t, 8)
	world.Must(t, "site", "undo", child.Name)
	world.Must(t, "site", "provision", child.Client, "--from", "second-base", "--host", "preview")
	child = world.Ask[wire.Site](t, "site", "show", child.Name)
	require.Equal(t, []wire.Ancestor{{Noun: "release", Name: "second-base@1"}, {Noun: "source", Name: "second-line"},
		{Noun: "site", Name: s.Name}, {Noun: "release", Name: s.Release}, {Noun: "source", Name: "base"}}, child.Descent)
	require.Contains(t, world.Must(t, "site", "show", child.Name), "second-base@1 ← source second-line ← "+s.Name+" ← "+s.Release+" ← source base")
	out := world.Nestseed(t, "source", "check", "second-line")
	require.Contains(t, out.Out, "pages open")
	require.NotContains(t, out.Out, "login")
	world.Must(t, "site", "undo", child.Name)
}

func TestARuleDropsOldSafetyCopies(t *testing.T) {
	s := world.SiteOf(t, 8)
	world.Must(t, "site", "keep-copy", s.Name)
	world.Must(t, "site", "keep-copy", s.Name)
	require.Contains(t, world.Must(t, "site", "copy-rule", s.Name, "--last", "1"), "the newest is kept")
	copies := world.Ask[wire.Site](t, "site", "show", s.Name).Copies
	require.NoError(t, world.Service.Stop())
	world.Restart(t) // rules are applied at the start, and every hour
	for range 100 {
		if len(world.Ask[wire.Site](t, "site", "show", s.Name).Copies) == 1 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	left := world.Ask[wire.Site](t, "site", "show", s.Name).Copies
	require.Len(t, left, 1)
	require.Equal(t, copies[0].ID, left[0].ID, "the newest stays")
	require.Contains(t, world.Must(t, "run", "list"), "safety copies by the rules")
	world.Must(t, "site", "retire", s.Name, "--no-copy")
}

func TestWhatIsDoneWithASiteIsAskedForInTheConsole(t *testing.T) {
	s := world.SiteOf(t, 9)
	world.Live(t)
	tab := world.Console(t)
	page := world.Service.Address() + "/sites/" + s.Name
	open := func(button string) []chromedp.Action {
		return []chromedp.Action{chromedp.Navigate(page), chromedp.WaitVisible(button, chromedp.BySearch),
			world.Clicked(button), chromedp.WaitVisible("[role=dialog]", browser.ByQuery)}
	}
	named := func(name string) string { return fmt.Sprintf("//button[normalize-space()=%q]", name) }
	var text string
	inMenu := func(name string) []chromedp.Action {
		item := fmt.Sprintf("//*[@role='menuitem'][normalize-space()=%q]", name)
		return []chromedp.Action{chromedp.Navigate(page), chromedp.WaitVisible(named("More"), chromedp.BySearch), chromedp.Focus(named("More"),
			chromedp.BySearch), chromedp.KeyEvent("\r"), chromedp.WaitVisible(item, chromedp.BySearch), world.Clicked(item)}
	}
	for opened, says := range map[string]string{"Newer code…": "code", "Move…": "safety copy of " + s.Name, "Undo…": "the site is removed",
		"Retire…": "The record stays", "New credentials…": "Visitors notice nothing"} {
		steps := open(named(opened))
		if opened == "Retire…" || opened == "New credentials…" {
			steps = inMenu(opened)
		}
		world.Do(t, tab, append(steps, world.Until(fmt.Sprintf("document.querySelector('[role=dialog]')?.textContent.includes(%q)",
			says)), chromedp.KeyEvent("\x1b"), closed)...)
	}
	world.Do(t, tab, append(open(named("Make a link")), world.Clicked("[role=dialog] button[type=submit]"),
		chromedp.WaitVisible("main code", browser.ByQuery), chromedp.Text("main code", &text, browser.ByQuery))...)
	require.Contains(t, text, "/handover#")
	world.Do(t, tab, append(inMenu("Make a safety copy"), chromedp.WaitVisible("//h1[contains(., 'Copy site')]", chromedp.BySearch))...)
	world.Ended(t, world.Service.Client(t))
	world.Do(t, tab, append(open(named("Undo…")), chromedp.WaitVisible("[role=dialog] li", browser.ByQuery),
		world.Clicked("[role=dialog] button[type=submit]:enabled"),
		chromedp.WaitVisible("//h1[contains(., 'Undo site')]", chromedp.BySearch))...)
	world.Ended(t, world.Service.Client(t))
	require.NotNil(t, world.Ask[wire.Site](t, "site", "show", s.Name).RetiredAt, "it stays in the record, with its copy")
	world.NothingLeft(t, s.Name)
}

func TestATableIsPlannedAndMadeInTheConsole(t *testing.T) {
	world.Prepared(t)
	file := filepath.Join(t.TempDir(), "clients.csv")
	require.NoError(t, os.WriteFile(file,
		[]byte("client,title,email,booking_licence,measurement\r\nquay-side,\"Quay \"\"Side\"\", "+
			"Harps\",office@quay-side.example,LB-8K2M4Q-7781,M-1A2B3C\r\nrook-hill,Rook "+
			"Hill,office@rook-hill.example,LB-8K2M4Q-7782,nonsense\r\n"), 0o644))
	tab := world.Console(t)
	var table string
	world.Do(t, tab, chromedp.Navigate(world.Service.Address()+"/sites/table"), chromedp.WaitVisible("input[type=file]", browser.ByQuery),
		chromedp.SetUploadFiles("input[type=file]", []string{file}, browser.ByQuery), chromedp.WaitVisible("[aria-label=Rows] li",
			browser.ByQuery), chromedp.Text("[aria-label=Rows]", &table, browser.ByQuery))
	require.Contains(t, table, "quay-side (added)")
	require.Less(t, strings.Index(table, "rook-hill"), strings.Index(table, "quay-side"), "what is wrong comes first")
	require.Contains(t, table, "measurement")
	world.Do(t, tab, world.Clicked("//button[normalize-space()='Make 1 site']"),
		chromedp.WaitVisible("//h1[contains(., 'Make 2 sites')]", chromedp.BySearch))
	world.Ended(t, world.Service.Client(t))
	s := world.Ask[wire.Site](t, "site", "show", "quay-side")
	require.Equal(t, `Quay "Side", Harps`, s.Title)
	require.True(t, s.Held)
	require.Zero(t, s.Report.Faults(), "%+v", s.Report)
	world.NothingLeft(t, "rook-hill")
	world.Must(t, "site", "undo", "quay-side")
}

// text returns the one value of a query.
func text(t *testing.T, query string, args ...any) (s string) {
	t.Helper()
	db, err := world.Stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(query, args...).Scan(&s), query)
	return s
}
