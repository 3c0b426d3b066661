package wire

import "time"

// Report is what all checks of a site found.
type Report struct {
	Address         string     `json:"address"`
	At              time.Time  `json:"at"`
	TookMillis      int64      `json:"took_ms"`
	Pages           int        `json:"pages"`
	Requests        int        `json:"requests"`
	Opened          []string   `json:"opened,omitempty" doc:"the paths of what answered, below the address, where all pages were opened"`
	Like            string     `json:"like,omitempty" doc:"the site of the same code whose pages were all opened, where of this one some were"`
	LoginAt         string     `json:"login_at,omitempty"` // where people log in, when the site has moved it
	CertificateEnds *time.Time `json:"certificate_ends,omitempty" doc:"when its certificate does, where browsers accept it"`
	Checks          []Check    `json:"checks"`
}

// Check is what one check found.
type Check struct {
	Name     string   `json:"name"`
	Result   Result   `json:"result" enum:"pass,warn,fail"`
	Sentence string   `json:"sentence" format:"sentence"`
	Evidence []string `json:"evidence,omitempty" format:"sentence"`
	Remedy   string   `json:"remedy,omitempty" format:"sentence"`
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

// Faults counts the checks that failed.
func (r *Report) Faults() int { return r.count(Fail) }

// Warnings counts those that warn.
func (r *Report) Warnings() int { return r.count(Warn) }

func (r *Report) count(v Result) (n int) {
	for _, c := range r.Checks {
		if c.Result == v {
			n++
		}
	}
	return n
}
