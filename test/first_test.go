package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"nestseed/demo/browser"
	"nestseed/demo/scenario"
	"nestseed/demo/stack"
)

// From a service with nothing in it to the first site, by what the console shows, without the command line: each step is the one that the
// first page leads to.
func TestFromNothingToTheFirstSiteInTheConsole(t *testing.T) {
	dir, err := os.MkdirTemp(world.dir, "first-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	p, err := serve(filepath.Join(dir, "data"), fmt.Sprintf("127.0.0.1:%d", stack.FreePort()))
	require.NoError(t, err)
	defer func() { require.NoError(t, p.stop()) }()
	password, err := os.ReadFile(filepath.Join(dir, "data", "owner-password"))
	require.NoError(t, err)
	tab, stop := browser.New(context.Background(), 1280, 800)
	t.Cleanup(stop)
	require.NoError(t, browser.Login(tab, p.address(), "owner", strings.TrimSpace(string(password))))

	first := chromedp.Tasks{chromedp.Click(`nav a[href="/"]`, chromedp.ByQuery), saying("From here to the first site")}
	next := func(says string) chromedp.Action {
		return chromedp.Poll(fmt.Sprintf(`document.querySelector('[aria-current=step]')?.innerText.includes(%q)`, says), nil)
	}
	school := scenario.Schools(12)[11]
	name := "first-" + school.Name
	do(t, tab, next("Add a host"), press("Add a host"), filled("name", "preview"), filled("files", "file://"+world.stack.Sites()+"?owner=www-data"),
		filled("address", world.stack.Address("{name}")), filled("database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.stack.AdminUser, world.stack.DatabasePort)),
		filled("database_password", "not this one"), press("Add"), chromedp.WaitVisible("[role=dialog] [role=alert]", chromedp.ByQuery),
		filled("database_password", world.stack.AdminPassword), press("Add"), closed, saying("What it is"))
	do(t, tab, first, next("Add a source"), press("Add a source"), filled("name", "base"), press("Look for it"),
		chromedp.WaitVisible(`//li[.//button[text()='base']]//button[normalize-space()='Take it']`, chromedp.BySearch),
		chromedp.Click(`//li[.//button[text()='base']]//button[normalize-space()='Take it']`, chromedp.BySearch), press("Add"), closed, saying("Not surveyed yet"))
	do(t, tab, first, next("Survey it"), press("Survey"), saying("Open base"), first, next("Create a starter"), press("Create a starter"),
		filled("name", "music-base"), press("Create"), closed, saying("None yet. Build the first one."))
	do(t, tab, first, next("Build a release"), chromedp.Click(`//a[normalize-space()='Go to music-base']`, chromedp.BySearch), press("Build a release"),
		filled("note", "the first one"), press("Build"), closed, saying("Open music-base@1"))
	do(t, tab, first, next("Add a client"), press("Add a client"), filled("name", name), filled("title", school.Title), filled("email", school.Settings["email"]), press("Add"),
		closed, saying(school.Title))
	do(t, tab, first, next("Make the site"), chromedp.Click(`[aria-current=step] a`, chromedp.ByQuery), chromedp.WaitVisible("ol li", chromedp.ByQuery), saying("checks included"),
		press("Make this site"), saying("Open "+name), chromedp.Click(fmt.Sprintf(`a[href="/sites/%s"]`, name), chromedp.ByQuery), saying("Its name in DNS"))
	svc := p.client(t)
	site, err := svc.Site(t.Context(), name)
	require.NoError(t, err)
	require.Equal(t, school.Title, site.Title)
	require.Zero(t, site.Report.Faults(), "%+v", site.Report)

	// And back to nothing, as far as the host knows.
	do(t, tab, press("Undo…"), saying("the site is removed"), press("Undo it"), saying("Undo site "+name), saying("Open "+name))
	nothingLeft(t, name)
}
