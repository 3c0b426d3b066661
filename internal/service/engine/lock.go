package engine

import (
	"context"
	"fmt"
	"hash/fnv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// The first half of a lock's number says what is locked.
const (
	lockTarget = 0x74617267
	lockRun    = 0x72756e00

	lockSchedule = 0x73636865
)

func targetKey(target string) int32 {
	h := fnv.New32a()
	h.Write([]byte(target))
	return int32(h.Sum32())
}

// lock is advisory locks of one session (PostgreSQL manual, 13.3.5). They end with it, so a killed process leaves none.
type lock struct {
	conn  *pgxpool.Conn
	watch sync.WaitGroup
	end   context.CancelFunc // of watching
}

// How often a session is asked whether it is still there, and how long it may take to answer. Together they are less than
// staleAfter, so that a run has stopped before another attempt begins. A machine may stand still for some seconds without its runs
// being lost.
const (
	beatEvery  = 2 * time.Second
	beatWithin = 10 * time.Second
	staleAfter = 20 * time.Second
)

func (e *Engine) newLock(ctx context.Context) (*lock, error) {
	conn, err := e.db.Pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	return &lock{conn: conn}, nil
}

// try takes a lock if nobody has it.
func (l *lock) try(ctx context.Context, class, key int32) (ok bool, err error) {
	err = l.conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1, $2)", class, key).Scan(&ok)
	return ok, err
}

// follow asks the session now and then, by beat, whether all is well, and calls lost when it is not. No lock may be taken
// any more after it.
func (l *lock) follow(beat func(ctx context.Context, conn *pgxpool.Conn) error, lost func(error)) {
	ctx, end := context.WithCancel(context.Background())
	l.end = end
	l.watch.Go(func() {
		tick := time.NewTicker(beatEvery)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
			within, cancel := context.WithTimeout(ctx, beatWithin)
			err := beat(within, l.conn)
			cancel()
			if ctx.Err() != nil {
				return
			}
			if err != nil {
				lost(err)
				return
			}
		}
	})
}

// alive reports whether the session is still there.
func (l *lock) alive() bool {
	l.stop()
	ctx, cancel := context.WithTimeout(context.Background(), beatWithin)
	defer cancel()
	return l.conn.Ping(ctx) == nil
}

func (l *lock) stop() {
	if l.end != nil {
		l.end()
	}
	l.watch.Wait()
}

// release ends the session: the one way that cannot leave a lock behind.
func (l *lock) release() {
	l.stop()
	ctx, cancel := context.WithTimeout(context.Background(), beatWithin)
	defer cancel()
	l.conn.Hijack().Close(ctx)
}

// lockWait is how long a request waits for somebody else's short work.
const lockWait = 3 * time.Second

// WithLock does something short with a target while nobody else works on it. The context that do gets ends when the lock is
// lost. Errors: ErrBusy, when a run works there.
func (e *Engine) WithLock(ctx context.Context, target string, do func(ctx context.Context) error) error {
	l, err := e.newLock(ctx)
	if err != nil {
		return err
	}
	defer l.release()
	for deadline := time.Now().Add(lockWait); ; {
		free, err := e.takeTarget(ctx, l, target, 0)
		if err != nil {
			return err
		}
		if free {
			break
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s %w; wait for the run to end, or cancel it", target, ErrBusy)
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	l.follow(func(ctx context.Context, conn *pgxpool.Conn) error { return conn.Ping(ctx) }, func(error) { cancel(errLost) })
	return do(ctx)
}

// takeTarget takes a target's lock for a run, or for none, unless another run works there or was not recovered yet.
func (e *Engine) takeTarget(ctx context.Context, l *lock, target string, runID int64) (bool, error) {
	if ok, err := l.try(ctx, lockTarget, targetKey(target)); err != nil || !ok {
		return false, err
	}
	taken, err := e.db.TargetTaken(ctx, target, runID)
	if (err != nil || taken) && runID == 0 {
		_, unlockErr := l.conn.Exec(ctx, "SELECT pg_advisory_unlock($1, $2)", lockTarget, targetKey(target))
		if err == nil {
			err = unlockErr
		}
	}
	return err == nil && !taken, err
}
