package rewrite

import (
	"bytes"
	"strconv"

	"nestseed/internal/core/phpval"
)

// embedded appends text in which strings of serialised values stand, as in program files and in values that are broken: s:12:"…".
// Where a string is as long as it says, it is rewritten and says its new length; the rest is text. With mend, a string that is not
// as long as it says says so from then on. It returns how many did not.
func (w *Worker) embedded(dst, src []byte, mend bool) (_ []byte, wrong int) {
	done := 0
	// Strings that claim to be long are many in a hostile text; each is looked at only as long as the text has earned it.
	budget := budgetFor(src)
	for at := 0; ; {
		s, next, found := stringIn(src, at, &budget)
		if !found {
			return w.Text(dst, src[done:]), wrong
		}
		if !s.right {
			wrong++
			if !mend || budget < 0 || !s.untilMark(src, &budget) {
				at = next
				continue
			}
		}
		if at = s.end; s.right && !w.r.Has(s.inside) {
			continue
		}
		fresh := w.nested(nil, s.inside)
		dst = append(w.Text(dst, src[done:s.digits]), strconv.Itoa(len(fresh))...)
		dst = append(append(dst, ':'), s.open...)
		dst = append(s.write(dst, fresh), s.open...)
		done = s.end
	}
}

func budgetFor(src []byte) int { return 64<<10 + 16*len(src) }

// embeds reports whether strings of serialised values may stand in a text: digits, a colon and a quote, escaped or not.
func embeds(src []byte) bool {
	for at := 0; ; at++ {
		i := bytes.IndexByte(src[at:], ':')
		if at += i; i < 0 || at+2 >= len(src) {
			return false
		}
		if at > 1 && src[at-1]-'0' < 10 && (src[at+1] == '"' || src[at+1] == '\\') {
			return true
		}
	}
}

// phpString is a string of a serialised value where it stands in a text.
type phpString struct {
	digits int    // where its length begins
	open   string // what it begins and ends with: a quote, escaped or not
	from   int    // where its text begins
	end    int    // behind the quote that ends it
	right  bool   // it is as long as it says
	inside []byte // what it means
	write  func(dst, s []byte) []byte
}

// stringIn returns the next string at or after a place, and where to look on.
func stringIn(src []byte, from int, budget *int) (s phpString, next int, found bool) {
	for at := from; ; {
		i := bytes.Index(src[at:], []byte("s:"))
		if i < 0 || at+i+5 > len(src) {
			return s, 0, false
		}
		s.digits = at + i + 2
		at = s.digits
		end := at
		for end < len(src) && src[end]-'0' < 10 && end-at < 9 {
			end++
		}
		n, err := strconv.Atoi(string(src[at:end]))
		if err != nil || end == len(src) || src[end] != ':' {
			continue
		}
		switch rest := src[end+1:]; {
		case bytes.HasPrefix(rest, []byte(`"`)):
			s.open, s.from = `"`, end+2
		case bytes.HasPrefix(rest, []byte(`\"`)):
			s.open, s.from = `\"`, end+3
		default:
			continue
		}
		s.measure(src, n, budget)
		return s, s.from, true
	}
}

// measure looks whether a string of n bytes ends where it says: as it stands, between the single quotes of a program, or between
// double quotes, with escapes.
func (s *phpString) measure(src []byte, n int, budget *int) {
	ends := func(at int) bool { return bytes.HasPrefix(src[min(at, len(src)):], []byte(s.open+";")) }
	if s.open == `"` {
		if end := s.from + n; ends(end) {
			s.right, s.inside, s.end, s.write = true, src[s.from:end], end+1, appendBytes
			return
		}
		if *budget -= n; *budget < 0 || n > len(src)-s.from {
			return
		}
		if inside, end := unescape(src, s.from, n, `'\`); ends(end) {
			s.take(src, inside, end, func(dst, t []byte) []byte { return escape(dst, t, `'\`) })
		}
		return
	}
	if *budget -= n; *budget < 0 || n > len(src)-s.from {
		return
	}
	inside, end := unescape(src, s.from, n, `"\/$'`)
	if !ends(end) {
		return
	}
	for _, marks := range []string{`"\`, `"\/`, `"\$`, `"\'`} {
		if s.take(src, inside, end, func(dst, t []byte) []byte { return escape(dst, t, marks) }) {
			return
		}
	}
}

// take takes a string with its escapes, if they can be written back the same.
func (s *phpString) take(src, inside []byte, end int, write func(dst, t []byte) []byte) bool {
	if !bytes.Equal(write(nil, inside), src[s.from:end]) {
		return false
	}
	s.right, s.inside, s.end, s.write = true, inside, end+len(s.open), write
	return true
}

// untilMark takes a string that is not as long as it says up to the next quote and semicolon behind which a value may go on. Only one
// that stands as it is can be mended.
func (s *phpString) untilMark(src []byte, budget *int) bool {
	if s.open != `"` {
		return false
	}
	for at := s.from; ; {
		i := bytes.Index(src[at:], []byte(`";`))
		if i < 0 {
			*budget = -1 // nor is there one for any that follows
			return false
		}
		if *budget -= i; *budget < 0 {
			return false
		}
		at += i + 2
		if at == len(src) || bytes.IndexByte([]byte("sidabONCrR}"), src[at]) >= 0 && (src[at] == '}' || at+1 < len(src) && (src[at+1] == ':' ||
			src[at+1] == ';')) {
			s.inside, s.end, s.write = src[s.from:at-2], at-1, appendBytes
			return true
		}
	}
}

func appendBytes(dst, s []byte) []byte { return append(dst, s...) }

// unescape reads n bytes of what a text means in which a backslash stands before some marks, and returns where they end.
func unescape(src []byte, from, n int, marks string) (inside []byte, end int) {
	if n > len(src)-from {
		return nil, len(src)
	}
	inside = make([]byte, 0, n)
	for end = from; end < len(src) && len(inside) < n; end++ {
		if src[end] == '\\' && end+1 < len(src) && bytes.IndexByte([]byte(marks), src[end+1]) >= 0 {
			end++
		}
		inside = append(inside, src[end])
	}
	return inside, end
}

func escape(dst, s []byte, marks string) []byte {
	for _, c := range s {
		if bytes.IndexByte([]byte(marks), c) >= 0 {
			dst = append(dst, '\\')
		}
		dst = append(dst, c)
	}
	return dst
}

// broken appends a serialised value that PHP does not read: what can be replaced in it is, and with mend its wrong lengths are put
// right. It counts the value, and whether it is whole now.
func (w *Worker) broken(dst, src []byte) []byte {
	w.tally.Broken++
	start := len(dst)
	dst, _ = w.embedded(dst, src, w.r.mend)
	if w.r.mend && phpval.Valid(dst[start:]) {
		w.tally.Mended++
	}
	if len(w.tally.BrokenAt) < brokenShown {
		w.tally.BrokenAt = append(w.tally.BrokenAt, w.Where+": "+clip(src, 60))
	}
	return dst
}

// brokenShown is how many broken values are shown.
const brokenShown = 8

func clip(src []byte, n int) string {
	if len(src) <= n {
		return string(bytes.ToValidUTF8(src, nil))
	}
	return string(bytes.ToValidUTF8(src[:n], nil)) + "…"
}

// encodes reports whether a text may be the base64 (RFC 4648 section 4) of a serialised value, of JSON, or of what is compressed. Shorter
// ones are told by how they begin.
func encodes(src []byte) bool {
	if len(src) < 24 || len(src)%4 != 0 {
		return false
	}
	if len(src) >= 64 && inBase64(src[:64]) && inBase64(bytes.TrimRight(src[len(src)-4:], "=")) {
		return true
	}
	switch src[0] {
	case 'Y': // a:
		return src[1] == 'T'
	case 'T': // O:
		return src[1] == 'z'
	case 'c': // s:
		return src[1] == 'z'
	case 'e': // {" or zlib
		return src[1] == 'y' && (src[2] == 'I' || src[2] == 'J') || src[1] == 'J' || src[1] == 'N' || src[1] == 'A' || src[1] == 'F'
	case 'H': // gzip
		return src[1] == '4' && src[2] == 's'
	case 'W': // [
		return src[1] == '3' || src[1] == 'y'
	}
	return false
}

// inBase64 reports whether a text has only letters of base64, and others than hexadecimal digits have.
func inBase64(text []byte) bool {
	upper, lower := len(text) < 64, len(text) < 64
	for _, c := range text {
		switch {
		case c > 'F' && c <= 'Z':
			upper = true
		case c > 'f' && c <= 'z':
			lower = true
		case c >= 'A' && c <= 'F', c >= 'a' && c <= 'f', c >= '0' && c <= '9', c == '+', c == '/':
		default:
			return false
		}
	}
	return upper && lower
}
