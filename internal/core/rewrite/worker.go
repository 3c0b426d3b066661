package rewrite

import (
	"bytes"
	"io"
	"unicode/utf8"

	"nestseed/internal/core/phpval"
	"nestseed/internal/core/sqltext"
)

// Tally counts what was replaced.
type Tally struct {
	Forms      map[string]int64 `json:"forms"`      // replacements by disguise
	Replaced   int64            `json:"replaced"`   // replacements in all
	Values     int64            `json:"values"`     // values, or files, that changed
	Serialised int64            `json:"serialised"` // changed values that were serialised PHP
	Broken     int64            `json:"broken"`     // serialised values that were broken before, left as they are
	Samples    []Sample         `json:"samples,omitempty"`
}

// Sample shows one replacement with a little of what stands around it.
type Sample struct {
	Form   string `json:"form"` // the disguise it stood in
	Where  string `json:"where"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Merge adds another tally; of its samples, the first of each disguise are kept.
func (t *Tally) Merge(o Tally) {
	t.Replaced += o.Replaced
	t.Values += o.Values
	t.Serialised += o.Serialised
	t.Broken += o.Broken
	for k, v := range o.Forms {
		if t.Forms == nil {
			t.Forms = map[string]int64{}
		}
		t.Forms[k] += v
	}
	for _, s := range o.Samples {
		same := 0
		for _, have := range t.Samples {
			if have.Form == s.Form {
				same++
			}
		}
		if same < samplesEach {
			t.Samples = append(t.Samples, s)
		}
	}
}

// samplesEach is how many replacements of each disguise are shown.
const samplesEach = 2

// Worker applies a Rewriter and counts. It is for one goroutine.
type Worker struct {
	Where string // named in samples: the table or file at hand

	r     *Rewriter
	forms [forms]int64
	tally Tally

	plain, fresh []byte // scratch

	levels []*level // of serialised values within one another
	depth  int
}

// level goes through a serialised value.
type level struct {
	finder finder
	near   func(from int) int
}

// Worker returns a new Worker.
func (r *Rewriter) Worker() *Worker { return &Worker{r: r} }

// Tally returns what this worker has counted.
func (w *Worker) Tally() Tally {
	t := w.tally
	t.Forms = map[string]int64{}
	for f, n := range w.forms {
		if n > 0 {
			t.Forms[Form(f).String()] = n
			t.Replaced += n
		}
	}
	return t
}

// Value appends a database value, rewritten: inside serialised PHP with its lengths mended, elsewhere
// as text. A serialised value that does not scan is appended as it is and counted as broken.
func (w *Worker) Value(dst, src []byte) []byte {
	if !w.r.Has(src) {
		return append(dst, src...)
	}
	return w.value(dst, src)
}

// value is Value where there is something to replace, perhaps.
func (w *Worker) value(dst, src []byte) []byte {
	start := len(dst)
	dst = w.nested(dst, src)
	if !bytes.Equal(dst[start:], src) {
		w.tally.Values++
	}
	return dst
}

// nested is Value for the strings inside serialised values too, where a string is often serialised again.
func (w *Worker) nested(dst, src []byte) []byte {
	if !phpval.Looks(src) {
		return w.Text(dst, src)
	}
	if w.depth == len(w.levels) {
		l := &level{}
		l.near = func(from int) int {
			at, _ := l.finder.raw(from)
			return at
		}
		w.levels = append(w.levels, l)
	}
	l := w.levels[w.depth]
	l.finder = w.r.finder(src)
	w.depth++
	out, changed, err := phpval.RewriteNear(dst, src, l.near, w.nested)
	w.depth--
	if err != nil {
		w.tally.Broken++
		return append(dst, src...)
	}
	if changed > 0 {
		w.tally.Serialised++
	}
	return out
}

// Text appends running text, rewritten.
func (w *Worker) Text(dst, src []byte) []byte {
	pos, f := 0, w.r.finder(src)
	for {
		h, ok := f.next(pos)
		if !ok {
			return append(dst, src[pos:]...)
		}
		w.forms[h.form]++
		if w.forms[h.form] <= samplesEach && w.Where != "" {
			w.tally.Samples = append(w.tally.Samples, sample(w.Where, src, h))
		}
		dst = append(dst, src[pos:h.from]...)
		dst = append(dst, h.with...)
		pos = h.to
	}
}

// Leftovers counts the places in src that Text would still replace, and shows the first.
func (r *Rewriter) Leftovers(src []byte) (n int, first string) {
	if !r.Has(src) {
		return 0, ""
	}
	f := r.finder(src)
	for pos := 0; ; n++ {
		h, ok := f.next(pos)
		if !ok {
			return n, first
		}
		if n == 0 {
			first = around(src, h.from, h.to)
		}
		pos = h.to
	}
}

func sample(where string, src []byte, h hit) Sample {
	before := around(src, h.from, h.to)
	lead := max(0, h.from-24)
	return Sample{h.form.String(), where, before, around(append(append(bytes.Clone(src[lead:h.from]), h.with...), src[h.to:min(len(src), h.to+24)]...), h.from-lead, h.from-lead+len(h.with))}
}

// around returns src[from:to] with up to 24 bytes on either side, cut to whole characters.
func around(src []byte, from, to int) string {
	from, to = max(0, from-24), min(len(src), to+24)
	for from < to && !utf8.RuneStart(src[from]) {
		from++
	}
	return string(bytes.ToValidUTF8(src[from:to], nil))
}

// Statement appends an INSERT statement with its string literals rewritten, and leaves any other
// statement as it is.
func (w *Worker) Statement(dst, stmt []byte) []byte {
	if !w.r.Has(stmt) {
		return append(dst, stmt...)
	}
	plain, fresh := w.plain, w.fresh
	defer func() { w.plain, w.fresh = plain, fresh }()
	f := w.r.finder(stmt)
	done := 0
	for pos := 0; ; {
		begin, end := sqltext.NextString(stmt, pos)
		if begin < 0 {
			return append(dst, stmt[done:]...)
		}
		pos = end + 1
		at, _ := f.raw(begin)
		if at == len(stmt) {
			return append(dst, stmt[done:]...)
		}
		if at >= end {
			continue
		}
		var ok bool
		if fresh, ok = w.Escaped(fresh[:0], stmt[begin:end]); ok {
			dst = append(append(dst, stmt[done:begin]...), fresh...)
			done = end
			continue
		}
		plain = sqltext.AppendUnescaped(plain[:0], stmt[begin:end])
		fresh = w.value(fresh[:0], plain)
		if bytes.Equal(plain, fresh) {
			continue
		}
		dst = append(dst, stmt[done:begin-1]...)
		dst = sqltext.AppendString(dst, fresh)
		done = end + 1
	}
}

// Escaped rewrites the text between the quotes of an SQL literal as it stands, without taking its escapes
// apart, which is most of the work on a literal. That is right only where it means the same: in text that is
// not serialised, whose hits have no escape near them. Else it returns dst as it was and false.
func (w *Worker) Escaped(dst, body []byte) ([]byte, bool) {
	if len(body) > 2 && body[1] == ':' && bytes.IndexByte([]byte("aOsSCE"), body[0]) >= 0 {
		return dst, false
	}
	f, near := w.r.finder(body), w.r.near
	for at, which := f.raw(0); at < len(body); at, which = f.raw(at + 1) {
		end := at + len(w.r.needles[which].text)
		if around := body[max(0, at-near):min(len(body), end+near)]; bytes.IndexByte(around, '\\') >= 0 || bytes.IndexByte(around, '\'') >= 0 {
			return dst, false
		}
	}
	before := len(dst)
	if dst = w.Text(dst, body); !bytes.Equal(dst[before:], body) {
		w.tally.Values++
	}
	return dst, true
}

// Script copies SQL from src to dst with the strings of its statements rewritten.
func (w *Worker) Script(dst io.Writer, src io.Reader) error {
	sc := sqltext.NewScanner(src, 1<<30)
	var out []byte
	for sc.Scan() {
		out = w.Statement(out[:0], sc.Statement())
		out = append(out, ";\n"...)
		if _, err := dst.Write(out); err != nil {
			return err
		}
	}
	return sc.Err()
}

// Looks like text: no NUL byte in what was read of it. The same rule serves diff and grep.
func IsText(head []byte) bool { return bytes.IndexByte(head, 0) < 0 }
