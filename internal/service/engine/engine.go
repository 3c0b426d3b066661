// Package engine does background work: each run is a row in the records and a job in River's queue.
//
// A Job is a kind of work with its arguments and its result. Start records a run and queues it; a worker of any copy of the
// service takes it, holds the lease of its target while it works, so that one run works on a target at a time, and keeps
// its progress in the records, from where it reaches every copy by LISTEN/NOTIFY.
//
//	e, err := engine.New(db, log, engine.Options{})
//	engine.Add(e, engine.Job[SurveyArgs, SurveyResult]{Name: "survey", Do: survey})
//	err = e.Begin(ctx)
//	run, err := e.Start(ctx, engine.Run{Job: "survey", Title: "Survey base", Target: engine.Target("source", "base")}, SurveyArgs{1})
//
// What an instance of the service believes about the world is never older than the world. The rules:
//
// - A claim ends by itself. An instance is a row that it renews every two seconds and that expires after ten, by the clock of the
// records' server alone. What it holds, the leases of targets and the runs that it works on, ends with that row. An instance that could
// not renew
//
//	stops what it does two seconds before, by its monotonic clock.
//
// - A claim is not taken back. A run that begins has another attempt number, a lease that is taken another epoch. What an older one
// writes to
//
//	the records is refused (see records.WithAttempt).
//
// - Ask before you destroy. Right before each act that removes something from a host, the records are asked whether the attempt still
// counts
//
//	  (Still). As the answer can be late, names on hosts are used once and carry the attempt, and folders are removed by their identity.
//	- Who lost its claim does not clean up. Whoever takes the run over does, from the journal, which is written before each act.
//
// - A run that waits for runs that it has started holds neither a worker nor a lease: it is put aside, and goes on when the last of them
// ends
//
//	(Aside). It finds them by what they are for and not by memory.
//
// An interrupted run is given to its job's Recover, which takes back what was half made; then it is put back or ended, a bounded number of
// times. Until that has worked its target stays its own. So does that of a run that could not be cleaned up, as while a database server
// does not answer. A takeover takes at most fifteen seconds, whatever died: ten until the row expires, two until somebody looks, and the
// rest to begin.
//
// Work that must not stop halfway commits its run first: then nobody can cancel it any more. The package knows no noun.
package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"reflect"
	"sync"

	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
)

// Run is background work as the records keep it.
type Run = records.Run

// Job is a kind of work.
type Job[Args, Result any] struct {
	Name string
	// Do does the work and returns its result.
	Do func(ctx context.Context, run Run, args Args, report progress.Reporter) (Result, error)
	// Recover takes back what an interrupted run had half made, and says what becomes of the run. It may be called more
	// than once. Without it a run begins again, or goes on where it was committed.
	Recover func(ctx context.Context, run Run, args Args) (Outcome, error)
	// Leaves says what there is after it was cancelled; "" says that what it had made was taken back.
	Leaves string
}

// Outcome is what becomes of an interrupted run.
type Outcome int

// The outcomes.
const (
	Again     Outcome = iota // nothing is left of it; it is done from the beginning
	Onward                   // what it has begun must be ended; it goes on
	TakenBack                // nothing is left of it; it has failed
	Finished                 // what matters was done before it was interrupted
)

// Errors that jobs and their callers decide on.
var (
	// ErrCancelled is the cause of a run's end when somebody cancelled it.
	ErrCancelled = errors.New("cancelled")
	// ErrCleanup says that what a run had made could not be taken back. It is tried again until it can be.
	ErrCleanup = errors.New("what was made could not be taken back")
	// ErrUnfinished says that a run which was committed could not end what it has begun. It is tried again until it can be.
	ErrUnfinished = errors.New("what was begun could not be finished")
	// ErrBusy says that something is being worked on.
	ErrBusy = errors.New("is being worked on")

	errEnding = errors.New("the service is stopping")
	errLost   = errors.New("the records' PostgreSQL did not answer in time")
)

// Aside is what a job returns, as its error, when it waits for runs that it has started: its result so far is kept, and it is called
// again when the last of them has ended.
type Aside struct {
	First    int64   // the first run that it waits for
	From, To float64 // which share of its progress they are
}

func (a *Aside) Error() string { return "the run waits for others" }

// Target names what a run works on.
func Target(noun, name string) string { return noun + ":" + url.PathEscape(name) }

// job is a Job without its types.
type job struct {
	args    reflect.Type
	do      func(ctx context.Context, run Run, report progress.Reporter) (any, error)
	recover func(ctx context.Context, run Run) (Outcome, error)
	leaves  string
}

// Add makes a job known. It must be called before Begin.
func Add[Args, Result any](e *Engine, j Job[Args, Result]) {
	read := func(run Run) (args Args, err error) {
		if err = json.Unmarshal(run.Args, &args); err != nil {
			err = fmt.Errorf("arguments of run %d: %w", run.ID, err)
		}
		return args, err
	}
	e.jobs[j.Name] = job{
		args:   reflect.TypeFor[Args](),
		leaves: cmp.Or(j.Leaves, "what it had made was taken back"),
		do: func(ctx context.Context, run Run, report progress.Reporter) (any, error) {
			args, err := read(run)
			if err != nil {
				return nil, err
			}
			return j.Do(ctx, run, args, report)
		},
		recover: func(ctx context.Context, run Run) (Outcome, error) {
			args, err := read(run)
			if err != nil {
				return TakenBack, err
			}
			if j.Recover != nil {
				return j.Recover(ctx, run, args)
			}
			if run.Committed {
				return Onward, nil
			}
			return Again, nil
		},
	}
}

// Options of an engine.
type Options struct {
	// Alone says that no other copy of the service uses the same records, so that what works for nobody was left by an
	// earlier one.
	Alone bool
	// Interrupted takes away what any interrupted run may have left of its own, before its job recovers it; nil for nothing.
	Interrupted func(runID int64) error
	// Workers is how many runs are done at a time; 0 means DefaultWorkers.
	Workers int
}

// DefaultWorkers is how many runs one copy of the service does at a time.
const DefaultWorkers = 4

// Engine starts and does runs.
type Engine struct {
	db      store
	log     *slog.Logger
	options Options
	jobs    map[string]job
	line    queue // of runs that wait
	hearing line
	ctx     context.Context // ends with the engine
	stop    context.CancelFunc

	instance *instance
	turns    turns

	mu        sync.Mutex
	cancels   map[int64]context.CancelCauseFunc
	listeners map[chan int64]bool
	mine      map[int64]bool // runs that are worked on or recovered, from before their claim on
	ending    bool
	wg        sync.WaitGroup
}

// New prepares an engine.
func New(db *records.DB, log *slog.Logger, o Options) (*Engine, error) {
	config := db.Pool.Config().ConnConfig
	e := assemble(db, &pgLine{config: config.Copy()}, &pgLine{config: config.Copy()}, log, o)
	var err error
	e.line, err = newRiver(db, e.options.Workers, e.work)
	return e, err
}

// assemble makes an engine of its parts, but for the queue.
func assemble(db store, renewing, hearing line, log *slog.Logger, o Options) *Engine {
	o.Workers = cmp.Or(o.Workers, DefaultWorkers)
	e := &Engine{db: db, log: log, options: o, hearing: hearing, jobs: map[string]job{}, cancels: map[int64]context.CancelCauseFunc{},
		listeners: map[chan int64]bool{}, mine: map[int64]bool{}}
	e.ctx, e.stop = context.WithCancel(context.Background())
	e.instance = &instance{line: renewing, beating: make(chan struct{}, 1), log: log, released: e.releaseLease}
	return e
}

// Begin starts working. What an earlier service left is recovered meanwhile.
func (e *Engine) Begin(ctx context.Context) error {
	if err := e.instance.join(ctx, e.options.Alone); err != nil {
		return err
	}
	e.wg.Go(func() { e.instance.keep(e.ctx) })
	e.wg.Go(func() { e.listen(e.ctx) })
	e.wg.Go(e.watch)
	return e.line.Start(e.ctx)
}

// Instance is the number of this running copy of the service, 0 while it has none.
func (e *Engine) Instance() int64 {
	id, _, err := e.instance.now()
	if err != nil {
		return 0
	}
	return id
}

// Ready is nil while the records answer the renewal of the leases, which has a connection of its own.
func (e *Engine) Ready() error { return e.instance.ready() }

// End stops all work: what can begin again is taken back and put back in line, and what is committed goes on until ctx ends. What has not
// ended then is left for whoever takes it over.
func (e *Engine) End(ctx context.Context) error {
	e.mu.Lock()
	e.ending = true
	for _, c := range e.cancels {
		c(errEnding)
	}
	e.mu.Unlock()
	err := e.line.Stop(ctx)
	e.stop()
	ended := make(chan struct{})
	go func() {
		e.wg.Wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-ctx.Done():
	}
	e.instance.leave()
	return err
}

// Start records a run and queues it. args must be of the type that the job takes.
func (e *Engine) Start(ctx context.Context, run Run, args any) (Run, error) {
	j, known := e.jobs[run.Job]
	if !known {
		return run, fmt.Errorf("there is no job %q", run.Job)
	}
	if t := reflect.TypeOf(args); t != j.args {
		return run, fmt.Errorf("job %s takes %v and was given %v", run.Job, j.args, t)
	}
	text, err := json.Marshal(args)
	if err != nil {
		return run, err
	}
	run.Args = text
	return e.Repeat(ctx, run)
}

// Repeat records a run with arguments that a run of the same job had, and queues it. A run that its parent has started before is returned
// as it is.
func (e *Engine) Repeat(ctx context.Context, run Run) (_ Run, err error) {
	err = e.db.Tx(ctx, func(ctx context.Context) (err error) {
		var isNew bool
		if run.ID, isNew, err = e.db.AddRun(ctx, run); err != nil || !isNew {
			return err
		}
		return e.queue(ctx, run)
	})
	if err != nil {
		return run, err
	}
	return e.db.Run(ctx, run.ID)
}

// Runs that somebody asked for are begun before those that a run has started.
const (
	asked    = 1
	children = 2
)

// queue puts a run in line.
func (e *Engine) queue(ctx context.Context, run records.Run) error {
	if run.ParentID != nil {
		return e.line.Insert(ctx, run.ID, children)
	}
	return e.line.Insert(ctx, run.ID, asked)
}

// StartDue starts a run that nobody asks for, when it is due and no run of its job waits or works: of several copies of the
// service that look at once, one starts it.
func (e *Engine) StartDue(ctx context.Context, run Run, args any, due func(ctx context.Context) (bool, error)) error {
	ctx, release, err := e.take(ctx, Target("schedule", run.Job))
	if errors.Is(err, records.ErrHeld) {
		return nil
	}
	if err != nil {
		return err
	}
	defer release()
	if open, err := e.db.RunOpen(ctx, run.Job); err != nil || open {
		return err
	}
	if is, err := due(ctx); err != nil || !is {
		return err
	}
	_, err = e.Start(ctx, run, args)
	return err
}

// Still is nil while what a context was given for still counts: it is asked right before something is removed from a host.
func (e *Engine) Still(ctx context.Context) error { return e.db.Claimed(ctx) }

// Commit takes a run past the point where it can be cancelled: what it made is kept from here on, or what it has begun is
// ended. The context it returns goes on also when the service ends. Errors: ErrCancelled.
func (e *Engine) Commit(ctx context.Context, run Run) (context.Context, error) {
	ctx = context.WithoutCancel(ctx)
	if ok, err := e.db.CommitRun(ctx, run.ID); err != nil || !ok {
		return ctx, cmp.Or(err, ErrCancelled)
	}
	return ctx, nil
}

// Cancel ends a run that waits, and asks one that works to end. Errors: records.ErrNotFound, also of one that is over or
// past the point where it can be cancelled.
func (e *Engine) Cancel(ctx context.Context, id int64) error { return e.db.AskCancel(ctx, id) }
