package engine

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"

	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
)

// work does one run, if it is still waiting and its target is free.
func (e *Engine) work(ctx context.Context, id int64) error {
	run, err := e.db.Run(ctx, id)
	if err != nil || run.Status != records.Waiting {
		return err
	}
	l, err := e.newLock(ctx)
	if err != nil {
		return err
	}
	defer l.release()
	if free, err := e.takeTarget(ctx, l, run.Target, id); err != nil || !free {
		if err == nil {
			return river.JobSnooze(time.Second)
		}
		return err
	}
	if ok, err := l.try(ctx, lockRun, int32(id)); err != nil || !ok {
		return err
	}
	attempt, err := e.db.StartRun(ctx, id)
	if err != nil || attempt == 0 {
		return err
	}
	return e.do(records.WithAttempt(ctx, id, attempt), id, l)
}

// do does the work of a run that has begun, and keeps how it ended.
func (e *Engine) do(ctx context.Context, id int64, l *lock) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	e.mu.Lock()
	e.cancels[id] = cancel
	e.mu.Unlock()
	defer func() {
		e.mu.Lock()
		delete(e.cancels, id)
		e.mu.Unlock()
	}()
	run, err := e.db.Run(ctx, id)
	if err != nil {
		return err
	}
	if run.CancelAsked {
		cancel(ErrCancelled)
	}
	l.follow(func(beating context.Context, conn *pgxpool.Conn) error {
		return e.db.Beat(records.SameAttempt(beating, ctx), conn)
	}, func(error) { cancel(errLost) })
	start := time.Now()
	track := newTracker(ctx, e.db, id)
	result, err := e.guard(ctx, run, track)
	track.close()
	status, keepErr := e.end(context.WithoutCancel(ctx), context.Cause(ctx), run, l, result, err)
	runSeconds.WithLabelValues(run.Job, status).Observe(time.Since(start).Seconds())
	return keepErr
}

// putBack is what becomes of a run besides the statuses of records.
const (
	putBack       = "put back"
	cleanupFailed = "cleanup failed"
	left          = "left"
)

// end keeps how a run ended: err is what its work returned, and cause why it was stopped, if it was.
func (e *Engine) end(ctx context.Context, cause error, run Run, l *lock, result any, err error) (status string, _ error) {
	if err == nil {
		return records.Done, e.persist(ctx, func(ctx context.Context) error { return e.db.EndRun(ctx, run.ID, records.Done, result, "") })
	}
	// What failed because the records went away is not the work's fault.
	if cause == nil && !l.alive() {
		cause = errLost
	}
	if errors.Is(err, ErrCleanup) && errors.Is(cause, errLost) {
		// Without its journal nothing can be taken back. It is left as it is, for whoever recovers interrupted runs.
		e.log.Info("run was left by its connection", "run", run.ID, "job", run.Job, "error", err)
		return left, nil
	}
	if errors.Is(err, ErrCleanup) {
		e.log.Warn("run could not take back what it made", "run", run.ID, "job", run.Job, "error", err)
		return cleanupFailed, e.persist(ctx, func(ctx context.Context) error { return e.failCleanup(ctx, run.ID, err) })
	}
	return e.endStopped(ctx, cause, run, result, err)
}

// endStopped keeps how a run ended whose work returned an error.
func (e *Engine) endStopped(ctx context.Context, cause error, run Run, result any, err error) (status string, _ error) {
	keepErr := e.persist(ctx, func(ctx context.Context) error {
		now, dbErr := e.db.Run(ctx, run.ID)
		switch {
		case dbErr != nil:
			return dbErr
		case errors.Is(cause, ErrCancelled) && !now.Committed:
			status = records.Cancelled
			return e.db.EndRun(ctx, run.ID, status, result, "cancelled; "+e.jobs[run.Job].leaves)
		case errors.Is(cause, errEnding), errors.Is(cause, errLost):
			status = putBack
			e.log.Info("run put back", "run", run.ID, "job", run.Job, "because", cause)
			if errors.Is(cause, errLost) {
				if err := e.db.AddLog(ctx, run.ID, errLost.Error()+"; the run begins again"); err != nil {
					return err
				}
			}
			return e.db.PutBack(ctx, run.ID, now.Committed)
		}
		status = records.Failed
		e.log.Warn("run failed", "run", run.ID, "job", run.Job, "error", err)
		return e.db.EndRun(ctx, run.ID, status, result, err.Error())
	})
	return status, keepErr
}

// persist writes to the records, and waits for them while they do not answer, as while their server is restarted. An attempt
// that was overtaken writes nothing and needs not.
func (e *Engine) persist(ctx context.Context, write func(ctx context.Context) error) error {
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
		err := write(ctx)
		if err == nil || errors.Is(err, records.ErrOvertaken) || !records.Unreachable(err) {
			return err
		}
		select {
		case <-time.After(wait):
		case <-e.ctx.Done():
			return err // the next service recovers it
		}
	}
}

// guard turns a panic into a failed run: one bad archive must not end the service.
func (e *Engine) guard(ctx context.Context, run Run, report progress.Reporter) (result any, err error) {
	defer func() {
		var fault *parallel.PanicError
		if errors.As(err, &fault) {
			e.log.Error("run panicked", "run", run.ID, "job", run.Job, "panic", fault.Value, "stack", string(fault.Stack))
		}
	}()
	defer parallel.Recover(&err)
	return e.jobs[run.Job].do(ctx, run, report)
}

// repeatable are the jobs that can be started again as they were: what they came to does not depend on what was there before.
var repeatable = []string{"survey", "build", "verify", "compare", "check", "copy", "screenshots"}

// Repeatable reports whether a job can be started again as it was.
func Repeatable(job string) bool { return slices.Contains(repeatable, job) }
