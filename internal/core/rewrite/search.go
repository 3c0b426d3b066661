package rewrite

import "bytes"

// pattern is text to search for by its rarest byte. The general search of package bytes goes by the first
// byte of what it looks for; here that is often one that every line has.
type pattern struct {
	text   []byte
	rare   byte
	offset int // of the rare byte in text
}

// common lists bytes from the most to the least frequent in what sites hold: prose, markup, addresses,
// numbers. Those not listed are rarer still.
const common = " etaoinsrhldcumpg/\"fy.=-:;0123456789\\<>_wb,'&{}#()vkTSACILPEDMNRBOFxjqzGHUVWKYJXQZ%?+"

func newPattern(text []byte) pattern {
	p := pattern{text: text}
	best := -1
	for i, c := range text {
		rank := bytes.IndexByte([]byte(common), c)
		if rank < 0 {
			rank = len(common)
		}
		if rank > best {
			best, p.rare, p.offset = rank, c, i
		}
	}
	return p
}

// index returns the first place at or after from, or -1.
func (p *pattern) index(src []byte, from int) int {
	last := len(src) - len(p.text) // the last place it could be at
	for at := from; at <= last; {
		i := bytes.IndexByte(src[at+p.offset:last+p.offset+1], p.rare)
		if i < 0 {
			return -1
		}
		at += i
		if string(src[at:at+len(p.text)]) == string(p.text) {
			return at
		}
		at++
	}
	return -1
}
