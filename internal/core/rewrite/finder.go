package rewrite

// finder goes through a text of less than 2 GiB once for each needle, however many hits there are.
type finder struct {
	needles []needle
	src     []byte
	at      [maxNeedles]int32 // where each needle is found next; len(src) when nowhere

	first, which int // what raw said last; first is -1 before that

	behind int  // above 0 in text that stands in an SQL literal: how far escapes behind a needle matter
	unsure bool // there were escapes around a needle by which it cannot be judged
}

// maxNeedles is enough for four addresses and four folders.
const maxNeedles = 2*4 + 4*len(styles{})

func newFinder(needles []needle, src []byte) finder {
	f := finder{needles: needles, src: src, first: -1}
	missing := false
	for i := range needles {
		n := &needles[i]
		if n.first {
			missing = !n.alone && n.key.index(src, 0) < 0
		}
		if f.at[i] = -1; missing {
			f.at[i] = int32(len(src))
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
		if int(f.at[i]) < from {
			next := f.needles[i].index(f.src, from)
			if next < 0 {
				next = len(f.src)
			}
			f.at[i] = int32(next)
		}
		if int(f.at[i]) < f.first {
			f.first, f.which = int(f.at[i]), i
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
		if f.behind > 0 && !usual(f.src[begin:to], at-begin-before, at-begin+len(n.text)+f.behind) {
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
