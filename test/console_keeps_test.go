package test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"nestseed/internal/wire"
)

// What was typed is there again, whatever happens in between.
func TestNothingThatWasTypedIsLost(t *testing.T) {
	prepared(t)
	tab := console(t)
	var name, address string
	do(t, tab, showing("/clients", "Customers of the agency"), press("Add a client"), filled("name", "half-typed"),
		chromedp.MouseClickXY(20, 760), chromedp.Sleep(200*time.Millisecond), chromedp.Value("[role=dialog] [name=name]", &name, chromedp.ByQuery))
	require.Equal(t, "half-typed", name, "a click beside a window leaves it open")
	do(t, tab, chromedp.KeyEvent(kb.Escape), closed, press("Add a client"), saying("What you typed before is here again"),
		chromedp.Value("[role=dialog] [name=name]", &name, chromedp.ByQuery))
	require.Equal(t, "half-typed", name)
	do(t, tab, press("Begin anew"), chromedp.Value("[role=dialog] [name=name]", &name, chromedp.ByQuery), chromedp.KeyEvent(kb.Escape), closed)
	require.Empty(t, name)

	do(t, tab, showing("/sites/new", "Plan"), typed("#f-address", "http://half-typed.localhost"), clicked(`nav a[href="/hosts"]`), saying("Places with files"),
		chromedp.Evaluate("history.back()", nil), chromedp.WaitVisible("#f-address", chromedp.ByQuery), chromedp.Value("#f-address", &address, chromedp.ByQuery))
	require.Equal(t, "http://half-typed.localhost", address, "also when one goes away and comes back")
	var kept string
	file := filepath.Join(t.TempDir(), "of a school.zip")
	require.NoError(t, os.WriteFile(file, []byte("half"), 0o600))
	var chosen string
	do(t, tab, press("Begin anew"), until("document.querySelector('#f-address').value === ''"), clicked(`nav a[href="/starters"]`), press("Import a release…"),
		chromedp.SetUploadFiles("#f-files", []string{file}, chromedp.ByQuery), chromedp.KeyEvent(kb.Escape), closed,
		clicked(`nav a[href="/sites"]`), saying("What was made from releases"), clicked(`nav a[href="/starters"]`), press("Import a release…"), saying("What you typed before is here again"), chromedp.Evaluate("document.querySelector('#f-files').files[0]?.name", &chosen),
		press("Begin anew"), chromedp.KeyEvent(kb.Escape), closed)
	require.Equal(t, "of a school.zip", chosen, "a file that was chosen is chosen still")
	do(t, tab, showing("/people", "Your tokens"), press("Change your password"), filled("old", "not to be kept"), chromedp.KeyEvent(kb.Escape), closed,
		chromedp.Evaluate("JSON.stringify({...sessionStorage}) + JSON.stringify({...localStorage})", &kept))
	require.NotContains(t, kept, "not to be kept", "secrets are not kept in the browser")
}

// A session that has ended is begun again over the page, which stays as it is.
func TestASessionThatEndsTakesNothingAway(t *testing.T) {
	prepared(t)
	tab := console(t)
	do(t, tab, showing("/clients", "Customers of the agency"), press("Add a client"), filled("name", "after-the-session"),
		chromedp.ActionFunc(func(ctx context.Context) error { return network.ClearBrowserCookies().Do(ctx) }), press("Add"), saying("Your session has ended"))
	var name string
	do(t, tab, chromedp.SendKeys("form [name=password]", world.password, chromedp.ByQuery),
		clicked(`//*[@role='dialog']//button[normalize-space()='Log in']`),
		until("!document.body.innerText.includes('Your session has ended')"),
		chromedp.Value("[role=dialog] [name=name]", &name, chromedp.ByQuery), press("Add"), closed, saying("after-the-session"))
	require.Equal(t, "after-the-session", name)
	must(t, "client", "remove", "after-the-session")
}

// A service that does not answer is no empty service; when it answers again, the page goes on by itself.
func TestAServiceThatIsAwayIsSaidToBe(t *testing.T) {
	prepared(t)
	tab := console(t)
	do(t, tab, showing("/starters", "music-base"))
	require.NoError(t, world.service.stop())
	back := sync.OnceFunc(func() { restart(t) })
	defer back()
	var text string
	do(t, tab, saying("The service does not answer"), clicked(`nav a[href="/hosts"]`), chromedp.Sleep(time.Second),
		chromedp.Text("body", &text, chromedp.ByQuery))
	require.Contains(t, text, "music-base", "what was read stays to be read")
	require.NotContains(t, text, "nothing is running")
	back()
	do(t, tab, until("!document.body.innerText.includes('The service does not answer')"), saying("Places with files"), saying("preview"))
}

func TestListsAreFoundSortedAndActedOnFromTheirAddress(t *testing.T) {
	prepared(t)
	s := siteOf(t, 11)
	t.Cleanup(func() { must(t, "site", "retire", s.Name, "--no-copy") })
	tab := console(t)
	var title, focus string
	box := fmt.Sprintf(`tbody input[aria-label=%q]`, "Choose "+s.Title)
	do(t, tab, showing("/sites?find="+s.Name, s.Title), chromedp.Title(&title), chromedp.WaitVisible(box, chromedp.ByQuery),
		clicked(box), saying("1 chosen"), press("Check"), saying("Background work"),
		saying("Check "+s.Name), until("document.activeElement?.tagName === 'H1'"), chromedp.Evaluate("document.title", &focus))
	require.Equal(t, "Sites · Nest Seed", title)
	require.Contains(t, focus, "Runs · Nest Seed")
	ended(t, world.service.client(t))
	do(t, tab, showing("/runs?status=done&job=check", "Check "+s.Name), showing("/sites?find=nothing-like-this", "No site is like that"),
		chromedp.KeyEvent("k", chromedp.KeyModifiers(2)), chromedp.WaitVisible("[cmdk-input]", chromedp.ByQuery), chromedp.SendKeys("[cmdk-input]", s.Name, chromedp.ByQuery),
		chromedp.WaitVisible(fmt.Sprintf(`[cmdk-item][data-value="/sites/%s"]`, s.Name), chromedp.ByQuery),
		clicked(fmt.Sprintf(`[cmdk-item][data-value="/sites/%s"]`, s.Name)),
		until(fmt.Sprintf("location.pathname === '/sites/%s'", s.Name)))
}

// What is known and harmless is accepted with its reason, and is not shown as something to look at any more.
func TestWhatIsKnownIsAccepted(t *testing.T) {
	prepared(t)
	dir := filepath.Join(world.stack.Sites(), "accepting")
	require.NoError(t, os.CopyFS(dir, os.DirFS(inBase("."))))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "debug.log"), []byte("a warning"), 0o644))
	must(t, "source", "add", "accepting", "--host", "preview", "--path", "accepting")
	t.Cleanup(func() {
		must(t, "source", "remove", "accepting")
		os.RemoveAll(dir)
	})
	must(t, "source", "survey", "accepting")
	var f *wire.Finding
	for _, of := range ask[wire.Source](t, "source", "show", "accepting").Survey.Findings {
		if of.Severity == "warning" {
			f = &of
		}
	}
	require.NotNil(t, f)
	require.Equal(t, 2, nestseed(t, "source", "accept", "accepting", f.What, "elsewhere", "--reason", "small").code)
	require.Equal(t, 2, nestseed(t, "source", "accept", "accepting", f.What, f.Where).code, "it takes a reason")
	tab := console(t)
	do(t, tab, showing("/sources/accepting", "Findings"),
		clicked(fmt.Sprintf(`//*[@id='findings']//li[contains(., %q)]//button[normalize-space()='Accept…']`, f.Where)),
		filled("reason", "it is wanted there"), press("Accept it"), closed, saying("1 accepted"))
	require.Equal(t, "it is wanted there", ask[wire.Source](t, "source", "show", "accepting").Accepted[0].Reason)
	today, err := world.service.client(t).Today(t.Context())
	require.NoError(t, err)
	for _, g := range today.Groups {
		for _, i := range g.Items {
			require.False(t, g.Name == "accepting" && i.What == f.What && i.Where == f.Where, "%+v", g)
		}
	}
	must(t, "source", "accept", "accepting", f.What, f.Where, "--undo")
	require.Empty(t, ask[wire.Source](t, "source", "show", "accepting").Accepted)
}

func TestAFolderIsFoundOnItsHost(t *testing.T) {
	prepared(t)
	folders := ask[wire.Folders](t, "host", "folders", "preview")
	kinds := map[string]string{}
	for _, f := range folders.Folders {
		kinds[f.Name] = f.Kind
	}
	require.Equal(t, "wordpress", kinds["base"])
	require.Equal(t, 2, nestseed(t, "host", "folders", "preview", "../").code)
	tab := console(t)
	var path string
	do(t, tab, showing("/sources", "Configured sites"), press("Add a source"), chromedp.WaitVisible("[role=dialog] select", chromedp.ByQuery),
		chromedp.SetValue("[role=dialog] [name=host]", "preview", chromedp.ByQuery), press("Look for it"),
		chromedp.WaitVisible(`//li[contains(., 'base')][contains(., 'WordPress')]//button[normalize-space()='Take it']`, chromedp.BySearch),
		clicked(`//li[.//button[text()='base']]//button[normalize-space()='Take it']`), chromedp.Value("[role=dialog] [name=path]", &path, chromedp.ByQuery))
	require.Equal(t, "base", path)
}

// What is sent first is small, and packed.
func TestThePagesAreSentPacked(t *testing.T) {
	prepared(t)
	tab := console(t)
	var script, all float64
	do(t, tab, chromedp.ActionFunc(func(ctx context.Context) error { return network.SetCacheDisabled(true).Do(ctx) }), showing("/", "Today"), chromedp.Sleep(time.Second),
		chromedp.Evaluate("performance.getEntriesByType('resource').filter(e => e.name.endsWith('.js')).reduce((n, e) => n + e.transferSize, 0)", &script),
		chromedp.Evaluate("performance.getEntriesByType('resource').filter(e => e.name.includes('/assets/')).reduce((n, e) => n + e.transferSize, 0)", &all))
	require.NotZero(t, script)
	require.Less(t, script, 200e3, "script at first load")
	require.Less(t, all, 300e3, "with styles and fonts")
	req, err := http.NewRequest(http.MethodGet, world.service.address()+"/api/v1/releases/music-base@1", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token(t))
	req.Header.Set("Accept-Encoding", "gzip")
	res, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, "gzip", res.Header.Get("Content-Encoding"))
}
