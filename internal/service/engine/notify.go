package engine

import (
	"context"
	"time"
)

// Listen returns a channel of numbers of runs that changed, until stop is called.
func (e *Engine) Listen() (changed <-chan int64, stop func()) {
	ch := make(chan int64, 64)
	e.mu.Lock()
	e.listeners[ch] = true
	e.mu.Unlock()
	return ch, func() {
		e.mu.Lock()
		delete(e.listeners, ch)
		e.mu.Unlock()
	}
}

// listen hands on what other instances tell.
func (e *Engine) listen(ctx context.Context) {
	defer e.hearing.Close(context.WithoutCancel(ctx))
	for ctx.Err() == nil {
		err := e.hearing.Hear(ctx, func(channel string, run int64) { e.notified(ctx, channel, run) })
		if ctx.Err() != nil {
			return
		}
		e.log.Warn("listen for changes", "error", err)
		e.hearing.Close(ctx)
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

func (e *Engine) notified(ctx context.Context, channel string, id int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if channel == "cancel" {
		if c := e.cancels[id]; c != nil {
			c(ErrCancelled)
		} else {
			e.wg.Go(func() { e.giveUp(ctx, id) })
		}
	}
	for ch := range e.listeners {
		select {
		case ch <- id:
		default: // it will read the newest state when it gets round to it
		}
	}
}
