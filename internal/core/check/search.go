package check

import (
	"bytes"
	"encoding/base64"
	"slices"
	"strings"
)

// finder searches texts for all parts of traces in one pass. At each byte, three tables say which patterns may begin there; most bytes
// begin none. It can be used by many at a time.
type finder struct {
	tables   [3][256]uint8 // bit n: a pattern of bucket n may have this byte as the first, second or third of its window
	buckets  [8][]*pattern
	patterns []*pattern
	short    bool // a window has less than three bytes
}

// pattern is something that is searched for: a part of a trace as it is, in UTF-16, or in base64.
type pattern struct {
	trace  int // which of the list
	what   patternKind
	text   []byte // in small letters, but for base64
	from   int    // where the window is in text
	before int    // of an anchor: so many bytes of the trace come before
	after  int    // of an anchor: so many bytes of the trace come after
	ours   []own  // what the site has now and contains the anchor
}

// own is an address of the site's own that contains an anchor at a place.
type own struct {
	text string // none of which the trace contains
	at   int
}

type patternKind uint8

const (
	anAnchor   patternKind = iota
	aReserve               // an anchor that is looked at where the first is not there: it may be spelled in another way
	aWide                  // UTF-16
	anIn64                 // base64 (RFC 4648 section 4)
	window     = 3
	reserveMax = 1000 // hits of reserves that are kept until a text's end
)

// newFinder prepares to look for traces. The parts of a name between marks are its anchors: two of them, first those that no address of the
// site has, and of these the longest.
func newFinder(list []*trace, ours []string) (f finder) {
	for n, x := range list {
		var anchors []*pattern
		at := 0
		for name := range strings.FieldsFuncSeq(x.text, func(r rune) bool { return strings.ContainsRune("./:-_", r) }) {
			i := at + strings.Index(x.text[at:], name)
			at = i + len(name)
			p := &pattern{trace: n, text: []byte(name), before: i, after: len(x.text) - at}
			for _, o := range ours {
				if j := strings.Index(o, name); j >= 0 && !strings.Contains(x.text, o) {
					p.ours = append(p.ours, own{o, j})
				}
			}
			anchors = append(anchors, p)
		}
		slices.SortStableFunc(anchors, func(a, b *pattern) int {
			if (len(a.ours) == 0) != (len(b.ours) == 0) {
				return len(a.ours) - len(b.ours)
			}
			return len(b.text) - len(a.text)
		})
		for i, p := range anchors[:min(2, len(anchors))] {
			if i > 0 {
				p.what = aReserve
			}
			f.patterns = append(f.patterns, p)
		}
		if len(anchors) == 0 {
			continue
		}
		var wide []byte // without the zero at an end, it is the same with the little and the big end first
		for _, c := range anchors[0].text {
			wide = append(wide, c, 0)
		}
		f.patterns = append(f.patterns, &pattern{trace: n, what: aWide, text: wide[:len(wide)-1]})
		if x.folder {
			continue
		}
		for shift := range 3 {
			code := base64.StdEncoding.EncodeToString(append(make([]byte, shift), x.text...))
			from := (shift*8 + 5) / 6
			if to := (shift + len(x.text)) * 8 / 6; to-from >= 8 {
				f.patterns = append(f.patterns, &pattern{trace: n, what: anIn64, text: []byte(code[from:to])})
			}
		}
	}
	common := strings.Join(ours, " ")
	for i, p := range f.patterns {
		p.from = p.window(common)
		f.add(i%len(f.buckets), p)
	}
	return f
}

// window returns where the rarest three bytes of a pattern begin: those that the site's own addresses have not, and of rare letters.
func (p *pattern) window(common string) (best int) {
	const rare = "qxzjkvw0123456789bpgfymucldhrsnioate\x00"
	least := -1 << 30
	for i := 0; i+window <= len(p.text); i++ {
		part := p.text[i : i+window]
		score := 0
		for _, c := range part {
			score -= strings.IndexByte(rare, c|0x20)
		}
		if strings.Contains(common, string(part)) {
			score -= 1000
		}
		if score > least {
			best, least = i, score
		}
	}
	return best
}

func (f *finder) add(bucket int, p *pattern) {
	f.buckets[bucket] = append(f.buckets[bucket], p)
	bit := uint8(1) << bucket
	for j := range window {
		if p.from+j >= len(p.text) {
			f.short = true
			for c := range f.tables[j] {
				f.tables[j][c] |= bit
			}
			continue
		}
		c := p.text[p.from+j]
		f.tables[j][c] |= bit
		if p.what != anIn64 && c >= 'a' && c <= 'z' {
			f.tables[j][c-'a'+'A'] |= bit
		}
	}
}

// each calls found with each pattern in a text and where it is.
func (f *finder) each(text []byte, found func(p *pattern, at int)) {
	n := len(text) - window + 1
	for i := 0; i < n; i++ {
		if f.tables[0][text[i]]&f.tables[1][text[i+1]]&f.tables[2][text[i+2]] != 0 {
			f.at(text, i, f.tables[0][text[i]]&f.tables[1][text[i+1]]&f.tables[2][text[i+2]], found)
		}
	}
	if f.short {
		for i := max(0, n); i < len(text); i++ {
			f.at(text, i, 0xff, found)
		}
	}
}

// at compares the patterns of some buckets with a text, whose windows would begin at i.
func (f *finder) at(text []byte, i int, buckets uint8, found func(p *pattern, at int)) {
	for b := range f.buckets {
		if buckets&(1<<b) == 0 {
			continue
		}
		for _, p := range f.buckets[b] {
			if at := i - p.from; at >= 0 && at+len(p.text) <= len(text) && p.same(text[at:at+len(p.text)]) {
				found(p, at)
			}
		}
	}
}

func (p *pattern) same(text []byte) bool {
	if p.what == anIn64 {
		return bytes.Equal(text, p.text)
	}
	return sameLetters(text, p.text)
}

// sameLetters reports whether a text is another that is in small letters, whatever the case of its ASCII letters.
func sameLetters[T string | []byte](text []byte, small T) bool {
	for i, c := range text {
		if c-'A' < 26 {
			c |= 0x20
		}
		if c != small[i] {
			return false
		}
	}
	return true
}

// isOurs reports whether an anchor at a place is part of an address of the site's own, spelled plainly.
func (p *pattern) isOurs(text []byte, at int) bool {
	for _, o := range p.ours {
		if from := at - o.at; from >= 0 && from+len(o.text) <= len(text) && sameLetters(text[from:from+len(o.text)], o.text) {
			return true
		}
	}
	return false
}

// may reports whether what is beside an anchor may spell the marks that are beside it in the trace: most hits of a short name are parts
// of words, and need not be decoded.
func (p *pattern) may(text []byte, at int) bool {
	if p.before > 0 && at > 0 && strings.IndexByte("./:-_;\n\x00\\0123456789abcdefABCDEF", text[at-1]) < 0 {
		return false
	}
	end := at + len(p.text)
	return p.after == 0 || end == len(text) || strings.IndexByte("./:-_%&=\\\x00", text[end]) >= 0
}

// around is how much of what is around an anchor is decoded: names may be spelled with six bytes a character and more.
const around = 400

// small returns part of a text in small letters.
func small(text []byte, from, to int) []byte {
	out := bytes.Clone(text[max(0, from):min(len(text), to)])
	for i, c := range out {
		if c-'A' < 26 {
			out[i] = c | 0x20
		}
	}
	return out
}

// in calls each with every trace in a text.
func (t *traces) in(text []byte, each func(found)) {
	if len(t.list) == 0 {
		return
	}
	var told map[*pattern]bool  // of what is told once for a text
	var hit map[int]bool        // traces that were found by their first anchor: the other would find the same
	var kept map[*pattern][]int // where reserves are
	t.finder.each(text, func(p *pattern, at int) {
		switch p.what {
		case anAnchor:
			if t.anchored(p, text, at, each) {
				if hit == nil {
					hit = map[int]bool{}
				}
				hit[p.trace] = true
			}
		case aReserve:
			if p.may(text, at) && !p.isOurs(text, at) && !hit[p.trace] {
				if kept == nil {
					kept = map[*pattern][]int{}
				}
				if len(kept[p]) < reserveMax {
					kept[p] = append(kept[p], at)
				} else {
					t.anchored(p, text, at, each)
				}
			}
		default:
			if !told[p] && t.encoded(p, text, at, each) {
				if told == nil {
					told = map[*pattern]bool{}
				}
				told[p] = true
			}
		}
	})
	for p, places := range kept {
		for _, at := range places {
			if !hit[p.trace] {
				t.anchored(p, text, at, each)
			}
		}
	}
}

// anchored looks whether a trace is around one of its anchors.
func (t *traces) anchored(p *pattern, text []byte, at int, each func(found)) bool {
	if !p.may(text, at) || p.isOurs(text, at) {
		return false
	}
	end := at + len(p.text)
	before, after := decode(small(text, at-around, at)), decode(small(text, end, end+around))
	from := len(before) - p.before
	if from < 0 {
		return false
	}
	x := t.list[p.trace]
	stays, is := t.judge(x, before+string(p.text)+after, from)
	if is {
		each(found{x.text, stays, sampleOf(text, at, len(p.text))})
	}
	return is
}

// encoded looks for a trace in UTF-16 or base64.
func (t *traces) encoded(p *pattern, text []byte, at int, each func(found)) bool {
	x := t.list[p.trace]
	if p.what == anIn64 {
		each(found{x.text, anEncoding, sampleOf(text, at, len(p.text)) + " (in base64)"})
		return true
	}
	if !strings.Contains(decode(small(text, at-around, at+around)), x.text) {
		return false
	}
	each(found{x.text, anEncoding, sampleOf(text, at, len(p.text)) + " (in UTF-16)"})
	return true
}
