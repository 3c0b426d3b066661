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
// encoding for them), so the search is for the host, in any case (RFC 4343); what stands around it decides. That makes
// values without the host cost no more than one search. Rows are rewritten as they stand in SQL, escapes and all, where
// that means the same (see Literal).
//
// What it never does: it does not touch a longer host name that contains the old one, another port
// of the same host, a mail address (RFC 5322 addr-spec; unless it is asked to) or a path segment that happens to be
// spelled like the host; it does not repair a serialised value that was broken before, it counts it.
package rewrite

import (
	"bytes"
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
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
	// Mail changes mail addresses at an old host too, without a www. before either.
	Mail bool `json:"mail,omitempty"`
	// Mend puts the lengths of strings right in serialised values that are broken.
	Mend bool `json:"mend,omitempty"`
}

// Rewriter applies Rules. It is immutable and may be shared; see Worker.
type Rewriter struct {
	plain  []needle // for text as it is
	mend   bool
	quoted []needle // for text between the quotes of an SQL literal; nil where only plain text can be rewritten
}

// ahead is how far before a needle its judge may look, at most: two slashes in their longest spelling, a colon, a scheme,
// and two characters that are wrapped.
const ahead = 2*len(`\\\\\\/`) + len("%253A") + len("https") + 2*len(`\u0022`) + 1

// needle is one thing to search for and the judge of each place it is found at.
type needle struct {
	pattern
	key    pattern                               // a part that related needles share: where it is missing, so are they all
	first  bool                                  // the first of those that share it
	alone  bool                                  // nobody shares it
	match  func(src []byte, at int, h *hit) bool // fills in h
	behind int                                   // how far behind the needle its judge may look, at most
	usual  *usual                                // how it stands nearly everywhere; nil where there is no such thing
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
	Plain     Form = iota // http://host/…
	Bare                  // host
	Rootless              // //host/…
	Escaped               // http:\/\/host\/…
	Percent               // http%3A%2F%2Fhost%2F…
	Folder                // the path on disk, in any encoding
	Mail                  // …@host
	Reference             // http:&#x2F;&#x2F;host&#x2F;…
	Printable             // http=3A=2F=2Fhost=2F…
	forms
)

var formNames = [forms]string{"plain", "bare host", "without scheme", "escaped slashes", "percent-encoded", "folder on disk",
	"mail address", "character references", "quoted-printable"}

// String returns the form as a person would say it.
func (f Form) String() string { return formNames[f] }

// New checks and compiles rules.
func New(rules Rules) (*Rewriter, error) {
	plain, err := compile(rules, &plainStyles)
	if err != nil || !quotable(rules) {
		return &Rewriter{plain: plain, mend: rules.Mend}, err
	}
	quoted, err := compile(rules, &quotedStyles)
	return &Rewriter{plain: plain, mend: rules.Mend, quoted: quoted}, err
}

// quotable reports whether the rules' own text is spelled one way only in an SQL literal.
func quotable(rules Rules) bool {
	for _, p := range slices.Concat(rules.Addresses, rules.Paths) {
		if strings.ContainsFunc(p.Old+p.New, func(c rune) bool { return c < ' ' || c == 0x7f || strings.ContainsRune(`\'"%`, c) }) {
			return false
		}
	}
	return true
}

func compile(rules Rules, styles *styles) ([]needle, error) {
	var out []needle
	hosts, err := byHost(rules, styles)
	if err != nil {
		return nil, err
	}
	for _, of := range hosts {
		of.needles(&out, rules.Mail)
	}
	for _, p := range rules.Paths {
		needles, err := pathNeedles(p, rules.Addresses, styles)
		if err != nil {
			return nil, err
		}
		out = append(out, needles...)
	}
	if len(out) > maxNeedles {
		return nil, fmt.Errorf("%d addresses and %d folders are more than can be replaced at once", len(rules.Addresses), len(rules.Paths))
	}
	return out, nil
}

// Has reports whether src contains anything that might have to be replaced.
func (r *Rewriter) Has(src []byte) bool {
	for i := range r.plain {
		if n := &r.plain[i]; n.first && n.key.index(src, 0) >= 0 {
			return true
		}
	}
	return false
}

// address is a compiled address pair.
type address struct {
	styles     *styles
	old        string                // as it is written nearly everywhere
	lead       int                   // where the host begins in that
	host, port string                // of the old one; port is empty for the scheme's own
	fresh      string                // the new host
	path       [len(styles{})][]byte // of the old one, in each spelling
	with       [len(styles{})]replacements

	mailWith []byte // the new host of mail addresses, where they are changed
}

// host is a host name with the addresses at it, the longest folders first: the first that matches counts.
type host []*address

// byHost sorts addresses by their hosts. A host that ends like one before it, as www.school.example does, follows it, so that
// it is looked for only where the shorter one is.
func byHost(rules Rules, styles *styles) (out []host, err error) {
	for _, p := range rules.Addresses {
		a, err := newAddress(p, styles)
		if err != nil {
			return nil, err
		}
		if strings.EqualFold(strings.TrimSuffix(p.Old, "/"), strings.TrimSuffix(p.New, "/")) {
			continue
		}
		i := slices.IndexFunc(out, func(h host) bool { return h[0].host == a.host })
		if i < 0 {
			out, i = append(out, nil), len(out)
		}
		out[i] = append(out[i], a)
	}
	for _, h := range out {
		slices.SortStableFunc(h, func(x, y *address) int { return len(y.path[0]) - len(x.path[0]) })
	}
	slices.SortStableFunc(out, func(x, y host) int {
		if d := strings.Compare(domain(x[0].host), domain(y[0].host)); d != 0 {
			return d
		}
		return len(x[0].host) - len(y[0].host)
	})
	return out, nil
}

func domain(name string) string { return strings.TrimPrefix(name, "www.") }

// needles adds what a host is looked for by.
func (h host) needles(out *[]needle, mail bool) {
	first := h[0]
	name := newPattern([]byte(first.host), true)
	n := needle{pattern: name, key: name, first: true, alone: true, match: first.match, behind: first.behind()}
	if len(h) == 1 {
		n.usual = &usual{[]byte(first.old), first.lead, first.with[0].scheme}
	} else {
		n.match = h.match
		for _, a := range h {
			n.behind = max(n.behind, a.behind())
		}
	}
	if last := len(*out) - 1; last >= 0 && "www."+string((*out)[last].text) == first.host {
		n.key, n.first, n.alone = (*out)[last].key, false, false
		(*out)[last].alone = false
	}
	*out = append(*out, n)
	if mail {
		first.mail(out)
	}
}

func (h host) match(src []byte, at int, found *hit) bool {
	return slices.ContainsFunc(h, func(a *address) bool { return a.match(src, at, found) })
}

// replacements are the new address as it stands in one spelling, with each sort of beginning.
type replacements struct {
	bare, rootless, scheme []byte
	mixed                  []byte // with scheme, and a plain colon behind it, as in http:%2F%2F
}

func newAddress(p Pair, styles *styles) (*address, error) {
	old, err := ParseAddress(p.Old)
	if err != nil {
		return nil, err
	}
	fresh, err := ParseAddress(p.New)
	if err != nil {
		return nil, err
	}
	a := &address{styles: styles, fresh: fresh.Hostname(), host: old.Hostname(), port: ownPort(old)}
	a.old = old.Scheme + "://" + spelled(old, styles[0], ":")
	a.lead = len(old.Scheme + "://")
	for i, st := range styles {
		a.path[i] = []byte(strings.ReplaceAll(old.Path, "/", st.slash))
		a.with[i] = replacements{
			bare:     []byte(spelled(fresh, st, st.colon)),
			rootless: []byte(st.slash + st.slash + spelled(fresh, st, st.colon)),
			scheme:   []byte(fresh.Scheme + st.colon + st.slash + st.slash + spelled(fresh, st, st.colon)),
			mixed:    []byte(fresh.Scheme + ":" + st.slash + st.slash + spelled(fresh, st, ":")),
		}
	}
	return a, nil
}

// behind is how far behind the host its judge may look: at a port, the folder, and the character that follows.
func (a *address) behind() int {
	longest := 0
	for _, p := range a.path {
		longest = max(longest, len(p))
	}
	return len("%253A65535") + longest + utf8.UTFMax
}

// spelled returns host, port and folder of an address in a style.
func spelled(u *url.URL, st style, colon string) string {
	out := u.Hostname()
	if port := ownPort(u); port != "" {
		out += colon + port
	}
	return out + strings.ReplaceAll(u.Path, "/", st.slash)
}

// ParseAddress reads a site's address: http or https, a host, perhaps a port and a folder, nothing
// else. The folder comes back without a trailing slash and the host in lower case.
func ParseAddress(s string) (*url.URL, error) {
	u, err := url.Parse(strings.TrimSpace(s))
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Hostname() == "" {
		return nil, fmt.Errorf("%q is not a site's address; write it like https://school.example or http://school.localhost:8480/folder", s)
	}
	if n, err := strconv.Atoi(u.Port()); u.Port() != "" && (err != nil || n < 1 || n > 65535) {
		return nil, fmt.Errorf("%q has the port %s; ports are numbers from 1 to 65535", s, u.Port())
	}
	if strings.ContainsFunc(u.Path, func(c rune) bool { return unicode.IsSpace(c) || unicode.IsControl(c) }) {
		return nil, fmt.Errorf("the folder of %q has white space in it; a site's address has none", s)
	}
	if u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return nil, fmt.Errorf("%q has a login, a query or a fragment; a site's address is only scheme, host, port and folder", s)
	}
	for _, c := range u.Hostname() {
		if !nameByte(byte(c)) && c != '.' && c != ':' || c > 0x7f {
			return nil, fmt.Errorf("host %q of %q has characters that no host name has; write international names in their ASCII form (RFC 5891)",
				u.Hostname(), s)
		}
	}
	if ip := net.ParseIP(u.Hostname()); ip == nil && !hostName.MatchString(strings.ToLower(u.Hostname())) {
		return nil, fmt.Errorf("host %q of %q is no host name: it is made of letters, digits and hyphens, with dots between them (RFC 1123)",
			u.Hostname(), s)
	}
	u.Host = strings.ToLower(u.Host)
	u.Path = strings.TrimRight(u.Path, "/")
	u.RawPath = ""
	return u, nil
}

// hostName is how a host name is made (RFC 1123 section 2.1), and _ as it is met in practice. None begins with a dot, or is two.
var hostName = regexp.MustCompile(`^[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?(\.[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?)*$`)

func ownPort(u *url.URL) string {
	if p := u.Port(); p != "" && !(u.Scheme == "http" && p == "80") && !(u.Scheme == "https" && p == "443") {
		return p
	}
	return ""
}

// style is how slashes and colons are spelled in one disguise.
type style struct {
	slash, twice, colon string
	form                Form
}

// styles are the spellings from the plainest to the most wrapped: in JSON (RFC 8259 section 7, where a slash may be escaped),
// in JSON within JSON, percent-encoded (RFC 3986 section 2.1) once and twice, as numbers in JSON, as references of characters in
// HTML, and quoted-printable (RFC 2045 section 6.7).
type styles [14]style

// folderStyles is how many of them a folder on disk is looked for in: those that programs write.
const folderStyles = 8

var plainStyles = styles{
	{`/`, `//`, `:`, Plain},
	{`\/`, `\/\/`, `:`, Escaped},
	{`\\\/`, `\\\/\\\/`, `:`, Escaped},
	{`%2F`, `%2F%2F`, `%3A`, Percent},
	{`%2f`, `%2f%2f`, `%3a`, Percent},
	{`%252F`, `%252F%252F`, `%253A`, Percent},
	{`%252f`, `%252f%252f`, `%253a`, Percent},
	{`\\/`, `\\/\\/`, `:`, Escaped},
	{`\u002f`, `\u002f\u002f`, `:`, Escaped},
	{`\u002F`, `\u002F\u002F`, `:`, Escaped},
	{`&#x2F;`, `&#x2F;&#x2F;`, `&#x3A;`, Reference},
	{`&#x2f;`, `&#x2f;&#x2f;`, `&#x3a;`, Reference},
	{`&#47;`, `&#47;&#47;`, `&#58;`, Reference},
	{`=2F`, `=2F=2F`, `=3A`, Printable},
}

// quotedStyles are those within an SQL literal, where each backslash is two.
var quotedStyles = func() styles {
	out := plainStyles
	for i := range out {
		out[i].slash = strings.ReplaceAll(out[i].slash, `\`, `\\`)
		out[i].twice = out[i].slash + out[i].slash
	}
	return out
}()

// begin is how an address begins.
type begin uint8

const (
	bare begin = iota
	rootless
	withScheme
	mixedScheme
)

// match judges the host found at src[at:].
func (a *address) match(src []byte, at int, h *hit) bool {
	if a.mailWith != nil && mailAt(src, at, at+len(a.host)) {
		*h = hit{from: at, to: at + len(a.host), with: a.mailWith, form: Mail}
		return true
	}
	h.from, h.to = at, at+len(a.host)
	st, how, scheme, ok := a.before(src, h)
	if !ok || !a.after(src, h, &st, how, scheme) {
		return false
	}
	h.form = a.styles[st].form
	switch how {
	case bare:
		h.with, h.form = a.with[st].bare, Bare
		if st > 0 {
			h.form = Percent
		}
	case rootless:
		h.with = a.with[st].rootless
		if st == 0 {
			h.form = Rootless
		}
	case withScheme:
		h.with = a.with[st].scheme
	case mixedScheme:
		h.with = a.with[st].mixed
	}
	return true
}

// mail makes the address change those of mail as well. They rarely have the www. that an address begins with, so without
// it they are looked for by themselves.
func (a *address) mail(needles *[]needle) {
	host := strings.TrimPrefix(a.host, "www.")
	with := []byte(strings.TrimPrefix(a.fresh, "www."))
	a.mailWith = with
	if host == a.host {
		return
	}
	p := newPattern([]byte(host), true)
	match := func(src []byte, at int, h *hit) bool {
		*h = hit{from: at, to: at + len(host), with: with, form: Mail}
		return mailAt(src, at, at+len(host))
	}
	*needles = append(*needles, needle{p, p, true, true, match, a.behind(), nil})
}

// mailAt reports whether src[from:to] is the host of a mail address.
func mailAt(src []byte, from, to int) bool {
	at, size := previous(src, from)
	if at != '@' {
		return false
	}
	if before, _ := previous(src, from-size); !letter(before) && !strings.ContainsRune(".+-!#$&*='", before) {
		return false // nobody's name
	}
	port, _, _ := portAt(src, to)
	return len(port) == 0 && !nameGoesOn(src, to)
}

// before looks at what precedes the host: two slashes in some spelling, with or without a scheme,
// or a place where a bare host may begin. It moves h.from to the start of what is replaced.
func (a *address) before(src []byte, h *hit) (st int, how begin, scheme string, ok bool) {
	at := h.from
	if st = a.styles.slashesBefore(src, at); st < 0 {
		return 0, bare, "", bareMayBegin(src, at)
	}
	h.from = at - 2*len(a.styles[st].slash)
	if from, sch := schemeBefore(src, h.from, a.styles[st].colon); from >= 0 {
		h.from = from
		return st, withScheme, sch, true
	}
	if a.styles[st].colon != ":" {
		if from, sch := schemeBefore(src, h.from, ":"); from >= 0 {
			h.from = from
			return st, mixedScheme, sch, true
		}
	}
	// Some other scheme (ftp, ws, a stream) is somebody else's address.
	if h.from > 0 && (src[h.from-1] == ':' || bytes.HasSuffix(src[:h.from], []byte(a.styles[st].colon))) {
		return st, rootless, "", false
	}
	return st, rootless, "", true
}

// slashesBefore returns the style of the two slashes that end at src[:at], or -1.
func (styles *styles) slashesBefore(src []byte, at int) int {
	if at < 2 {
		return -1
	}
	switch last := src[at-1]; {
	case last == '/' && src[at-2] == '/':
		return 0
	case last == '/' && src[at-2] != '\\' || last != '/' && last != ';' && last|0x20 != 'f':
		return -1
	}
	// The longer spelling may end like a shorter one.
	best := -1
	for i := 1; i < len(styles); i++ {
		st := &styles[i]
		if n := len(st.twice); at < n || string(src[at-n:at]) != st.twice || best >= 0 && n <= len(styles[best].twice) {
			continue
		}
		best = i
	}
	if best > 0 && styles[best].slash[0] == '\\' {
		if n := len(styles[best].twice); at > n && src[at-n-1] == '\\' {
			return -1 // more backslashes: a wrapping deeper than any that is known
		}
	}
	return best
}

// schemeBefore returns where http or https begins, in any case, that a colon and src[end:] follow; -1 where neither does.
func schemeBefore(src []byte, end int, colon string) (from int, scheme string) {
	end -= len(colon)
	if end < len("http") || string(src[end:end+len(colon)]) != colon {
		return -1, ""
	}
	scheme = "http"
	if src[end-1]|0x20 == 's' {
		scheme = "https"
	}
	if from = end - len(scheme); from < 0 {
		return -1, ""
	}
	for i := range len(scheme) {
		if src[from+i]|0x20 != scheme[i] {
			return -1, ""
		}
	}
	return from, scheme
}

// after looks at what follows the host: the port must be the old one, then the old folder, then an
// end. It moves h.to behind what is replaced and settles the spelling from the port when the host was bare.
func (a *address) after(src []byte, h *hit, st *int, how begin, scheme string) bool {
	port, end, spelled := portAt(src, h.to)
	switch {
	case string(port) == a.port:
	case a.port == "" && (string(port) == "80" && scheme != "https" || string(port) == "443" && scheme != "http"):
	default:
		return false
	}
	if len(port) > 0 {
		if how == bare && spelled != ":" {
			for i, s := range a.styles {
				if s.colon == spelled {
					*st = i
					break
				}
			}
		}
		h.to = end
	}
	if !bytes.HasPrefix(src[h.to:], a.path[*st]) {
		return false
	}
	h.to += len(a.path[*st])
	if len(port) > 0 && len(a.path[*st]) == 0 {
		return true // a port ends with its last digit
	}
	return !nameGoesOn(src, h.to)
}

// portAt reads a colon in any spelling and digits.
func portAt(src []byte, at int) (port []byte, end int, colon string) {
	switch {
	case at >= len(src):
	case src[at] == ':':
		colon = ":"
	case src[at] == '%' || src[at] == '&' || src[at] == '=':
		for _, c := range [...]string{"%3A", "%3a", "%253A", "%253a", "&#x3A;", "&#x3a;", "&#58;", "=3A"} {
			if bytes.HasPrefix(src[at:], []byte(c)) {
				colon = c
				break
			}
		}
	}
	end = at + len(colon)
	for colon != "" && end < len(src) && src[end] >= '0' && src[end] <= '9' {
		end++
	}
	if end == at+len(colon) {
		return nil, at, ""
	}
	return src[at+len(colon) : end], end, colon
}
