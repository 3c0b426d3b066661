package check

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"nestseed/internal/core/parallel"
)

const (
	askedOfSource = 40
	sourceTimeout = 10 * time.Second
)

// askSource asks the site's source for the pages and images that do not open on the site, unless what was found before says how they were
// there. What is wrong there in the same way is not new. A source that does not answer excuses nothing.
func (r *runner) askSource(ctx context.Context) {
	base, err := url.Parse(r.site.Source.Address)
	if err != nil || r.site.Source.Address == "" {
		return
	}
	there := &runner{site: Site{Cookie: r.site.Source.Cookie}, base: base, client: client(r.site.Source.Dialer(base), nil)}
	there.client.Timeout = sourceTimeout
	known := func(check, key string) bool {
		path, _, _ := strings.Cut(key, " ")
		b := r.baseline()
		return !strings.HasPrefix(path, "/") || path == "/" || b.has(check, key) ||
			b != nil && check == pagesOpen && slices.Contains(b.opened, strings.TrimPrefix(path, "/"))
	}
	ask := map[string]func(*page) bool{} // by check and key: whether it is the same there
	for _, p := range r.pages {
		if key := r.key(p.address) + " " + p.wrongKey(); p.wrong() != "" && !known(pagesOpen, key) && len(ask) < askedOfSource {
			ask[pagesOpen+" "+key] = func(theirs *page) bool { return theirs.wrongKey() == p.wrongKey() }
		}
	}
	for _, a := range r.assets {
		if key := r.key(a.address) + " " + a.wrongKey(); a.wrongKey() != "" && !known(images, key) && len(ask) < askedOfSource {
			ask[images+" "+key] = func(theirs *page) bool { return theirs.err == nil && theirs.status == a.status }
		}
	}
	if len(ask) == 0 {
		return
	}
	if _, opens := there.homeTook(ctx, base.String()); !opens {
		return
	}
	r.alsoInSource = map[string]bool{}
	var mu sync.Mutex
	group := parallel.Group{}
	group.SetLimit(4)
	for key, same := range ask {
		group.Go(func() error {
			_, path, _ := strings.Cut(key, " /")
			path, _, _ = strings.Cut(path, " ")
			theirs := &page{address: strings.TrimRight(base.String(), "/") + "/" + path}
			there.open(ctx, theirs)
			mu.Lock()
			defer mu.Unlock()
			r.alsoInSource[key] = theirs.err == nil && same(theirs)
			return nil
		})
	}
	group.Wait() // what does not answer is no excuse
}
