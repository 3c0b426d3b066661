package console

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

	"nestseed/demo/browser"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// What was typed is there again, whatever happens in between.
func TestNothingThatWasTypedIsLost(t *testing.T) {
	world.Prepared(t)
	tab := world.Console(t)
	var name, address string
	world.Do(t, tab, world.Showing("/clients", "Customers of the agency"), world.Press("Add a client"), filled("name", "half-typed"),
		chromedp.MouseClickXY(20, 760), chromedp.Sleep(200*time.Millisecond), chromedp.Value("[role=dialog] [name=name]", &name, browser.ByQuery))
	require.Equal(t, "half-typed", name, "a click beside a window leaves it open")
	world.Do(t, tab, chromedp.KeyEvent(kb.Escape), closed, world.Press("Add a client"), world.Saying("What you typed before is here again"),
		chromedp.Value("[role=dialog] [name=name]", &name, browser.ByQuery))
	require.Equal(t, "half-typed", name)
	world.Do(t, tab, world.Press("Start over"), chromedp.Value("[role=dialog] [name=name]", &name, browser.ByQuery), chromedp.KeyEvent(kb.Escape), closed)
	require.Empty(t, name)

	world.Do(t, tab, world.Showing("/sites/new", "Plan"), world.Typed("#f-address", "http://half-typed.localhost"), world.Clicked(`nav a[href="/hosts"]`), world.Saying("Places with files"),
		chromedp.Evaluate("history.back()", nil), chromedp.WaitVisible("#f-address", browser.ByQuery), chromedp.Value("#f-address", &address, browser.ByQuery))
	require.Equal(t, "http://half-typed.localhost", address, "also when one goes away and comes back")
	var kept string
	file := filepath.Join(t.TempDir(), "of a school.zip")
	require.NoError(t, os.WriteFile(file, []byte("half"), 0o600))
	var chosen string
	world.Do(t, tab, world.Press("Start over"), world.Until("document.querySelector('#f-address').value === ''"), world.Clicked(`nav a[href="/starters"]`), world.Press("Import a release…"),
		chromedp.SetUploadFiles("#f-files", []string{file}, browser.ByQuery), chromedp.KeyEvent(kb.Escape), closed,
		world.Clicked(`nav a[href="/sites"]`), world.Saying("What was made from releases"), world.Clicked(`nav a[href="/starters"]`), world.Press("Import a release…"), world.Saying("What you typed before is here again"), chromedp.Evaluate("document.querySelector('#f-files').files[0]?.name", &chosen),
		world.Press("Start over"), chromedp.KeyEvent(kb.Escape), closed)
	require.Equal(t, "of a school.zip", chosen, "a file that was chosen is chosen still")
	world.Do(t, tab, world.Showing("/people", "Your tokens"), world.Press("Change your password"), filled("old", "not to be kept"), chromedp.KeyEvent(kb.Escape), closed,
		chromedp.Evaluate("JSON.stringify({...sessionStorage}) + JSON.stringify({...localStorage})", &kept))
	require.NotContains(t, kept, "not to be kept", "secrets are not kept in the browser")
}

// A session that has ended is begun again over the page, which stays as it is.
func TestASessionThatEndsTakesNothingAway(t *testing.T) {
	world.Prepared(t)
	tab := world.Console(t)
	world.Do(t, tab, world.Showing("/clients", "Customers of the agency"), world.Press("Add a client"), filled("name", "after-the-session"),
		chromedp.ActionFunc(func(ctx context.Context) error { return network.ClearBrowserCookies().Do(ctx) }), world.Press("Add"), world.Saying("Your session has ended"))
	var name string
	world.Do(t, tab, chromedp.SendKeys("form [name=password]", world.Password, browser.ByQuery),
		world.Clicked(`//*[@role='dialog']//button[normalize-space()='Log in']`),
		world.Until("!document.body.innerText.includes('Your session has ended')"),
		chromedp.Value("[role=dialog] [name=name]", &name, browser.ByQuery), world.Press("Add"), closed, world.Saying("after-the-session"))
	require.Equal(t, "after-the-session", name)
	world.Must(t, "client", "remove", "after-the-session")
}

// A service that does not answer is no empty service; when it answers again, the page goes on by itself.
func TestAServiceThatIsAwayIsSaidToBe(t *testing.T) {
	world.Prepared(t)
	tab := world.Console(t)
	world.Do(t, tab, world.Showing("/starters", "music-base"))
	require.NoError(t, world.Service.Stop())
	back := sync.OnceFunc(func() { world.Restart(t) })
	defer back()
	var text string
	world.Do(t, tab, world.Saying("The service does not answer"), world.Clicked(`nav a[href="/hosts"]`), chromedp.Sleep(time.Second),
		chromedp.Text("body", &text, browser.ByQuery))
	require.Contains(t, text, "music-base", "what was read stays to be read")
	require.NotContains(t, text, "nothing is running")
	back()
	world.Do(t, tab, world.Until("!document.body.innerText.includes('The service does not answer')"), world.Saying("Places with files"), world.Saying("preview"))
}

func TestListsAreFoundSortedAndActedOnFromTheirAddress(t *testing.T) {
	world.Prepared(t)
	s := world.SiteOf(t, 11)
	t.Cleanup(func() { world.Must(t, "site", "retire", s.Name, "--no-copy") })
	tab := world.Console(t)
	var title, focus string
	box := fmt.Sprintf(`tbody input[aria-label=%q]`, "Choose "+s.Title)
	world.Do(t, tab, world.Showing("/sites?find="+s.Name, s.Title), chromedp.Title(&title), chromedp.WaitVisible(box, browser.ByQuery),
		world.Clicked(box), world.Saying("1 chosen"), world.Press("Check"), world.Saying("Background work"),
		world.Saying("Check "+s.Name), world.Until("document.activeElement?.tagName === 'H1'"), chromedp.Evaluate("document.title", &focus))
	require.Equal(t, "Sites · Nest Seed", title)
	require.Contains(t, focus, "Runs · Nest Seed")
	world.Ended(t, world.Service.Client(t))
	world.Do(t, tab, world.Showing("/runs?status=done&job=check", "Check "+s.Name), world.Showing("/sites?find=nothing-like-this", "No matching sites"),
		chromedp.KeyEvent("k", chromedp.KeyModifiers(2)), chromedp.WaitVisible("[cmdk-input]", browser.ByQuery), chromedp.SendKeys("[cmdk-input]", s.Name, browser.ByQuery),
		chromedp.WaitVisible(fmt.Sprintf(`[cmdk-item][data-value="/sites/%s"]`, s.Name), browser.ByQuery),
		world.Clicked(fmt.Sprintf(`[cmdk-item][data-value="/sites/%s"]`, s.Name)),
		world.Until(fmt.Sprintf("location.pathname === '/sites/%s'", s.Name)))
}

// What is known and harmless is accepted with its reason, and is not shown as something to look at any more.
func TestWhatIsKnownIsAccepted(t *testing.T) {
	world.Prepared(t)
	dir := filepath.Join(world.Stack.Sites(), "accepting")
	require.NoError(t, os.CopyFS(dir, os.DirFS(world.InBase("."))))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "debug.log"), []byte("a warning"), 0o644))
	world.Must(t, "source", "add", "accepting", "--host", "preview", "--path", "accepting")
	t.Cleanup(func() {
		world.Must(t, "source", "remove", "accepting")
		os.RemoveAll(dir)
	})
	world.Must(t, "source", "survey", "accepting")
	var f *wire.Finding
	for _, of := range world.Ask[wire.Source](t, "source", "show", "accepting").Survey.Findings {
		if of.Severity == "warning" {
			f = &of
		}
	}
	require.NotNil(t, f)
	require.Equal(t, 2, world.Nestseed(t, "source", "accept", "accepting", f.What, "elsewhere", "--reason", "small").Code)
	require.Equal(t, 2, world.Nestseed(t, "source", "accept", "accepting", f.What, f.Where).Code, "it takes a reason")
	tab := world.Console(t)
	world.Do(t, tab, world.Showing("/sources/accepting", "Findings"),
		world.Clicked(fmt.Sprintf(`//*[@id='findings']//li[contains(., %q)]//button[normalize-space()='Accept…']`, f.Where)),
		filled("reason", "it is wanted there"), world.Press("Accept it"), closed, world.Saying("1 accepted"))
	require.Equal(t, "it is wanted there", world.Ask[wire.Source](t, "source", "show", "accepting").Accepted[0].Reason)
	today, err := world.Service.Client(t).Today(t.Context())
	require.NoError(t, err)
	for _, g := range today.Groups {
		for _, i := range g.Items {
			require.False(t, g.Name == "accepting" && i.What == f.What && i.Where == f.Where, "%+v", g)
		}
	}
	world.Must(t, "source", "accept", "accepting", f.What, f.Where, "--undo")
	require.Empty(t, world.Ask[wire.Source](t, "source", "show", "accepting").Accepted)
}

func TestAFolderIsFoundOnItsHost(t *testing.T) {
	world.Prepared(t)
	folders := world.Ask[wire.Folders](t, "host", "folders", "preview")
	kinds := map[string]string{}
	for _, f := range folders.Folders {
		kinds[f.Name] = f.Kind
	}
	require.Equal(t, "wordpress", kinds["base"])
	require.Equal(t, 2, world.Nestseed(t, "host", "folders", "preview", "../").Code)
	tab := world.Console(t)
	var path string
	world.Do(t, tab, world.Showing("/sources", "Configured sites"), world.Press("Add a source"), chromedp.WaitVisible("[role=dialog] select", browser.ByQuery),
		chromedp.SetValue("[role=dialog] [name=host]", "preview", browser.ByQuery), world.Press("Look for it"),
		chromedp.WaitVisible(`//li[contains(., 'base')][contains(., 'WordPress')]//button[normalize-space()='Take it']`, chromedp.BySearch),
		world.Clicked(`//li[.//button[text()='base']]//button[normalize-space()='Take it']`), chromedp.Value("[role=dialog] [name=path]", &path, browser.ByQuery))
	require.Equal(t, "base", path)
}

// What is sent first is small, and packed.
func TestThePagesAreSentPacked(t *testing.T) {
	world.Prepared(t)
	tab := world.Console(t)
	var script, all float64
	world.Do(t, tab, chromedp.ActionFunc(func(ctx context.Context) error { return network.SetCacheDisabled(true).Do(ctx) }), world.Showing("/", "Today"), chromedp.Sleep(time.Second),
		chromedp.Evaluate("performance.getEntriesByType('resource').filter(e => e.name.endsWith('.js')).reduce((n, e) => n + e.transferSize, 0)", &script),
		chromedp.Evaluate("performance.getEntriesByType('resource').filter(e => e.name.includes('/assets/')).reduce((n, e) => n + e.transferSize, 0)", &all))
	require.NotZero(t, script)
	require.Less(t, script, 200e3, "script at first load")
	require.Less(t, all, 300e3, "with styles and fonts")
	req, err := http.NewRequest(http.MethodGet, world.Service.Address()+"/api/v1/releases/music-base@1", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token(t))
	req.Header.Set("Accept-Encoding", "gzip")
	res, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, "gzip", res.Header.Get("Content-Encoding"))
}
