// Package rewrite replaces a site's address and its place on disk, wherever they hide.
//
// A site's data names its own address in many disguises: plain links, links without a scheme, JSON
// with escaped slashes, percent-encoded query values, the bare host in running text, and any of
// these inside serialised PHP values. A Rewriter is made once from Rules; a Worker (one a
// goroutine) applies it and keeps count.
//
//	r, err := rewrite.New(rewrite.Rules{Addresses: []rewrite.Pair{{
//		Old: "http://base.localhost:8480", New: "https://alder-valley.example"}}})
//	w := r.Worker()
//	out := w.Value(nil, []byte(`a:1:{i:0;s:33:"http://base.localhost:8480/a.jpg";}`))
//
// Every disguise leaves the host's own characters as they are (RFC 3986 section 3.2.2 needs no
// encoding for them), so the search is for the host; what stands around it decides. That makes
// values without the host cost no more than one search.
//
// What it never does: it does not touch a longer host name that contains the old one, another port
// of the same host, a mail address (RFC 5322 addr-spec) or a path segment that happens to be
// spelled like the host; it does not repair a serialised value that was broken before, it counts it.
package rewrite

import (
	"bytes"
	"fmt"
	"net/url"
	"strings"
)

// Pair is something old and what takes its place.
type Pair struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Rules say what to replace. The zero value replaces nothing.
type Rules struct {
	// Addresses are absolute http or https addresses, with or without port and folder.
	Addresses []Pair `json:"addresses"`
	// Paths are absolute folders on disk, at least two segments deep: a shorter one would match by accident.
	Paths []Pair `json:"paths"`
}

// Rewriter applies Rules. It is immutable and may be shared; see Worker.
type Rewriter struct {
	needles []needle
}

// needle is one thing to search for and the judge of each place it is found at.
type needle struct {
	text  []byte
	match func(src []byte, at int) (hit, bool)
}

// hit is a piece of the source and what replaces it.
type hit struct {
	from, to int
	with     []byte
	form     Form
}

// Form is the disguise that an address was found in.
type Form uint8

// The forms, from the plainest to the most wrapped.
const (
	Plain    Form = iota // http://host/…
	Bare                 // host
	Rootless             // //host/…
	Escaped              // http:\/\/host\/…
	Percent              // http%3A%2F%2Fhost%2F…
	Folder               // the path on disk, in any encoding
	forms
)

var formNames = [forms]string{"plain", "bare host", "without scheme", "escaped slashes", "percent-encoded", "folder on disk"}

// String returns the form as a person would say it.
func (f Form) String() string { return formNames[f] }

// New checks and compiles rules.
func New(rules Rules) (*Rewriter, error) {
	r := &Rewriter{}
	for _, p := range rules.Addresses {
		a, err := newAddress(p)
		if err != nil {
			return nil, err
		}
		if !strings.EqualFold(strings.TrimSuffix(p.Old, "/"), strings.TrimSuffix(p.New, "/")) {
			r.needles = append(r.needles, needle{[]byte(a.host), a.match})
		}
	}
	for _, p := range rules.Paths {
		needles, err := pathNeedles(p)
		if err != nil {
			return nil, err
		}
		r.needles = append(r.needles, needles...)
	}
	return r, nil
}

// Has reports whether src contains anything that might have to be replaced.
func (r *Rewriter) Has(src []byte) bool {
	for _, n := range r.needles {
		if bytes.Contains(src, n.text) {
			return true
		}
	}
	return false
}

// next returns the first hit at or after from.
func (r *Rewriter) next(src []byte, from int) (hit, bool) {
	var best hit
	found := false
	limit := len(src)
	for _, n := range r.needles {
		for at := from; ; {
			i := bytes.Index(src[at:limit], n.text)
			if i < 0 {
				break
			}
			at += i
			if h, ok := n.match(src, at); ok && h.from >= from {
				if !found || h.from < best.from {
					best, found = h, true
					limit = min(len(src), h.to+len(n.text))
				}
				break
			}
			at++
		}
	}
	return best, found
}

// address is a compiled address pair.
type address struct {
	host, port, path          string // of the old one; port is empty for the scheme's own
	newScheme, newHost        string
	newPort, newPath, newSite string
}

func newAddress(p Pair) (*address, error) {
	old, err := ParseAddress(p.Old)
	if err != nil {
		return nil, err
	}
	fresh, err := ParseAddress(p.New)
	if err != nil {
		return nil, err
	}
	return &address{
		host: old.Hostname(), port: ownPort(old), path: old.Path,
		newScheme: fresh.Scheme, newHost: fresh.Hostname(), newPort: ownPort(fresh), newPath: fresh.Path,
	}, nil
}

// ParseAddress reads a site's address: http or https, a host, perhaps a port and a folder, nothing
// else. The folder comes back without a trailing slash and the host in lower case.
func ParseAddress(s string) (*url.URL, error) {
	u, err := url.Parse(strings.TrimSpace(s))
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Hostname() == "" {
		return nil, fmt.Errorf("%q is not a site's address; write it like https://school.example or http://school.localhost:8480/folder", s)
	}
	if u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return nil, fmt.Errorf("%q has a login, a query or a fragment; a site's address is only scheme, host, port and folder", s)
	}
	for _, c := range u.Hostname() {
		if !nameByte(byte(c)) && c != '.' && c != ':' || c > 0x7f {
			return nil, fmt.Errorf("host %q of %q has characters that no host name has; write international names in their ASCII form (RFC 5891)", u.Hostname(), s)
		}
	}
	u.Host = strings.ToLower(u.Host)
	u.Path = strings.TrimRight(u.Path, "/")
	u.RawPath = ""
	return u, nil
}

func ownPort(u *url.URL) string {
	if p := u.Port(); p != "" && !(u.Scheme == "http" && p == "80") && !(u.Scheme == "https" && p == "443") {
		return p
	}
	return ""
}

// style is how slashes and colons are spelled in one disguise.
type style struct {
	slash, colon string
	form         Form
}

var styles = []style{
	{`/`, `:`, Plain},
	{`\/`, `:`, Escaped},
	{`\\\/`, `:`, Escaped},
	{`%2F`, `%3A`, Percent},
	{`%2f`, `%3a`, Percent},
	{`%252F`, `%253A`, Percent},
	{`%252f`, `%253a`, Percent},
}

// match judges the host found at src[at:].
func (a *address) match(src []byte, at int) (hit, bool) {
	h := hit{from: at, to: at + len(a.host)}
	st, scheme, ok := a.before(src, &h)
	if !ok {
		return h, false
	}
	if !a.after(src, &h, &st, scheme) {
		return h, false
	}
	h.form = st.form
	if st.form == Plain && scheme == "" {
		h.form = Rootless
		if h.from == at {
			h.form = Bare
		}
	}
	if scheme != "" {
		h.with = append(append(h.with, a.newScheme...), st.colon...)
	}
	if h.from != at {
		h.with = append(append(h.with, st.slash...), st.slash...)
	}
	h.with = append(h.with, a.newHost...)
	if a.newPort != "" {
		h.with = append(append(h.with, st.colon...), a.newPort...)
	}
	h.with = append(h.with, strings.ReplaceAll(a.newPath, "/", st.slash)...)
	return h, true
}

// before looks at what precedes the host: two slashes in some spelling, with or without a scheme,
// or a place where a bare host may begin. It moves h.from to the start of what is replaced.
func (a *address) before(src []byte, h *hit) (st style, scheme string, ok bool) {
	at := h.from
	for _, st := range styles {
		two := len(st.slash) * 2
		if at < two || string(src[at-two:at]) != st.slash+st.slash {
			continue
		}
		// The longer spellings end like shorter ones; more backslashes mean a deeper wrapping.
		if st.form == Escaped && at > two && src[at-two-1] == '\\' {
			continue
		}
		h.from = at - two
		for _, sch := range [...]string{"https", "http"} {
			for _, colon := range [...]string{st.colon, ":"} {
				lead := sch + colon
				if bytes.HasSuffix(bytes.ToLower(src[max(0, h.from-len(lead)):h.from]), []byte(strings.ToLower(lead))) &&
					!wordBefore(src, h.from-len(lead)) {
					st.colon = colon
					h.from -= len(lead)
					return st, sch, true
				}
			}
		}
		// Some other scheme (ftp, ws, a stream) is somebody else's address.
		if h.from > 0 && (src[h.from-1] == ':' || bytes.HasSuffix(src[:h.from], []byte(st.colon))) {
			return st, "", false
		}
		return st, "", true
	}
	return style{"/", ":", Plain}, "", bareMayBegin(src, at)
}

// after looks at what follows the host: the port must be the old one, then the old folder, then an
// end. It moves h.to behind what is replaced and settles the spelling from the port when the host was bare.
func (a *address) after(src []byte, h *hit, st *style, scheme string) bool {
	port, end, spelled := portAt(src, h.to)
	switch {
	case port == a.port:
	case a.port == "" && (port == "80" && scheme != "https" || port == "443" && scheme != "http"):
	default:
		return false
	}
	if port != "" {
		if h.from == h.to-len(a.host) {
			for _, s := range styles {
				if s.colon == spelled {
					*st = s
					break
				}
			}
		}
		h.to = end
	}
	if a.path != "" {
		folder := strings.ReplaceAll(a.path, "/", st.slash)
		if !bytes.HasPrefix(src[h.to:], []byte(folder)) {
			return false
		}
		h.to += len(folder)
	}
	return !nameGoesOn(src, h.to)
}

// portAt reads a colon in any spelling and digits.
func portAt(src []byte, at int) (port string, end int, colon string) {
	for _, colon := range [...]string{":", "%3A", "%3a", "%253A", "%253a"} {
		if !bytes.HasPrefix(src[at:], []byte(colon)) {
			continue
		}
		end := at + len(colon)
		for end < len(src) && src[end] >= '0' && src[end] <= '9' {
			end++
		}
		if end > at+len(colon) {
			return string(src[at+len(colon) : end]), end, colon
		}
	}
	return "", at, ""
}
