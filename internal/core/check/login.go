package check

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
)

// login logs in as the administrator and opens a page only those inside can see. Where the kind's own login page is
// not there, it looks for the one that the site has moved it to.
func (r *runner) login(ctx context.Context) {
	if r.site.Password == "" {
		return // whoever has the accounts that stayed knows theirs
	}
	if err := (Reach{Address: r.base.String(), Connect: r.site.Connect}).secret(); err != nil {
		r.record(Check{Name: "login", Result: Warn, Sentence: fmt.Sprintf("logging in was not tried: %v", err),
			Remedy: "let the site be reached by https"})
		return
	}
	l := r.site.Kind.Login
	fail := func(sentence string) {
		r.record(Check{Name: "login", Result: Fail, Sentence: sentence, Remedy: "set a new password for " + r.site.Login +
			", and see whether an extension blocks the login page"})
	}
	at := r.base.String() + "/" + l.Path
	status, err := r.tryLogin(ctx, at)
	where := ""
	if err == nil && status != http.StatusOK {
		if moved := r.movedLogin(ctx); moved != "" {
			at, where = moved, fmt.Sprintf(", at %s, where the site has moved it", moved)
			r.report.LoginAt = moved
			status, err = r.tryLogin(ctx, at)
		}
	}
	switch {
	case err != nil:
		fail(fmt.Sprintf("the login page does not answer: %v", err))
		return
	case status != http.StatusOK:
		fail(fmt.Sprintf("logging in as %s at %s does not work (%d)", r.site.Login, at, status))
		return
	}
	switch status, err = r.inside(ctx); {
	case err != nil:
		fail(fmt.Sprintf("logged in as %s, but %s does not answer: %v", r.site.Login, l.Inside, err))
		return
	case status != http.StatusOK:
		fail(fmt.Sprintf("logged in as %s, but %s is not open to it (%d)", r.site.Login, l.Inside, status))
		return
	}
	r.record(Check{Name: "login", Result: Pass, Sentence: fmt.Sprintf("logging in as %s works%s", r.site.Login, where)})
}

// tryLogin sends the login form. It returns 200 when the site let the administrator in, else what it answered, or 401
// when it answered with its form again.
func (r *runner) tryLogin(ctx context.Context, address string) (status int, err error) {
	l := r.site.Kind.Login
	form, page := url.Values{}, address
	if l.Form {
		var err error
		if form, address, err = r.loginForm(ctx, address); err != nil || form == nil {
			return http.StatusNotFound, err
		}
	}
	fill := strings.NewReplacer("{login}", r.site.Login, "{password}", r.site.Password)
	for k, v := range l.Fields {
		form.Set(k, fill.Replace(v))
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(form.Encode()))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Referer", page) // as a browser says where the form was
	for k, v := range l.Cookies {
		req.AddCookie(&http.Cookie{Name: k, Value: v})
	}
	res, _, err := r.send(req)
	if err != nil {
		return 0, err
	}
	for _, c := range res.Cookies() {
		if l.ProofCookie != "" && strings.HasPrefix(c.Name, l.ProofCookie) && c.Value != "" {
			return http.StatusOK, nil
		}
	}
	if l.ProofCookie == "" && res.StatusCode < http.StatusBadRequest {
		return r.inside(ctx)
	}
	if res.StatusCode == http.StatusOK {
		return http.StatusUnauthorized, nil
	}
	return res.StatusCode, nil
}

// inside opens the page that only those who are logged in see: 200 when it is, and does not ask to log in.
func (r *runner) inside(ctx context.Context) (status int, err error) {
	l := r.site.Kind.Login
	res, body, err := r.get(ctx, r.base.String()+"/"+l.Inside)
	// A site that has just left shared code, or come to it, sends visitors to the same address once more for each process of PHP that
	// does not know yet.
	for n := 0; n < sentAgain && err == nil && res.StatusCode == http.StatusTemporaryRedirect; n++ {
		to, parseErr := url.Parse(res.Header.Get("Location"))
		if parseErr != nil || to.Path != r.base.Path+"/"+l.Inside {
			break
		}
		res, body, err = r.get(ctx, r.base.String()+"/"+l.Inside)
	}
	switch {
	case err != nil:
		return 0, err
	case res.StatusCode == http.StatusOK && hasFields(body, l.Fields):
		return http.StatusUnauthorized, nil
	}
	return res.StatusCode, nil
}

// loginForm opens a login page, and returns what its form sends by itself and where to; nil where there is no such form.
func (r *runner) loginForm(ctx context.Context, address string) (sends url.Values, to string, err error) {
	p := &page{address: address}
	if r.open(ctx, p); p.err != nil {
		return nil, "", p.err
	}
	at, err := url.Parse(address)
	if err != nil {
		return nil, "", err
	}
	for _, f := range p.forms {
		if !f.password {
			continue
		}
		action, err := at.Parse(f.action)
		if err != nil || !r.ours(action) || action.Scheme != at.Scheme && action.Scheme != "https" {
			continue // a password is sent to this site and nowhere else, and as safely as its form came
		}
		return f.fields, action.String(), nil
	}
	return nil, "", nil
}

// slug is what can be the name of a moved login page.
var slug = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{1,60}$`)

const movedTries = 12

// movedLogin looks for the login page where the site's own options may say that it is: in each option whose name has
// to do with it. A page counts that has the fields of the kind's login.
func (r *runner) movedLogin(ctx context.Context) string {
	k := r.site.Kind
	if k.Login.Moved == "" || r.site.DB == nil {
		return ""
	}
	var candidates []string
	err := r.site.DB.Select(ctx, r.site.Prefix+k.Options.Table, []string{k.Options.Key, k.Options.Value}, "", nil, func(row [][]byte) error {
		if bytes.Contains(row[0], []byte(k.Login.Moved)) && slug.Match(row[1]) && len(candidates) < movedTries {
			candidates = append(candidates, string(row[1]))
		}
		return nil
	})
	if err != nil {
		return ""
	}
	for _, c := range candidates {
		for _, end := range []string{"/", ""} {
			at := r.base.String() + "/" + c + end
			if res, body, err := r.get(ctx, at); err == nil && res.StatusCode == http.StatusOK && hasFields(body, k.Login.Fields) {
				return at
			}
		}
	}
	return ""
}

// hasFields reports whether a page has the fields into which a person types.
func hasFields(body []byte, fields map[string]string) bool {
	for name, value := range fields {
		if strings.HasPrefix(value, "{") && !bytes.Contains(body, []byte(`name="`+name+`"`)) {
			return false
		}
	}
	return true
}

// sentAgain is how often a site may send to the address that was asked for, as browsers follow.
const sentAgain = 10
