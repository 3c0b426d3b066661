// Package browser drives headless Chromium from Debian's packages, for tests and for pictures.
package browser

import (
	"context"
	"os"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
)

// New starts a browser with a profile of its own and a window of this size; stop ends it.
func New(ctx context.Context, width, height int) (tab context.Context, stop func()) {
	dir, err := os.MkdirTemp("", "nestseed-browser-")
	if err != nil {
		dir = ""
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(dir), chromedp.WindowSize(width, height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync",
			true), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("force-prefers-reduced-motion", true)) // pictures show what is there, not what is on its way
	alloc, cancelAlloc := chromedp.NewExecAllocator(ctx, options...)
	tab, cancelTab := chromedp.NewContext(alloc)
	return tab, func() {
		cancelTab()
		cancelAlloc()
		os.RemoveAll(dir)
	}
}

// Tab opens a tab in a browser that New has started, with cookies and storage of its own; stop closes it.
func Tab(started context.Context) (tab context.Context, stop func(), err error) {
	asked := cdp.WithExecutor(started, chromedp.FromContext(started).Browser)
	own, err := target.CreateBrowserContext().Do(asked)
	if err != nil {
		return nil, nil, err
	}
	id, err := target.CreateTarget("about:blank").WithBrowserContextID(own).WithNewWindow(true).Do(asked)
	if err != nil {
		return nil, nil, err
	}
	tab, closeTab := chromedp.NewContext(started, chromedp.WithTargetID(id))
	return tab, func() {
		closeTab()
		target.DisposeBrowserContext(own).Do(asked)
	}, nil
}

// ByQuery finds elements by a CSS selector, and asks for those that are not there yet twenty times a second: asking all the time, as the
// driver does, takes a processor.
func ByQuery(s *chromedp.Selector) {
	chromedp.ByQuery(s)
	chromedp.RetryInterval(50 * time.Millisecond)(s)
}

// Until waits until a script returns something true, asking twenty times a second.
func Until(script string, atMost time.Duration) chromedp.Action {
	return chromedp.Poll(script, nil, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(atMost))
}

// Login logs in to the console at its login page, and waits for the first page.
func Login(tab context.Context, server, name, password string) error {
	// The first run starts the browser and ties it to its context, which must outlive the login.
	if err := chromedp.Run(tab, chromedp.EmulateViewport(1280, 800), emulation.SetFocusEmulationEnabled(true)); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(tab, 90*time.Second)
	defer cancel()
	return chromedp.Run(ctx,
		chromedp.Navigate(server+"/"),
		chromedp.WaitVisible(`input[name=name]`, ByQuery),
		chromedp.SendKeys(`input[name=name]`, name, ByQuery),
		chromedp.SendKeys(`input[name=password]`, password, ByQuery),
		chromedp.Click(`button[type=submit]`, ByQuery),
		chromedp.WaitVisible(`nav[aria-label=Main]`, ByQuery))
}
