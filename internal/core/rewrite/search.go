package rewrite

import "bytes"

// pattern is text to search for by its two rarest bytes, both of which must be at their places before the rest is
// compared. The general search of package bytes goes by the first two; here those are often some that every line has.
type pattern struct {
	text   []byte // in lower case where fold is set
	fold   bool   // the case of ASCII letters does not matter
	offset int    // of the pair in text
	pair   pair
}

// pair is two bytes and how far they are from each other. A byte of the text is one of them when it is, or
// when it becomes it with the folding bit set.
type pair struct {
	gap                int
	first, foldFirst   byte
	second, foldSecond byte
}

// common lists bytes from the most to the least frequent in what sites hold: prose, markup, addresses,
// numbers. Those not listed are rarer still.
const common = " etaoinsrhldcumpg/\"fy.=-:;0123456789\\<>_wb,'&{}#()vkTSACILPEDMNRBOFxjqzGHUVWKYJXQZ%?+"

// newPattern prepares the search for a text, which is not empty.
func newPattern(text []byte, fold bool) pattern {
	p := pattern{text: text, fold: fold}
	if fold {
		p.text = bytes.ToLower(text)
	}
	rank := func(i int) int {
		if r := bytes.IndexByte([]byte(common), p.text[i]); r >= 0 {
			return r
		}
		return len(common)
	}
	rarest, next := 0, 0
	for i := range p.text {
		if rank(i) > rank(rarest) {
			rarest = i
		}
	}
	for i := range p.text {
		if i != rarest && (next == rarest || rank(i) > rank(next)) {
			next = i
		}
	}
	a, b := min(rarest, next), max(rarest, next)
	p.offset = a
	p.pair = pair{gap: b - a, first: p.text[a], foldFirst: p.folding(a), second: p.text[b], foldSecond: p.folding(b)}
	return p
}

// folding is the bit by which the two cases of an ASCII letter differ, for letters where case does not matter.
func (p *pattern) folding(i int) byte {
	if c := p.text[i]; p.fold && c >= 'a' && c <= 'z' {
		return 'a' - 'A'
	}
	return 0
}

// index returns the first place at or after from, or -1.
func (p *pattern) index(src []byte, from int) int {
	for last := len(src) - len(p.text); from <= last; from++ { // last is where it could be at the latest
		i := p.pair.index(src[from+p.offset : last+p.offset+p.pair.gap+1])
		if i < 0 {
			return -1
		}
		if from += i; p.is(src[from : from+len(p.text)]) {
			return from
		}
	}
	return -1
}

// is compares a text of the pattern's length.
func (p *pattern) is(text []byte) bool {
	if string(text) == string(p.text) {
		return true
	}
	if !p.fold {
		return false
	}
	for i, c := range p.text {
		if text[i] != c && text[i]|p.folding(i) != c {
			return false
		}
	}
	return true
}

// index returns the first place where both bytes are, or -1.
func (p *pair) index(src []byte) int {
	if hasAVX2 && len(src) >= 32+p.gap {
		return pairIndex(src, p)
	}
	for i := range len(src) - p.gap {
		if src[i]|p.foldFirst == p.first && src[i+p.gap]|p.foldSecond == p.second {
			return i
		}
	}
	return -1
}
