package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"nestseed/internal/service/records"
)

// lockWait is how long a request waits for a run, or for another instance, that works on its target, and how often it asks.
const (
	lockWait = 3 * time.Second
	askEvery = 100 * time.Millisecond
)

// turns are the callers of this instance that wait for short work on a target: one of them at a time asks the records.
type turns struct {
	mu sync.Mutex
	of map[string]*turn
}

type turn struct {
	free    chan struct{}
	waiting int
}

func (t *turns) take(ctx context.Context, target string) (end func(), err error) {
	t.mu.Lock()
	if t.of == nil {
		t.of = map[string]*turn{}
	}
	mine := t.of[target]
	if mine == nil {
		mine = &turn{free: make(chan struct{}, 1)}
		t.of[target] = mine
	}
	mine.waiting++
	t.mu.Unlock()
	leave := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if mine.waiting--; mine.waiting == 0 {
			delete(t.of, target)
		}
	}
	select {
	case mine.free <- struct{}{}:
		return func() { <-mine.free; leave() }, nil
	case <-ctx.Done():
		leave()
		return nil, ctx.Err()
	}
}

// WithLock does something short with a target while nobody else works on it. The context that do gets ends when the lease is lost, and
// what is written in it is refused then. Errors: ErrBusy, when a run works there.
func (e *Engine) WithLock(ctx context.Context, target string, do func(ctx context.Context) error) error {
	deadline := time.Now().Add(lockWait)
	end, err := e.turns.take(ctx, target)
	if err != nil {
		return err
	}
	defer end()
	for {
		held, release, err := e.take(ctx, target)
		if err == nil {
			defer release()
			return do(held)
		}
		if !errors.Is(err, records.ErrHeld) && !errors.Is(err, errLost) {
			return err
		}
		if time.Now().After(deadline) {
			if errors.Is(err, errLost) {
				return err
			}
			return fmt.Errorf("%s %w; wait for the run to end, or cancel it", target, ErrBusy)
		}
		select {
		case <-time.After(askEvery):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// take takes the lease of a target. Errors: records.ErrHeld, errLost.
func (e *Engine) take(ctx context.Context, target string) (context.Context, func(), error) {
	id, alive, err := e.instance.now()
	if err != nil {
		return nil, nil, err
	}
	ctx, epoch, err := e.db.TakeLease(ctx, id, target)
	if errors.Is(err, records.ErrNotAlive) {
		err = errLost
	}
	if err != nil {
		return nil, nil, err
	}
	ctx, cancel := whileAlive(ctx, alive)
	return ctx, func() {
		cancel(nil)
		e.release(held{target, epoch})
	}, nil
}

// whileAlive returns a context that also ends, with the cause errLost, when the instance has lost its leases.
func whileAlive(ctx, alive context.Context) (context.Context, context.CancelCauseFunc) {
	ctx, cancel := context.WithCancelCause(ctx)
	stop := context.AfterFunc(alive, func() { cancel(errLost) })
	return ctx, func(cause error) {
		stop()
		cancel(cause)
	}
}

// release gives a lease back, and queues the run that has waited for its target.
func (e *Engine) release(l held) {
	ctx, cancel := context.WithTimeout(context.Background(), renewWithin)
	defer cancel()
	e.instance.giveUp(ctx, l)
}

func (e *Engine) releaseLease(ctx context.Context, l held) error {
	waits, err := e.db.ReleaseLease(ctx, l.target, l.epoch)
	if err != nil {
		return err
	}
	e.goOn(ctx, waits)
	return nil
}

// goOn queues a run, unless it is 0. Should that fail, watch does it.
func (e *Engine) goOn(ctx context.Context, id int64) {
	if id == 0 {
		return
	}
	if err := e.queue(ctx, records.Run{ID: id}); err != nil && ctx.Err() == nil {
		e.log.Warn("queue a run", "run", id, "error", err)
	}
}
