package console

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/demo/scenario"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

func TestEveryPageOpensAndPassesAxeInBothThemes(t *testing.T) {
	world.Prepared(t)
	school := scenario.Schools(7)[6].Name
	world.AddClient(t, scenario.Schools(7)[6])
	world.Must(t, "site", "provision", school, "--from", "music-base", "--host", "preview")
	world.Must(t, "source", "survey", "base")
	world.Must(t, "site", "side-by-side", school, "--pages", "1")
	world.Must(t, "install", "add", "on-a-page", "--from", "music-base", "--host", "shared")
	t.Cleanup(func() { world.Must(t, "install", "remove", "on-a-page") })
	axe, err := os.ReadFile(world.AxeSource)
	require.NoError(t, err)
	openAll, err := os.ReadFile("openall.js")
	require.NoError(t, err)
	tab := world.Console(t)
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
		world.Do(t, tab, chromedp.Navigate(world.Service.Address()+path), chromedp.WaitVisible(ready, browser.ByQuery), chromedp.Sleep(250*time.Millisecond),
			chromedp.Evaluate(string(axe), nil), chromedp.Evaluate(fmt.Sprintf("%s(%s, %t)", openAll, names, os.Getenv("WINDOWS") == "all"), &found, world.AwaitPromise))
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
	return chromedp.Tasks{chromedp.WaitVisible(field, browser.ByQuery), chromedp.Evaluate(fmt.Sprintf(`(() => { const s = document.querySelector(%q)
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, %q)
		s.dispatchEvent(new Event('change', { bubbles: true })) })()`, field, value), nil)}
}

func TestASiteIsMadeOnOnePageByKeyboard(t *testing.T) {
	world.Prepared(t)
	school := scenario.Schools(6)[5]
	world.Must(t, "client", "add", school.Name, "--set", "title="+school.Title, "--set", "email="+school.Settings["email"])
	tab := world.Console(t)
	var missing, disabled, title string
	var has bool
	world.Do(t, tab,
		chromedp.Navigate(world.Service.Address()+"/sites/new?client="+school.Name),
		chromedp.WaitVisible("ol li", browser.ByQuery), choosing("#f-host", "preview"), choosing("#f-from", world.Ask[wire.Release](t, "release", "show", "music-base").Ref),
		chromedp.Text("#f-measurement-note", &missing, browser.ByQuery),
		chromedp.AttributeValue(`header button.bg-leaf`, "disabled", &disabled, &has, browser.ByQuery),
		chromedp.Focus("#f-measurement", browser.ByQuery),
		chromedp.KeyEvent(school.Settings["measurement"]),
		chromedp.WaitVisible(`header button.bg-leaf:enabled`, browser.ByQuery),
		chromedp.Focus(`header button.bg-leaf`, browser.ByQuery),
		chromedp.KeyEvent("\r"),
		chromedp.WaitVisible(`a[href="/sites/`+school.Name+`"]`, browser.ByQuery),
		world.Clicked(`a[href="/sites/`+school.Name+`"]`),
		world.Until("location.pathname.startsWith('/sites/')"), chromedp.WaitVisible("section ul li", browser.ByQuery),
		chromedp.Text("h1", &title, browser.ByQuery))
	require.Contains(t, missing, "is missing")
	require.True(t, has, "the button waits for the missing value")
	require.Equal(t, school.Title, title)
}

func TestTheWorkStripFollowsARun(t *testing.T) {
	world.Prepared(t)
	goOn := world.StalledSource(t)
	tab := world.Console(t)
	var strip string
	world.Do(t, tab,
		chromedp.Navigate(world.Service.Address()+"/starters/music-base"),
		chromedp.WaitVisible("header button.bg-leaf", browser.ByQuery),
		world.Clicked("header button.bg-leaf"),
		chromedp.SendKeys(`input[name=note]`, "from the console", browser.ByQuery),
		world.Clicked(`form button[type=submit]`),
		chromedp.WaitVisible(`footer [role=progressbar]`, browser.ByQuery),
		chromedp.Text("footer", &strip, browser.ByQuery))
	goOn()
	world.Do(t, tab, chromedp.WaitVisible(`header a.bg-leaf`, browser.ByQuery))
	require.Contains(t, strip, "Build music-base@")
}
