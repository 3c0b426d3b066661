package engine

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
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

// listen hands on what other copies of the service tell.
func (e *Engine) listen(ctx context.Context) {
	for ctx.Err() == nil {
		if err := e.listenOnce(ctx); err != nil && ctx.Err() == nil {
			e.log.Warn("listen for changes", "error", err)
			time.Sleep(time.Second)
		}
	}
}

func (e *Engine) listenOnce(ctx context.Context) error {
	conn, err := pgx.ConnectConfig(ctx, e.instance.config)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN run; LISTEN cancel"); err != nil {
		return err
	}
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var id int64
		if err := json.Unmarshal([]byte(n.Payload), &id); err != nil {
			continue
		}
		e.notified(ctx, n.Channel, id)
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
