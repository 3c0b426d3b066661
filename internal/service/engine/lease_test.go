package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

// copyOf is another instance of the service on the same records, with the same jobs.
func copyOf(t *testing.T, db *records.DB, jobs map[string]work) *Engine {
	t.Helper()
	e, err := New(db, slog.New(slog.DiscardHandler), Options{})
	require.NoError(t, err)
	for name, w := range jobs {
		j := Job[struct{}, any]{Name: name, Do: func(ctx context.Context, run Run, _ struct{}, report progress.Reporter) (any, error) {
			return w.Do(ctx, run, report)
		}}
		if w.Recover != nil {
			j.Recover = func(ctx context.Context, run Run, _ struct{}) (Outcome, error) { return w.Recover(ctx, run) }
		}
		Add(e, j)
	}
	require.NoError(t, e.Begin(context.Background()))
	return e
}

// expire ends the leases of an instance as the clock of the records' server does, while the instance does not notice.
func expire(t *testing.T, db *records.DB, e *Engine) {
	t.Helper()
	id, _, err := e.instance.now()
	require.NoError(t, err)
	_, err = db.Pool.Exec(context.Background(), "UPDATE instances SET expires_at = now() - interval '1 ms' WHERE id = $1", id)
	require.NoError(t, err)
}

// One instance stands still in the middle of a run; another takes the run over. The first comes back and must not change anything any more.
func TestWhoComesBackAfterATakeoverChangesNothing(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	standing, back := make(chan struct{}), make(chan struct{})
	var before error
	first := copyOf(t, db, map[string]work{"make": {Do: func(ctx context.Context, run Run, _ progress.Reporter) (any, error) {
		close(standing)
		<-back
		before = db.Claimed(context.WithoutCancel(ctx))
		_, err := (&Engine{db: db}).Commit(context.WithoutCancel(ctx), run)
		return "of the first", errors.Join(err, ErrCleanup)
	}}})
	defer first.End(ctx)
	run := begin(t, first, "make", "site:alder")
	<-standing
	first.stop() // nothing else of it runs either
	expire(t, db, first)
	var recovered atomic.Int32
	second := copyOf(t, db, map[string]work{"make": {
		Do: func(ctx context.Context, run Run, _ progress.Reporter) (any, error) {
			return fmt.Sprint("of attempt ", run.Attempt), db.Claimed(ctx)
		},
		Recover: func(ctx context.Context, _ Run) (Outcome, error) {
			recovered.Add(1)
			return Again, db.Claimed(ctx)
		}}})
	defer second.End(ctx)
	ended := over(t, db, run.ID, records.Done)
	require.JSONEq(t, `"of attempt 3"`, string(ended.Result), "the first, the recovery and this")
	require.EqualValues(t, 1, recovered.Load())
	close(back)
	require.Eventually(t, func() bool {
		first.mu.Lock()
		defer first.mu.Unlock()
		return len(first.cancels) == 0
	}, 40*time.Second, 10*time.Millisecond)
	require.ErrorIs(t, before, records.ErrOvertaken)
	ended, err := db.Run(ctx, run.ID)
	require.NoError(t, err)
	require.Equal(t, []any{records.Done, `"of attempt 3"`, "", false}, []any{ended.Status, string(ended.Result), ended.Error, ended.Committed})
}

func TestAnInstanceThatCannotRenewStopsByItselfAndBeginsAgain(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	stopped := make(chan error, 2)
	began := make(chan int64, 2)
	e := runner(t, db, map[string]work{"long": {Do: func(ctx context.Context, run Run, _ progress.Reporter) (any, error) {
		began <- run.ID
		if run.Attempt > 1 {
			return nil, nil
		}
		<-ctx.Done()
		stopped <- context.Cause(ctx)
		return nil, ctx.Err()
	}}})
	defer e.End(ctx)
	run := begin(t, e, "long", "x")
	<-began
	held := make(chan error)
	go e.WithLock(ctx, "y", func(ctx context.Context) error {
		held <- nil
		<-ctx.Done()
		held <- context.Cause(ctx)
		return db.SetCopyRule(ctx, 1, 0, 0)
	})
	<-held
	old, _, err := e.instance.now()
	require.NoError(t, err)
	expire(t, db, e)
	require.NoError(t, e.instance.renew(ctx), "it has another number then")
	require.ErrorIs(t, <-stopped, errLost)
	require.ErrorIs(t, <-held, errLost)
	now, _, err := e.instance.now()
	require.NoError(t, err)
	require.Greater(t, now, old)
	require.NoError(t, e.Ready())
	over(t, db, run.ID, records.Done)
}

// What stands in a run's way at the clock of its own machine does not matter: only the server's counts, and the monotonic one.
func TestAnInstanceStopsBeforeItsLeasesEnd(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	e, err := New(db, slog.New(slog.DiscardHandler), Options{})
	require.NoError(t, err)
	require.NoError(t, e.instance.join(ctx, false))
	defer e.instance.leave()
	id, alive, err := e.instance.now()
	require.NoError(t, err)
	e.instance.mu.Lock()
	left := time.Until(e.instance.until)
	e.instance.until = time.Now()
	e.instance.line.(*pgLine).config.Port = 1 // the records are away
	e.instance.mu.Unlock()
	var lasts time.Duration
	require.NoError(t, db.Pool.QueryRow(ctx, "SELECT expires_at - clock_timestamp() FROM instances WHERE id = $1", id).Scan(&lasts))
	require.Greater(t, lasts, left+time.Second)
	e.instance.beating <- struct{}{}
	e.instance.line.Close(ctx)
	<-e.instance.beating
	_, _, err = e.instance.now()
	require.ErrorIs(t, err, errLost)
	require.Error(t, e.instance.renew(ctx))
	<-alive.Done()
	require.Error(t, e.Ready())
	require.False(t, e.instance.undisturbed(time.Now().Add(-time.Minute)))
}

func TestManyShortLocksNeedFewConnections(t *testing.T) {
	db := recordstest.Open(t)
	e := runner(t, db, nil)
	defer e.End(context.Background())
	for _, callers := range []int{40, 400} {
		for _, same := range []bool{true, false} {
			var all sync.WaitGroup
			var done, at atomic.Int32
			for i := range callers {
				target := "client:alder"
				if !same {
					target = fmt.Sprint("client:", i)
				}
				all.Go(func() {
					err := e.WithLock(context.Background(), target, func(ctx context.Context) error {
						if same && at.Add(1) != 1 {
							return errors.New("two at once")
						}
						defer at.Add(-1)
						done.Add(1)
						return db.Claimed(ctx) // needs another connection
					})
					require.NoError(t, err)
				})
			}
			all.Wait()
			require.EqualValues(t, callers, done.Load())
		}
	}
	require.NoError(t, e.Ready())
}

// More runs that wait for others than there are workers, and a service that is stopped meanwhile: all end, and nothing is done twice.
func TestRunsThatWaitForOthersHoldNoWorker(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	var children atomic.Int32
	var once sync.Once
	halfway := make(chan struct{})
	var now atomic.Pointer[Engine]
	jobs := map[string]work{
		"table": {Do: func(ctx context.Context, run Run, report progress.Reporter) (any, error) {
			fresh := run.Progress.Step == "" // it begins, or was interrupted
			if fresh {
				report.Step("Make sites", progress.Amount{Files: 5})
			}
			first, open := int64(0), false
			for i := range 5 {
				child, err := now.Load().Start(ctx, Run{Job: "site", Title: "Make site", Target: fmt.Sprint("site:", run.ID, "-", i), Who: run.Who,
					ParentID: &run.ID, Purpose: fmt.Sprint("site ", i)}, struct{}{})
				if err != nil {
					return nil, err
				}
				if first == 0 {
					first = child.ID
				}
				open = open || child.EndedAt == nil
				if fresh && child.EndedAt != nil {
					report.Add(progress.Amount{Files: 1})
				}
			}
			if open {
				return "so far", &Aside{First: first, From: 0, To: 0.5}
			}
			return cmp.Or(string(run.Result), `"so far"`), nil
		}},
		"site": {Do: func(ctx context.Context, _ Run, _ progress.Reporter) (any, error) {
			if children.Add(1) == 10 {
				once.Do(func() { close(halfway) })
			}
			select {
			case <-time.After(20 * time.Millisecond):
			case <-ctx.Done():
				return nil, ctx.Err()
			}
			return nil, nil
		}},
	}
	e := runner(t, db, jobs)
	now.Store(e)
	var parents []Run
	for i := range 2 * DefaultWorkers {
		parents = append(parents, begin(t, e, "table", fmt.Sprint("table:", i)))
	}
	<-halfway
	require.NoError(t, e.End(ctx))
	next := runner(t, db, jobs)
	now.Store(next)
	defer next.End(ctx)
	for _, p := range parents {
		p = over(t, db, p.ID, records.Done)
		require.JSONEq(t, `"\"so far\""`, string(p.Result))
		require.EqualValues(t, 5, p.Progress.Done.Files)
		of, err := db.Children(ctx, p.ID)
		require.NoError(t, err)
		require.Len(t, of, 5)
		for _, child := range of {
			require.Equal(t, records.Done, child.Status)
		}
	}
}

func TestCancellingARunThatWaitsEndsWhatItWaitsFor(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	working := make(chan struct{}, 1)
	var e *Engine
	ready := make(chan struct{})
	e = runner(t, db, map[string]work{
		"parent": {Leaves: "the rest stays", Do: func(ctx context.Context, run Run, _ progress.Reporter) (any, error) {
			<-ready
			child, err := e.Start(context.WithoutCancel(ctx), Run{Job: "child", Title: "child", Target: "c", Who: run.Who, ParentID: &run.ID,
				Purpose: "it"}, struct{}{})
			if err == nil && child.EndedAt == nil {
				err = &Aside{First: child.ID, To: 1}
			}
			return child.Status, errors.Join(err, ctx.Err())
		}},
		"child": {Do: func(ctx context.Context, _ Run, _ progress.Reporter) (any, error) {
			working <- struct{}{}
			<-ctx.Done()
			return nil, ctx.Err()
		}},
	})
	close(ready)
	defer e.End(ctx)
	run := begin(t, e, "parent", "p")
	<-working
	require.NoError(t, e.Cancel(ctx, run.ID))
	run = over(t, db, run.ID, records.Cancelled)
	require.Equal(t, "cancelled; the rest stays", run.Error)
	require.JSONEq(t, `"cancelled"`, string(run.Result))
}

// How long many callers of short locks take together, who all want something else, or all the same.
func BenchmarkShortLocks(b *testing.B) {
	db := recordstest.Open(b)
	e, err := New(db, slog.New(slog.DiscardHandler), Options{Alone: true})
	require.NoError(b, err)
	require.NoError(b, e.Begin(b.Context()))
	defer e.End(context.Background())
	for _, callers := range []int{40, 400, 4000} {
		for _, what := range []string{"same", "own"} {
			b.Run(fmt.Sprint(callers, "-", what), func(b *testing.B) {
				for b.Loop() {
					var all sync.WaitGroup
					for i := range callers {
						target := "client:alder"
						if what == "own" {
							target = fmt.Sprint("client:", i)
						}
						all.Go(func() {
							err := e.WithLock(context.Background(), target, func(ctx context.Context) error { return db.Claimed(ctx) })
							if err != nil {
								b.Error(err)
							}
						})
					}
					all.Wait()
				}
			})
		}
	}
}
