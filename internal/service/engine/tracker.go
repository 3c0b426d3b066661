package engine

import (
	"context"
	"sync"
	"time"

	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
)

// tracker is a progress.Reporter that keeps a run's progress in the records, a few times a second.
type tracker struct {
	db   store
	ctx  context.Context // of the attempt that the run is in
	run  Run
	wake chan struct{}
	done chan struct{}
	end  sync.WaitGroup

	mu      sync.Mutex
	p       records.Progress
	started time.Time
	notes   []string
	marks   []mark // of the last seconds, for the rate
	// The stage that the work is in: which share of the whole, and what was done and expected before it.
	from, to                   float64
	doneBefore, expectedBefore progress.Amount
}

type mark struct {
	at       time.Time
	done     progress.Amount
	fraction float64
}

const (
	saveEvery  = 250 * time.Millisecond
	saveWithin = 5 * time.Second
	rateWindow = 4 * time.Second
	// steadyAfter is how long work must have gone on before its rate says anything about its end.
	steadyAfter = 800 * time.Millisecond
)

// newTracker keeps the progress of a run. One that was aside goes on where it was.
func newTracker(ctx context.Context, db store, run Run) *tracker {
	t := &tracker{to: 1, db: db, ctx: context.WithoutCancel(ctx), run: run, p: run.Progress, done: make(chan struct{}),
		wake: make(chan struct{}, 1), started: time.Now()}
	t.p.Children = nil
	t.end.Go(t.save)
	return t
}

// Step implements progress.Reporter.
func (t *tracker) Step(name string, expected progress.Amount) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.endStep()
	t.p.Step = name
	t.p.Steps = append(t.p.Steps, records.StepTime{Name: name, At: time.Now().UTC()})
	t.p.Expected = t.p.Expected.Plus(expected)
	select {
	case t.wake <- struct{}{}:
	default:
	}
}

func (t *tracker) endStep() {
	if n := len(t.p.Steps); n > 0 && t.p.Steps[n-1].Millis == 0 {
		t.p.Steps[n-1].Millis = max(1, time.Since(t.p.Steps[n-1].At).Milliseconds())
	}
}

// Add implements progress.Reporter.
func (t *tracker) Add(done progress.Amount) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.p.Done = t.p.Done.Plus(done)
}

// Note implements progress.Reporter.
func (t *tracker) Note(sentence string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.notes = append(t.notes, sentence)
}

func (t *tracker) save() {
	tick := time.NewTicker(saveEvery)
	defer tick.Stop()
	for {
		select {
		case <-t.done:
			return
		case <-tick.C:
		case <-t.wake:
		}
		// A failed save is made good by the next one; the last is made by close.
		t.write()
	}
}

func (t *tracker) write() {
	ctx, cancel := context.WithTimeout(t.ctx, saveWithin)
	defer cancel()
	t.mu.Lock()
	t.estimate(time.Now())
	p, notes := t.p, t.notes
	p.Steps = append([]records.StepTime{}, t.p.Steps...)
	t.notes = nil
	t.mu.Unlock()
	for i, n := range notes {
		if err := t.db.AddLog(ctx, t.run.ID, n); err != nil {
			t.mu.Lock()
			t.notes = append(notes[i:len(notes):len(notes)], t.notes...) // for the next time
			t.mu.Unlock()
			return
		}
	}
	t.db.SetProgress(ctx, t.run.ID, p)
	if t.run.ParentID != nil {
		t.db.SetProgressOfParent(ctx, *t.run.ParentID)
	}
}

// Stage implements progress.Stage: amounts count from here on for a share of the whole.
func (t *tracker) Stage(from, to float64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.from, t.to = from, to
	t.doneBefore, t.expectedBefore = t.p.Done, t.p.Expected
}

// estimate works out fraction, rate and time left from what was really done in the last seconds. The
// fraction stays below one while work goes on: what was expected is an estimate too.
func (t *tracker) estimate(now time.Time) {
	share := t.p.Done.Minus(t.doneBefore).Share(t.p.Expected.Minus(t.expectedBefore))
	t.p.Fraction = min(0.99, max(t.p.Fraction, t.from+share*(t.to-t.from)))
	t.marks = append(t.marks, mark{now, t.p.Done, t.p.Fraction})
	for len(t.marks) > 2 && now.Sub(t.marks[0].at) > rateWindow {
		t.marks = t.marks[1:]
	}
	t.p.LeftSecs = 0
	span := now.Sub(t.marks[0].at).Seconds()
	if span <= 0 {
		return
	}
	t.p.BytesRate = float64(t.p.Done.Bytes-t.marks[0].done.Bytes) / span
	if rate := (t.p.Fraction - t.marks[0].fraction) / span; rate > 0 && span >= steadyAfter.Seconds() {
		t.p.LeftSecs = (1 - t.p.Fraction) / rate
	}
}

// close saves the end and returns it.
func (t *tracker) close() records.Progress {
	close(t.done)
	t.end.Wait()
	t.mu.Lock()
	t.endStep()
	t.p.LeftSecs = 0
	t.mu.Unlock()
	t.write()
	return t.p
}
