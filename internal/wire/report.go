package wire

import (
	"slices"
	"time"
)

// Report is what all checks of a site found.
type Report struct {
	Address         string            `json:"address"`
	At              time.Time         `json:"at"`
	TookMillis      int64             `json:"took_ms"`
	Pages           int               `json:"pages"`
	Requests        int               `json:"requests"`
	LiveMillis      int64             `json:"live_ms,omitempty" doc:"after which the home page had answered"`
	Opened          []string          `json:"opened,omitempty" doc:"the paths of what answered, below the address, where pages were not dealt out"`
	Templates       map[string]string `json:"templates,omitempty" doc:"which pages look alike, by their paths below the address: the same value for the same template"`
	Waiting         int               `json:"waiting,omitempty" doc:"how many pages were not opened, as some of the same template were"`
	Like            string            `json:"like,omitempty" doc:"the site of the same code whose pages were all opened, where of this one some were"`
	LoginAt         string            `json:"login_at,omitempty"` // where people log in, when the site has moved it
	CertificateEnds *time.Time        `json:"certificate_ends,omitempty" doc:"when its certificate does, where browsers accept it"`
	Checks          []Check           `json:"checks"`
}

// Check is what one check found.
type Check struct {
	Name     string    `json:"name"`
	Group    Question  `json:"group,omitempty" enum:"up,own,old,public,mail,details" doc:"the question that it answers"`
	Result   Result    `json:"result" enum:"pass,warn,fail" doc:"of what is new: what the source of the site has too is in in_source"`
	Sentence string    `json:"sentence" format:"sentence"`
	Evidence []string  `json:"evidence,omitempty" format:"sentence"`
	Remedy   string    `json:"remedy,omitempty" format:"sentence"`
	How      string    `json:"how,omitempty" format:"sentence" doc:"it was found out"`
	InSource *InSource `json:"in_source,omitempty" doc:"what was found that the source of the site has too"`
	Found    []string  `json:"found,omitempty" doc:"names of what was found that is new, without the address of the site"`
}

// Question is what people ask of a site.
type Question string

// InSource is what a check found that the source of the site has too.
type InSource struct {
	Result   Result   `json:"result" enum:"warn,fail"`
	Count    int      `json:"count"`
	Evidence []string `json:"evidence" format:"sentence"`
	Found    []string `json:"found" doc:"names of it, without the address of the site"`
}

// Result of a check.
type Result string

// What a check may find.
const (
	Pass Result = "pass"
	Warn Result = "warn" // works, and somebody should look at it
	Fail Result = "fail"
)

// StepTime is how long a step took. Files and rows are placed side by side.
type StepTime struct {
	Name   string `json:"name"`
	Millis int64  `json:"ms"`
}

// Refreshed is what a refresh changes.
type Refreshed struct {
	From       string       `json:"from,omitempty"`
	Version    string       `json:"version"`     // of the CMS, on the site
	NewVersion string       `json:"new_version"` // in the release
	Units      []UnitChange `json:"units"`       // parts of the code that differ
	Stays      []string     `json:"stays,omitempty"`
	Edited     []string     `json:"edited,omitempty"` // files that somebody changed on the site, and that are replaced
	Content    int64        `json:"content"`          // files that stay
}

// Faults counts the checks that failed by something new.
func (r *Report) Faults() int { return r.Open(false) }

// Open counts the checks that failed by something new that is not accepted, or, when strict, by anything.
func (r *Report) Open(strict bool, accepted ...Acceptance) (n int) {
	for _, c := range r.Checks {
		known := slices.ContainsFunc(accepted, func(a Acceptance) bool { return a.What == c.Name })
		if c.Result == Fail && (strict || !known) || strict && c.InSource != nil && c.InSource.Result == Fail {
			n++
		}
	}
	return n
}
