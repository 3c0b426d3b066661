package rewrite

import (
	"bytes"
	"slices"
	"unicode/utf8"

	"nestseed/internal/core/phpval"
	"nestseed/internal/core/sqltext"
)

// Tally counts what was replaced.
type Tally struct {
	Forms      map[string]int64 `json:"forms"`               // replacements by disguise
	Replaced   int64            `json:"replaced"`            // replacements in all
	Values     int64            `json:"values"`              // values, or files, that changed
	Serialised int64            `json:"serialised"`          // changed values that were serialised PHP
	Broken     int64            `json:"broken"`              // serialised values that were broken before
	Mended     int64            `json:"mended,omitempty"`    // of them, those that are whole now
	Packed     int64            `json:"packed,omitempty"`    // changed values that were compressed or encoded, and are again
	Unopened   int64            `json:"unopened,omitempty"`  // values that are packed and too large to be opened
	BrokenAt   []string         `json:"broken_at,omitempty"` // some of them: where, and how they begin
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
	t.Mended += o.Mended
	t.Packed += o.Packed
	t.Unopened += o.Unopened
	t.BrokenAt = append(t.BrokenAt, o.BrokenAt[:min(len(o.BrokenAt), max(0, brokenShown-len(t.BrokenAt)))]...)
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

	hit    hit      // the last one
	levels []*level // of serialised values within one another
	depth  int

	inPlain, inQuoted func(dst, s []byte) []byte // nested and literal, for strings within such values

	sql          finder // over the text that Begin was given
	marks        sqltext.Marks
	plain, fresh []byte // a literal taken apart
}

// level goes through a serialised value.
type level struct {
	finder *finder
	own    finder // for a value that is not part of a longer text
	base   int    // where the value begins in the finder's text
	near   func(from int) int
}

// Worker returns a new Worker.
func (r *Rewriter) Worker() *Worker {
	w := &Worker{r: r}
	w.inPlain, w.inQuoted = w.nested, w.literal
	return w
}

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
// as text. A serialised value that PHP would not read is counted as broken, and rewritten as far as that
// does not make it worse.
func (w *Worker) Value(dst, src []byte) []byte {
	if !w.r.Has(src) {
		if out, changed := w.packed(dst, src, 0); changed {
			w.tally.Values++
			w.tally.Packed++
			return out
		}
		if w.r.mend && phpval.Looks(src) && endsValue(src) && !phpval.Valid(src) {
			return w.value(dst, src)
		}
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
	// PHP reads a value and passes over what follows it. What does not end like one only begins like it, and is text
	// (unserialize(), and is_serialized() of CMSs).
	src, behind := valueOf(src)
	if !phpval.Looks(src) || !endsValue(src) {
		if wrapsValues(src) {
			if out, is := w.json(dst, src); is {
				return append(out, behind...)
			}
		}
		whole := src[:len(src)+len(behind)]
		if embeds(whole) {
			dst, _ = w.embedded(dst, whole, false)
			return dst
		}
		return w.Text(dst, whole)
	}
	if len(behind) > 0 {
		return append(w.nested(dst, src), behind...)
	}
	l := w.enter()
	l.own = newFinder(w.r.plain, src)
	l.finder, l.base = &l.own, 0
	counted := w.forms
	out, changed, err := phpval.RewriteNear(dst, src, l.near, w.inPlain)
	w.depth--
	if err != nil {
		w.forms = counted
		return w.broken(dst, src)
	}
	if changed > 0 {
		w.tally.Serialised++
	}
	return out
}

// enter goes one level deeper; whoever enters takes it off depth again.
func (w *Worker) enter() *level {
	if w.depth == len(w.levels) {
		l := &level{}
		l.near = func(from int) int {
			at, _ := l.finder.raw(l.base + from)
			return at - l.base
		}
		w.levels = append(w.levels, l)
	}
	w.depth++
	return w.levels[w.depth-1]
}

// Text appends running text, rewritten.
func (w *Worker) Text(dst, src []byte) []byte {
	f := newFinder(w.r.plain, src)
	return w.text(dst, &f, 0, len(src), false)
}

// text appends what the finder's text has between two places, rewritten. Samples of what is quoted are shown as it means.
func (w *Worker) text(dst []byte, f *finder, begin, end int, quoted bool) []byte {
	h := &w.hit
	for pos := begin; ; {
		if !f.next(begin, pos, end, h) {
			return append(dst, f.src[pos:end]...)
		}
		w.forms[h.form]++
		if w.forms[h.form] <= samplesEach && w.Where != "" {
			s := sample(w.Where, f.src[begin:end], h.from-begin, h.to-begin, *h)
			if quoted {
				s.Before, s.After = string(sqltext.AppendUnescaped(nil, []byte(s.Before))), string(sqltext.AppendUnescaped(nil, []byte(s.After)))
			}
			w.tally.Samples = append(w.tally.Samples, s)
		}
		dst = append(dst, f.src[pos:h.from]...)
		dst = append(dst, h.with...)
		pos = h.to
	}
}

// Leftovers counts the places in src that Text would still replace, and shows the first.
func (r *Rewriter) Leftovers(src []byte) (n int, first string) { return r.leftovers(r.plain, src) }

// LeftoversInSQL is Leftovers for SQL as it is written.
func (r *Rewriter) LeftoversInSQL(src []byte) (n int, first string) {
	if r.quoted == nil {
		return r.Leftovers(src)
	}
	return r.leftovers(r.quoted, src)
}

func (r *Rewriter) leftovers(needles []needle, src []byte) (n int, first string) {
	if !r.Has(src) {
		return 0, ""
	}
	f := newFinder(needles, src)
	var h hit
	for pos := 0; ; n++ {
		if !f.next(0, pos, len(src), &h) {
			return n, first
		}
		if n == 0 {
			first = around(src, h.from, h.to)
		}
		pos = h.to
	}
}

func sample(where string, src []byte, from, to int, h hit) Sample {
	before := around(src, from, to)
	lead := max(0, from-24)
	return Sample{h.form.String(), where, before, around(slices.Concat(src[lead:from], h.with, src[to:min(len(src), to+24)]), from-lead,
		from-lead+len(h.with))}
}

// around returns src[from:to] with up to 24 bytes on either side, cut to whole characters.
func around(src []byte, from, to int) string {
	from, to = max(0, from-24), min(len(src), to+24)
	for from < to && !utf8.RuneStart(src[from]) {
		from++
	}
	return string(bytes.ToValidUTF8(src[from:to], nil))
}

// IsText reports whether a file looks like text: no NUL byte in what was read of it. The same rule serves diff and grep.
func IsText(head []byte) bool { return bytes.IndexByte(head, 0) < 0 }

// valueOf parts a value from the white space behind it. Both are of the same memory.
func valueOf(src []byte) (value, behind []byte) {
	n := len(src)
	for n > 0 && (src[n-1] <= ' ') {
		n--
	}
	return src[:n], src[n:]
}

func endsValue(src []byte) bool {
	return len(src) > 0 && (src[len(src)-1] == ';' || src[len(src)-1] == '}')
}
