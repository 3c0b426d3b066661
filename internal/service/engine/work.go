package engine

import (
	"context"
	"errors"
	"slices"
	"time"

	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// work does one run, if it waits and its target is free. One whose target is not is queued again when that is.
func (e *Engine) work(ctx context.Context, id int64) error {
	run, err := e.db.Run(ctx, id)
	if err != nil || run.Status != records.Waiting && !run.Aside {
		return err
	}
	if !e.begins(id) {
		return nil
	}
	defer e.ends(id)
	instance, alive, err := e.instance.now()
	if err != nil {
		return nil // watch queues it again
	}
	ctx, run, epoch, err := e.db.StartRun(ctx, instance, run)
	switch {
	case errors.Is(err, records.ErrHeld), errors.Is(err, records.ErrNotFound), errors.Is(err, records.ErrNotAlive):
		return nil
	case err != nil:
		return err
	}
	ctx, cancel := whileAlive(ctx, alive)
	defer e.release(held{run.Target, epoch})
	defer cancel(nil)
	return e.do(ctx, run, cancel)
}

// begins notes that a run is worked on here; false when it is already.
func (e *Engine) begins(id int64) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.mine[id] {
		return false
	}
	e.mine[id] = true
	return true
}

func (e *Engine) ends(id int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.mine, id)
}

// do does the work of a run that has begun, and keeps how it ended.
func (e *Engine) do(ctx context.Context, run Run, cancel context.CancelCauseFunc) error {
	e.mu.Lock()
	e.cancels[run.ID] = cancel
	if e.ending {
		cancel(errEnding)
	}
	e.mu.Unlock()
	defer func() {
		e.mu.Lock()
		delete(e.cancels, run.ID)
		e.mu.Unlock()
	}()
	if run.CancelAsked {
		cancel(ErrCancelled)
	}
	start := time.Now()
	track := newTracker(ctx, e.db, run)
	result, err := e.guard(ctx, run, track)
	last := track.close()
	status, keepErr := e.end(context.WithoutCancel(ctx), context.Cause(ctx), run, ended{start, last, result, err})
	runSeconds.WithLabelValues(run.Job, status).Observe(time.Since(start).Seconds())
	return keepErr
}

// ended is how the work of a run ended.
type ended struct {
	start    time.Time
	progress records.Progress
	result   any
	err      error
}

// What becomes of a run besides the statuses of records.
const (
	putBack       = "put back"
	cleanupFailed = "cleanup failed"
	left          = "left"
	aside         = "aside"
)

// end keeps how a run ended; cause is why it was stopped, if it was.
func (e *Engine) end(ctx context.Context, cause error, run Run, how ended) (status string, _ error) {
	var waits *Aside
	switch {
	case how.err == nil:
		return records.Done, e.persist(ctx, func(ctx context.Context) error { return e.endRun(ctx, run.ID, records.Done, how.result, "") })
	case errors.As(how.err, &waits):
		how.progress.Children = &records.ChildrenProgress{First: waits.First, Done: how.progress.Done.Files, From: waits.From, To: waits.To}
		return aside, e.persist(ctx, func(ctx context.Context) error { return e.db.SetAside(ctx, run.ID, how.progress, how.result) })
	}
	// What failed because the records went away is not the work's fault.
	if cause == nil && !e.instance.undisturbed(how.start) {
		cause = errLost
	}
	if errors.Is(how.err, records.ErrOvertaken) {
		e.log.Info("run was overtaken", "run", run.ID, "job", run.Job, "error", how.err)
		return left, nil
	}
	unclean := errors.Is(how.err, ErrCleanup) || errors.Is(how.err, ErrUnfinished)
	if unclean && (errors.Is(cause, errLost) || e.db.Claimed(ctx) != nil) {
		// Without its claim nothing may be taken back. It is left as it is, for whoever recovers interrupted runs.
		e.log.Info("run was left", "run", run.ID, "job", run.Job, "error", how.err)
		return left, nil
	}
	if unclean {
		e.log.Warn("run could not be ended", "run", run.ID, "job", run.Job, "error", how.err)
		return cleanupFailed, e.persist(ctx, func(ctx context.Context) error { return e.failCleanup(ctx, run.ID, how.err) })
	}
	return e.endStopped(ctx, cause, run, how.result, how.err)
}

// endRun keeps how a run ended, and queues the one that has waited for it.
func (e *Engine) endRun(ctx context.Context, id int64, status string, result any, sentence string) error {
	goesOn, err := e.db.EndRun(ctx, id, status, result, sentence)
	e.goOn(ctx, goesOn)
	return err
}

// endStopped keeps how a run ended whose work returned an error.
func (e *Engine) endStopped(ctx context.Context, cause error, run Run, result any, err error) (status string, _ error) {
	keepErr := e.persist(ctx, func(ctx context.Context) error {
		now, dbErr := e.db.Run(ctx, run.ID)
		switch {
		case dbErr != nil:
			return dbErr
		case (errors.Is(cause, ErrCancelled) || errors.Is(err, ErrCancelled)) && !now.Committed: // Commit may hear of it first
			status = records.Cancelled
			return e.endRun(ctx, run.ID, status, result, "cancelled; "+e.jobs[run.Job].leaves)
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
		return e.endRun(ctx, run.ID, status, result, input.Sentence(err))
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
