package check

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/html"
)

// form is a form of a page, as it is served.
type form struct {
	action, method string
	fields         url.Values // what is sent when nobody fills anything in
	required       bool       // it has a field that must be filled in
	password       bool
}

// formTag notes what belongs to a form while a page is parsed.
func (p *page) formTag(t html.Token, attr map[string]string) {
	if t.Data == "form" {
		p.forms = append(p.forms, &form{action: attr["action"], method: strings.ToUpper(attr["method"]), fields: url.Values{}})
		p.inForm = true
		return
	}
	if !p.inForm || !slices.Contains([]string{"input", "textarea", "select"}, t.Data) {
		return
	}
	f := p.forms[len(p.forms)-1]
	kind := strings.ToLower(attr["type"])
	f.password = f.password || kind == "password"
	hidden := kind == "hidden"
	if _, required := attr["required"]; required && !hidden {
		f.required = true
	}
	if name := attr["name"]; name != "" && kind != "checkbox" && kind != "radio" && kind != "submit" {
		value := ""
		if hidden {
			value = attr["value"]
		}
		f.fields.Set(name, value)
	}
}

// postForm sends the first form that would take something from a visitor, with nothing filled in: a form with a field
// that is required refuses that, so nothing is kept, and it shows that what it is sent to is there and answers.
func (r *runner) postForm(ctx context.Context) {
	for _, p := range r.pages {
		for _, f := range p.forms {
			to, err := r.base.Parse(p.address)
			if err == nil {
				to, err = to.Parse(f.action)
			}
			if err != nil || f.method != http.MethodPost || !f.required || f.password {
				continue
			}
			if !r.ours(to) {
				if r.names(to.String()) {
					r.result("form", "", "a form is sent to the address the site came from", "correct the form's address in the extension it belongs to",
						[]finding{{r.key(p.address) + " " + to.String(), p.address + " sends to " + to.String()}})
					return
				}
				continue // a service of somebody else's
			}
			r.postEmpty(ctx, p, f, to)
			return
		}
	}
}

func (r *runner) postEmpty(ctx context.Context, p *page, f *form, to *url.URL) {
	remedy := "send the form by hand, and look at the server's error log and at rules that block it"
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to.String(), strings.NewReader(f.fields.Encode()))
	if err != nil {
		return
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Referer", p.address)
	res, _, err := r.send(req)
	var wrong []finding
	key := r.key(to.String()) + " "
	switch {
	case err != nil:
		wrong = []finding{{key + noAnswer, fmt.Sprintf("%s: %v", to, err)}}
	case res.StatusCode == http.StatusNotFound || res.StatusCode == http.StatusMethodNotAllowed || res.StatusCode >= 500:
		wrong = []finding{{key + strconv.Itoa(res.StatusCode), fmt.Sprintf("%s, on %s, answers %d", to, p.address, res.StatusCode)}}
	case res.StatusCode/100 == 3:
		if u, err := to.Parse(res.Header.Get("Location")); err == nil && !r.ours(u) {
			wrong = []finding{{key + u.String(), fmt.Sprintf("%s, on %s, leads to %s", to, p.address, u)}}
		}
	}
	r.result("form", fmt.Sprintf("the form on %s answers; it was sent empty, so that nothing is kept", p.address), "a form does not work",
		remedy, wrong)
}
