// Package sidebyside looks at the same pages of two sites in a headless browser, and marks where they differ.
//
//	browser, err := sidebyside.Find("")
//	pages, err := sidebyside.Take(ctx, browser, source, site, []string{"", "lessons/"}, "pictures", reporter)
//	// pages[0].Share is the share of the picture that differs; pages[0].Left and .Right name PNG files
//
// Screenshots are Width pixels wide and as high as the page, up to MaxHeight. Each browser has a profile of its own that
// is thrown away, and connects to the hosts themselves whatever DNS says. The package only reads; what a page's own
// scripts do when they are opened, they do: so the browser runs sandboxed, as nobody, with an environment of its own, and
// reaches the two sites and nothing else (see proxy).
package sidebyside

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"nestseed/internal/core/check"
	"nestseed/internal/core/progress"
)

// Size of the pictures in pixels.
const (
	Width     = 1280
	MaxHeight = 3200
)

// pageTime is how long one page may take to open.
const pageTime = 30 * time.Second

// ErrNoBrowser says that there is no browser to look with.
var ErrNoBrowser = errors.New("there is no Chromium on this machine")

// Site is one of the two.
type Site = check.Reach

// Page is one page of both.
type Page struct {
	Path    string  `json:"path"`  // below the addresses
	Left    string  `json:"left"`  // PNG file of the first site's page; "" when it could not be opened
	Right   string  `json:"right"` // of the second's, with the differences marked
	Share   float64 `json:"share"` // of the picture that differs, 0 to 1
	Places  int     `json:"places"`
	Problem string  `json:"problem,omitempty"`
}

// Find returns the program to look with: the one that is named, or the first of the usual names that is there.
// Errors: ErrNoBrowser.
func Find(name string) (string, error) {
	for _, n := range []string{name, "chromium", "chromium-browser", "google-chrome"} {
		if n == "" {
			continue
		}
		if p, err := exec.LookPath(n); err == nil {
			return p, nil
		}
	}
	return "", fmt.Errorf("%w; install Debian's package chromium where the service runs", ErrNoBrowser)
}

// Take looks at each path on both sites and writes the pictures into dir. A page that cannot be opened is told in its
// Problem and does not end the work.
func Take(ctx context.Context, browser string, left, right Site, paths []string, dir string, report progress.Reporter) ([]Page, error) {
	profile, as, err := workspace()
	if err != nil {
		return nil, err
	}
	defer discard(profile)
	out, err := newProxy(left, right)
	if err != nil {
		return nil, err
	}
	defer out.close()
	running, err := start(browser, profile, as, flags(out.address())...)
	if err != nil {
		return nil, fmt.Errorf("start %s in its sandbox: %w; where the system allows no user namespaces, install Debian's package "+
			"chromium-sandbox", browser, err)
	}
	defer running.stop()
	alloc, endDriving := chromedp.NewRemoteAllocator(ctx, running.bridge.address(), chromedp.NoModifyURL)
	defer endDriving()
	tab, closeTab := chromedp.NewContext(alloc)
	defer closeTab()
	begun := make(chan error, 1)
	go func() { begun <- chromedp.Run(tab, network.Enable(), chromedp.EmulateViewport(Width, 800)) }()
	select {
	case err = <-begun:
	case <-running.ended:
		err = errors.New("it ended at once")
	case <-time.After(startTime):
		err = fmt.Errorf("it cannot be driven after %s", startTime)
	}
	if err != nil {
		return nil, fmt.Errorf("drive %s in its sandbox: %w; where the system allows no user namespaces, install Debian's package "+
			"chromium-sandbox", browser, err)
	}
	return shootAll(ctx, tab, left, right, paths, dir, report)
}

// shootAll takes the pages one after the other.
func shootAll(ctx, tab context.Context, left, right Site, paths []string, dir string, report progress.Reporter) ([]Page, error) {
	report.Step("Take screenshots", progress.Amount{Files: int64(len(paths))})
	var out []Page
	for i, p := range paths {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		one := Page{Path: p}
		if err := one.take(tab, left, right, dir, i); err != nil {
			if errors.Is(err, errDisk) {
				return nil, err
			}
			one.Problem = err.Error()
		}
		out = append(out, one)
		report.Add(progress.Amount{Files: 1})
	}
	return out, nil
}

// discard removes the browser's folder. Processes of its own may write there for a moment after it has ended.
func discard(profile string) {
	for range 50 {
		if err := os.RemoveAll(profile); err == nil {
			time.Sleep(50 * time.Millisecond)
			if _, err := os.Stat(profile); errors.Is(err, fs.ErrNotExist) {
				return
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
}

var errDisk = errors.New("keep the pictures")

func (p *Page) take(tab context.Context, left, right Site, dir string, number int) error {
	a, err := shoot(tab, left, p.Path)
	if err != nil {
		return fmt.Errorf("%s/%s: %w", left.Address, p.Path, err)
	}
	b, err := shoot(tab, right, p.Path)
	if err != nil {
		return fmt.Errorf("%s/%s: %w", right.Address, p.Path, err)
	}
	boxes, share := Differ(a, b)
	p.Share, p.Places = share, len(boxes)
	for _, side := range []struct {
		name string
		img  image.Image
		to   *string
	}{{"left", a, &p.Left}, {"right", b, &p.Right}} {
		file := fmt.Sprintf("%d-%s.png", number+1, side.name)
		if err := write(filepath.Join(dir, file), Mark(side.img, boxes)); err != nil {
			return fmt.Errorf("%w: %w", errDisk, err)
		}
		*side.to = file
	}
	return nil
}

func write(name string, img image.Image) error {
	var buf bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&buf, img); err != nil {
		return err
	}
	return os.WriteFile(name, buf.Bytes(), 0o600)
}

// flags are those of a browser that shows nothing, keeps nothing, calls nobody, and whose only way out is a proxy.
func flags(proxy string) []string {
	return []string{"--headless", "--disable-gpu", "--hide-scrollbars", "--mute-audio", "--no-first-run", "--no-default-browser-check",
		"--disable-quic",
		"--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-extensions", "--disable-default-apps",
		"--disable-dev-shm-usage", "--dns-prefetch-disable", "--force-webrtc-ip-handling-policy=disable_non_proxied_udp",
		"--password-store=basic",
		fmt.Sprintf("--window-size=%d,800", Width),
		// Loopback is no exception: without the second a browser connects to it past its proxy.
		"--proxy-server=" + proxy, "--proxy-bypass-list=<-loopback>"}
}

// shoot opens a page and takes its picture.
func shoot(tab context.Context, s Site, path string) (image.Image, error) {
	ctx, cancel := context.WithTimeout(tab, pageTime)
	defer cancel()
	address := s.Address + "/" + path
	var shot []byte
	answer, err := chromedp.RunResponse(ctx,
		chromedp.ActionFunc(func(ctx context.Context) error {
			name, value, ok := strings.Cut(s.Cookie, "=")
			if !ok {
				return nil
			}
			return network.SetCookie(name, value).WithURL(s.Address).WithHTTPOnly(true).Do(ctx)
		}),
		chromedp.Navigate(address))
	if err == nil && answer != nil && answer.Headers[unreachable] != nil {
		return nil, errors.New("does not answer")
	}
	if err == nil {
		err = still(ctx, &shot)
	}
	if errors.Is(err, context.DeadlineExceeded) && tab.Err() == nil {
		return nil, fmt.Errorf("did not open within %s", pageTime)
	}
	if err != nil {
		return nil, err
	}
	return png.Decode(bytes.NewReader(shot))
}

// still waits until nothing moves and takes the screenshot.
func still(ctx context.Context, shot *[]byte) error {
	var height float64
	return chromedp.Run(ctx,
		chromedp.Evaluate(stillness, nil),
		chromedp.Sleep(150*time.Millisecond),
		chromedp.Evaluate("document.documentElement.scrollHeight", &height),
		chromedp.ActionFunc(func(ctx context.Context) (err error) {
			*shot, err = page.CaptureScreenshot().WithCaptureBeyondViewport(true).
				WithClip(&page.Viewport{Width: Width, Height: max(1, min(height, MaxHeight)), Scale: 1}).Do(ctx)
			return err
		}))
}

// stillness ends what moves, and loads what waits to be scrolled to.
const stillness = `(() => {
  const s = document.createElement('style')
  s.textContent = '*,*::before,*::after{animation:none!important;transition:none!important;caret-color:transparent!important;scroll-behavior:auto!important}'
  document.documentElement.append(s)
  for (const i of document.images) i.loading = 'eager'
})()`
