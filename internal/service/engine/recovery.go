package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/parallel"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// How often an instance looks for runs that were interrupted or have lost their place in the queue, and how often what could
// not be cleaned up is tried again.
const (
	lookEvery    = 2 * time.Second
	cleanupEvery = time.Minute
)

// mostInterruptions is how often a run is begun again that was interrupted: work that ends the service each time must not
// do so for ever.
const mostInterruptions = 5

// watch looks for what no instance works on, as long as the engine works.
func (e *Engine) watch() {
	look, cleanup := time.NewTicker(lookEvery), time.NewTicker(cleanupEvery)
	defer look.Stop()
	defer cleanup.Stop()
	for all := true; ; {
		if err := errors.Join(e.recover(e.ctx, all), e.lookForCancelled(e.ctx)); err != nil && e.ctx.Err() == nil {
			e.log.Warn("look for interrupted runs", "error", err)
		}
		select {
		case <-look.C:
			all = false
		case <-cleanup.C:
			all = true
		case <-e.ctx.Done():
			return
		}
	}
}

// recover begins to recover the runs whose instance is gone, with all those that could not be cleaned up after too, and queues those that
// can go on and are in no queue. Each target is blocked until its own run is recovered.
func (e *Engine) recover(ctx context.Context, all bool) error {
	if err := e.leaveOrphans(ctx); err != nil {
		return err
	}
	runs, err := e.db.InterruptedRuns(ctx, all)
	if err != nil {
		return err
	}
	for _, run := range runs {
		e.wg.Go(func() {
			if err := e.recoverRun(ctx, run); err != nil && ctx.Err() == nil {
				e.log.Warn("recover run", "run", run.ID, "error", err)
			}
		})
	}
	lost, err := e.db.UnqueuedRuns(ctx)
	if err != nil {
		return err
	}
	for _, run := range lost {
		if err := e.queue(ctx, run); err != nil {
			return err
		}
	}
	return nil
}

// leaveOrphans lets go of runs that this instance claims and does not work on: how they ended could not be kept.
func (e *Engine) leaveOrphans(ctx context.Context) error {
	id, _, err := e.instance.now()
	if err != nil {
		return nil // its claims have ended
	}
	e.mu.Lock()
	mine := slices.Collect(maps.Keys(e.mine))
	e.mu.Unlock()
	left, err := e.db.LeaveRuns(ctx, id, append(mine, 0))
	if left > 0 {
		e.log.Info("runs were left", "count", left)
	}
	return err
}

// lookForCancelled ends the runs whose end was asked for while nobody heard of it, as while the connection that listens was lost.
func (e *Engine) lookForCancelled(ctx context.Context) error {
	e.mu.Lock()
	mine := slices.Collect(maps.Keys(e.cancels))
	e.mu.Unlock()
	if len(mine) == 0 {
		return nil
	}
	asked, err := e.db.CancelAsked(ctx, mine)
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, id := range asked {
		if c := e.cancels[id]; c != nil {
			c(ErrCancelled)
		}
	}
	return err
}

// failCleanup leaves a run working that has failed, until what it made can be taken back.
func (e *Engine) failCleanup(ctx context.Context, id int64, reason error) error {
	return errors.Join(e.db.FailCleanup(ctx, id, input.Sentence(reason)),
		e.db.AddLog(ctx, id, "this is tried again every minute; cancelling the run gives it up, and leaves what it has made"))
}

// recoverRun recovers a run, unless its instance is there or another one does so.
func (e *Engine) recoverRun(ctx context.Context, run Run) error {
	if !e.begins(run.ID) {
		return nil
	}
	defer e.ends(run.ID)
	instance, alive, err := e.instance.now()
	if err != nil {
		return err
	}
	ctx, run, err = e.db.TakeOver(ctx, instance, run.ID)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	ctx, cancel := whileAlive(ctx, alive)
	defer cancel(nil)
	e.log.Info("run was interrupted", "run", run.ID, "job", run.Job)
	outcome, err := e.outcome(ctx, run)
	if ctx.Err() != nil {
		return ctx.Err() // whoever takes it over begins again
	}
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
		return e.endRun(ctx, run.ID, records.Failed, nil, sentence)
	case err != nil:
		return errors.Join(err, e.db.LeaveRun(ctx, run.ID))
	case outcome == Finished:
		return e.endRun(ctx, run.ID, records.Done, run.Result, "")
	case outcome == TakenBack && (run.ParentID == nil || run.Error != "") || run.CancelAsked:
		return e.endRun(ctx, run.ID, records.Failed, nil, reason+"; what the run had made was taken back"+since)
	case run.Interruptions+1 >= mostInterruptions:
		return e.endRun(ctx, run.ID, records.Failed, nil,
			fmt.Sprintf("%s, for the %dth time; the run is not begun again by itself: look into the service's log, and start it again", reason,
				run.Interruptions+1))
	}
	// One that another run waits for begins again, as that does.
	if err := e.db.AddLog(ctx, run.ID, reason+"; the run begins again"); err != nil {
		return err
	}
	if err := e.db.Interrupted(ctx, run.ID, outcome == Onward); err != nil {
		return err
	}
	return e.queue(ctx, run)
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
