package test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/demo/scenario"
	"nestseed/internal/wire"
)

// showing opens a page of the console and waits until it says something.
func showing(path, says string) chromedp.Action {
	return chromedp.Tasks{chromedp.Navigate(world.service.address() + path), saying(says)}
}

// until waits until a page is as it should be; on a machine that is busy with other things that takes a while.
func until(script string) chromedp.Action {
	return chromedp.Poll(script, nil, chromedp.WithPollingTimeout(90*time.Second))
}

// saying waits until the page, dialogs included, has a text in it.
func saying(text string) chromedp.Action {
	return until(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// press clicks the button of this name: in the dialog, where one is open.
func press(name string) chromedp.Action {
	return until(fmt.Sprintf(`(() => {
		const within = document.querySelector('[role=dialog]') ?? document
		const b = [...within.querySelectorAll('button')].find(b => b.innerText.trim() === %q && !b.disabled)
		b?.click()
		return !!b
	})()`, name))
}

// clicked clicks what a selector, or an XPath, finds: once it is enabled and nothing lies over its middle.
func clicked(what string) chromedp.Action {
	return until(fmt.Sprintf(`(() => {
		const what = %q
		const e = what.startsWith('//') ? document.evaluate(what, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue : document.querySelector(what)
		if (!e || e.matches(':disabled')) return false
		e.scrollIntoView({ block: 'center', inline: 'nearest', behavior: 'instant' })
		const box = e.getBoundingClientRect()
		const over = document.elementFromPoint(box.x + box.width / 2, box.y + box.height / 2)
		if (!over || ![e, ...(e.labels ?? [])].some((x) => x.contains(over))) return false
		e.focus()
		e.click()
		return true
	})()`, what))
}

// typed puts a text in place of what a field holds, as a person does.
func typed(field, text string) chromedp.Action {
	if text == "" {
		text = kb.Delete
	}
	return chromedp.Tasks{chromedp.WaitVisible(field, chromedp.ByQuery),
		chromedp.Evaluate(fmt.Sprintf("(() => { const f = document.querySelector(%q); f.focus(); f.select() })()", field),
			nil), chromedp.KeyEvent(text)}
}

// filled types into a field of the dialog by its name.
func filled(name, value string) chromedp.Action {
	return typed(fmt.Sprintf("[role=dialog] [name=%q]", name), value)
}

var closed = chromedp.WaitNotPresent("[role=dialog]", chromedp.ByQuery)

func TestAClientIsKeptInTheConsole(t *testing.T) {
	prepared(t)
	tab := console(t)
	do(t, tab, showing("/clients", "Customers of the agency"), press("Add a client"), filled("name", "Wren Hall"), press("Add"))
	var note string
	do(t, tab, chromedp.WaitVisible("[role=dialog] input[name=name][aria-invalid=true]:focus", chromedp.ByQuery), chromedp.Text("#f-name-note", &note, chromedp.ByQuery))
	require.Contains(t, note, "small letters, digits, dashes", "a name that cannot be one is not sent")
	do(t, tab, filled("name", "wren-hall"), filled("title", "Wren Hall"), press("Add"), closed, saying("wren-hall"), saying("title"))
	do(t, tab, showing("/clients?find=wren-hall", "wren-hall"), press("Add a client"), filled("name", "wren-hall"), press("Add"),
		saying(`There is a client "wren-hall" already`), press("Leave it"), closed)

	page := "/clients/wren-hall"
	do(t, tab, showing(page, "Add a setting"), saying("title"), press("Add a setting"), filled("key", "door_code"), filled("value", "4711-harp"),
		clicked("[role=dialog] input[name=secret]"), press("Save"), closed, saying("door_code"))
	var text string
	do(t, tab, chromedp.Text("main", &text, chromedp.ByQuery))
	require.NotContains(t, text, "4711-harp", "it is masked")
	require.True(t, ask[wire.Client](t, "client", "show", "wren-hall").Settings["door_code"].Secret)
	do(t, tab, press("Reveal"), saying("That you saw it is recorded"), clicked("[role=dialog] button[type=submit]"),
		closed, saying("4711-harp"), until("document.activeElement?.innerText === 'Hide'"), press("Hide"),
		until("!document.body.innerText.includes('4711-harp')"))
	do(t, tab, showing("/vault", "Who did what"), saying("door_code"),
		until("[...document.querySelectorAll('main ul li')].some(l => l.innerText.includes('door_code') && "+
			"l.innerText.includes('owner'))"))

	// The title is changed, and the empty value takes a setting away.
	do(t, tab, showing(page, "Add a setting"), saying("title"),
		clicked(`//tr[starts-with(normalize-space(.), 'title')]//button`), filled("value", "Wren Hall Music"), press("Save"), closed, saying("Wren Hall Music"))
	do(t, tab, clicked(`//tr[starts-with(normalize-space(.), 'door_code')]/descendant::button[2]`), saying("goes into the vault"), press("Save"), closed)
	settings := ask[wire.Client](t, "client", "show", "wren-hall").Settings
	require.Equal(t, "Wren Hall Music", settings["title"].Value)
	require.NotContains(t, settings, "door_code")
	must(t, "client", "remove", "wren-hall")
}

// What a starter asks for is seen and filled in for all clients on one page.
func TestSettingsOfClientsAreEditedInTheirCells(t *testing.T) {
	prepared(t)
	school := scenario.Schools(11)[10]
	must(t, "client", "add", "cells", "--set", "title="+school.Title, "--set", "email="+school.Settings["email"])
	t.Cleanup(func() { must(t, "client", "remove", "cells") })
	cell := func(says string) string {
		return fmt.Sprintf("[aria-label='Measurement id of cells: %s']", says)
	}
	tab := console(t)
	var alert string
	do(t, tab, showing("/clients?asked-by=music-base&find=cells", school.Title), clicked(cell("missing")), chromedp.KeyEvent("nonsense"+kb.Enter),
		chromedp.WaitVisible("td [role=alert]", chromedp.ByQuery), chromedp.Text("td [role=alert]", &alert, chromedp.ByQuery), chromedp.KeyEvent(kb.Escape),
		chromedp.WaitVisible(cell("missing")+":focus", chromedp.ByQuery), chromedp.KeyEvent(kb.Enter), chromedp.KeyEvent(school.Settings["measurement"]+kb.Enter),
		chromedp.WaitVisible(cell(school.Settings["measurement"])+":focus", chromedp.ByQuery))
	require.Contains(t, alert, "like ")
	require.Equal(t, school.Settings["measurement"], ask[wire.Client](t, "client", "show", "cells").Settings["measurement"].Value)
}

func TestAReleaseIsLookedThroughInTheConsole(t *testing.T) {
	prepared(t)
	tab := console(t)
	page := "/releases/music-base@1"
	folder := `//ul[@aria-label='Contents']//button[.//span[text()='wp-content']]`
	var expanded string
	do(t, tab, showing(page, "wp-content"), chromedp.WaitVisible(folder, chromedp.BySearch), chromedp.Focus(folder, chromedp.BySearch),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(`//ul[@aria-label='Contents']//span[text()='uploads']`, chromedp.BySearch), chromedp.AttributeValue(folder,
			"aria-expanded", &expanded, nil, chromedp.BySearch))
	require.Equal(t, "true", expanded)

	var found, listed string
	do(t, tab, chromedp.SendKeys("input[aria-label='Find in the archive']", "*.css", chromedp.ByQuery),
		until("[...document.querySelectorAll('[aria-label=Found] button')].some(a => a.innerText.endsWith('.css'))"),
		chromedp.Evaluate("[...document.querySelectorAll('[aria-label=Found] button')].map(a => a.innerText).join(' ')", &found))
	require.NotContains(t, found, ".jpg")
	do(t, tab, typed("input[aria-label='Find in the archive']", "*.never"), saying("Nothing matches."),
		typed("input[aria-label='Find in the archive']", "VERSION.php"), saying("wp-includes/version.php"))

	// The size map opens what is clicked; boxes that are too small for a name have one for who cannot see them.
	var names int
	do(t, tab, showing(page, "wp-content"), chromedp.WaitVisible("[aria-label='Size map'] button", chromedp.ByQuery),
		chromedp.Evaluate("[...document.querySelectorAll(`[aria-label='Size map'] button`)].filter(b => !b.innerText.trim() && "+
			"!b.getAttribute('aria-label')).length", &names),
		until("(() => { const b = [...document.querySelectorAll(`[aria-label='Size map'] button`)].find(b => b.title.startsWith('wp-content/uploads')); "+
			"b?.click(); return !!b })()"), until("new URLSearchParams(location.search).get('at') === 'wp-content/uploads'"),
		chromedp.Sleep(300e6), chromedp.Text("[aria-label='Size map']", &listed, chromedp.ByQuery))
	require.Zero(t, names)
	require.NotContains(t, listed, "wp-includes")
	// The place is in the address, and every box is of that place; a file that is opened is shown.
	var boxes []string
	do(t, tab, chromedp.Evaluate("[...document.querySelectorAll(`[aria-label='Size map'] button`)].map(b => b.title.split(':')[0])", &boxes))
	for _, b := range boxes {
		require.True(t, strings.HasPrefix(b, "wp-content/uploads/") || b == "others", b)
	}
	do(t, tab, showing(page+"?at=wp-includes", "version.php"), clicked(`button[title="wp-includes/version.php"]`), saying("$wp_version"),
		showing(page+"?file=database/lad_options", "option_name"), saying("blogname"),
		showing(page, "wp-content"), chromedp.WaitVisible("[aria-label='Size map'] button", chromedp.ByQuery),
		until("document.querySelectorAll(`[aria-label='Size map'] button[tabindex='0']`).length === 1"))

	// One file is read from within the archive.
	var php string
	do(t, tab, chromedp.Evaluate(`fetch('/api/v1/releases/music-base@1/file?path=' + encodeURIComponent('wp-includes/version.php')).then(async r => r.headers.get('content-type') + ' ' + (await r.text()).slice(0, 5))`, &php, awaitPromise))
	require.True(t, strings.HasPrefix(php, "text/plain") && strings.HasSuffix(php, "<?php"), "%q is shown, and never run or rendered", php)

	do(t, tab, showing(page, "wp-content"), press("Compare…"), chromedp.WaitVisible("[role=dialog] select", chromedp.ByQuery),
		chromedp.SetValue("[role=dialog] select", "its source today", chromedp.ByQuery), press("Compare"),
		until("location.pathname.startsWith('/comparisons/')"), saying("music-base@1"))
	ended(t, world.service.client(t))
	do(t, tab, chromedp.WaitVisible("main h1", chromedp.ByQuery), chromedp.WaitNotPresent("main [role=alert]", chromedp.ByQuery))
}

func TestAHostIsTriedBeforeItIsKept(t *testing.T) {
	prepared(t)
	tab := console(t)
	do(t, tab, showing("/hosts", "preview"), press("Add a host"), filled("name", "nowhere"), filled("files", "file://"+t.TempDir()),
		filled("address", "http://{name}.example"), filled("database", "mysql://admin@127.0.0.1:1/"), press("Add"),
		chromedp.WaitVisible("[role=dialog] [role=alert]", chromedp.ByQuery), saying("no database server answers"))
	var kept string
	do(t, tab, chromedp.Value("[role=dialog] [name=address]", &kept, chromedp.ByQuery), chromedp.KeyEvent(kb.Escape), closed)
	require.Equal(t, "http://{name}.example", kept, "nothing that was typed is lost")
	require.Equal(t, 3, nestseed(t, "host", "show", "nowhere").code)
	do(t, tab, showing("/hosts/preview", "What it is"), press("Test it"), saying("a file is put in the place of another"))

	do(t, tab, showing("/sources", "Configured sites"), press("Add a source"), filled("name", "elsewhere"), filled("path", "no-such-folder"),
		press("Add"), chromedp.WaitVisible("[role=dialog] [role=alert]", chromedp.ByQuery), saying("no-such-folder"))
	require.Equal(t, 3, nestseed(t, "source", "show", "elsewhere").code)
}

// Work that fails is on the first page until it has succeeded, and its page says why.
func TestFailedWorkIsTold(t *testing.T) {
	prepared(t)
	school := scenario.Schools(9)[8] // without a site, the first page leads to the first one
	school.Name = "fading-school"
	addClient(t, school)
	must(t, "site", "provision", school.Name, "--from", "music-base", "--host", "preview")
	t.Cleanup(func() { must(t, "site", "undo", school.Name) })
	dir := filepath.Join(world.stack.Sites(), "fading")
	if nestseed(t, "source", "show", "fading").code != 0 {
		require.NoError(t, os.CopyFS(dir, os.DirFS(inBase("."))))
		must(t, "source", "add", "fading", "--host", "preview", "--path", "fading")
	}
	require.NoError(t, os.Rename(dir, dir+".away"))
	t.Cleanup(func() { os.RemoveAll(dir + ".away") })
	require.Equal(t, 1, nestseed(t, "source", "survey", "fading").code)
	tab := console(t)
	var path string
	do(t, tab, showing("/", "Needs attention"), saying("fading"),
		clicked(`//*[@aria-label='What needs attention']//a[contains(., 'fading')]`),
		until("location.pathname !== '/'"), chromedp.Evaluate("location.pathname", &path))
	do(t, tab, chromedp.WaitVisible("main h1", chromedp.ByQuery))
	svc := world.service.client(t)
	all, err := svc.Runs(context.Background(), 20)
	require.NoError(t, err)
	for _, r := range all {
		if r.Title == "Survey fading" || strings.Contains(r.Title, "fading") {
			do(t, tab, showing(fmt.Sprintf("/runs/%d", r.ID), "failed"), chromedp.WaitVisible("main [role=alert]", chromedp.ByQuery))
			break
		}
	}
	must(t, "source", "remove", "fading")
}

func TestTheConsoleKeepsToWhoOneIs(t *testing.T) {
	prepared(t)
	require.Zero(t, withInput(t, "a-long-password\n", "user", "add", "vera", "--role", "viewer").code)
	t.Cleanup(func() { must(t, "user", "remove", "vera") })
	tab, stop := browser.New(context.Background(), 1280, 800)
	t.Cleanup(stop)
	require.NoError(t, chromedp.Run(tab, chromedp.EmulateViewport(1280, 800))) // the browser lives as long as what it is first run with
	var kept string
	do(t, tab, chromedp.Navigate(world.service.address()+"/sites"), chromedp.WaitVisible("input[name=password]", chromedp.ByQuery),
		chromedp.SendKeys("input[name=name]", "vera", chromedp.ByQuery),
		chromedp.SendKeys("input[name=password]", "not this one", chromedp.ByQuery), clicked("button[type=submit]"), chromedp.WaitVisible("[role=alert]", chromedp.ByQuery), chromedp.Value("input[name=name]", &kept, chromedp.ByQuery))
	require.Equal(t, "vera", kept, "only the password is typed again")
	require.NoError(t, browser.Login(tab, world.service.address(), "vera", "a-long-password"))
	// A viewer may look at everything and is refused, with a sentence, what changes something.
	do(t, tab, showing("/clients", "Customers of the agency"), press("Add a client"), filled("name", "not-by-me"), press("Add"),
		chromedp.WaitVisible("[role=dialog] [role=alert]", chromedp.ByQuery), chromedp.KeyEvent(kb.Escape), closed)
	require.Equal(t, 3, nestseed(t, "client", "show", "not-by-me").code)

	// The theme is remembered.
	var theme string
	do(t, tab, clicked("button[aria-label^='Use the ']"), chromedp.Evaluate("document.documentElement.dataset.theme",
		&theme))
	require.Contains(t, []string{"light", "dark"}, theme)
	do(t, tab, showing("/sites", "Sites"), until(fmt.Sprintf("document.documentElement.dataset.theme === %q", theme)))

	// Logged out is logged out: also for what the browser still has.
	do(t, tab, press("Log out"), chromedp.WaitVisible("input[name=password]", chromedp.ByQuery),
		chromedp.Navigate(world.service.address()+"/vault"), chromedp.WaitVisible("input[name=password]", chromedp.ByQuery))
	var status int
	do(t, tab, chromedp.Evaluate("fetch('/api/v1/vault').then(r => r.status)", &status, awaitPromise))
	require.Equal(t, http.StatusUnauthorized, status)
}
