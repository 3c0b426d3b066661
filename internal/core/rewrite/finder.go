package rewrite

import (
	"strings"

	"nestseed/internal/core/sqltext"
)

// finder goes through a text of less than 2 GiB once for each needle, however many hits there are.
type finder struct {
	needles []needle
	src     []byte
	at      [fewNeedles]int32 // where each needle is found next; len(src) when nowhere
	far     []int32           // the same of those that are more

	first, which int // what raw said last; first is -1 before that

	marks  *sqltext.Marks // set for SQL as it stands
	unsure bool           // there were escapes around a needle by which it cannot be judged
}

const (
	// fewNeedles is enough for twelve hosts and four folders, as nearly all sites have.
	fewNeedles = 2*12 + 4*folderStyles
	// maxNeedles is enough for a network of some hundred sites with hosts of their own.
	maxNeedles = 2*512 + 4*folderStyles
)

// place is where a needle is found next.
func (f *finder) place(i int) *int32 {
	if i < fewNeedles {
		return &f.at[i]
	}
	return &f.far[i-fewNeedles]
}

func newFinder(needles []needle, src []byte) finder {
	f := finder{needles: needles, src: src, first: -1}
	if len(needles) > fewNeedles {
		f.far = make([]int32, len(needles)-fewNeedles)
	}
	missing := false
	for i := range needles {
		n := &needles[i]
		if n.first {
			missing = !n.alone && n.key.index(src, 0) < 0
		}
		at := f.place(i)
		if *at = -1; missing {
			*at = int32(len(src))
		}
	}
	return f
}

// raw returns the first place at or after from where some needle is, and which; len(src) when there is none. From one
// call to the next, from only grows.
func (f *finder) raw(from int) (at, which int) {
	if f.first >= from {
		return f.first, f.which
	}
	f.first = len(f.src)
	for i := range f.needles {
		at := f.place(i)
		if int(*at) < from {
			next := f.needles[i].index(f.src, from)
			if next < 0 {
				next = len(f.src)
			}
			*at = int32(next)
		}
		if int(*at) < f.first {
			f.first, f.which = int(*at), i
		}
	}
	return f.first, f.which
}

// next fills in the first hit that lies in src[from:to], whose judge sees nothing outside src[begin:to], and reports
// whether there is one. The hit's places are those in src.
func (f *finder) next(begin, from, to int, h *hit) bool {
	for search := from; ; {
		at, which := f.raw(search)
		if at >= to {
			return false
		}
		n := &f.needles[which]
		if n.usual != nil && n.usual.at(f.src, begin, at, to, h) && h.from >= from {
			return true
		}
		if f.marks != nil && !f.usualEscapes(begin, to, at-ahead, at+len(n.text)+n.behind) {
			f.unsure = true
			return false
		}
		if at+len(n.text) <= to && n.match(f.src[begin:to], at-begin, h) {
			if h.from, h.to = h.from+begin, h.to+begin; h.from >= from {
				return true
			}
		}
		search = at + 1
	}
}

// usualEscapes reports whether every escape between two places, as far as they are in a literal that begins and ends at
// places of its own, is one that stands for punctuation or for white space. Then what stands there is of the same sort,
// escaped or not, and that is what is judged by.
func (f *finder) usualEscapes(begin, end, from, to int) bool {
	from, to = max(from, begin), min(to, end)
	for from > begin && f.src[from-1] == '\\' {
		from-- // not to begin within an escape
	}
	for at := f.marks.Next(from, to); at < to; at = f.marks.Next(at, to) {
		if f.src[at] == '\'' {
			at++
			continue
		}
		if at+1 == len(f.src) || strings.IndexByte(`\"'nrt`, f.src[at+1]) < 0 {
			return false
		}
		at += 2
	}
	return true
}
