package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"nestseed/internal/core/parallel"
	"nestseed/internal/service/records"
)

// How often somebody looks for runs that were interrupted or have lost their place in the queue, and how often what could
// not be cleaned up is tried again.
const (
	lookEvery    = 5 * time.Second
	cleanupEvery = time.Minute
)

// mostInterruptions is how often a run is begun again that was interrupted: work that ends the service each time must not
// do so for ever.
const mostInterruptions = 5

// watch looks for what nobody works on, as long as the engine works.
func (e *Engine) watch() {
	look, cleanup := time.NewTicker(lookEvery), time.NewTicker(cleanupEvery)
	defer look.Stop()
	defer cleanup.Stop()
	for {
		var err error
		select {
		case <-look.C:
			err = e.recover(e.ctx, false)
		case <-cleanup.C:
			err = e.cleanUp(e.ctx)
		case <-e.ctx.Done():
			return
		}
		if err != nil && e.ctx.Err() == nil {
			e.log.Warn("look for interrupted runs", "error", err)
		}
	}
}

// recover looks for runs that say they work and hold no lock, and for those that wait and are in no queue.
func (e *Engine) recover(ctx context.Context, starting bool) error {
	runs, err := e.db.RunsIn(ctx, records.Working)
	if err != nil {
		return err
	}
	for _, run := range runs {
		// At a start nobody else can work on it, unless there are other copies of the service.
		surely := starting && e.options.Alone
		if run.Error == "" && (surely || run.BeatAt == nil || time.Since(*run.BeatAt) > staleAfter) || starting && run.Error != "" {
			if err := e.recoverRun(ctx, run); err != nil {
				e.log.Error("recover run", "run", run.ID, "error", err)
			}
		}
	}
	lost, err := e.db.UnqueuedRuns(ctx)
	if err != nil {
		return err
	}
	for _, id := range lost {
		if _, err := e.river.Insert(ctx, queued{id}, nil); err != nil {
			return err
		}
	}
	return nil
}

// cleanUp tries again to take back what could not be.
func (e *Engine) cleanUp(ctx context.Context) error {
	runs, err := e.db.RunsIn(ctx, records.Working)
	if err != nil {
		return err
	}
	for _, run := range runs {
		if run.Error != "" {
			if err := e.recoverRun(ctx, run); err != nil {
				e.log.Warn("clean up after a run", "run", run.ID, "error", err)
			}
		}
	}
	return nil
}

// failCleanup leaves a run working that has failed, until what it made can be taken back.
func (e *Engine) failCleanup(ctx context.Context, id int64, reason error) error {
	return errors.Join(e.db.FailCleanup(ctx, id, reason.Error()),
		e.db.AddLog(ctx, id, "taking back is tried again every minute; cancelling the run gives it up, and leaves what it has made"))
}

func (e *Engine) recoverRun(ctx context.Context, run Run) error {
	l, err := e.newLock(ctx)
	if err != nil {
		return err
	}
	defer l.release()
	if ok, err := l.try(ctx, lockRun, int32(run.ID)); err != nil || !ok {
		return err // it is alive
	}
	// It may have ended between the list and the lock.
	if run, err = e.db.Run(ctx, run.ID); err != nil || run.Status != records.Working {
		return err
	}
	attempt, err := e.db.TakeOver(ctx, run.ID)
	if err != nil {
		return err
	}
	ctx = records.WithAttempt(ctx, run.ID, attempt)
	e.log.Info("run was interrupted", "run", run.ID, "job", run.Job)
	outcome, err := e.outcome(ctx, run)
	return e.resolve(ctx, run, outcome, err)
}

// outcome asks the job of a run what becomes of it.
func (e *Engine) outcome(ctx context.Context, run Run) (o Outcome, err error) {
	defer parallel.Recover(&err)
	j, known := e.jobs[run.Job]
	if !known {
		return TakenBack, fmt.Errorf("there is no job %q in this version", run.Job)
	}
	if e.options.Interrupted != nil {
		if err := e.options.Interrupted(run.ID); err != nil {
			return Again, err
		}
	}
	return j.recover(ctx, run)
}

// resolve keeps what becomes of an interrupted run; err is why it could not be cleaned up.
func (e *Engine) resolve(ctx context.Context, run Run, outcome Outcome, err error) error {
	reason, since := run.Error, " since"
	if reason == "" {
		reason, since = "the service was interrupted", ""
	}
	switch {
	case err != nil && run.Error == "":
		return errors.Join(err, e.failCleanup(ctx, run.ID, fmt.Errorf("%s, and what the run had made could not be taken back: %w", reason, err)))
	case err != nil && run.CancelAsked:
		sentence := fmt.Sprintf("given up; what the run had made may still be there%s, as it could not be taken back: %v", e.left(ctx, run.ID),
			err)
		return e.db.EndRun(ctx, run.ID, records.Failed, nil, sentence)
	case err != nil:
		return err
	case outcome == Finished:
		return e.db.EndRun(ctx, run.ID, records.Done, run.Result, "")
	case outcome == TakenBack || run.CancelAsked:
		return e.db.EndRun(ctx, run.ID, records.Failed, nil, reason+"; what the run had made was taken back"+since)
	case run.Interruptions+1 >= mostInterruptions:
		return e.db.EndRun(ctx, run.ID, records.Failed, nil,
			fmt.Sprintf("%s, for the %dth time; the run is not begun again by itself: look into the service's log, and start it again", reason,
				run.Interruptions+1))
	}
	if err := e.db.AddLog(ctx, run.ID, reason+"; the run begins again"); err != nil {
		return err
	}
	if err := e.db.Interrupted(ctx, run.ID, outcome == Onward); err != nil {
		return err
	}
	_, err = e.river.Insert(ctx, queued{run.ID}, nil)
	return err
}

// left names what a run's journal says that it has made.
func (e *Engine) left(ctx context.Context, id int64) string {
	made, err := e.db.Made(ctx, id)
	if err != nil || len(made) == 0 {
		return ""
	}
	var names []string
	for _, m := range made {
		names = append(names, m.What+" "+m.Name)
	}
	return " (" + strings.Join(names, ", ") + ")"
}

// giveUp ends a run that somebody has cancelled while nobody works on it: it could not be cleaned up.
func (e *Engine) giveUp(ctx context.Context, id int64) {
	run, err := e.db.Run(ctx, id)
	if err == nil && run.Status == records.Working && run.Error != "" {
		err = e.recoverRun(ctx, run)
	}
	if err != nil && ctx.Err() == nil {
		e.log.Error("give up a run", "run", id, "error", err)
	}
}
