package console

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/test/world"
)

// hands are how somebody works with the console.
type hands struct {
	press  func(name string) chromedp.Action        // a button
	follow func(name string) chromedp.Action        // a link
	fill   func(name, value string) chromedp.Action // a field of the dialog
	take   func(folder string) chromedp.Action      // a folder of the folder picker
	login  func(tab context.Context, server, name, password string) error
}

var mouse = hands{
	press: world.Press,
	follow: func(name string) chromedp.Action {
		return world.Clicked(fmt.Sprintf(`//a[normalize-space()=%q or starts-with(normalize-space(), %q) and ancestor::nav]`, name, name))
	},
	fill: filled,
	take: func(folder string) chromedp.Action {
		row := fmt.Sprintf(`//li[.//button[text()=%q]]//button[normalize-space()='Take it']`, folder)
		return chromedp.Tasks{chromedp.WaitVisible(row, chromedp.BySearch), world.Clicked(row)}
	},
	login: browser.Login,
}

// keyboard goes from one thing to the next by the tabulator, and nothing else.
var keyboard = hands{
	press: func(name string) chromedp.Action {
		return chromedp.Tasks{reached(fmt.Sprintf(`e.tagName === 'BUTTON' && e.innerText.trim() === %q`, name)), chromedp.KeyEvent(kb.Enter)}
	},
	follow: func(name string) chromedp.Action {
		return chromedp.Tasks{reached(fmt.Sprintf(`e.tagName === 'A' && (e.innerText.trim() === %q || e.closest('nav') && e.innerText.trim().startsWith(%q))`, name, name)),
			chromedp.KeyEvent(kb.Enter)}
	},
	fill: func(name, value string) chromedp.Action {
		return chromedp.Tasks{reached(fmt.Sprintf(`e.name === %q`, name)), chromedp.KeyEvent("a", chromedp.KeyModifiers(input.ModifierCtrl)), chromedp.KeyEvent(value)}
	},
	take: func(folder string) chromedp.Action {
		return chromedp.Tasks{world.Saying(folder), reached(fmt.Sprintf(`e.innerText.trim() === 'Take it' && e.closest('li')?.querySelector('button').innerText === %q`, folder)),
			chromedp.KeyEvent(kb.Enter)}
	},
	login: func(tab context.Context, server, name, password string) error {
		return chromedp.Run(tab, chromedp.EmulateViewport(1280, 800), emulation.SetFocusEmulationEnabled(true), chromedp.Navigate(server+"/"), world.Saying("Log in"), reached("e.name === 'name'"), chromedp.KeyEvent(name),
			reached("e.name === 'password'"), chromedp.KeyEvent(password+kb.Enter), chromedp.WaitVisible(`nav[aria-label=Main]`, browser.ByQuery))
	},
}

// reached waits until what has the focus is what is looked for, pressing the tabulator until it is. What has the focus is seen to have it.
func reached(what string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		var passed []string
		for range 300 {
			var at struct {
				There, Seen bool
				Is          string
			}
			err := chromedp.Evaluate(fmt.Sprintf(`(() => {
				const e = document.activeElement ?? document.body
				const there = !!(%s) && !e.disabled
				return { There: there, Seen: !there || e.matches(':focus-visible') && getComputedStyle(e).outlineStyle !== 'none', Is: e.tagName + ' ' + (e.innerText || e.name || '').slice(0, 30) }
			})()`, what), &at).Do(ctx)
			switch {
			case err != nil:
				return err
			case at.There && !at.Seen:
				return fmt.Errorf("%s has the focus, and nobody sees it", at.Is)
			case at.There:
				return nil
			}
			passed = append(passed, at.Is)
			if err := chromedp.KeyEvent(kb.Tab).Do(ctx); err != nil {
				return err
			}
			if err := chromedp.Sleep(15 * time.Millisecond).Do(ctx); err != nil {
				return err
			}
		}
		return fmt.Errorf("the keyboard does not come to where %s; it came to %v", what, passed[len(passed)-40:])
	})
}

// From a service with nothing in it to the first site, by what the console shows, without the command line: each step is the one that the
// first page leads to.
func TestFromNothingToTheFirstSiteInTheConsole(t *testing.T) {
	t.Run("by mouse", func(t *testing.T) { fromNothing(t, mouse, "mouse") })
	t.Run("by keyboard", func(t *testing.T) { fromNothing(t, keyboard, "keys") })
}

func fromNothing(t *testing.T, h hands, by string) {
	dir, err := os.MkdirTemp(world.Dir, "first-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	p, err := world.Serve(filepath.Join(dir, "data"), fmt.Sprintf("127.0.0.1:%d", stack.FreePort()))
	require.NoError(t, err)
	defer func() { require.NoError(t, p.Stop()) }()
	password, err := os.ReadFile(filepath.Join(dir, "data", "owner-password"))
	require.NoError(t, err)
	tab, stop := browser.New(context.Background(), 1280, 800)
	t.Cleanup(stop)
	require.NoError(t, h.login(tab, p.Address(), "owner", strings.TrimSpace(string(password))))

	first := chromedp.Tasks{h.follow("Today"), world.Saying("From here to the first site")}
	next := func(says string) chromedp.Action {
		return world.Until(fmt.Sprintf(`document.querySelector('[aria-current=step]')?.innerText.includes(%q)`, says))
	}
	school := scenario.Schools(12)[11]
	name := by + "-" + school.Name
	world.Do(t, tab, next("Add a host"), h.press("Add a host"), h.fill("name", "preview"), h.fill("files", "file://"+world.Stack.Sites()+"?owner=www-data"),
		h.fill("address", world.Stack.Address("{name}")), h.fill("database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.Stack.AdminUser, world.Stack.DatabasePort)),
		h.fill("database_password", "not this one"), h.press("Add"), chromedp.WaitVisible("[role=dialog] [role=alert]", browser.ByQuery),
		h.fill("database_password", world.Stack.AdminPassword), h.press("Add"), closed, world.Saying("What it is"))
	world.Do(t, tab, first, next("Add a source"), h.press("Add a source"), h.fill("name", "base"), h.press("Look for it"), h.take("base"), h.press("Add"), closed,
		world.Saying("Not surveyed yet"))
	world.Do(t, tab, first, next("Survey it"), h.press("Survey"), world.Saying("Open base"), first, next("Create a starter"), h.press("Create a starter"),
		h.fill("name", "music-base"), h.press("Create"), closed, world.Saying("None yet. Build the first one."))
	world.Do(t, tab, first, next("Build a release"), h.follow("Go to music-base"), world.Saying("None yet. Build the first one."), h.press("Build a release"),
		h.fill("note", "the first one"), h.press("Build"), closed, world.Saying("Open music-base@1"))
	if by == "mouse" { // a keyboard chooses files in a window of the system's
		p = mishaps(t, tab, p, strings.TrimSpace(string(password)))
	}
	world.Do(t, tab, first, next("Add a client"), h.press("Add a client"), h.fill("name", name), h.fill("title", school.Title), h.fill("email", school.Settings["email"]),
		h.press("Add"), closed, world.Saying(school.Title))
	world.Do(t, tab, first, next("Make the site"), h.follow("Make a site"), chromedp.WaitVisible("ol li", browser.ByQuery), world.Saying("checks included"),
		h.press("Make this site"), world.Saying("Open "+name), h.follow("Open "+name), world.Saying("Its name in DNS"))
	svc := p.Client(t)
	site, err := svc.Site(t.Context(), name)
	require.NoError(t, err)
	require.Equal(t, school.Title, site.Title)
	require.Zero(t, site.Report.Faults(), "%+v", site.Report)

	// And back to nothing, as far as the host knows.
	world.Do(t, tab, h.press("Undo…"), world.Saying("the site is removed"), h.press("Undo it"), world.Saying("Undo site "+name), world.Saying("Open "+name))
	world.NothingLeft(t, name)
}

// mishaps brings in a release while the service breaks down in the middle of it, the session has ended when it is back, and the password is
// mistyped: it goes on where it was. It returns the service that runs by then.
func mishaps(t *testing.T, tab context.Context, p *world.Process, password string) *world.Process {
	t.Helper()
	archives, err := filepath.Glob(filepath.Join(p.Data, "archives", "*.zip"))
	require.NoError(t, err)
	require.NotEmpty(t, archives)
	line := func(bytesPerSecond float64) chromedp.Action {
		return chromedp.Tasks{network.Enable(), network.EmulateNetworkConditions(false, 0, -1, bytesPerSecond)}
	}
	world.Do(t, tab, mouse.follow("Starters"), world.Press("Import a release…"), filled("starter", "brought"), chromedp.SetUploadFiles("#f-files", archives[:1], browser.ByQuery),
		line(4e6), world.Press("Import"), world.Until(`/[2-9]\d*(\.\d)? MB of/.test(document.querySelector('[role=dialog] [role=status]')?.innerText ?? '')`))
	require.NoError(t, p.Kill())
	world.Do(t, tab, world.Saying("The service does not answer"), chromedp.ActionFunc(func(ctx context.Context) error { return network.ClearBrowserCookies().Do(ctx) }))
	p, err = world.Serve(p.Data, p.Listen)
	require.NoError(t, err)
	again := func(password string) chromedp.Action {
		return chromedp.Tasks{world.Typed("form [name=password]", password), world.Clicked(`//*[@role='dialog']//button[normalize-space()='Log in']`)}
	}
	world.Do(t, tab, world.Saying("Your session has ended"), again("mistyped"), world.Saying("ame or password is wrong"), again(password), line(-1), world.Saying("Open brought@1"))
	return p
}

// Whoever has nothing yet can begin with the sample that the settings name, where what it describes is there.
func TestOneBeginsWithTheSample(t *testing.T) {
	dir, err := os.MkdirTemp(world.Dir, "sample-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	sample := filepath.Join(dir, "sample.json")
	t.Setenv("NESTSEED_SAMPLE", sample)
	p, err := world.Serve(filepath.Join(dir, "data"), fmt.Sprintf("127.0.0.1:%d", stack.FreePort()))
	require.NoError(t, err)
	defer func() { require.NoError(t, p.Stop()) }()
	svc := p.Client(t)
	there, err := svc.Sample(t.Context())
	require.NoError(t, err)
	require.False(t, there.There, "nothing of it runs")
	text, err := json.Marshal(scenario.Sample(world.Stack))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(sample, text, 0o600))

	password, err := os.ReadFile(filepath.Join(dir, "data", "owner-password"))
	require.NoError(t, err)
	tab, stop := browser.New(context.Background(), 1280, 800)
	t.Cleanup(stop)
	require.NoError(t, browser.Login(tab, p.Address(), "owner", strings.TrimSpace(string(password))))
	world.Do(t, tab, world.Saying("Or try it with made-up data"), world.Press("Try it with the demo data"), world.Saying("Open base"), mouse.follow("Today"), world.Saying("4 of 7 done"))
	clients, err := svc.Clients(t.Context())
	require.NoError(t, err)
	require.Len(t, clients, 3)
	source, err := svc.Source(t.Context(), "base")
	require.NoError(t, err)
	require.NotNil(t, source.Survey)
	there, err = svc.Sample(t.Context())
	require.NoError(t, err)
	require.False(t, there.There, "there is a source now")
	_, err = svc.TakeSample(t.Context())
	require.ErrorContains(t, err, "no sample")
}
