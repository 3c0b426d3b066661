package check

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"path"
	"strings"

	"nestseed/internal/core/hostfs"
)

// visibility compares what pages tell search engines with what was asked.
func (r *runner) visibility(ctx context.Context) {
	hidden := false
	if len(r.pages) > 0 {
		hidden = strings.Contains(r.pages[0].robots, "noindex")
	}
	hidden = hidden || r.robotsRefused(ctx)
	state := map[bool]string{true: "kept out", false: "let in"}
	if r.site.Kind.Visibility.Place().IsZero() && !r.site.AsItIs {
		r.record(Check{Name: "search engines", Result: Pass, Sentence: fmt.Sprintf("search engines are %s; %s has no setting that says so",
			state[hidden], r.site.Kind.Title)})
		return
	}
	if r.site.AsItIs {
		r.record(Check{Name: "search engines", Result: Pass, Sentence: "search engines are " + state[hidden]})
		return
	}
	if hidden == !r.site.Visible {
		r.record(Check{Name: "search engines", Result: Pass, Sentence: "search engines are " + state[hidden] + ", as asked"})
		return
	}
	r.record(Check{Name: "search engines", Result: Fail, Sentence: fmt.Sprintf("search engines are %s, and should be %s", state[hidden],
		state[!hidden]),
		Remedy: "set the " + r.site.Kind.Visibility.Place().String() + " of the site"})
}

// robotsRefused says whether the site's robots.txt keeps everybody out (RFC 9309 section 2.2).
func (r *runner) robotsRefused(ctx context.Context) bool {
	res, body, err := r.get(ctx, r.base.String()+"/robots.txt")
	if err != nil || res.StatusCode != http.StatusOK {
		return false
	}
	for line := range strings.SplitSeq(string(body), "\n") {
		if strings.TrimSpace(strings.ToLower(line)) == "disallow: /" {
			return true
		}
	}
	return false
}

// private asks for files that must not be readable over the web, and compares what comes with what stands in them.
func (r *runner) private(ctx context.Context) {
	var open []finding
	for _, p := range r.site.Kind.Private {
		if r.folder == nil {
			break
		}
		if r.site.Like != nil && r.runs != "" && path.Ext(p) == r.runs {
			continue // shown to be run a moment ago, by a page that lay beside it
		}
		text, err := hostfs.ReadFile(ctx, r.folder, p, maxTextBytes)
		if err != nil || len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		text = bytes.TrimSpace(text)
		res, body, err := r.get(ctx, r.base.String()+"/"+p)
		if err == nil && res.StatusCode == 200 && bytes.Contains(body, text[:min(len(text), 512)]) {
			open = append(open, finding{p, r.base.String() + "/" + p})
		}
	}
	r.result(privateFiles, "settings and working files are not readable over the web", "anyone can read private files",
		"deny these paths in the web server and change the passwords in them", open)
}
