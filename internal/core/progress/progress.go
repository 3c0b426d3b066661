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
// The package never estimates: rates and times left are the listener's business.
package progress

import "sync"

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
