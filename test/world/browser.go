package world

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/internal/wire"
)

const AxeSource = "../../web/node_modules/axe-core/axe.min.js"

// AwaitPromise waits for what the script promises.
func AwaitPromise(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

// theBrowser is started by the first test that needs one, and shared: starting one takes longer than most tests.
var theBrowser struct {
	sync.Mutex
	started context.Context
	stop    func()
}

func startedBrowser() (context.Context, error) {
	theBrowser.Lock()
	defer theBrowser.Unlock()
	if theBrowser.started == nil {
		theBrowser.started, theBrowser.stop = browser.New(context.Background(), 1280, 800)
		if err := chromedp.Run(theBrowser.started); err != nil {
			theBrowser.stop()
			theBrowser.started = nil
			return nil, err
		}
	}
	return theBrowser.started, nil
}

func stopBrowser() {
	if theBrowser.started != nil {
		theBrowser.stop()
	}
}

// Console opens a tab of its own that is logged in to the console.
func Console(t *testing.T) context.Context {
	if _, err := os.Stat("../../web/dist/index.html"); err != nil {
		t.Fatal("the console is not built; run make build")
	}
	started, err := startedBrowser()
	require.NoError(t, err)
	tab, stop, err := browser.Tab(started)
	require.NoError(t, err)
	t.Cleanup(stop)
	require.NoError(t, browser.Login(tab, Service.Address(), "owner", Password))
	// A page that asks before it is left keeps everything waiting for an answer.
	chromedp.ListenTarget(tab, func(event any) {
		if asks, is := event.(*page.EventJavascriptDialogOpening); is {
			t.Errorf("the browser asks (%s) %s", asks.Type, asks.Message)
			go chromedp.Run(tab, page.HandleJavaScriptDialog(true))
		}
	})
	return tab
}

// Do does one thing after the other in a tab.
func Do(t *testing.T, tab context.Context, actions ...chromedp.Action) {
	t.Helper()
	ctx, cancel := context.WithTimeout(tab, 5*time.Minute)
	defer cancel()
	for i, action := range actions {
		err := chromedp.Run(ctx, action)
		// A node that was found may be gone when it is asked for, as pages are drawn again while they load.
		for try := 1; try < 3 && err != nil && strings.Contains(err.Error(), "(-32000)"); try++ {
			err = chromedp.Run(ctx, action)
		}
		if err != nil {
			t.Logf("what the page shows:\n%s", pageNow(tab))
		}
		require.NoError(t, err, "action %d of %d", i+1, len(actions))
	}
}

// pageNow tells where a tab is, what has the focus, what lies over its middle and what it shows.
func pageNow(tab context.Context) (shown string) {
	ctx, cancel := context.WithTimeout(tab, 20*time.Second)
	defer cancel()
	err := chromedp.Run(ctx, chromedp.Evaluate(`[location.href, document.activeElement?.outerHTML.slice(0, 200),
		document.elementFromPoint(innerWidth / 2, innerHeight / 2)?.outerHTML.slice(0, 200), document.body.innerText].join('\n')`, &shown))
	if err != nil {
		return err.Error()
	}
	return shown
}

// LoginInBrowser does what a client does first.
func LoginInBrowser(t *testing.T, site wire.Site, password string) {
	started, err := startedBrowser()
	require.NoError(t, err)
	tab, stop, err := browser.Tab(started)
	require.NoError(t, err)
	defer stop()
	require.NoError(t, chromedp.Run(tab))
	ctx, cancel := context.WithTimeout(tab, 3*time.Minute)
	defer cancel()
	require.NoError(t, chromedp.Run(ctx,
		chromedp.Navigate(site.LoginAt),
		chromedp.WaitVisible("#user_login", browser.ByQuery),
		chromedp.Sleep(400*time.Millisecond), // the page moves the focus once it has loaded
		chromedp.SetValue("#user_login", site.Admin, browser.ByQuery),
		chromedp.SetValue("#user_pass", password, browser.ByQuery),
		chromedp.Evaluate("document.querySelector('#wp-submit').click()", nil)))
	// While one page gives way to another, what was asked of the first fails; it is asked of the next. A page that is
	// still coming in has the bar without the name.
	greeting := ""
	for ctx.Err() == nil && !strings.Contains(greeting, site.Admin) {
		time.Sleep(100 * time.Millisecond)
		if chromedp.Run(ctx, chromedp.Evaluate("document.querySelector('#wp-admin-bar-my-account')?.textContent ?? ''", &greeting)) != nil {
			greeting = ""
		}
	}
	require.Contains(t, greeting, site.Admin)
}

// Showing opens a page of the console and waits until it says something.
func Showing(path, says string) chromedp.Action {
	return chromedp.Tasks{chromedp.Navigate(Service.Address() + path), Saying(says)}
}

// Until waits until a page is as it should be; on a machine that is busy with other things that takes a while.
func Until(script string) chromedp.Action {
	return browser.Until(script, 3*time.Minute)
}

// Saying waits until the page, dialogs included, has a text in it.
func Saying(text string) chromedp.Action {
	return Until(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// Press clicks the button of this name: in the dialog, where one is open.
func Press(name string) chromedp.Action {
	return Until(fmt.Sprintf(`(() => {
		const within = document.querySelector('[role=dialog]') ?? document
		const b = [...within.querySelectorAll('button')].find(b => b.innerText.trim() === %q && !b.disabled)
		b?.click()
		return !!b
	})()`, name))
}

// Clicked clicks what a selector, or an XPath, finds: once it is enabled and nothing lies over its middle.
func Clicked(what string) chromedp.Action {
	return Until(fmt.Sprintf(`(() => {
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

// Typed puts a text in place of what a field holds, as a person does.
func Typed(field, text string) chromedp.Action {
	if text == "" {
		text = kb.Delete
	}
	return chromedp.Tasks{chromedp.WaitVisible(field, browser.ByQuery),
		chromedp.Evaluate(fmt.Sprintf("(() => { const f = document.querySelector(%q); f.focus(); f.select() })()", field),
			nil), chromedp.KeyEvent(text)}
}
