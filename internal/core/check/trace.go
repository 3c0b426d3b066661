package check

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"nestseed/internal/core/rewrite"
)

// traces looks for what a site came from: the host names of its old addresses, and its old folders, in any spelling and whatever
// stands around them. It knows nothing of how they were replaced, so that it does not miss what was missed there.
type traces struct {
	list []trace
	ours []string // host names, or addresses, that the site has now, in small letters
	low  []byte   // a text in small letters
}

// trace is one host name or folder, in small letters.
type trace struct {
	text   string
	folder bool
	port   string // of the old address; "" for the usual one
	exact  bool   // text has port and folder too, as the new address has the same host name
	// anchors are parts of text that texts are searched for: where one is, what stands around it is decoded and compared. Each
	// is preceded in text by so many bytes.
	anchors []anchor
	wide    [][]byte // the first anchor in UTF-16, little and big endian
	base64  [][]byte // the inner part of text in base64 (RFC 4648 section 4), by where it begins in a group of three bytes
}

type anchor struct {
	text   []byte
	before int
}

// Why a trace may stay: what was found is not an address that the site came from.
const (
	aMailAddress = "mail address"
	aLongerName  = "longer name"
	aOtherPort   = "other port"
	aFolderName  = "name of a folder"
	anEncoding   = "encoding" // in which it cannot be replaced where the whole cannot be read
)

// found is one place where a trace is.
type found struct {
	stays  string // why; "" when it is an address that should have been replaced
	sample string
}

// newTraces prepares to look for what rules replace.
func newTraces(rules rewrite.Rules) *traces {
	t := &traces{}
	for _, p := range rules.Addresses {
		was, err := url.Parse(strings.ToLower(p.Old))
		now, errNow := url.Parse(strings.ToLower(p.New))
		if err != nil || errNow != nil || was.Host == "" {
			continue
		}
		x := trace{text: was.Hostname(), port: was.Port()}
		t.ours = append(t.ours, now.Hostname())
		if was.Hostname() == now.Hostname() {
			x.exact, x.text = true, strings.TrimRight(was.Host+was.Path, "/")
			t.ours = append(t.ours, strings.TrimRight(now.Host+now.Path, "/"))
		}
		t.add(x)
	}
	for _, p := range rules.Paths {
		t.ours = append(t.ours, strings.ToLower(strings.TrimRight(p.New, "/")))
		t.add(trace{text: strings.ToLower(strings.TrimRight(p.Old, "/")), folder: true})
	}
	return t
}

func (t *traces) add(x trace) {
	if x.text == "" || slices.Contains(t.ours, x.text) || slices.ContainsFunc(t.list, func(o trace) bool { return o.text == x.text }) {
		return
	}
	// The longest names between marks are the anchors.
	at := 0
	for name := range strings.FieldsFuncSeq(x.text, func(r rune) bool { return strings.ContainsRune("./:-_", r) }) {
		i := at + strings.Index(x.text[at:], name)
		x.anchors = append(x.anchors, anchor{[]byte(name), i})
		at = i + len(name)
	}
	slices.SortStableFunc(x.anchors, func(a, b anchor) int { return len(b.text) - len(a.text) })
	if x.anchors = x.anchors[:min(2, len(x.anchors))]; len(x.anchors) == 0 {
		return
	}
	if first := x.anchors[0].text; utf8.Valid(first) {
		var little, big []byte
		for _, c := range first {
			little, big = append(little, c, 0), append(big, 0, c)
		}
		x.wide = [][]byte{little[:len(little)-1], big[1:]}
	}
	if !x.folder {
		for shift := range 3 {
			code := base64.StdEncoding.EncodeToString(append(make([]byte, shift), x.text...))
			from := (shift*8 + 5) / 6
			if to := (shift + len(x.text)) * 8 / 6; to-from >= 8 {
				x.base64 = append(x.base64, []byte(code[from:to]))
			}
		}
	}
	t.list = append(t.list, x)
}

// around is how much of what stands around an anchor is decoded: names may be spelled with six bytes a character and more.
const around = 400

// in calls each with every trace in a text.
func (t *traces) in(text []byte, each func(found)) {
	if len(t.list) == 0 {
		return
	}
	t.low = lower(t.low[:0], text)
	for i := range t.list {
		x := &t.list[i]
		if !t.anchored(x, text, each) {
			t.wide(x, text, each)
		}
		for _, code := range x.base64 {
			if at := bytes.Index(text, code); at >= 0 {
				each(found{anEncoding, sampleOf(text, at, len(code)) + " (in base64)"})
				break
			}
		}
	}
}

// anchored looks for a trace by its anchors, and reports whether the first of them was there at all.
func (t *traces) anchored(x *trace, text []byte, each func(found)) (there bool) {
	for _, a := range x.anchors {
		hit := false
		for from := 0; ; {
			i := bytes.Index(t.low[from:], a.text)
			if i < 0 {
				break
			}
			i += from
			from = i + len(a.text)
			there = true
			if !x.may(a, t.low, i) {
				continue
			}
			before := decode(t.low[max(0, i-around):i])
			after := decode(t.low[from:min(len(t.low), from+around)])
			if at := len(before) - a.before; at >= 0 {
				if stays, is := t.judge(x, before+string(a.text)+after, at); is {
					hit = true
					each(found{stays, sampleOf(text, i, len(a.text))})
				}
			}
		}
		if hit {
			return true // the other anchor would find the same
		}
	}
	return there
}

// may reports whether what stands beside an anchor may spell the marks that stand beside it in the trace: most hits of a short name
// are parts of words, and need not be decoded.
func (x *trace) may(a anchor, text []byte, at int) bool {
	if a.before > 0 && at > 0 && strings.IndexByte("./:-_;\n\x00\\0123456789abcdef", text[at-1]) < 0 {
		return false
	}
	end := at + len(a.text)
	return a.before+len(a.text) == len(x.text) || end == len(text) || strings.IndexByte("./:-_%&=\\\x00", text[end]) >= 0
}

// wide looks for a trace in UTF-16.
func (t *traces) wide(x *trace, text []byte, each func(found)) {
	for _, w := range x.wide {
		if i := bytes.Index(t.low, w); i >= 0 {
			if name := decode(t.low[max(0, i-around):min(len(t.low), i+around)]); strings.Contains(name, x.text) {
				each(found{anEncoding, sampleOf(text, i, len(w)) + " (in UTF-16)"})
				return
			}
		}
	}
}

// judge reports whether a trace is at a place of a decoded text, and why it may stay.
func (t *traces) judge(x *trace, text string, at int) (stays string, is bool) {
	if !strings.HasPrefix(text[at:], x.text) {
		return "", false
	}
	before, after := text[:at], text[at+len(x.text):]
	for _, own := range t.ours {
		if i := strings.Index(own, x.text); i >= 0 && strings.HasSuffix(before, own[:i]) && strings.HasPrefix(after, own[i+len(x.text):]) {
			return "", false
		}
	}
	switch {
	case x.folder || x.exact:
		if after != "" && nameByte(after[0]) {
			return aLongerName, true
		}
		if x.folder {
			return "", true
		}
	case after != "" && (nameByte(after[0]) || len(after) > 1 && after[0] == '.' && nameByte(after[1])):
		return aLongerName, true
	}
	head := strings.TrimRightFunc(before, func(r rune) bool { return r < 128 && (nameByte(byte(r)) || r == '.') })
	name := before[len(head):]
	switch {
	case strings.HasSuffix(head, "@") && !strings.Contains(lastWord(head), "//"):
		return aMailAddress, true
	case name == "" && strings.HasSuffix(head, "/") && !strings.HasSuffix(head, "//"):
		return aFolderName, true
	case name != "" && name != "www." && name != ".":
		return aLongerName, true
	case !x.exact && portOf(after) != x.port:
		return aOtherPort, true
	}
	return "", true
}

func lastWord(s string) string { return s[strings.LastIndexAny(s, " \n\t\"'<>,;")+1:] }

// portOf is the port that follows a host name, or "".
func portOf(after string) string {
	if !strings.HasPrefix(after, ":") {
		return ""
	}
	n := 1
	for n < len(after) && after[n] >= '0' && after[n] <= '9' {
		n++
	}
	return after[1:n]
}

func nameByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c >= utf8.RuneSelf
}

// lower appends a text to out, its ASCII letters small.
func lower(out, text []byte) []byte {
	out = append(out, text...)
	for i, c := range out {
		if c-'A' < 26 {
			out[i] = c | 0x20
		}
	}
	return out
}

func sampleOf(text []byte, at, n int) string {
	return strings.ToValidUTF8(string(bytes.ReplaceAll(text[max(0, at-30):min(len(text), at+n+50)], []byte{0}, nil)), "·")
}

// tally collects traces for a check.
type tally struct {
	missed []*place
	stay   map[string][]*place // by why
}

// place is where traces are, and the first of them.
type place struct {
	where, sample string
	times         int
}

func (p *place) String() string {
	return fmt.Sprintf("%s: %s, …%s…", p.where, map[bool]string{true: "once", false: fmt.Sprintf("%d times", p.times)}[p.times == 1], p.sample)
}

func (y *tally) add(where string, f found) {
	to := &y.missed
	if f.stays != "" {
		if y.stay == nil {
			y.stay = map[string][]*place{}
		}
		list := y.stay[f.stays]
		defer func() { y.stay[f.stays] = list }()
		to = &list
	}
	if n := len(*to); n > 0 && (*to)[n-1].where == where {
		(*to)[n-1].times++
		return
	}
	*to = append(*to, &place{where, strings.Join(strings.Fields(f.sample), " "), 1})
}

// record judges: what was missed is a fault, and what may stay is counted and shown.
func (y *tally) record(r *runner, name, good, bad, remedy string) {
	if len(y.missed) > 0 {
		r.result(name, good, bad, remedy, lines(y.missed))
		return
	}
	var counts, shown []string
	for _, why := range slices.Sorted(maps.Keys(y.stay)) {
		n := 0
		for _, p := range y.stay[why] {
			n += p.times
		}
		counts = append(counts, fmt.Sprintf("%s (%d)", map[string]string{aMailAddress: "mail addresses", aLongerName: "longer names",
			aOtherPort: "its name with another port", aFolderName: "names of folders", anEncoding: "in base64 or UTF-16"}[why], n))
		shown = append(shown, lines(y.stay[why][:min(3, len(y.stay[why]))])...)
	}
	if len(counts) > 0 {
		good += "; left: " + strings.Join(counts, ", ")
	}
	c := Check{Name: name, Result: Pass, Sentence: good, Evidence: shown}
	if len(y.stay[anEncoding]) > 0 {
		c.Result, c.Evidence = Warn, lines(y.stay[anEncoding])
		c.Remedy = "it stands in an encoding and could not be replaced; see what uses it, and correct it by hand"
	}
	r.record(c)
}

func lines(places []*place) (out []string) {
	for _, p := range places {
		out = append(out, p.String())
	}
	return out
}
