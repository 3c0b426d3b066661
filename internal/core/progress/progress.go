// Package progress is how the core says what it is doing, without knowing who listens.
//
// Work is a sequence of named steps. A step announces what it expects to do as an
// Amount, then adds what it has done as it goes. A listener (the service, a test, a
// terminal) implements Reporter; the zero listener is Discard.
//
//	r.Step("Place files", progress.Amount{Files: 8890, Bytes: 722 << 20})
//	r.Add(progress.Amount{Files: 1, Bytes: 4096})
//	r.Note("uploads/a.jpg changed while it was read; it was read again")
//
// The package never estimates: rates and times left are the listener's business. Where a part of the work has no amounts that
// the rest could be compared with, as the checks of a site that was placed, work says which share of the whole it is:
//
//	progress.Stage(r, 0, 0.7)                    // what follows takes about seven tenths
//	checks := progress.Within(r, 0.7, 1)         // whoever gets this reports the rest
package progress

import (
	"fmt"
	"sync"
)

// Amount counts work: files, bytes of content, and database rows.
type Amount struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"`
	Rows  int64 `json:"rows"`
}

// Plus returns the sum of two amounts.
func (a Amount) Plus(b Amount) Amount {
	return Amount{a.Files + b.Files, a.Bytes + b.Bytes, a.Rows + b.Rows}
}

// Reporter is told what happens. Its methods may be called from several goroutines at once.
type Reporter interface {
	// Step begins a step. Steps may overlap; Add counts towards the run as a whole.
	Step(name string, expected Amount)
	// Add says that some more of the work is done.
	Add(done Amount)
	// Note leaves a sentence in the log of the run.
	Note(sentence string)
}

// stager is a Reporter that can be told which share of the whole follows.
type stager interface{ Stage(from, to float64) }

// Stage says that what is reported from here on, until the next stage, is the work from one share of the whole (0 to 1) to
// another.
func Stage(r Reporter, from, to float64) {
	if s, ok := r.(stager); ok {
		s.Stage(from, to)
	}
}

// Within returns a Reporter for a part of the work, whose stages are shares of that part. It begins the part.
func Within(r Reporter, from, to float64) Reporter {
	Stage(r, from, to)
	return &within{r, from, to}
}

type within struct {
	Reporter
	from, to float64
}

func (w *within) Stage(from, to float64) {
	Stage(w.Reporter, w.from+from*(w.to-w.from), w.from+to*(w.to-w.from))
}

// Share returns how much of an expected amount is done, 0 to 1, by what there is most of work in: bytes, else files, else rows.
func (a Amount) Share(expected Amount) float64 {
	for _, c := range [][2]int64{{a.Bytes, expected.Bytes}, {a.Files, expected.Files}, {a.Rows, expected.Rows}} {
		if c[1] > 0 {
			return min(1, max(0, float64(c[0])/float64(c[1])))
		}
	}
	return 0
}

// Minus returns the difference of two amounts.
func (a Amount) Minus(b Amount) Amount {
	return Amount{a.Files - b.Files, a.Bytes - b.Bytes, a.Rows - b.Rows}
}

// Discard listens to nothing.
var Discard Reporter = discard{}

type discard struct{}

func (discard) Step(string, Amount) {}
func (discard) Add(Amount)          {}
func (discard) Note(string)         {}

// Tally is a Reporter that keeps the sums and the notes, for tests and for short work.
type Tally struct {
	mu       sync.Mutex
	Steps    []string
	Notes    []string
	Done     Amount
	Expected Amount
}

// Step implements Reporter.
func (t *Tally) Step(name string, expected Amount) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.Steps = append(t.Steps, name)
	t.Expected = t.Expected.Plus(expected)
}

// Add implements Reporter.
func (t *Tally) Add(done Amount) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.Done = t.Done.Plus(done)
}

// Note implements Reporter.
func (t *Tally) Note(sentence string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.Notes = append(t.Notes, sentence)
}

// SizeText writes bytes for a sentence: 30.0 MB.
func SizeText(n int64) string {
	if n < 1000 {
		return fmt.Sprintf("%d bytes", n)
	}
	v := float64(n)
	for _, unit := range []string{"kB", "MB", "GB"} {
		if v /= 1000; v < 999.95 {
			return fmt.Sprintf("%.1f %s", v, unit)
		}
	}
	return fmt.Sprintf("%.1f TB", v/1000)
}
