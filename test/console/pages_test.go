package console

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/demo/scenario"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// filled types into a field of the dialog by its name.
func filled(name, value string) chromedp.Action {
	return world.Typed(fmt.Sprintf("[role=dialog] [name=%q]", name), value)
}

var closed = chromedp.WaitNotPresent("[role=dialog]", browser.ByQuery)

func TestAClientIsKeptInTheConsole(t *testing.T) {
	world.Prepared(t)
	tab := world.Console(t)
	world.Do(t, tab, world.Showing("/clients", "Customers of the agency"), world.Press("Add a client"), filled("name", "Wren Hall"), world.Press("Add"))
	var note string
	world.Do(t, tab, chromedp.WaitVisible("[role=dialog] input[name=name][aria-invalid=true]:focus", browser.ByQuery), chromedp.Text("#f-name-note", &note, browser.ByQuery))
	require.Contains(t, note, "small letters, digits, dashes", "a name that cannot be one is not sent")
	world.Do(t, tab, filled("name", "wren-hall"), filled("title", "Wren Hall"), world.Press("Add"), closed, world.Saying("wren-hall"), world.Saying("title"))
	world.Do(t, tab, world.Showing("/clients?find=wren-hall", "wren-hall"), world.Press("Add a client"), filled("name", "wren-hall"), world.Press("Add"),
		world.Saying(`There is a client "wren-hall" already`), world.Press("Cancel"), closed)

	page := "/clients/wren-hall"
	world.Do(t, tab, world.Showing(page, "Add a setting"), world.Saying("title"), world.Press("Add a setting"), filled("key", "door_code"), filled("value", "4711-harp"),
		world.Clicked("[role=dialog] input[name=secret]"), world.Press("Save"), closed, world.Saying("door_code"))
	var text string
	world.Do(t, tab, chromedp.Text("main", &text, browser.ByQuery))
	require.NotContains(t, text, "4711-harp", "it is masked")
	require.True(t, world.Ask[wire.Client](t, "client", "show", "wren-hall").Settings["door_code"].Secret)
	world.Do(t, tab, world.Press("Reveal"), world.Saying("That you saw it is recorded"), world.Clicked("[role=dialog] button[type=submit]"),
		closed, world.Saying("4711-harp"), world.Until("document.activeElement?.innerText === 'Hide'"), world.Press("Hide"),
		world.Until("!document.body.innerText.includes('4711-harp')"))
	world.Do(t, tab, world.Showing("/vault", "Who did what"), world.Saying("door_code"),
		world.Until("[...document.querySelectorAll('main ul li')].some(l => l.innerText.includes('door_code') && "+
			"l.innerText.includes('owner'))"))

	// The title is changed, and the empty value takes a setting away.
	world.Do(t, tab, world.Showing(page, "Add a setting"), world.Saying("title"),
		world.Clicked(`//tr[.//text()[normalize-space() = 'title']]//button`), filled("value", "Wren Hall Music"), world.Press("Save"), closed, world.Saying("Wren Hall Music"))
	world.Do(t, tab, world.Clicked(`//tr[starts-with(normalize-space(.), 'door_code')]/descendant::button[2]`), world.Saying("goes into the vault"), world.Press("Save"), closed)
	settings := world.Ask[wire.Client](t, "client", "show", "wren-hall").Settings
	require.Equal(t, "Wren Hall Music", settings["title"].Value)
	require.NotContains(t, settings, "door_code")
	world.Must(t, "client", "remove", "wren-hall")
}

// What a starter asks for is seen and filled in for all clients on one page.
func TestSettingsOfClientsAreEditedInTheirCells(t *testing.T) {
	world.Prepared(t)
	school := scenario.Schools(11)[10]
	world.Must(t, "client", "add", "cells", "--set", "title="+school.Title, "--set", "email="+school.Settings["email"])
	t.Cleanup(func() { world.Must(t, "client", "remove", "cells") })
	cell := func(says string) string {
		return fmt.Sprintf("[aria-label='Measurement id of cells: %s']", says)
	}
	tab := world.Console(t)
	var alert string
	world.Do(t, tab, world.Showing("/clients?asked-by=music-base&find=cells", school.Title), world.Clicked(cell("missing")), chromedp.KeyEvent("nonsense"+kb.Enter),
		chromedp.WaitVisible("td [role=alert]", browser.ByQuery), chromedp.Text("td [role=alert]", &alert, browser.ByQuery), chromedp.KeyEvent(kb.Escape),
		chromedp.WaitVisible(cell("missing")+":focus", browser.ByQuery), chromedp.KeyEvent(kb.Enter), chromedp.KeyEvent(school.Settings["measurement"]+kb.Enter),
		chromedp.WaitVisible(cell(school.Settings["measurement"])+":focus", browser.ByQuery))
	require.Contains(t, alert, "like ")
	require.Equal(t, school.Settings["measurement"], world.Ask[wire.Client](t, "client", "show", "cells").Settings["measurement"].Value)
}

func TestAReleaseIsLookedThroughInTheConsole(t *testing.T) {
	world.Prepared(t)
	tab := world.Console(t)
	page := "/releases/music-base@1"
	folder := `//ul[@aria-label='Contents']//button[.//span[text()='wp-content']]`
	var expanded string
	world.Do(t, tab, world.Showing(page, "wp-content"), chromedp.WaitVisible(folder, chromedp.BySearch), chromedp.Focus(folder, chromedp.BySearch),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(`//ul[@aria-label='Contents']//span[text()='uploads']`, chromedp.BySearch), chromedp.AttributeValue(folder,
			"aria-expanded", &expanded, nil, chromedp.BySearch))
	require.Equal(t, "true", expanded)

	var found, listed string
	world.Do(t, tab, chromedp.SendKeys("input[aria-label='Find in the archive']", "*.css", browser.ByQuery),
		world.Until("[...document.querySelectorAll('[aria-label=Found] button')].some(a => a.innerText.endsWith('.css'))"),
		chromedp.Evaluate("[...document.querySelectorAll('[aria-label=Found] button')].map(a => a.innerText).join(' ')", &found))
	require.NotContains(t, found, ".jpg")
	world.Do(t, tab, world.Typed("input[aria-label='Find in the archive']", "*.never"), world.Saying("Nothing matches."),
		world.Typed("input[aria-label='Find in the archive']", "VERSION.php"), world.Saying("wp-includes/version.php"))

	// The size map opens what is clicked; boxes that are too small for a name have one for who cannot see them.
	var names int
	world.Do(t, tab, world.Showing(page, "wp-content"), chromedp.WaitVisible("[aria-label='Size map'] button", browser.ByQuery),
		chromedp.Evaluate("[...document.querySelectorAll(`[aria-label='Size map'] button`)].filter(b => !b.innerText.trim() && "+
			"!b.getAttribute('aria-label')).length", &names),
		world.Until("(() => { const b = [...document.querySelectorAll(`[aria-label='Size map'] button`)].find(b => b.title.startsWith('wp-content/uploads')); "+
			"b?.click(); return !!b })()"), world.Until("new URLSearchParams(location.search).get('at') === 'wp-content/uploads'"),
		world.Until("!document.querySelector(`[aria-label='Size map']`).innerText.includes('wp-includes')"),
		chromedp.Text("[aria-label='Size map']", &listed, browser.ByQuery))
	require.Zero(t, names)
	require.NotContains(t, listed, "wp-includes")
	// The place is in the address, and every box is of that place; a file that is opened is shown.
	var boxes []string
	world.Do(t, tab, chromedp.Evaluate("[...document.querySelectorAll(`[aria-label='Size map'] button`)].map(b => b.title.split(':')[0])", &boxes))
	for _, b := range boxes {
		require.True(t, strings.HasPrefix(b, "wp-content/uploads/") || b == "others", b)
	}
	world.Do(t, tab, world.Showing(page+"?at=wp-includes", "version.php"), world.Clicked(`button[title="wp-includes/version.php"]`), world.Saying("$wp_version"),
		world.Showing(page+"?file=database/lad_options", "option_name"), world.Saying("blogname"),
		world.Showing(page, "wp-content"), chromedp.WaitVisible("[aria-label='Size map'] button", browser.ByQuery),
		world.Until("document.querySelectorAll(`[aria-label='Size map'] button[tabindex='0']`).length === 1"))

	// One file is read from within the archive.
	var php string
	world.Do(t, tab, chromedp.Evaluate(`fetch('/api/v1/releases/music-base@1/file?path=' + encodeURIComponent('wp-includes/version.php')).then(async r => r.headers.get('content-type') + ' ' + (await r.text()).slice(0, 5))`, &php, world.AwaitPromise))
	require.True(t, strings.HasPrefix(php, "text/plain") && strings.HasSuffix(php, "<?php"), "%q is shown, and never run or rendered", php)

	world.Do(t, tab, world.Showing(page, "wp-content"), world.Press("Compare…"), chromedp.WaitVisible("[role=dialog] select", browser.ByQuery),
		chromedp.SetValue("[role=dialog] select", "its source today", browser.ByQuery), world.Press("Compare"),
		world.Until("location.pathname.startsWith('/comparisons/')"), world.Saying("music-base@1"))
	world.Ended(t, world.Service.Client(t))
	world.Do(t, tab, chromedp.WaitVisible("main h1", browser.ByQuery), chromedp.WaitNotPresent("main [role=alert]", browser.ByQuery))
}

func TestAHostIsTriedBeforeItIsKept(t *testing.T) {
	world.Prepared(t)
	tab := world.Console(t)
	world.Do(t, tab, world.Showing("/hosts", "preview"), world.Press("Add a host"), filled("name", "nowhere"), filled("files", "file://"+t.TempDir()),
		filled("address", "http://{name}.example"), filled("database", "mysql://admin@127.0.0.1:1/"), world.Press("Add"),
		chromedp.WaitVisible("[role=dialog] [role=alert]", browser.ByQuery), world.Saying("no database server answers"))
	var kept string
	world.Do(t, tab, chromedp.Value("[role=dialog] [name=address]", &kept, browser.ByQuery), chromedp.KeyEvent(kb.Escape), closed)
	require.Equal(t, "http://{name}.example", kept, "nothing that was typed is lost")
	require.Equal(t, 3, world.Nestseed(t, "host", "show", "nowhere").Code)
	world.Do(t, tab, world.Showing("/hosts/preview", "What it is"), world.Press("Test it"), world.Saying("a file is put in the place of another"))

	world.Do(t, tab, world.Showing("/sources", "Configured sites"), world.Press("Add a source"), filled("name", "elsewhere"), filled("path", "no-such-folder"),
		world.Press("Add"), chromedp.WaitVisible("[role=dialog] [role=alert]", browser.ByQuery), world.Saying("no-such-folder"))
	require.Equal(t, 3, world.Nestseed(t, "source", "show", "elsewhere").Code)
}

// Work that fails is on the first page until it has succeeded, and its page says why.
func TestFailedWorkIsTold(t *testing.T) {
	world.Prepared(t)
	school := scenario.Schools(9)[8] // without a site, the first page leads to the first one
	school.Name = "fading-school"
	world.AddClient(t, school)
	world.Must(t, "site", "provision", school.Name, "--from", "music-base", "--host", "preview")
	t.Cleanup(func() { world.Must(t, "site", "undo", school.Name) })
	dir := filepath.Join(world.Stack.Sites(), "fading")
	if world.Nestseed(t, "source", "show", "fading").Code != 0 {
		require.NoError(t, os.CopyFS(dir, os.DirFS(world.InBase("."))))
		world.Must(t, "source", "add", "fading", "--host", "preview", "--path", "fading")
	}
	require.NoError(t, os.Rename(dir, dir+".away"))
	t.Cleanup(func() { os.RemoveAll(dir + ".away") })
	require.Equal(t, 1, world.Nestseed(t, "source", "survey", "fading").Code)
	tab := world.Console(t)
	var path string
	world.Do(t, tab, world.Showing("/", "Needs attention"), world.Saying("fading"),
		world.Clicked(`//*[@aria-label='What needs attention']//a[contains(., 'fading')]`),
		world.Until("location.pathname !== '/'"), chromedp.Evaluate("location.pathname", &path))
	world.Do(t, tab, chromedp.WaitVisible("main h1", browser.ByQuery))
	svc := world.Service.Client(t)
	all, err := svc.Runs(context.Background(), 20)
	require.NoError(t, err)
	for _, r := range all {
		if r.Title == "Survey fading" || strings.Contains(r.Title, "fading") {
			world.Do(t, tab, world.Showing(fmt.Sprintf("/runs/%d", r.ID), "failed"), chromedp.WaitVisible("main [role=alert]", browser.ByQuery))
			break
		}
	}
	world.Must(t, "source", "remove", "fading")
}

func TestTheConsoleKeepsToWhoOneIs(t *testing.T) {
	world.Prepared(t)
	require.Zero(t, world.WithInput(t, "a-long-password\n", "user", "add", "vera", "--role", "viewer").Code)
	t.Cleanup(func() { world.Must(t, "user", "remove", "vera") })
	tab, stop := browser.New(context.Background(), 1280, 800)
	t.Cleanup(stop)
	require.NoError(t, chromedp.Run(tab, chromedp.EmulateViewport(1280, 800))) // the browser lives as long as what it is first run with
	var kept string
	world.Do(t, tab, chromedp.Navigate(world.Service.Address()+"/sites"), chromedp.WaitVisible("input[name=password]", browser.ByQuery),
		chromedp.SendKeys("input[name=name]", "vera", browser.ByQuery),
		chromedp.SendKeys("input[name=password]", "not this one", browser.ByQuery), world.Clicked("button[type=submit]"), chromedp.WaitVisible("[role=alert]", browser.ByQuery), chromedp.Value("input[name=name]", &kept, browser.ByQuery))
	require.Equal(t, "vera", kept, "only the password is typed again")
	require.NoError(t, browser.Login(tab, world.Service.Address(), "vera", "a-long-password"))
	// A viewer may look at everything and is refused, with a sentence, what changes something.
	world.Do(t, tab, world.Showing("/clients", "Customers of the agency"), world.Press("Add a client"), filled("name", "not-by-me"), world.Press("Add"),
		chromedp.WaitVisible("[role=dialog] [role=alert]", browser.ByQuery), chromedp.KeyEvent(kb.Escape), closed)
	require.Equal(t, 3, world.Nestseed(t, "client", "show", "not-by-me").Code)

	// The theme is remembered.
	var theme string
	world.Do(t, tab, world.Clicked("button[aria-label^='Use the ']"), chromedp.Evaluate("document.documentElement.dataset.theme",
		&theme))
	require.Contains(t, []string{"light", "dark"}, theme)
	world.Do(t, tab, world.Showing("/sites", "Sites"), world.Until(fmt.Sprintf("document.documentElement.dataset.theme === %q", theme)))

	// Logged out is logged out: also for what the browser still has.
	world.Do(t, tab, world.Press("Log out"), chromedp.WaitVisible("input[name=password]", browser.ByQuery),
		chromedp.Navigate(world.Service.Address()+"/vault"), chromedp.WaitVisible("input[name=password]", browser.ByQuery))
	var status int
	world.Do(t, tab, chromedp.Evaluate("fetch('/api/v1/vault').then(r => r.status)", &status, world.AwaitPromise))
	require.Equal(t, http.StatusUnauthorized, status)
}
