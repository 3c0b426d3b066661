package check

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Result of a check.
type Result string

// The results.
const (
	Pass Result = "pass"
	Warn Result = "warn"
	Fail Result = "fail"
)

// Check is one judgement. Its result is about what is new: what the site's source has too is in InSource.
type Check struct {
	Name     string    `json:"name"`
	Group    Group     `json:"group,omitempty"`
	Result   Result    `json:"result" enum:"pass,warn,fail"`
	Sentence string    `json:"sentence"`
	Evidence []string  `json:"evidence,omitempty"`
	Remedy   string    `json:"remedy,omitempty"`
	How      string    `json:"how,omitempty"` // it was found out
	InSource *InSource `json:"in_source,omitempty"`
	// Found names what was found that is new, without the site's address: what later checks are compared with.
	Found []string `json:"found,omitempty"`
}

// InSource is what a check found that the site's source has too.
type InSource struct {
	Result   Result   `json:"result" enum:"warn,fail"` // what the check would have been, had it been new
	Count    int      `json:"count"`
	Evidence []string `json:"evidence"`
	Found    []string `json:"found"`
}

// Report is what all checks of a site found.
type Report struct {
	Address    string    `json:"address"`
	At         time.Time `json:"at"`
	TookMillis int64     `json:"took_ms"`
	LiveMillis int64     `json:"live_ms,omitempty"` // after which the home page had answered
	Pages      int       `json:"pages"`
	Requests   int       `json:"requests"`
	Opened     []string  `json:"opened,omitempty"` // the paths of what answered, below the address, where pages were not dealt out
	// Templates tells which pages look alike, by their paths below the address.
	Templates map[string]string `json:"templates,omitempty"`
	// Waiting is how many pages were not opened, as some of the same template were.
	Waiting int    `json:"waiting,omitempty"`
	Like    string `json:"like,omitempty"`     // the site of the same code whose pages were all opened, where of this one some were
	LoginAt string `json:"login_at,omitempty"` // where people log in, when the site has moved it
	// CertificateEnds is when its certificate does, where browsers accept it.
	CertificateEnds *time.Time `json:"certificate_ends,omitempty"`
	Checks          []Check    `json:"checks"`
	// Searched are the files of the site in which nothing was found; nil for a source.
	Searched *Searched `json:"-"`
	// SearchedAll says that none was passed over.
	SearchedAll bool `json:"-"`
}

// Faults counts the checks that failed, by what is new.
func (r *Report) Faults() int { return r.count(func(c *Check) bool { return c.Result == Fail }) }

// Warnings counts the checks that warn.
func (r *Report) Warnings() int { return r.count(func(c *Check) bool { return c.Result == Warn }) }

func (r *Report) count(is func(*Check) bool) (n int) {
	for i := range r.Checks {
		if is(&r.Checks[i]) {
			n++
		}
	}
	return n
}

// sort puts the checks in the order in which people ask.
func (r *Report) sort() {
	for i := range r.Checks {
		if f := factNamed(r.Checks[i].Name); f >= 0 {
			r.Checks[i].Group, r.Checks[i].How = facts[f].group, facts[f].how
		}
	}
	slices.SortStableFunc(r.Checks, func(a, b Check) int { return factNamed(a.Name) - factNamed(b.Name) })
}

// found returns everything that a check found.
func (c *Check) found() []string {
	if c.InSource == nil {
		return c.Found
	}
	return slices.Concat(c.Found, c.InSource.Found)
}

// Since returns the checks of a report that failed, by something that an earlier report of the site does not have. All that failed are new
// where there is none.
func (r *Report) Since(before *Report) (fresh []Check) {
	for _, c := range r.Checks {
		if c.Result != Fail {
			continue
		}
		had := func(was Check) bool {
			return was.Name == c.Name && len(c.Found) < mostFound &&
				!slices.ContainsFunc(c.Found, func(f string) bool { return !slices.Contains(was.found(), f) })
		}
		if before == nil || slices.Contains(neverExcused, c.Name) || !slices.ContainsFunc(before.Checks, had) {
			fresh = append(fresh, c)
		}
	}
	return fresh
}

// Baseline is what was found on the source of a site.
type Baseline struct {
	found  map[string][]string // by the name of the check
	opened []string
}

// Baseline returns what a report of a source found, for the checks of sites that are made from it: nil where its home page did not
// open, as that would excuse whatever is found.
func (r *Report) Baseline() *Baseline {
	if r == nil || r.Pages == 0 {
		return nil
	}
	b := &Baseline{map[string][]string{}, r.Opened}
	for i := range r.Checks {
		c := &r.Checks[i]
		if c.Name == pagesOpen && slices.ContainsFunc(c.found(), func(f string) bool { return strings.HasPrefix(f, "/ ") }) {
			return nil
		}
		if c.Name != privateFiles && !slices.Contains(neverExcused, c.Name) {
			b.found[c.Name] = c.found()
		}
	}
	return b
}

// has reports whether a check found the same on the source.
func (b *Baseline) has(check, found string) bool {
	return b != nil && slices.Contains(b.found[check], found)
}

// baseline returns what is known of the source. It is asked for when the first thing is found.
func (r *runner) baseline() *Baseline {
	if r.ofSource == nil {
		return nil
	}
	return r.ofSource()
}

// finding is one thing that a check found: a key that is the same wherever the site is, and what people read.
type finding struct{ key, text string }

const (
	evidenceLines = 8
	mostFound     = 1000   // that are kept for comparisons
	mostKept      = 10_000 // of what one check finds
)

// judge records a check by what it found. Its sentence is for when it found nothing; wrong says what is wrong, before the number of
// findings, and bad is its result.
func (r *runner) judge(c Check, bad Result, wrong string, found []finding) {
	if len(found) == 0 {
		c.Result, c.Remedy = Pass, ""
		r.keep(c)
		return
	}
	var fresh, known []string
	source := &InSource{Result: bad}
	for _, f := range found {
		list, keys := &fresh, &c.Found
		if r.baseline().has(c.Name, f.key) || (c.Name == pagesOpen || c.Name == images) && r.alsoInSource[c.Name+" "+f.key] {
			list, keys = &known, &source.Found
		}
		*list = append(*list, f.text)
		if len(*keys) < mostFound {
			*keys = append(*keys, f.key)
		}
	}
	c.Evidence, source.Evidence, source.Count = short(fresh), short(known), len(known)
	c.Result, c.Sentence = bad, fmt.Sprintf("%s (%d)", wrong, len(fresh))
	if len(known) > 0 {
		c.InSource = source
		c.Sentence += fmt.Sprintf("; %d more are the same in the source", len(known))
	}
	if len(fresh) == 0 {
		c.Result, c.Remedy, c.Sentence = Pass, "", fmt.Sprintf("nothing new: %s (%d), the same in the source", wrong, len(known))
	}
	r.keep(c)
}

func (r *runner) keep(c Check) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.report.Checks = append(r.report.Checks, c)
}

// record records a check whose sentence says all that it found.
func (r *runner) record(c Check) {
	if c.Result != Pass {
		c.Found = []string{c.Name}
		if r.baseline().has(c.Name, c.Name) {
			c.InSource = &InSource{Result: c.Result, Count: 1, Evidence: short(c.Evidence), Found: c.Found}
			c.Result, c.Remedy, c.Evidence, c.Found = Pass, "", nil, nil
			c.Sentence = fmt.Sprintf("nothing new: %s; it is the same in the source", c.Sentence)
		}
	}
	c.Evidence = short(c.Evidence)
	r.keep(c)
}

func short(evidence []string) []string {
	if len(evidence) > evidenceLines {
		return append(evidence[:evidenceLines:evidenceLines], fmt.Sprintf("and %d more", len(evidence)-evidenceLines))
	}
	return evidence
}
