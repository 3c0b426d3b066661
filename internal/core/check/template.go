package check

import (
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/html"
)

// sameTemplate is how many pages of one template are opened.
const sameTemplate = 3

// landmarks are the elements that divide a page (HTML, sections 4.3 and 4.10).
var landmarks = strings.Fields("body header nav main article section aside footer form")

// look is what a page looks like, whatever its content: the classes of its body and the elements that divide it. Of a page whose body has
// no class, which tells less, all elements and classes count.
type look struct {
	body, divided, all map[string]bool
}

func (l *look) tag(t html.Token) {
	if l.all == nil {
		l.body, l.divided, l.all = map[string]bool{}, map[string]bool{}, map[string]bool{}
	}
	l.all[t.Data] = true
	if slices.Contains(landmarks, t.Data) {
		l.divided[t.Data] = true
	}
	for _, a := range t.Attr {
		if a.Key != "class" {
			continue
		}
		for _, class := range strings.Fields(a.Val) {
			if strings.ContainsAny(class, "0123456789") {
				continue // the number of one page
			}
			l.all[t.Data+"."+class] = true
			if t.Data == "body" {
				l.body[class] = true
			}
		}
	}
}

// name is the same for pages that look alike.
func (l *look) name() string {
	parts := slices.Sorted(maps.Keys(l.all))
	if len(l.body) > 0 {
		parts = slices.Concat(slices.Sorted(maps.Keys(l.body)), slices.Sorted(maps.Keys(l.divided)))
	}
	sum := sha256.Sum256([]byte(strings.Join(parts, " ")))
	return hex.EncodeToString(sum[:6])
}

// path is that of a page below the site's address, as Report.Opened has it.
func (r *runner) path(address string) string { return strings.TrimPrefix(r.key(address), "/") }

// waits reports whether a page need not be opened: enough that were made by the same template are.
func (r *runner) waits(address string) bool {
	template := r.site.Templates[r.path(address)]
	if template == "" || r.site.Full || r.site.Like != nil {
		return false
	}
	if r.waiting[address] {
		return true
	}
	if r.ofTemplate == nil {
		r.ofTemplate, r.waiting = map[string]int{}, map[string]bool{}
	}
	if r.ofTemplate[template] < sameTemplate {
		r.ofTemplate[template]++
		return false
	}
	r.waiting[address] = true
	return true
}

// inTurn returns the links of a page, in another order each day, so that in time all pages of a template are opened.
func (r *runner) inTurn(p *page) []string {
	if len(r.site.Templates) == 0 {
		return p.links
	}
	day := r.start.UTC().Format("2006-01-02")
	turn := func(link string) string {
		sum := sha256.Sum256([]byte(day + link))
		return string(sum[:])
	}
	return slices.SortedFunc(slices.Values(p.links), func(a, b string) int { return strings.Compare(turn(a), turn(b)) })
}

// keepTemplates keeps which pages look alike: of those that were opened, and of those that wait.
func (r *runner) keepTemplates() {
	r.report.Waiting = len(r.waiting)
	r.report.Templates = map[string]string{}
	for address := range r.waiting {
		path := r.path(address)
		r.report.Templates[path] = r.site.Templates[path]
	}
	for _, p := range r.pages {
		u, err := url.Parse(p.address)
		if err == nil && u.Host == r.base.Host && p.status == http.StatusOK && p.template.all != nil && p.wrong() == "" {
			r.report.Templates[r.path(p.address)] = p.template.name()
		}
	}
}
