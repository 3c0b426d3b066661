// Command shots takes docs/screenshots again: the console's pages in headless Chromium, and what the main
// commands print, all from the running demo (make demo).
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"nestseed/demo/browser"
)

const to = "docs/screenshots"

// pages of the console, with what must be on them before the picture is taken.
var pages = []struct{ name, path, ready string }{
	{"today", "/", "[aria-label='What needs attention'] li"},
	{"source", "/sources/base", "table"},
	{"starter", "/starters/music-base", "ol li"},
	{"packing", "/starters/music-base/packing", "[role=treeitem]"},
	{"release", "/releases/music-base@2", "[aria-label='Size map'] button"},
	{"comparison", "/comparisons/{comparison}", "[aria-label='Main causes'] li"},
	{"import", "/starters", "table"},
	{"make-site", "/sites/new?client=dale-end&from=music-base@3", "ol li"},
	{"sites", "/sites", "table"},
	{"site", "/sites/brook-lane", "[aria-label='Safety copies'] li"},
	{"side-by-side", "/sites/cedar-hill/side-by-side", "main img"},
	{"handover", "{handover}", "main button"},
	{"host", "/hosts/preview", "main dl"},
}

// commands whose output is shown.
var commands = []struct {
	name string
	args []string
}{
	{"command-survey", []string{"source", "show", "base"}},
	{"command-release", []string{"release", "show", "music-base"}},
	{"command-compare", []string{"release", "compare", "music-base@1", "music-base@2"}},
	{"command-contents", []string{"release", "contents", "music-base", "wp-content", "--largest", "24"}},
	{"command-plan", []string{"site", "plan", "alder-valley", "--from", "music-base", "--host", "preview", "--replace", "--keep", "comments"}},
	{"command-site", []string{"site", "show", "brook-lane"}},
}

func main() {
	only := os.Args[1:]
	if err := run(only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(only []string) error {
	dir := ".demo"
	if v := os.Getenv("NESTSEED_DEMO"); v != "" {
		dir = v
	} else if _, err := os.Stat("/var/tmp/nestseed-demo/console-password"); err == nil {
		dir = "/var/tmp/nestseed-demo"
	}
	password, err := os.ReadFile(filepath.Join(dir, "console-password"))
	if err != nil {
		return fmt.Errorf("%w; run make demo first", err)
	}
	server := "http://127.0.0.1:8470"
	if err := client(server, dir); err != nil {
		return err
	}
	comparison, err := newestComparison(server, dir)
	if err != nil {
		return err
	}
	ctx, stop := browser.New(context.Background(), 1280, 800)
	defer stop()
	if err := browser.Login(ctx, server, "owner", string(password)); err != nil {
		return err
	}
	for _, p := range pages {
		if len(only) > 0 && !slices.Contains(only, p.name) {
			continue
		}
		path := strings.ReplaceAll(p.path, "{comparison}", comparison)
		if path == "{handover}" {
			if path, err = handover(server, dir); err != nil {
				return err
			}
		}
		if err := shoot(ctx, p.name, server+path, p.ready); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return terminals(ctx, server, dir, only)
}

// client makes the client that the page of making a site is shown with: its measurement id is missing.
func client(server, dir string) error {
	_, err := nestseed(server, dir, "client", "show", "dale-end")
	if err != nil {
		_, err = nestseed(server, dir, "client", "add", "dale-end", "--set", "title=Dale End Piano Studio", "--set",
			"email=office@dale-end.example", "--set", "booking_licence=LB-1H6R8C-1111")
	}
	return err
}

// newestComparison returns the number of the run that compared the demo's releases.
func newestComparison(server, dir string) (string, error) {
	out, err := nestseed(server, dir, "--json", "run", "list", "--limit", "400")
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	var runs []struct {
		ID     int64  `json:"id"`
		Job    string `json:"job"`
		Title  string `json:"title"`
		Status string `json:"status"`
	}
	if err := json.Unmarshal(out, &runs); err != nil {
		return "", err
	}
	for _, r := range runs {
		if r.Job == "compare" && r.Status == "done" && r.Title == "Compare music-base@1 with music-base@2" {
			return fmt.Sprint(r.ID), nil
		}
	}
	return "", errors.New("the demo's comparison is not there; run make demo first")
}

// handover makes a link to hand a site over and returns its path.
func handover(server, dir string) (string, error) {
	out, err := nestseed(server, dir, "--json", "site", "handover", "elm-court")
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	var link struct {
		Path string `json:"path"`
	}
	err = json.Unmarshal(out, &link)
	return strings.TrimPrefix(link.Path, server), err
}

func nestseed(server, dir string, args ...string) ([]byte, error) {
	cmd := exec.Command("bin/nestseed", args...)
	cmd.Env = append(os.Environ(), "NESTSEED_SERVER="+server, "NESTSEED_DATA="+filepath.Join(dir, "nestseed"))
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	return out.Bytes(), err
}

func shoot(ctx context.Context, name, url, ready string) error {
	var png []byte
	steps := []chromedp.Action{chromedp.Navigate(url), chromedp.WaitVisible(ready, browser.ByQuery)}
	if name == "import" {
		steps = append(steps, chromedp.Click("header button.bg-leaf", browser.ByQuery), chromedp.WaitVisible("[role=dialog] input[type=file]",
			browser.ByQuery))
	}
	if name == "host" {
		steps = append(steps, chromedp.Click("header button.bg-leaf", browser.ByQuery), chromedp.WaitVisible("[role=status] li", browser.ByQuery))
	}
	if name == "handover" {
		steps = append(steps, chromedp.Click("main button", browser.ByQuery), chromedp.WaitVisible("main article", browser.ByQuery),
			chromedp.Evaluate("document.querySelector('main article code').textContent = '••••••••••••••••••••'", nil)) // no password in a picture
	}
	steps = append(steps, chromedp.Sleep(700*time.Millisecond), chromedp.Evaluate(fmt.Sprintf(masking, here(), shown), nil))
	err := chromedp.Run(ctx, append(steps, chromedp.CaptureScreenshot(&png))...)
	if err != nil {
		return err
	}
	fmt.Println(filepath.Join(to, name+".png"))
	return os.WriteFile(filepath.Join(to, name+".png"), png, 0o644)
}

// A picture shows no folder of the machine that it was taken on.
const (
	shown   = "/srv/nestseed"
	masking = `for (const w = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT), from = %q, to = %q; w.nextNode();)
	w.currentNode.data = w.currentNode.data.replaceAll(from, to)`
)

func here() string {
	dir, err := os.Getwd()
	if err != nil {
		panic(err) // it is the folder that this program was started in
	}
	return dir
}

const terminal = `<!doctype html><meta charset="utf-8"><style>body{margin:0;background:#101714;color:#dfe8e4;font:13px/1.42 "DejaVu Sans Mono","Liberation Mono",monospace}pre{margin:14px 18px;white-space:pre-wrap}b{color:#7fd1a9}</style><pre><b>$ nestseed %s</b>
%s</pre>`

func terminals(ctx context.Context, server, dir string, only []string) error {
	pages := map[string]string{}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, pages[r.URL.Path]) }))
	defer web.Close()
	for _, c := range commands {
		if len(only) > 0 && !slices.Contains(only, c.name) {
			continue
		}
		out, err := nestseed(server, dir, c.args...)
		if err != nil {
			return fmt.Errorf("%s: %w\n%s", c.name, err, out)
		}
		pages["/"+c.name] = fmt.Sprintf(terminal, strings.Join(c.args, " "), html.EscapeString(string(out)))
		if err := shoot(ctx, c.name, web.URL+"/"+c.name, "pre"); err != nil {
			return err
		}
	}
	return nil
}
