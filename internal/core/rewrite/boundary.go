package rewrite

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// nameByte reports whether c can stand in a host name's label (RFC 1123 section 2.1, and _ as met in practice).
func nameByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_'
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// previous returns the character that ends at src[:at], seeing through the wrappings: a percent
// triplet counts as the character it stands for and a backslash escape as white space.
func previous(src []byte, at int) (r rune, size int) {
	if at == 0 {
		return ' ', 0
	}
	if c := src[at-1]; c < 'A' && (c < '0' || c > '9') {
		return rune(c), 1 // nothing is wrapped that ends like this
	}
	if at >= 3 && src[at-3] == '%' && isHex(src[at-2]) && isHex(src[at-1]) {
		return rune(unhex(src[at-2])<<4 | unhex(src[at-1])), 3
	}
	if at >= 5 && string(src[at-5:at-2]) == "%25" && isHex(src[at-2]) && isHex(src[at-1]) {
		return rune(unhex(src[at-2])<<4 | unhex(src[at-1])), 5
	}
	if at >= 6 && src[at-6] == '\\' && src[at-5] == 'u' && isHex(src[at-1]) && isHex(src[at-2]) && isHex(src[at-3]) && isHex(src[at-4]) {
		return rune(unhex(src[at-4])<<12 | unhex(src[at-3])<<8 | unhex(src[at-2])<<4 | unhex(src[at-1])), 6
	}
	if at >= 2 && src[at-2] == '\\' && bytes.IndexByte([]byte("ntrfb"), src[at-1]) >= 0 {
		return ' ', 2
	}
	return utf8.DecodeLastRune(src[:at])
}

func unhex(c byte) int {
	switch {
	case c <= '9':
		return int(c - '0')
	case c <= 'F':
		return int(c-'A') + 10
	}
	return int(c-'a') + 10
}

func letter(r rune) bool {
	return r < 0x80 && nameByte(byte(r)) || r >= 0x80 && r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r))
}

// bareMayBegin reports whether a host standing at src[at:] is a name of its own: not the end of a longer
// host, not the domain of a mail address, not a segment of some path.
func bareMayBegin(src []byte, at int) bool {
	r, size := previous(src, at)
	switch {
	case r == '@' || r == '/' || r == '\\' || letter(r):
		return false
	case r == '.': // a leading dot, as cookie domains have, is not a longer name
		before, _ := previous(src, at-size)
		return !letter(before)
	}
	return true
}

// nameGoesOn reports whether the name or path segment that ends at src[:at] in fact continues.
func nameGoesOn(src []byte, at int) bool {
	if at >= len(src) {
		return false
	}
	c := src[at]
	if nameByte(c) {
		return true
	}
	if c >= 0x80 {
		r, _ := utf8.DecodeRune(src[at:])
		return letter(r)
	}
	if c == '.' && at+1 < len(src) {
		return nameByte(src[at+1])
	}
	return c == '@' // host-like local part of a mail address
}

// usual is an address as it is written nearly everywhere: with its scheme, and nothing escaped.
type usual struct {
	text []byte
	lead int // where the needle begins in it
	with []byte
}

// at fills in h where the address stands with the needle at src[at:], between two bytes that settle by themselves that it
// is one: neither what stands further away nor escapes matter then. The judge has to look at all others.
func (u *usual) at(src []byte, begin, at, end int, h *hit) bool {
	from := at - u.lead
	to := from + len(u.text)
	if from < begin || to > end || string(src[from:to]) != string(u.text) {
		return false
	}
	if from > begin && edges[src[from-1]]&before == 0 || to < end && edges[src[to]]&behind == 0 {
		return false
	}
	h.from, h.to, h.with, h.form = from, to, u.with, Plain
	return true
}

// On which side of an address a byte settles that it begins, or ends, there.
const (
	before = 1 << iota
	behind
)

var edges = func() (e [256]uint8) {
	for _, c := range []byte(" !\"#$&'()*,/;<=>?[]^`{|}~") {
		e[c] = behind
		if c < 'A' && c != '/' {
			e[c] |= before
		}
	}
	return e
}()

// pathNeedles compiles a folder on disk in each spelling it can have.
func pathNeedles(p Pair, addresses []Pair, styles *styles) ([]needle, error) {
	old, fresh := path.Clean(p.Old), path.Clean(p.New)
	if !path.IsAbs(old) || !path.IsAbs(fresh) {
		return nil, fmt.Errorf("folders to replace must be absolute: %q, %q", p.Old, p.New)
	}
	if strings.Count(old, "/") < 2 {
		return nil, fmt.Errorf("folder %q is too short to be replaced safely; it needs at least two segments", old)
	}
	if old == fresh {
		return nil, nil
	}
	key := rareSegment(old, addresses)
	var out []needle
	for _, st := range styles[:folderStyles] {
		text := []byte(strings.ReplaceAll(old, "/", st.slash))
		with := []byte(strings.ReplaceAll(fresh, "/", st.slash))
		out = append(out, needle{newPattern(text, false), newPattern([]byte(key), false), len(out) == 0, false,
			func(src []byte, at int, h *hit) bool {
				end := at + len(text)
				if r, _ := previous(src, at); letter(r) || r == '.' || r == '~' || r == '\\' || nameGoesOn(src, end) {
					return false
				}
				*h = hit{from: at, to: end, with: with, form: Folder}
				return true
			}, utf8.UTFMax, nil})
	}
	return out, nil
}

// rareSegment returns a segment of a folder by which its spellings are looked for: the longest that no
// address contains, since a site's folder is often called like its host.
func rareSegment(folder string, addresses []Pair) string {
	best, longest := "", ""
	for part := range strings.SplitSeq(folder, "/") {
		if len(part) > len(longest) {
			longest = part
		}
		if len(part) > len(best) && !slices.ContainsFunc(addresses, func(a Pair) bool { return strings.Contains(a.Old, part) }) {
			best = part
		}
	}
	if best == "" {
		return longest
	}
	return best
}
