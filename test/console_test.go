package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/demo/scenario"
	"nestseed/internal/wire"
)

const axeSource = "../web/node_modules/axe-core/axe.min.js"

// awaitPromise waits for what the script promises.
func awaitPromise(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

// console opens a browser that is logged in to the console.
func console(t *testing.T) context.Context {
	if _, err := os.Stat("../web/dist/index.html"); err != nil {
		t.Fatal("the console is not built; run make build")
	}
	tab, stop := browser.New(context.Background(), 1280, 800)
	t.Cleanup(stop)
	require.NoError(t, browser.Login(tab, world.service.address(), "owner", world.password))
	// A page that asks before it is left keeps everything waiting for an answer.
	chromedp.ListenTarget(tab, func(event any) {
		if asks, is := event.(*page.EventJavascriptDialogOpening); is {
			t.Errorf("the browser asks (%s) %s", asks.Type, asks.Message)
			go chromedp.Run(tab, page.HandleJavaScriptDialog(true))
		}
	})
	return tab
}

// do does one thing after the other in a tab.
func do(t *testing.T, tab context.Context, actions ...chromedp.Action) {
	t.Helper()
	ctx, cancel := context.WithTimeout(tab, 3*time.Minute)
	defer cancel()
	for i, action := range actions {
		err := chromedp.Run(ctx, action)
		// A node that was found may be gone when it is asked for, as pages are drawn again while they load.
		for try := 1; try < 3 && err != nil && strings.Contains(err.Error(), "(-32000)"); try++ {
			err = chromedp.Run(ctx, action)
		}
		require.NoError(t, err, "action %d of %d", i+1, len(actions))
	}
}

func TestEveryPageOpensAndPassesAxeInBothThemes(t *testing.T) {
	prepared(t)
	school := scenario.Schools(7)[6].Name
	addClient(t, scenario.Schools(7)[6])
	must(t, "site", "provision", school, "--from", "music-base", "--host", "preview")
	must(t, "source", "survey", "base")
	must(t, "site", "side-by-side", school, "--pages", "1")
	must(t, "install", "add", "on-a-page", "--from", "music-base", "--host", "preview")
	t.Cleanup(func() { must(t, "install", "remove", "on-a-page") })
	axe, err := os.ReadFile(axeSource)
	require.NoError(t, err)
	openAll, err := os.ReadFile("openall.js")
	require.NoError(t, err)
	tab := console(t)
	known := []string{}
	for path, ready := range map[string]string{
		"/": "table", "/sources": "table", "/sources/base": "table", "/starters": "table", "/starters/music-base": "ol li",
		"/starters/music-base/packing": "[role=treeitem]", "/kinds": "table", "/kinds/wordpress": "pre", "/people": "table", "/settings": "article", "/hosts/preview": "dl",
		"/parts": "[aria-label='Size map'] button", "/releases/music-base@1?file=database/lad_options": "[aria-label^=Rows] table",
		"/releases/music-base@1": "[aria-label='Size map'] button",
		"/clients":               "table", "/clients?asked-by=music-base": "table", "/clients/" + school: "table", "/sites": "table", "/sites/" + school: "section ul li",
		"/sites/new?client=" +
			school: "ol li", "/runs": "table", "/runs/1": "ol li",
		"/installs/on-a-page": "table", "/hosts": "table", "/vault": "main ul li", "/sites/" + school + "/sheet": "article", "/sites/" + school +
			"/side-by-side": "main img", "/handover": "main p",
	} {
		names, err := json.Marshal(known)
		require.NoError(t, err)
		var found struct{ Opened, Faults []string }
		do(t, tab, chromedp.Navigate(world.service.address()+path), chromedp.WaitVisible(ready, chromedp.ByQuery), chromedp.Sleep(250*time.Millisecond),
			chromedp.Evaluate(string(axe), nil), chromedp.Evaluate(fmt.Sprintf("%s(%s)", openAll, names), &found, awaitPromise))
		assert.Empty(t, found.Faults, path)
		known = append(known, found.Opened...)
	}
	for _, name := range []string{"Add a host", "Change…", "Choose columns", "Undo…", "Retire… of More", "From a table…"} {
		assert.Contains(t, known, name)
	}
	t.Logf("%d windows and menus: %s", len(known), strings.Join(known, ", "))
}

// choosing takes one of the choices of a field, as the keyboard does.
func choosing(field, value string) chromedp.Action {
	return chromedp.Tasks{chromedp.WaitVisible(field, chromedp.ByQuery), chromedp.Evaluate(fmt.Sprintf(`(() => { const s = document.querySelector(%q)
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, %q)
		s.dispatchEvent(new Event('change', { bubbles: true })) })()`, field, value), nil)}
}

func TestASiteIsMadeOnOnePageByKeyboard(t *testing.T) {
	prepared(t)
	school := scenario.Schools(6)[5]
	must(t, "client", "add", school.Name, "--set", "title="+school.Title, "--set", "email="+school.Settings["email"])
	tab := console(t)
	var missing, disabled, title string
	var has bool
	do(t, tab,
		chromedp.Navigate(world.service.address()+"/sites/new?client="+school.Name),
		chromedp.WaitVisible("ol li", chromedp.ByQuery), choosing("#f-host", "preview"), choosing("#f-from", ask[wire.Release](t, "release", "show", "music-base").Ref),
		chromedp.Text("#f-measurement-note", &missing, chromedp.ByQuery),
		chromedp.AttributeValue(`header button.bg-leaf`, "disabled", &disabled, &has, chromedp.ByQuery),
		chromedp.Focus("#f-measurement", chromedp.ByQuery),
		chromedp.KeyEvent(school.Settings["measurement"]),
		chromedp.WaitVisible(`header button.bg-leaf:enabled`, chromedp.ByQuery),
		chromedp.Focus(`header button.bg-leaf`, chromedp.ByQuery),
		chromedp.KeyEvent("\r"),
		chromedp.WaitVisible(`a[href="/sites/`+school.Name+`"]`, chromedp.ByQuery),
		clicked(`a[href="/sites/`+school.Name+`"]`),
		chromedp.WaitVisible("section ul li", chromedp.ByQuery),
		chromedp.Text("h1", &title, chromedp.ByQuery))
	require.Contains(t, missing, "is missing")
	require.True(t, has, "the button waits for the missing value")
	require.Equal(t, school.Title, title)
}

func TestTheWorkStripFollowsARun(t *testing.T) {
	prepared(t)
	goOn := stalledSource(t)
	tab := console(t)
	var strip string
	do(t, tab,
		chromedp.Navigate(world.service.address()+"/starters/music-base"),
		chromedp.WaitVisible("header button.bg-leaf", chromedp.ByQuery),
		clicked("header button.bg-leaf"),
		chromedp.SendKeys(`input[name=note]`, "from the console", chromedp.ByQuery),
		clicked(`form button[type=submit]`),
		chromedp.WaitVisible(`footer [role=progressbar]`, chromedp.ByQuery),
		chromedp.Text("footer", &strip, chromedp.ByQuery))
	goOn()
	do(t, tab, chromedp.WaitVisible(`header a.bg-leaf`, chromedp.ByQuery))
	require.Contains(t, strip, "Build music-base@")
}
