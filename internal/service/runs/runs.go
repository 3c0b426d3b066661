// Package runs does background work: each run is a row in the records and a job in River's queue.
//
// A Sort of run is a function. Start records a run and queues it; a worker of any copy of the service
// takes it, holds two advisory locks while it works (one on its target, so that one run works on a
// target at a time; one on itself, so that others can tell it is alive), and keeps its progress in the
// records, from where it reaches every copy by LISTEN/NOTIFY.
//
// A run whose process was killed has lost its locks. Whoever notices (at start, and every minute) gives
// it to its Sort's Recover, which takes back what was half made; then it is put back or ended. Until that
// has worked its target stays its own. So does that of a run whose taking back was hindered, as by a
// database server that does not answer.
//
// Work that must not stop halfway commits its run first: then nobody can cancel it any more.
package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
)

// Sort is a sort of run.
type Sort struct {
	// Do does the work and returns its result.
	Do func(ctx context.Context, run records.Run, report progress.Reporter) (result any, err error)
	// Recover takes back what an interrupted run had half made, and says what becomes of the run. It may be
	// called more than once.
	Recover func(ctx context.Context, run records.Run) (Outcome, error)
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

// Runner starts and does runs.
type Runner struct {
	db     *records.DB
	log    *slog.Logger
	sorts  map[string]Sort
	river  *river.Client[pgx.Tx]
	stop   context.CancelFunc
	ending chan struct{} // closed when the service ends, so that runs are put back

	mu        sync.Mutex
	cancels   map[int64]context.CancelCauseFunc
	listeners map[chan int64]bool
	wg        sync.WaitGroup
}

// ErrCancelled is the cause of a run's end when somebody cancelled it.
var ErrCancelled = errors.New("cancelled")

var errEnding = errors.New("the service is stopping")

// job is what River's queue holds.
type job struct {
	RunID int64 `json:"run_id"`
}

func (job) Kind() string { return "run" }

type worker struct {
	river.WorkerDefaults[job]
	r *Runner
}

func (w *worker) Timeout(*river.Job[job]) time.Duration { return -1 }

func (w *worker) Work(ctx context.Context, j *river.Job[job]) error {
	return w.r.work(ctx, j.Args.RunID)
}

// Workers is how many runs one copy of the service does at a time.
const Workers = 4

// New prepares a runner for the sorts of runs there are.
func New(db *records.DB, log *slog.Logger, sorts map[string]Sort) (*Runner, error) {
	r := &Runner{db: db, log: log, sorts: sorts, ending: make(chan struct{}), cancels: map[int64]context.CancelCauseFunc{}, listeners: map[chan int64]bool{}}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{r: r})
	client, err := river.NewClient(riverpgxv5.New(db.Pool), &river.Config{
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: Workers}},
		Workers:           workers,
		Logger:            slog.New(slog.DiscardHandler),
		FetchCooldown:     20 * time.Millisecond,
		FetchPollInterval: 500 * time.Millisecond,
		MaxAttempts:       1,
	})
	r.river = client
	return r, err
}

// Begin recovers what an earlier service left and starts working.
func (r *Runner) Begin(ctx context.Context) error {
	ctx, r.stop = context.WithCancel(context.WithoutCancel(ctx))
	if err := r.recover(ctx, true); err != nil {
		return err
	}
	r.wg.Go(func() { r.listen(ctx) })
	r.wg.Go(func() {
		tick := time.NewTicker(time.Minute)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				if err := r.recover(ctx, false); err != nil && ctx.Err() == nil {
					r.log.Error("look for interrupted runs", "error", err)
				}
			case <-ctx.Done():
				return
			}
		}
	})
	return r.river.Start(ctx)
}

// End stops taking runs and gives those that work the time of ctx to finish; then they are stopped,
// what they had half made is taken back, and they are put back in line.
func (r *Runner) End(ctx context.Context) error {
	soft, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	err := r.river.Stop(soft)
	if err != nil {
		close(r.ending)
		r.mu.Lock()
		for _, c := range r.cancels {
			c(errEnding)
		}
		r.mu.Unlock()
		err = r.river.Stop(ctx)
	}
	r.stop()
	r.wg.Wait()
	return err
}

// Start records a run and queues it.
func (r *Runner) Start(ctx context.Context, run records.Run, args any) (records.Run, error) {
	if _, ok := r.sorts[run.Sort]; !ok {
		return run, fmt.Errorf("no sort of run %q", run.Sort)
	}
	text, err := json.Marshal(args)
	if err != nil {
		return run, err
	}
	run.Args = text
	err = pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		if run.ID, err = r.db.AddRun(ctx, tx, run); err != nil {
			return err
		}
		_, err := r.river.InsertTx(ctx, tx, job{run.ID}, nil)
		return err
	})
	if err != nil {
		return run, err
	}
	return r.db.Run(ctx, run.ID)
}

// lock numbers: the first half says what is locked.
const (
	lockTarget = 0x74617267
	lockRun    = 0x72756e00
)

func targetKey(target string) int32 {
	h := fnv.New32a()
	h.Write([]byte(target))
	return int32(h.Sum32())
}

func tryLock(ctx context.Context, conn *pgxpool.Conn, class, key int32) (ok bool, err error) {
	err = conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1, $2)", class, key).Scan(&ok)
	return ok, err
}

// work does one run, if it is still waiting and its target is free.
func (r *Runner) work(ctx context.Context, id int64) error {
	run, err := r.db.Run(ctx, id)
	if err != nil {
		return err
	}
	if run.Status != records.Waiting {
		return nil
	}
	conn, err := r.db.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() {
		// Locks end with their session; closing it is the one way that cannot leave one behind.
		conn.Hijack().Close(context.WithoutCancel(ctx))
	}()
	if ok, err := tryLock(ctx, conn, lockTarget, targetKey(run.Target)); err != nil || !ok {
		if err == nil {
			return river.JobSnooze(time.Second)
		}
		return err
	}
	if taken, err := r.db.TargetTaken(ctx, run.Target, id); err != nil || taken {
		if err == nil {
			return river.JobSnooze(time.Second)
		}
		return err
	}
	if ok, err := tryLock(ctx, conn, lockRun, int32(id)); err != nil || !ok {
		return err
	}
	if started, err := r.db.StartRun(ctx, id); err != nil || !started {
		return err
	}
	return r.do(ctx, id)
}

func (r *Runner) do(ctx context.Context, id int64) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r.mu.Lock()
	r.cancels[id] = cancel
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		delete(r.cancels, id)
		r.mu.Unlock()
	}()
	run, err := r.db.Run(ctx, id)
	if err != nil {
		return err
	}
	if run.CancelAsked {
		cancel(ErrCancelled)
	}
	track := newTracker(r.db, id)
	result, err := r.guard(ctx, run, track)
	after := context.WithoutCancel(ctx)
	track.close(after)
	if err == nil {
		return r.db.EndRun(after, id, records.Done, result, "")
	}
	if errors.Is(err, provision.ErrLeftBehind) {
		r.log.Warn("run could not take back what it made", "run", id, "sort", run.Sort, "error", err)
		return r.hinder(after, id, err)
	}
	now, dbErr := r.db.Run(after, id)
	if dbErr != nil {
		return errors.Join(err, dbErr) // it is recovered once the records are there again
	}
	cause := context.Cause(ctx)
	switch {
	case now.Committed, cause == nil:
		r.log.Warn("run failed", "run", id, "sort", run.Sort, "error", err)
		return r.db.EndRun(after, id, records.Failed, result, err.Error())
	case errors.Is(cause, ErrCancelled):
		leaves := r.sorts[run.Sort].Leaves
		if leaves == "" {
			leaves = "what it had made was taken back"
		}
		return r.db.EndRun(after, id, records.Cancelled, result, "cancelled; "+leaves)
	}
	r.log.Info("run put back", "run", id)
	return r.db.PutBack(after, id, false)
}

// hinder leaves a run working that has failed, until what it made can be taken back.
func (r *Runner) hinder(ctx context.Context, id int64, reason error) error {
	return errors.Join(r.db.Hinder(ctx, id, reason.Error()),
		r.db.AddLog(ctx, id, "taking back is tried again every minute; cancelling the run gives it up, and leaves what it has made"))
}

// guard turns a panic into a failed run: one bad archive must not end the service.
func (r *Runner) guard(ctx context.Context, run records.Run, report progress.Reporter) (result any, err error) {
	defer func() {
		if p := recover(); p != nil {
			r.log.Error("run panicked", "run", run.ID, "panic", p)
			err = fmt.Errorf("a fault in Nest Seed itself: %v", p)
		}
	}()
	return r.sorts[run.Sort].Do(ctx, run, report)
}

// recover looks for runs that say they work and hold no lock, and, at a start, queues those that wait.
func (r *Runner) recover(ctx context.Context, starting bool) error {
	runs, err := r.db.RunsIn(ctx, records.Working, records.Waiting)
	if err != nil {
		return err
	}
	for _, run := range runs {
		if run.Status == records.Working {
			if err := r.recoverRun(ctx, run); err != nil {
				r.log.Error("recover run", "run", run.ID, "error", err)
			}
		} else if starting {
			if _, err := r.river.Insert(ctx, job{run.ID}, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *Runner) recoverRun(ctx context.Context, run records.Run) error {
	conn, err := r.db.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() { conn.Hijack().Close(context.WithoutCancel(ctx)) }()
	if ok, err := tryLock(ctx, conn, lockRun, int32(run.ID)); err != nil || !ok {
		return err // it is alive
	}
	// It may have ended between the list and the lock.
	if run, err = r.db.Run(ctx, run.ID); err != nil || run.Status != records.Working {
		return err
	}
	r.log.Info("run was interrupted", "run", run.ID, "sort", run.Sort)
	reason, since := run.Error, " since"
	if reason == "" {
		reason, since = "the service was interrupted", ""
	}
	outcome, err := r.sorts[run.Sort].Recover(ctx, run)
	switch {
	case err != nil && run.Error == "":
		return errors.Join(err, r.hinder(ctx, run.ID, fmt.Errorf("%s, and what the run had made could not be taken back: %w", reason, err)))
	case err != nil && run.CancelAsked:
		return r.db.EndRun(ctx, run.ID, records.Failed, nil, fmt.Sprintf("given up; what the run had made may still be there%s, as it could not be taken back: %v", r.left(ctx, run.ID), err))
	case err != nil:
		return err
	case outcome == Finished:
		return r.db.EndRun(ctx, run.ID, records.Done, run.Result, "")
	case outcome == TakenBack || run.CancelAsked:
		return r.db.EndRun(ctx, run.ID, records.Failed, nil, reason+"; what the run had made was taken back"+since)
	}
	if err := errors.Join(r.db.AddLog(ctx, run.ID, reason+"; the run begins again"), r.db.PutBack(ctx, run.ID, outcome == Onward)); err != nil {
		return err
	}
	_, err = r.river.Insert(ctx, job{run.ID}, nil)
	return err
}

// left names what a run's journal says that it has made.
func (r *Runner) left(ctx context.Context, id int64) string {
	made, err := r.db.Made(ctx, id)
	if err != nil || len(made) == 0 {
		return ""
	}
	var names []string
	for _, m := range made {
		names = append(names, m.Sort+" "+m.Name)
	}
	return " (" + strings.Join(names, ", ") + ")"
}

// giveUp ends a run that somebody has cancelled while nobody works on it: its taking back was hindered.
func (r *Runner) giveUp(ctx context.Context, id int64) {
	run, err := r.db.Run(ctx, id)
	if err == nil && run.Status == records.Working && run.Error != "" {
		err = r.recoverRun(ctx, run)
	}
	if err != nil && ctx.Err() == nil {
		r.log.Error("give up a run", "run", id, "error", err)
	}
}

// Cancel ends a run that waits, and asks one that works to end. Errors: records.ErrNotFound, also of one that is over or
// past the point where it can be cancelled.
func (r *Runner) Cancel(ctx context.Context, id int64) error { return r.db.AskCancel(ctx, id) }

// Listen returns a channel of numbers of runs that changed, until stop is called.
func (r *Runner) Listen() (changed <-chan int64, stop func()) {
	ch := make(chan int64, 64)
	r.mu.Lock()
	r.listeners[ch] = true
	r.mu.Unlock()
	return ch, func() {
		r.mu.Lock()
		delete(r.listeners, ch)
		r.mu.Unlock()
	}
}

// listen hands on what other copies of the service tell.
func (r *Runner) listen(ctx context.Context) {
	for ctx.Err() == nil {
		if err := r.listenOnce(ctx); err != nil && ctx.Err() == nil {
			r.log.Error("listen for changes", "error", err)
			time.Sleep(time.Second)
		}
	}
}

func (r *Runner) listenOnce(ctx context.Context) error {
	conn, err := r.db.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() { conn.Hijack().Close(context.WithoutCancel(ctx)) }()
	if _, err := conn.Exec(ctx, "LISTEN run; LISTEN cancel"); err != nil {
		return err
	}
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var id int64
		if err := json.Unmarshal([]byte(n.Payload), &id); err != nil {
			continue
		}
		r.mu.Lock()
		if n.Channel == "cancel" {
			if c := r.cancels[id]; c != nil {
				c(ErrCancelled)
			} else {
				r.wg.Go(func() { r.giveUp(ctx, id) })
			}
		}
		for ch := range r.listeners {
			select {
			case ch <- id:
			default: // it will read the newest state when it gets round to it
			}
		}
		r.mu.Unlock()
	}
}
