package check

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/rewrite"
)

// addressesOf returns where the sites of a network are, but the main one.
func addressesOf(all []kind.SubSite) (out []*url.URL) {
	for _, s := range all {
		if u, err := rewrite.ParseAddress(s.Address); err == nil && !s.Main {
			out = append(out, u)
		}
	}
	return out
}

// subSites judges the first pages of the sites of a network: that each is there, shows its title, and tells search engines what was asked.
func (r *runner) subSites() {
	if len(r.site.SubSites) == 0 {
		return
	}
	var wrong []finding
	add := func(p *page, key, format string, args ...any) {
		wrong = append(wrong, finding{r.key(p.address) + " " + key, fmt.Sprintf(format, args...)})
	}
	opened := 0
	for _, s := range r.site.SubSites {
		i := slices.IndexFunc(r.pages, func(p *page) bool { return p.address == s.Address+"/" })
		if s.Main || i < 0 {
			continue
		}
		opened++
		switch p := r.pages[i]; {
		case p.err != nil:
			add(p, noAnswer, "%s: %v", p.address, p.err)
		case p.status != 200:
			add(p, strconv.Itoa(p.status), "%s: %d", p.address, p.status)
		case s.Title != "" && !strings.Contains(plainMarks.Replace(p.title), plainMarks.Replace(s.Title)):
			add(p, p.title, "%s is titled %q, not %q", p.address, p.title, s.Title)
		case !r.site.AsItIs && strings.Contains(p.robots, "noindex") == r.site.Visible:
			add(p, "search engines", "%s lets search engines in, or keeps them out, against what was asked", p.address)
		}
	}
	r.result("sub-sites", fmt.Sprintf("%d sub-sites of the network answer at their own addresses, with their own titles", opened),
		"sub-sites of the network do not answer as they should",
		"see whether the web server leads their addresses to this site, and what its rules for networks are", wrong)
}
