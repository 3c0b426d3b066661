package check

import (
	"bytes"
	"cmp"
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
	list   []*trace
	ours   []string // host names, or addresses, that the site has now, in small letters
	finder finder
}

// trace is one host name or folder, in small letters.
type trace struct {
	text   string
	folder bool
	port   string // of the old address; "" for the usual one
	exact  bool   // text has port and folder too, as the new address has the same host name
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
	trace  string // the host name or folder
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
	t.finder = newFinder(t.list, t.ours)
	return t
}

func (t *traces) add(x trace) {
	if x.text == "" || slices.Contains(t.ours, x.text) || slices.ContainsFunc(t.list, func(o *trace) bool { return o.text == x.text }) {
		return
	}
	t.list = append(t.list, &x)
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
	where, trace, sample string
	times                int
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
	if n := len(*to); n > 0 && (*to)[n-1].where == where && (*to)[n-1].trace == f.trace {
		(*to)[n-1].times++
		return
	}
	if len(*to) == mostKept {
		return
	}
	*to = append(*to, &place{where, f.trace, strings.Join(strings.Fields(f.sample), " "), 1})
}

// record judges: what was missed is a fault, and what may stay is counted and shown.
func (y *tally) record(r *runner, name, good, bad, remedy string) {
	y.missed = merged(y.missed)
	for why := range y.stay {
		y.stay[why] = merged(y.stay[why])
	}
	if len(y.missed) > 0 {
		var wrong []finding
		for _, p := range y.missed {
			wrong = append(wrong, finding{r.key(p.where) + " " + p.trace, p.String()})
		}
		r.result(name, good, bad, remedy, wrong)
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

// merged puts places in order and those together that are the same, as more than one reader has found them.
func merged(places []*place) (out []*place) {
	slices.SortStableFunc(places, func(a, b *place) int {
		return cmp.Or(strings.Compare(a.where, b.where), strings.Compare(a.trace, b.trace))
	})
	for _, p := range places {
		if n := len(out); n > 0 && out[n-1].where == p.where && out[n-1].trace == p.trace {
			out[n-1].times += p.times
			continue
		}
		out = append(out, p)
	}
	return out
}

func lines(places []*place) (out []string) {
	for _, p := range places {
		out = append(out, p.String())
	}
	return out
}
