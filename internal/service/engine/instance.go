package engine

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"nestseed/internal/service/records"
)

// How often an instance renews its leases, how long that may take, and how long before they end it stops by itself what it does under
// them. The times are of the monotonic clock, which goes on while the process stands still.
const (
	renewEvery  = 2 * time.Second
	renewWithin = 3 * time.Second
	stopBefore  = 2 * time.Second
)

// instance is this copy of the service: a row in the records that one connection renews, however many leases and runs there are.
type instance struct {
	line line
	log  *slog.Logger

	beating  chan struct{}                           // holds one thing while the line is used
	released func(ctx context.Context, l held) error // gives a lease back

	mu       sync.Mutex
	id       int64     // 0 while it has none
	until    time.Time // when it stops by itself
	alive    context.Context
	die      context.CancelCauseFunc
	troubled time.Time // when renewing has last failed, and what of
	trouble  error     // nil once it has worked again
	giveBack []held    // leases that could not be given back
}

// held is a lease that this instance holds.
type held struct {
	target string
	epoch  int64
}

// join makes the instance known. alone says that all others are gone.
func (i *instance) join(ctx context.Context, alone bool) error {
	i.beating <- struct{}{}
	defer func() { <-i.beating }()
	return i.begin(ctx, alone)
}

// begin takes a new number; what was held under the one before is lost.
func (i *instance) begin(ctx context.Context, alone bool) error {
	sent := time.Now()
	id, err := i.line.Begin(ctx, alone)
	if err != nil {
		return err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.id, i.until, i.trouble = id, sent.Add(records.LeaseFor-stopBefore), nil
	i.alive, i.die = context.WithCancelCause(context.Background())
	return nil
}

// now returns the number of the instance and a context that ends, with the cause errLost, when it has lost its leases. Errors: errLost.
func (i *instance) now() (id int64, alive context.Context, err error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.id == 0 || time.Now().After(i.until) {
		return 0, nil, errLost
	}
	return i.id, i.alive, nil
}

// ready is nil while the records answer.
func (i *instance) ready() error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.id == 0 {
		return errLost
	}
	return i.trouble
}

// keep renews the leases until ctx ends.
func (i *instance) keep(ctx context.Context) {
	tick := time.NewTicker(renewEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if err := i.renew(ctx); err != nil && ctx.Err() == nil {
				i.log.Warn("renew the leases", "error", err)
			}
		case <-ctx.Done():
			return
		}
	}
}

// renew renews the leases once. When that comes too late, all that is done under them is told to stop, and the instance begins again.
func (i *instance) renew(ctx context.Context) error {
	i.beating <- struct{}{}
	defer func() { <-i.beating }()
	i.mu.Lock()
	id, until := i.id, i.until
	i.mu.Unlock()
	within := renewWithin
	if id != 0 {
		within = min(within, max(time.Until(until), time.Millisecond))
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	sent := time.Now()
	var err error
	if id != 0 {
		if err = i.line.Renew(ctx, id); err == nil {
			i.mu.Lock()
			giveBack := i.giveBack
			i.until, i.giveBack, i.trouble = sent.Add(records.LeaseFor-stopBefore), nil, nil
			i.mu.Unlock()
			for _, l := range giveBack {
				i.giveUp(ctx, l)
			}
			return nil
		}
	}
	if err != nil {
		i.mu.Lock()
		i.troubled, i.trouble = time.Now(), err
		i.mu.Unlock()
	}
	if id != 0 && (errors.Is(err, records.ErrNotAlive) || !time.Now().Before(until)) {
		i.lose()
		id = 0
	}
	if err != nil && !errors.Is(err, records.ErrNotAlive) {
		i.line.Close(ctx)
		return err
	}
	if id == 0 {
		err = i.begin(ctx, false)
	}
	return err
}

func (i *instance) lose() {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.id, i.giveBack = 0, nil
	i.die(errLost)
}

// undisturbed reports whether the records have answered ever since.
func (i *instance) undisturbed(since time.Time) bool {
	err := i.renew(context.Background())
	i.mu.Lock()
	defer i.mu.Unlock()
	return err == nil && i.troubled.Before(since)
}

// giveUp gives a lease back, now or with the next renewal.
func (i *instance) giveUp(ctx context.Context, l held) {
	if err := i.released(ctx, l); err != nil {
		i.mu.Lock()
		defer i.mu.Unlock()
		i.giveBack = append(i.giveBack, l)
	}
}

// leave ends the instance and all its leases, so that others need not wait for their end.
func (i *instance) leave() {
	i.beating <- struct{}{}
	defer func() { <-i.beating }()
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	i.mu.Lock()
	id := i.id
	i.id = 0
	if i.die != nil {
		i.die(errLost)
	}
	i.mu.Unlock()
	if id != 0 {
		if err := i.line.Leave(ctx, id); err != nil {
			i.log.Warn("give the leases back", "error", err)
		}
	}
	i.line.Close(ctx)
}
