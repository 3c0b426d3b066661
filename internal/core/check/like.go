package check

import (
	"net/http"
	"net/url"
	"slices"
	"strings"
)

// Like is a site whose pages were all opened. One that has the same code on the same host, and the same rows but for what is its own,
// need not show them all again: its home page is opened, and those that fall to it.
type Like struct {
	Name  string   // its name
	Count int      // how many pages it has
	Pages []string // that fall to this one: paths below the address, as Report.Opened has them
}

// Shares deals the pages that were opened on one site out among n others, so that all of them together open each once more.
func Shares(opened []string, n int) [][]string {
	out := make([][]string, n)
	if n == 0 || len(opened) == 0 {
		return out
	}
	for i := range max(n, len(opened)) {
		out[i%n] = append(out[i%n], opened[i%len(opened)])
	}
	return out
}

// opened returns the paths of the pages and answers that are there, but for the home page and where people log in.
func (r *runner) opened() (paths []string) {
	for _, p := range slices.Concat(r.pages, r.answers) {
		u, err := url.Parse(p.address)
		if err != nil || p.err != nil || p.status != http.StatusOK || u.Host != r.base.Host {
			continue
		}
		path := strings.TrimPrefix(strings.TrimPrefix(u.RequestURI(), r.base.Path), "/")
		if login := r.site.Kind.Login.Path; path != "" && (login == "" || !strings.HasPrefix(path, login)) && !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
	}
	return paths
}
