package kind

import "bytes"

// sort is what a PHP token is. Only the distinctions that reading settings needs are made.
type sort uint8

const (
	inlineHTML sort = iota // text outside <?php … ?>
	open                   // <?php or <?=
	word                   // identifier, keyword, qualified name
	variable               // $name
	number
	quoted    // '…'
	templated // "…" without interpolation; with it, the token is of sort mixed
	mixed     // "…$x…", heredoc, backticks: text that depends on something
	mark      // any other single character
)

// token is a piece of PHP source.
type token struct {
	sort     sort
	from, to int
	text     []byte // the bytes of the source
}

func (t token) is(b byte) bool { return t.sort == mark && t.text[0] == b }

// lex takes PHP source apart, leaving out white space and comments. It follows the lexical rules of
// the PHP language specification, chapter "Lexical Structure", and never fails: what it does not
// know comes back as marks, and a string that is not closed ends with the source.
func lex(src []byte) []token {
	l := &lexer{src: src}
	for l.pos < len(src) {
		if !l.inside {
			l.outside()
			continue
		}
		l.one()
	}
	return l.out
}

type lexer struct {
	src    []byte
	pos    int
	inside bool
	out    []token
}

func (l *lexer) emit(s sort, to int) {
	to = min(to, len(l.src))
	l.out = append(l.out, token{s, l.pos, to, l.src[l.pos:to]})
	l.pos = to
}

func (l *lexer) outside() {
	i := bytes.Index(l.src[l.pos:], []byte("<?"))
	if i < 0 {
		l.emit(inlineHTML, len(l.src))
		return
	}
	if i > 0 {
		l.emit(inlineHTML, l.pos+i)
	}
	end := l.pos + 2
	if bytes.HasPrefix(l.src[end:], []byte("php")) {
		end += 3
	} else if end < len(l.src) && l.src[end] == '=' {
		end++
	}
	l.emit(open, end)
	l.inside = true
}

func (l *lexer) one() {
	src, c := l.src[l.pos:], l.src[l.pos]
	switch {
	case c == ' ' || c == '\t' || c == '\n' || c == '\r':
		l.pos++
	case bytes.HasPrefix(src, []byte("?>")):
		l.emit(mark, l.pos+2)
		l.inside = false
	case c == '#' && !bytes.HasPrefix(src, []byte("#[")), bytes.HasPrefix(src, []byte("//")):
		l.pos += lineEnd(src)
	case bytes.HasPrefix(src, []byte("/*")):
		if i := bytes.Index(src[2:], []byte("*/")); i >= 0 {
			l.pos += i + 4
		} else {
			l.pos = len(l.src)
		}
	case c == '\'' || c == '"' || c == '`':
		l.quote(c)
	case bytes.HasPrefix(src, []byte("<<<")):
		l.heredoc()
	case c == '$' && len(src) > 1 && wordByte(src[1]):
		l.emit(variable, l.pos+1+wordLen(src[1:]))
	case c >= '0' && c <= '9':
		n := 0
		for n < len(src) && (wordByte(src[n]) || src[n] == '.') {
			n++
		}
		l.emit(number, l.pos+n)
	case wordByte(c) || c == '\\':
		l.emit(word, l.pos+wordLen(src))
	default:
		l.emit(mark, l.pos+1)
	}
}

// lineEnd returns the length of a one-line comment: to the end of the line or to ?>.
func lineEnd(src []byte) int {
	for i := range src {
		if src[i] == '\n' || src[i] == '\r' || src[i] == '?' && i+1 < len(src) && src[i+1] == '>' {
			return i
		}
	}
	return len(src)
}

func (l *lexer) quote(q byte) {
	s := quoted
	if q != '\'' {
		s = templated
	}
	end := l.pos + 1
	for ; end < len(l.src) && l.src[end] != q; end++ {
		switch {
		case l.src[end] == '\\':
			end++
		case q != '\'' && l.src[end] == '$' && end+1 < len(l.src) && (wordByte(l.src[end+1]) || l.src[end+1] == '{'),
			q != '\'' && l.src[end] == '{' && end+1 < len(l.src) && l.src[end+1] == '$':
			s = mixed
		}
	}
	if q == '`' {
		s = mixed
	}
	l.emit(s, end+1)
}

// heredoc passes over <<<NAME … NAME and <<<'NAME' … NAME as one mixed token.
func (l *lexer) heredoc() {
	line := l.src[l.pos+3:]
	n := bytes.IndexByte(line, '\n')
	if n < 0 {
		l.emit(mark, l.pos+1)
		return
	}
	name := bytes.Trim(bytes.TrimSpace(line[:n]), `'"`)
	if len(name) == 0 || wordLen(name) != len(name) {
		l.emit(mark, l.pos+1)
		return
	}
	for at := l.pos + 3 + n; at < len(l.src); {
		next := bytes.IndexByte(l.src[at:], '\n')
		if next < 0 {
			break
		}
		at += next + 1
		body := bytes.TrimLeft(l.src[at:], " \t")
		if bytes.HasPrefix(body, name) && (len(body) == len(name) || !wordByte(body[len(name)])) {
			l.emit(mixed, len(l.src)-len(body)+len(name))
			return
		}
	}
	l.emit(mixed, len(l.src))
}

func wordByte(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80
}

func wordLen(src []byte) int {
	n := 0
	for n < len(src) && (wordByte(src[n]) || src[n] == '\\') {
		n++
	}
	return max(n, 1)
}

// stringValue returns what a quoted or templated token means (PHP manual, "Strings").
func stringValue(t token) string {
	body := t.text[1:max(1, len(t.text)-1)]
	if bytes.IndexByte(body, '\\') < 0 {
		return string(body)
	}
	out := make([]byte, 0, len(body))
	for i := 0; i < len(body); i++ {
		if body[i] != '\\' || i+1 == len(body) {
			out = append(out, body[i])
			continue
		}
		i++
		c := body[i]
		switch {
		case c == '\\' || c == t.text[0]:
			out = append(out, c)
		case t.sort == quoted:
			out = append(out, '\\', c)
		default:
			n, more := escape(body[i:])
			out = append(out, more...)
			i += n - 1
		}
	}
	return string(out)
}

// escape reads what follows the backslash in double quotes: how many bytes it takes, and its meaning.
func escape(b []byte) (n int, meaning []byte) {
	simple := map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', 'v': '\v', 'e': 27, 'f': '\f', '$': '$'}
	if v, ok := simple[b[0]]; ok {
		return 1, []byte{v}
	}
	base, digits, at := 8, 3, 0
	switch {
	case b[0] == 'x':
		base, digits, at = 16, 2, 1
	case b[0] < '0' || b[0] > '7':
		return 1, []byte{'\\', b[0]}
	}
	v, end := 0, at
	for end < len(b) && end-at < digits {
		d := bytes.IndexByte([]byte("0123456789abcdef"), b[end]|0x20)
		if b[end] >= '0' && b[end] <= '9' {
			d = int(b[end] - '0')
		}
		if d < 0 || d >= base {
			break
		}
		v, end = v*base+d, end+1
	}
	if end == at {
		return 1, []byte{'\\', b[0]}
	}
	return end, []byte{byte(v)}
}
