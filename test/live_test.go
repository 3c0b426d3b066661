package test

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
)

func TestASiteTakesNewerCodeKeepsItsContentAndGoesBack(t *testing.T) {
	s := siteOf(t, 6)
	extension := inBase("wp-content/plugins/recital.php")
	require.NoError(t, os.WriteFile(extension, []byte("<?php\n/* Plugin Name: Recital */\n"), 0o644))
	t.Cleanup(func() { os.Remove(extension) })
	must(t, "release", "build", "music-base", "--note", "with recitals")
	newest := ask[wire.Release](t, "release", "show", "music-base")
	execute(t, fmt.Sprintf("UPDATE %s.%soptions SET option_value = 'Written by the school' WHERE option_name = 'blogdescription'", s.Database,
		s.Prefix))
	own := filepath.Join(s.Folder, "wp-content/uploads/own.txt")
	require.NoError(t, os.WriteFile(own, []byte("a programme"), 0o644))
	before, password := standing(t, s), must(t, "vault", "reveal", "site", s.Name, "administrator")

	behind := ask[wire.Site](t, "site", "show", s.Name)
	require.Positive(t, behind.Behind)
	require.Equal(t, []wire.Ancestor{{Noun: "release", Name: s.Release}, {Noun: "source", Name: "base"}}, behind.Descent)
	require.Contains(t, must(t, "site", "list"), fmt.Sprintf("%s, %d behind", s.Release, behind.Behind))
	plan := must(t, "site", "refresh", s.Name, "--plan")
	require.Contains(t, plan, "wp-content/plugins/recital.php")
	require.Contains(t, plan, "nothing has been touched")
	require.Equal(t, before, standing(t, s))

	fresh := ask[wire.Site](t, "site", "refresh", s.Name)
	require.Zero(t, fresh.Report.Faults(), "%+v", fresh.Report)
	require.Equal(t, newest.Ref, fresh.Release)
	require.Zero(t, fresh.Behind)
	require.FileExists(t, filepath.Join(s.Folder, "wp-content/plugins/recital.php"))
	require.FileExists(t, own)
	require.Equal(t, 1, rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%soptions WHERE option_value = 'Written by the school'", fresh.Database,
		fresh.Prefix)))
	require.Equal(t, s.Prefix, fresh.Prefix)
	require.Equal(t, password, must(t, "vault", "reveal", "site", s.Name, "administrator"))
	require.Equal(t, s.Values, fresh.Values)
	loginInBrowser(t, fresh, strings.TrimSpace(password))
	require.Contains(t, must(t, "site", "refresh", s.Name, "--plan"), "has this code already")

	must(t, "site", "undo", s.Name)
	require.Equal(t, before, standing(t, s))
	must(t, "site", "undo", s.Name)
	nothingLeft(t, s.Name)
}

func TestAPreviewKeepsItsMailUntilTheSiteGoesLive(t *testing.T) {
	s := siteOf(t, 6)
	require.True(t, s.Quiet)
	send := `<?php $_SERVER['HTTP_HOST'] = 'x'; require 'wp-load.php'; add_action('wp_mail_failed', function () { echo 'tried'; }); wp_mail('someone@home.example', 'Concert', 'Tonight'); echo get_option('nestseed_mail_kept', 'none kept');`
	out, err := world.stack.RunPHP(t.Context(), s.Name, send)
	require.NoError(t, err)
	require.Equal(t, "1", out)
	code, text := visit(t, s.Address+"/")
	require.Equal(t, http.StatusOK, code)
	require.True(t, strings.Contains(text, "noindex"))

	require.Contains(t, must(t, "site", "open", s.Name, "--visible"), "sends its mail")
	live := ask[wire.Site](t, "site", "show", s.Name)
	require.False(t, live.Quiet)
	require.True(t, live.Visible)
	out, err = world.stack.RunPHP(t.Context(), s.Name, send)
	require.NoError(t, err)
	require.Equal(t, "tried1", out, "there is no mail server here, and it was asked for")
	_, text = visit(t, s.Address+"/")
	require.False(t, strings.Contains(text, "noindex"))
	require.Zero(t, nestseed(t, "site", "check", s.Name).code)
	must(t, "site", "undo", s.Name)
	must(t, "site", "provision", s.Client, "--from", "music-base@1", "--host", "preview", "--mail")
	require.False(t, ask[wire.Site](t, "site", "show", s.Name).Quiet)
	must(t, "site", "undo", s.Name)
}

func TestAHandoverLinkOpensOnce(t *testing.T) {
	s := siteOf(t, 7)
	password := strings.TrimSpace(must(t, "vault", "reveal", "site", s.Name, "administrator"))
	first := ask[wire.Handover](t, "site", "handover", s.Name)
	link := ask[wire.Handover](t, "site", "handover", s.Name, "--days", "3")
	require.WithinDuration(t, time.Now().Add(72*time.Hour), link.ExpiresAt, time.Minute)
	open := func(path string) (int, map[string]any) {
		_, key, _ := strings.Cut(path, "#")
		text, err := json.Marshal(wire.OpenHandover{Key: key})
		require.NoError(t, err)
		res, out := request(t, http.MethodPost, "/api/v1/handovers/open", string(text), nil)
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
	require.Equal(t, 2, nestseed(t, "agency", "set", "--logo", drawing).code)
	must(t, "agency", "set", "--name", "Loom & Ladder", "--contact", "studio@loom-ladder.example", "--colour", "#8a5fa8", "--logo", inBase("wp-admin/images/w-logo-blue.png"))

	// A client opens it, on a telephone that is not logged in to anything.
	tab, stop := browser.New(t.Context(), 390, 800)
	defer stop()
	var shown, address string
	var wide int
	require.NoError(t, chromedp.Run(tab, chromedp.EmulateViewport(390, 800)))
	do(t, tab, chromedp.Navigate(link.Path), chromedp.WaitVisible("main button", chromedp.ByQuery))
	require.Nil(t, ask[wire.Site](t, "site", "show", s.Name).Handovers[0].OpenedAt, "looking at the page does not use it up")
	do(t, tab, clicked("main button"), chromedp.WaitVisible("main article", chromedp.ByQuery),
		chromedp.Text("main article", &shown, chromedp.ByQuery), chromedp.Location(&address),
		until("document.querySelector('main article img').naturalWidth > 10"),
		chromedp.Evaluate("document.documentElement.scrollWidth - innerWidth", &wide))
	require.Zero(t, wide, "nothing is wider than a telephone")
	require.Contains(t, shown, "Loom & Ladder")
	require.Contains(t, shown, "studio@loom-ladder.example")
	require.Contains(t, shown, password)
	require.Contains(t, shown, s.Title)
	require.NotContains(t, address, "#", "the secret is taken out of the address")
	var printed string
	do(t, tab, chromedp.Evaluate(`(() => { const s = [...document.querySelectorAll('main article code')].map(e => e.closest('.print\\:hidden') !== null); return String(s) })()`, &printed))
	require.Equal(t, "true", printed, "the password is not printed")

	code, problem = open(link.Path)
	require.Equal(t, http.StatusGone, code)
	require.Contains(t, problem["detail"], "was opened on")
	require.Contains(t, auditLog(t), fmt.Sprintf("whoever opened handover %d revealed administrator of site %s", link.ID, s.Name))
	require.NotContains(t, world.service.out.String(), password)
	_, key, _ := strings.Cut(link.Path, "#")
	require.NotContains(t, world.service.out.String(), key)

	third := ask[wire.Handover](t, "site", "handover", s.Name)
	must(t, "site", "handover", s.Name, "--withdraw")
	code, _ = open(third.Path)
	require.Equal(t, http.StatusGone, code)
	sheet := filepath.Join(t.TempDir(), "sheet.html")
	must(t, "site", "handover", s.Name, "--sheet", sheet)
	text, err := os.ReadFile(sheet)
	require.NoError(t, err)
	require.Contains(t, string(text), s.LoginAt)
	require.NotContains(t, string(text), password)
	require.Contains(t, nestseed(t, "site", "handover", s.Name, "--sheet", sheet).err, "name a file that is not there yet")
	require.Contains(t, must(t, "site", "show", s.Name), "withdrawn")
}

func token(t *testing.T) string {
	text, err := os.ReadFile(filepath.Join(world.service.data, "owner-token"))
	require.NoError(t, err)
	return strings.TrimSpace(string(text))
}

// auditLog is the audit log as lines of who and what.
func auditLog(t *testing.T) string {
	req, err := http.NewRequest(http.MethodGet, world.service.address()+"/api/v1/audit", nil)
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
	s := siteOf(t, 7)
	require.Equal(t, 3, nestseed(t, "site", "side-by-side", "nobody").code)
	dir := filepath.Join(t.TempDir(), "pictures")
	seen := ask[wire.SideBySide](t, "site", "side-by-side", s.Name, "--pages", "2", "--to", dir)
	require.Equal(t, "base", seen.Source)
	require.Len(t, seen.Pages, 2)
	for _, p := range seen.Pages {
		require.Empty(t, p.Problem)
		require.Positive(t, p.Places, "the titles differ")
		require.Less(t, p.Share, 0.5)
		require.FileExists(t, filepath.Join(dir, p.Left))
		require.FileExists(t, filepath.Join(dir, p.Right))
	}
	res, _ := request(t, http.MethodGet, "/api/v1/sites/"+s.Name+"/side-by-side/1-left.png", "", nil)
	require.Equal(t, http.StatusUnauthorized, res.StatusCode)
	for _, name := range []string{"..%2F..%2Fowner-token", "9-left.png"} {
		res, _ = request(t, http.MethodGet, "/api/v1/sites/"+s.Name+"/side-by-side/"+name, "", map[string]string{"Authorization": "Bearer " +
			token(t)})
		require.GreaterOrEqual(t, res.StatusCode, 400)
	}
}

func TestASiteThatIsItselfASourceContinuesTheLine(t *testing.T) {
	s := siteOf(t, 7)
	folder := filepath.Base(s.Folder)
	must(t, "source", "add", "second-line", "--host", "preview", "--path", folder)
	must(t, "starter", "create", "second-base", "--from", "second-line")
	must(t, "release", "build", "second-base")
	child := siteOf(t, 8)
	must(t, "site", "undo", child.Name)
	must(t, "site", "provision", child.Client, "--from", "second-base", "--host", "preview")
	child = ask[wire.Site](t, "site", "show", child.Name)
	require.Equal(t, []wire.Ancestor{{Noun: "release", Name: "second-base@1"}, {Noun: "source", Name: "second-line"},
		{Noun: "site", Name: s.Name}, {Noun: "release", Name: s.Release}, {Noun: "source", Name: "base"}}, child.Descent)
	require.Contains(t, must(t, "site", "show", child.Name), "second-base@1 ← source second-line ← "+s.Name+" ← "+s.Release+" ← source base")
	out := nestseed(t, "source", "check", "second-line")
	require.Contains(t, out.out, "pages open")
	require.NotContains(t, out.out, "login")
	must(t, "site", "undo", child.Name)
}

func TestARuleDropsOldSafetyCopies(t *testing.T) {
	s := siteOf(t, 8)
	must(t, "site", "keep-copy", s.Name)
	must(t, "site", "keep-copy", s.Name)
	require.Contains(t, must(t, "site", "copy-rule", s.Name, "--last", "1"), "the newest is kept")
	copies := ask[wire.Site](t, "site", "show", s.Name).Copies
	require.NoError(t, world.service.stop())
	restart(t) // rules are applied at the start, and every hour
	for range 100 {
		if len(ask[wire.Site](t, "site", "show", s.Name).Copies) == 1 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	left := ask[wire.Site](t, "site", "show", s.Name).Copies
	require.Len(t, left, 1)
	require.Equal(t, copies[0].ID, left[0].ID, "the newest stays")
	require.Contains(t, must(t, "run", "list"), "safety copies by the rules")
	must(t, "site", "retire", s.Name, "--no-copy")
}

func TestWhatIsDoneWithASiteIsAskedForInTheConsole(t *testing.T) {
	s := siteOf(t, 9)
	live(t)
	tab := console(t)
	page := world.service.address() + "/sites/" + s.Name
	open := func(button string) []chromedp.Action {
		return []chromedp.Action{chromedp.Navigate(page), chromedp.WaitVisible(button, chromedp.BySearch),
			clicked(button), chromedp.WaitVisible("[role=dialog]", chromedp.ByQuery)}
	}
	named := func(name string) string { return fmt.Sprintf("//button[normalize-space()=%q]", name) }
	var text string
	inMenu := func(name string) []chromedp.Action {
		item := fmt.Sprintf("//*[@role='menuitem'][normalize-space()=%q]", name)
		return []chromedp.Action{chromedp.Navigate(page), chromedp.WaitVisible(named("More"), chromedp.BySearch), chromedp.Focus(named("More"),
			chromedp.BySearch), chromedp.KeyEvent("\r"), chromedp.WaitVisible(item, chromedp.BySearch), clicked(item)}
	}
	for opened, says := range map[string]string{"Newer code…": "code", "Move…": "safety copy of " + s.Name, "Undo…": "the site is removed",
		"Retire…": "The record stays", "New credentials…": "Visitors notice nothing"} {
		steps := open(named(opened))
		if opened == "Retire…" || opened == "New credentials…" {
			steps = inMenu(opened)
		}
		do(t, tab, append(steps, until(fmt.Sprintf("document.querySelector('[role=dialog]')?.textContent.includes(%q)",
			says)), chromedp.KeyEvent("\x1b"), closed)...)
	}
	do(t, tab, append(open(named("Make a link")), clicked("[role=dialog] button[type=submit]"),
		chromedp.WaitVisible("main code", chromedp.ByQuery), chromedp.Text("main code", &text, chromedp.ByQuery))...)
	require.Contains(t, text, "/handover#")
	do(t, tab, append(inMenu("Make a safety copy"), chromedp.WaitVisible("//h1[contains(., 'Copy site')]", chromedp.BySearch))...)
	ended(t, world.service.client(t))
	do(t, tab, append(open(named("Undo…")), chromedp.WaitVisible("[role=dialog] li", chromedp.ByQuery),
		clicked("[role=dialog] button[type=submit]:enabled"),
		chromedp.WaitVisible("//h1[contains(., 'Undo site')]", chromedp.BySearch))...)
	ended(t, world.service.client(t))
	require.NotNil(t, ask[wire.Site](t, "site", "show", s.Name).RetiredAt, "it stays in the record, with its copy")
	nothingLeft(t, s.Name)
}

func TestATableIsPlannedAndMadeInTheConsole(t *testing.T) {
	prepared(t)
	file := filepath.Join(t.TempDir(), "clients.csv")
	require.NoError(t, os.WriteFile(file,
		[]byte("client,title,email,booking_licence,measurement\r\nquay-side,\"Quay \"\"Side\"\", "+
			"Harps\",office@quay-side.example,LB-8K2M4Q-7781,M-1A2B3C\r\nrook-hill,Rook "+
			"Hill,office@rook-hill.example,LB-8K2M4Q-7782,nonsense\r\n"), 0o644))
	tab := console(t)
	var table string
	do(t, tab, chromedp.Navigate(world.service.address()+"/sites/table"), chromedp.WaitVisible("input[type=file]", chromedp.ByQuery),
		chromedp.SetUploadFiles("input[type=file]", []string{file}, chromedp.ByQuery), chromedp.WaitVisible("[aria-label=Rows] li",
			chromedp.ByQuery), chromedp.Text("[aria-label=Rows]", &table, chromedp.ByQuery))
	require.Contains(t, table, "quay-side (added)")
	require.Less(t, strings.Index(table, "rook-hill"), strings.Index(table, "quay-side"), "what is wrong comes first")
	require.Contains(t, table, "measurement")
	do(t, tab, clicked("//button[normalize-space()='Make 1 site']"),
		chromedp.WaitVisible("//h1[contains(., 'Make 2 sites')]", chromedp.BySearch))
	ended(t, world.service.client(t))
	s := ask[wire.Site](t, "site", "show", "quay-side")
	require.Equal(t, `Quay "Side", Harps`, s.Title)
	require.True(t, s.Held)
	require.Zero(t, s.Report.Faults(), "%+v", s.Report)
	nothingLeft(t, "rook-hill")
	must(t, "site", "undo", "quay-side")
}
