package check

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/html"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
)

// page is one address that was opened, with what was found in it.
type page struct {
	address  string
	from     string
	status   int
	err      error
	header   http.Header
	body     []byte
	title    string
	robots   string
	redirect string
	links    []string
	assets   []string
	took     time.Duration
	forms    []*form
	inForm   bool // while it is parsed
	template look
}

// asset is an image, style or script of a page.
type asset struct {
	address, from string
	status        int
	kind          string
	err           error
}

// crawl opens pages breadth first, from the kind's own and the home page, then asks for their assets.
func (r *runner) crawl(ctx context.Context) error {
	seen := map[string]bool{}
	var queue []*page
	add := func(address string, from *page) {
		at, says := r.base, "the kind's list of pages"
		if from != nil {
			at, says = r.from(from), from.address
		}
		u, err := at.Parse(address)
		if err != nil || !r.ours(u) || skip(r.site.Kind, u) {
			return
		}
		u.Fragment = ""
		if u.Path == "" {
			u.Path = "/" // the same page (RFC 3986 section 6.2.3)
		}
		s := u.String()
		if seen[s] || len(seen) >= r.site.MaxPages || r.waits(s) {
			return
		}
		seen[s] = true
		queue = append(queue, &page{address: s, from: says})
	}
	first := r.site.Kind.Pages
	if like := r.site.Like; like != nil {
		first = append([]string{""}, like.Pages...)
	}
	for _, p := range first {
		add(r.base.String()+"/"+p, nil)
	}
	for _, u := range r.also {
		add(u.String()+"/", nil)
	}
	for len(queue) > 0 && ctx.Err() == nil {
		batch := queue
		if len(r.pages) == 0 {
			batch = queue[:1:1] // by itself: the first page of a new site is compiled, and then it is for all of them
		}
		queue = queue[len(batch):]
		if err := r.pace.each(len(batch), func(i int) { r.open(ctx, batch[i]) }); err != nil {
			return err
		}
		if len(r.pages) == 0 && batch[0].status == http.StatusOK {
			r.report.LiveMillis = time.Since(r.start).Milliseconds()
			r.progress.Note("the home page answers: the site is live")
		}
		r.pages = append(r.pages, batch...)
		r.progress.Add(progress.Amount{Files: int64(len(batch))})
		for _, p := range batch {
			if r.site.Like != nil {
				break
			}
			if p.redirect != "" {
				add(p.redirect, p)
			}
			for _, l := range r.inTurn(p) {
				add(l, p)
			}
		}
	}
	r.report.Pages = len(r.pages)
	if like := r.site.Like; like != nil {
		r.report.Like = like.Name
	} else {
		r.openAnswers(ctx)
		r.report.Opened = r.opened()
		r.keepTemplates()
	}
	return r.openAssets(ctx)
}

// openAnswers opens what programs ask for: not every site has all of it, so only what stands in them is judged.
func (r *runner) openAnswers(ctx context.Context) {
	if len(r.traces.list) == 0 {
		return
	}
	for _, a := range r.site.Kind.Answers {
		r.answers = append(r.answers, &page{address: r.base.String() + "/" + a, from: "the kind's list of answers"})
	}
	r.pace.each(len(r.answers), func(i int) { r.open(ctx, r.answers[i]) }) // what does not answer has nothing in it
}

// names reports whether a text names the address that the site came from.
func (r *runner) names(text string) (is bool) {
	r.traces.in([]byte(text), func(f found) { is = is || f.stays == "" })
	return is
}

// ours reports whether an address belongs to the site.
func (r *runner) ours(u *url.URL) bool {
	below := func(at *url.URL) bool {
		return u.Host == at.Host && (u.Path == at.Path || strings.HasPrefix(u.Path, at.Path+"/"))
	}
	return (u.Scheme == "http" || u.Scheme == "https") && (below(r.base) || slices.ContainsFunc(r.also, below))
}

// from is what links of a page are relative to.
func (r *runner) from(p *page) *url.URL {
	if u, err := url.Parse(p.address); err == nil {
		return u
	}
	return r.base
}

// skip passes over what a visitor does not open by following links: actions, and what logs out.
func skip(k *kind.Kind, u *url.URL) bool {
	return slices.ContainsFunc(k.Passes, func(p string) bool { return packing.Wild(strings.ReplaceAll(p, "/", "_"), u.RequestURI()) })
}

// get asks for one address and reads at most maxBodyBytes.
func (r *runner) get(ctx context.Context, address string) (*http.Response, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, nil, err
	}
	return r.send(req)
}

// userAgent names the checks in each request: applications tie a session to it.
const userAgent = "Nest Seed check"

func (r *runner) send(req *http.Request) (*http.Response, []byte, error) {
	req.Header.Set("User-Agent", userAgent)
	if name, value, ok := strings.Cut(r.site.Cookie, "="); ok {
		req.AddCookie(&http.Cookie{Name: name, Value: value})
	}
	res, err := r.client.Do(req)
	if err != nil {
		return nil, nil, err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, maxBodyBytes))
	return res, body, err
}

func (r *runner) open(ctx context.Context, p *page) {
	start := time.Now()
	res, body, err := r.get(ctx, p.address)
	p.took = time.Since(start)
	if err != nil {
		p.err = err
		return
	}
	p.status, p.body, p.header = res.StatusCode, body, res.Header
	if l := res.Header.Get("Location"); l != "" && res.StatusCode/100 == 3 {
		p.redirect = l
	}
	if strings.Contains(res.Header.Get("Content-Type"), "html") {
		p.parse()
	}
}

func (p *page) parse() {
	z := html.NewTokenizer(bytes.NewReader(p.body))
	inTitle := false
	for {
		switch z.Next() {
		case html.ErrorToken:
			return
		case html.TextToken:
			if inTitle && p.title == "" {
				p.title = strings.TrimSpace(string(z.Text()))
				p.title = html.UnescapeString(p.title)
			}
		case html.StartTagToken, html.SelfClosingTagToken:
			t := z.Token()
			inTitle = t.Data == "title"
			p.template.tag(t)
			p.tag(t)
		case html.EndTagToken:
			inTitle = false
			if name, _ := z.TagName(); string(name) == "form" {
				p.inForm = false
			}
		}
	}
}

func (p *page) tag(t html.Token) {
	attr := map[string]string{}
	for _, a := range t.Attr {
		attr[a.Key] = a.Val
	}
	p.formTag(t, attr)
	switch t.Data {
	case "a":
		if h := attr["href"]; h != "" && !strings.HasPrefix(h, "#") {
			p.links = append(p.links, h)
		}
	case "img", "script", "source", "iframe":
		if s := attr["src"]; s != "" && !strings.HasPrefix(s, "data:") {
			p.assets = append(p.assets, s)
		}
		for part := range strings.SplitSeq(attr["srcset"], ",") {
			if f := strings.Fields(part); len(f) > 0 {
				p.assets = append(p.assets, f[0])
			}
		}
	case "link":
		if rel := attr["rel"]; (rel == "stylesheet" || strings.Contains(rel, "icon")) && attr["href"] != "" {
			p.assets = append(p.assets, attr["href"])
		}
	case "meta":
		if strings.EqualFold(attr["name"], "robots") {
			p.robots = attr["content"]
		}
	}
}

func (r *runner) openAssets(ctx context.Context) error {
	r.assets = map[string]*asset{}
	for _, p := range r.pages {
		at, err := url.Parse(p.address)
		if err != nil {
			continue
		}
		for _, a := range p.assets {
			if u, err := at.Parse(a); err == nil && r.ours(u) && len(r.assets) < requestLimit {
				if s := u.String(); r.assets[s] == nil {
					r.assets[s] = &asset{address: s, from: p.address}
				}
			}
		}
	}
	r.report.Requests = len(r.pages) + len(r.assets)
	assets := slices.Collect(maps.Values(r.assets))
	pace := pace{limit: 4} // files: no program of the site runs for them
	return pace.each(len(assets), func(i int) {
		a := assets[i]
		res, _, err := r.get(ctx, a.address)
		if a.err = err; err == nil {
			a.status, a.kind = res.StatusCode, res.Header.Get("Content-Type")
		}
	})
}

// checkPages turns what the crawl found into checks.
func (r *runner) checkPages() {
	var bad, elsewhere, mixed []finding
	var old tally
	for _, p := range r.pages {
		if why := p.wrong(); why != "" {
			text := p.address + ": " + why
			if p.status >= 400 {
				text += ", linked from " + p.from
			}
			bad = append(bad, finding{r.key(p.address) + " " + p.wrongKey(), text})
		} else if p.redirect != "" {
			if u, err := r.from(p).Parse(p.redirect); err == nil && !r.ours(u) {
				elsewhere = append(elsewhere, finding{r.key(p.address) + " " + p.redirect, p.address + " leads to " + p.redirect})
			}
		}
		r.traces.in(p.body, func(f found) { old.add(p.address, f) })
		for name, values := range p.header {
			for _, v := range values {
				r.traces.in([]byte(v), func(f found) { old.add(p.address+", header "+name, f) })
			}
		}
		if r.base.Scheme == "https" {
			for _, a := range p.assets {
				if strings.HasPrefix(a, "http:") {
					mixed = append(mixed, finding{r.key(p.address) + " " + a, p.address + " loads " + a})
				}
			}
		}
	}
	for _, p := range r.answers {
		r.traces.in(p.body, func(f found) { old.add(p.address, f) })
		for name, values := range p.header {
			r.traces.in([]byte(strings.Join(values, "\n")), func(f found) { old.add(p.address+", header "+name, f) })
		}
	}
	open := fmt.Sprintf("%d pages open", len(r.pages))
	if like := r.site.Like; like != nil {
		open += fmt.Sprintf("; all %d were opened on %s, which has the same code", like.Count, like.Name)
	} else if r.report.Waiting > 0 {
		open += fmt.Sprintf("; %d more have the same templates as these and were not opened", r.report.Waiting)
	}
	r.result(pagesOpen, open, "pages do not open", "open them in a browser and look at the server's error log", bad)
	r.result("redirects", "no page leads to another site", "pages lead to another address",
		"look for the old address in the settings file and in redirection rules", elsewhere)
	var assets []finding
	for _, a := range r.assets {
		f := finding{key: r.key(a.address) + " " + a.wrongKey()}
		switch {
		case a.err != nil:
			f.text = fmt.Sprintf("%s: %v", a.address, a.err)
		case a.status >= 400:
			f.text = fmt.Sprintf("%s: %d, on %s", a.address, a.status, a.from)
		default:
			continue
		}
		assets = append(assets, f)
	}
	slices.SortFunc(assets, func(a, b finding) int { return strings.Compare(a.text, b.text) })
	r.result(images, fmt.Sprintf("%d images, styles and scripts load from the site's own address", len(r.assets)),
		"images, styles or scripts do not load", "see whether the files are in the release", assets)
	if len(r.site.Origin.Addresses) > 0 {
		old.record(r, "old address in pages", "no page, feed or answer names the address the site came from", "pages name the old address",
			"the value stands where rewriting does not reach; search for it in the database")
	}
	if r.base.Scheme == "https" {
		r.result("mixed content", "all parts of pages come over https", "pages load parts over http", "correct the addresses in the content",
			mixed)
	}
	if r.site.Title != "" && len(r.pages) > 0 {
		home := r.pages[0]
		var wrong []finding
		if !strings.Contains(plainMarks.Replace(home.title), plainMarks.Replace(r.site.Title)) {
			wrong = []finding{{home.title, fmt.Sprintf("%s is titled %q, not %q", home.address, home.title, r.site.Title)}}
		}
		r.result("title", fmt.Sprintf("the home page is titled %q", home.title), "the home page does not show the site's title",
			"see whether the theme shows the site title", wrong)
	}
}

// plainMarks undoes what themes do to titles for their looks: quotation marks and dashes as printers set them.
var plainMarks = strings.NewReplacer("“", `"`, "”", `"`, "„", `"`, "″", `"`, "‘", "'", "’", "'", "′", "'", "—", "-", "–", "-", "---", "-",
	"--", "-", "…", "...", "×", "x")

// result judges by whether anything was found that is wrong.
func (r *runner) result(name, good, bad, remedy string, found []finding) {
	r.judge(Check{Name: name, Sentence: good, Remedy: remedy}, Fail, bad, found)
}

// key is an address without that of the site, so that it is the same wherever the site is.
func (r *runner) key(address string) string { return strings.TrimPrefix(address, r.base.String()) }

// noAnswer is the key of what did not answer at all.
const noAnswer = "no answer"

// wrong says what is wrong with a page that was opened, or "".
func (p *page) wrong() string {
	switch {
	case p.err != nil:
		return p.err.Error()
	case p.status >= 400:
		return strconv.Itoa(p.status)
	case p.redirect != "":
		return ""
	case len(p.body) == 0:
		return "is empty"
	case bytes.Contains(p.body, []byte("There has been a critical error")) || bytes.Contains(p.body, []byte("Fatal error</b>")):
		return "shows a program error"
	}
	return ""
}

// wrongKey is what is wrong with an image, or "".
func (a *asset) wrongKey() string {
	switch {
	case a.err != nil:
		return noAnswer
	case a.status >= 400:
		return strconv.Itoa(a.status)
	}
	return ""
}

// wrongKey is the same for comparisons: without the words of an error, in which addresses and times are.
func (p *page) wrongKey() string {
	if p.err != nil {
		return noAnswer
	}
	return p.wrong()
}

// Paths returns the paths of a site's first pages, below its address: the home page and what it links to, in order.
func Paths(ctx context.Context, at Reach, k *kind.Kind, most int) ([]string, error) {
	base, err := rewrite.ParseAddress(at.Address)
	if err != nil {
		return nil, err
	}
	r := &runner{site: Site{Cookie: at.Cookie, Kind: k}, base: base, client: client(at.Dialer(base), nil)}
	home := &page{address: base.String() + "/"}
	if r.open(ctx, home); home.err != nil {
		return nil, home.err
	}
	paths := []string{""}
	for _, l := range home.links {
		u, err := base.Parse(l)
		if err != nil || !r.ours(u) || skip(k, u) || strings.Contains(u.Path, k.Login.Path) || len(paths) >= most {
			continue
		}
		u.Fragment = ""
		if p := strings.TrimPrefix(strings.TrimPrefix(u.RequestURI(), base.Path), "/"); !slices.Contains(paths, p) {
			paths = append(paths, p)
		}
	}
	return paths, nil
}

// Visit asks for one page of a site as somebody would who has the cookie (name=value, or nothing), on the host itself
// where connect names it.
func Visit(ctx context.Context, at Reach, page string) (status int, body []byte, err error) {
	base, err := url.Parse(at.Address)
	if err != nil {
		return 0, nil, err
	}
	r := &runner{site: Site{Cookie: at.Cookie}, client: client(at.Dialer(base), nil)}
	res, body, err := r.get(ctx, at.Address+"/"+page)
	if err != nil {
		return 0, nil, err
	}
	return res.StatusCode, body, nil
}

// Headers asks for the first page of a site and returns the headers of the answer; connect is as in Site.
func Headers(ctx context.Context, at Reach) (http.Header, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at.Address+"/", nil)
	if err != nil {
		return nil, err
	}
	res, err := client(at.Dialer(req.URL), nil).Do(req)
	if err != nil {
		return nil, err
	}
	res.Body.Close()
	return res.Header, nil
}
