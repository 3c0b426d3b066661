package engine

import (
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

// work is a job that a test makes up.
type work struct {
	Do      func(ctx context.Context, run Run, report progress.Reporter) (any, error)
	Recover func(ctx context.Context, run Run) (Outcome, error)
	Leaves  string
}

// runner is an engine whose jobs a test makes up.
func runner(t *testing.T, db *records.DB, jobs map[string]work) *Engine {
	t.Helper()
	e, err := New(db, slog.New(slog.DiscardHandler), Options{Alone: true})
	require.NoError(t, err)
	for name, w := range jobs {
		j := Job[struct{}, any]{Name: name, Leaves: w.Leaves, Do: func(ctx context.Context, run Run, _ struct{}, report progress.Reporter) (any,
			error) {
			return w.Do(ctx, run, report)
		}}
		if w.Recover != nil {
			j.Recover = func(ctx context.Context, run Run, _ struct{}) (Outcome, error) { return w.Recover(ctx, run) }
		}
		Add(e, j)
	}
	require.NoError(t, e.Begin(context.Background()))
	t.Cleanup(func() {
		if t.Failed() { // and did not end it
			e.End(context.Background())
		}
	})
	return e
}

func begin(t *testing.T, r *Engine, job, target string) records.Run {
	run, err := r.Start(context.Background(), records.Run{Job: job, Title: job, Target: target, Who: "ines"}, struct{}{})
	require.NoError(t, err)
	return run
}

// over waits until a run has one of the statuses.
func over(t *testing.T, db *records.DB, id int64, statuses ...string) records.Run {
	t.Helper()
	var run records.Run
	require.Eventually(t, func() bool {
		var err error
		run, err = db.Run(context.Background(), id)
		require.NoError(t, err)
		for _, s := range statuses {
			if run.Status == s {
				return true
			}
		}
		return false
	}, 40*time.Second, 10*time.Millisecond)
	return run
}

func TestRunsKeepProgressResultAndReason(t *testing.T) {
	db := recordstest.Open(t)
	r := runner(t, db, map[string]work{
		"good": {Do: func(_ context.Context, _ records.Run, report progress.Reporter) (any, error) {
			report.Step("First", progress.Amount{Files: 2, Bytes: 100})
			report.Add(progress.Amount{Files: 2, Bytes: 200})
			report.Note("something was odd")
			report.Step("Second", progress.Amount{})
			return map[string]int{"answer": 42}, nil
		}},
		"bad": {Do: func(context.Context, records.Run, progress.Reporter) (any, error) {
			return nil, errors.New("the disk is full")
		}},
		"panic": {Do: func(context.Context, records.Run, progress.Reporter) (any, error) { panic("oh") }},
	})
	defer r.End(context.Background())
	run := over(t, db, begin(t, r, "good", "a").ID, records.Done)
	require.JSONEq(t, `{"answer":42}`, string(run.Result))
	require.Equal(t, int64(2), run.Progress.Done.Files)
	require.LessOrEqual(t, run.Progress.Fraction, 0.99, "it never claims all while it works")
	require.Equal(t, []string{"First", "Second"}, []string{run.Progress.Steps[0].Name, run.Progress.Steps[1].Name})
	require.Positive(t, run.Progress.Steps[1].Millis)
	log, err := db.Log(context.Background(), run.ID, 0, 10)
	require.NoError(t, err)
	require.Equal(t, "something was odd", log[0].Sentence)
	require.Equal(t, "the disk is full", over(t, db, begin(t, r, "bad", "b").ID, records.Failed).Error)
	require.Contains(t, over(t, db, begin(t, r, "panic", "c").ID, records.Failed).Error, "a fault in Nest Seed itself")
	_, err = r.Start(context.Background(), records.Run{Job: "unknown"}, nil)
	require.Error(t, err)
}

func TestOneRunATimeWorksOnATarget(t *testing.T) {
	db := recordstest.Open(t)
	var at, most atomic.Int32
	r := runner(t, db, map[string]work{"slow": {Do: func(context.Context, records.Run, progress.Reporter) (any, error) {
		n := at.Add(1)
		most.Store(max(most.Load(), n))
		time.Sleep(300 * time.Millisecond)
		at.Add(-1)
		return nil, nil
	}}})
	defer r.End(context.Background())
	var ids []int64
	for range 3 {
		ids = append(ids, begin(t, r, "slow", "the same").ID)
	}
	for _, id := range ids {
		over(t, db, id, records.Done)
	}
	require.Equal(t, int32(1), most.Load())
}

func TestCancellingReachesWorkThatWaitsAndWorkThatWorks(t *testing.T) {
	db := recordstest.Open(t)
	working := make(chan struct{})
	r := runner(t, db, map[string]work{"long": {Do: func(ctx context.Context, _ records.Run, _ progress.Reporter) (any, error) {
		close(working)
		<-ctx.Done()
		return nil, ctx.Err()
	}}})
	defer r.End(context.Background())
	first := begin(t, r, "long", "x")
	<-working
	second := begin(t, r, "long", "x")
	require.NoError(t, r.Cancel(context.Background(), second.ID))
	over(t, db, second.ID, records.Cancelled)
	require.NoError(t, r.Cancel(context.Background(), first.ID))
	require.Contains(t, over(t, db, first.ID, records.Cancelled).Error, "cancelled")
	require.ErrorIs(t, r.Cancel(context.Background(), first.ID), records.ErrNotFound, "it is over")
}

func TestWorkThatIsCommittedIsEnded(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	at, on := make(chan struct{}), make(chan struct{})
	r := runner(t, db, map[string]work{
		"committed": {Do: func(ctx context.Context, run records.Run, _ progress.Reporter) (any, error) {
			ctx, err := (&Engine{db: db}).Commit(ctx, run)
			at <- struct{}{}
			<-on
			return "all of it", errors.Join(err, ctx.Err())
		}},
		"too late": {Leaves: "half of it stays", Do: func(ctx context.Context, run records.Run, _ progress.Reporter) (any, error) {
			at <- struct{}{}
			<-on
			_, err := (&Engine{db: db}).Commit(ctx, run)
			return "half", err
		}},
	})
	defer r.End(ctx)
	run := begin(t, r, "committed", "x")
	<-at
	require.ErrorIs(t, r.Cancel(ctx, run.ID), records.ErrNotFound)
	on <- struct{}{}
	require.JSONEq(t, `"all of it"`, string(over(t, db, run.ID, records.Done).Result))
	run = begin(t, r, "too late", "x")
	<-at
	require.NoError(t, r.Cancel(ctx, run.ID))
	on <- struct{}{}
	ended := over(t, db, run.ID, records.Cancelled)
	require.Equal(t, "cancelled; half of it stays", ended.Error)
	require.JSONEq(t, `"half"`, string(ended.Result), "what it came to is told")
}

// What cannot be taken back keeps its run and its target, until it can be, or somebody gives it up.
func TestWhatCouldNotBeTakenBackIsTriedAgain(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	var answers, cancelled atomic.Bool
	working := make(chan struct{})
	sorts := func() map[string]work {
		return map[string]work{
			"make": {Do: func(ctx context.Context, _ records.Run, _ progress.Reporter) (any, error) {
				if cancelled.Load() {
					working <- struct{}{}
					<-ctx.Done()
				}
				return nil, fmt.Errorf("the server has gone: %w", ErrCleanup)
			}, Recover: func(context.Context, records.Run) (Outcome, error) {
				if !answers.Load() {
					return TakenBack, errors.New("it does not answer")
				}
				return TakenBack, nil
			}},
			"other": {Do: func(context.Context, records.Run, progress.Reporter) (any, error) { return nil, nil }},
		}
	}
	r := runner(t, db, sorts())
	uncleaned := func() records.Run {
		run := begin(t, r, "make", "x")
		if cancelled.Load() {
			<-working
			require.NoError(t, r.Cancel(ctx, run.ID))
		}
		require.Eventually(t, func() bool {
			run, _ = db.Run(ctx, run.ID)
			return run.Error != ""
		}, 40*time.Second, 10*time.Millisecond)
		require.Equal(t, records.Working, run.Status)
		return run
	}
	run := uncleaned()
	require.NoError(t, r.recover(ctx, true))
	other := begin(t, r, "other", "x")
	time.Sleep(200 * time.Millisecond)
	over(t, db, other.ID, records.Waiting)
	answers.Store(true)
	require.NoError(t, r.recover(ctx, true))
	require.Equal(t, "the server has gone: what was made could not be taken back; what the run had made was taken back since",
		over(t, db, run.ID, records.Failed).Error)
	over(t, db, other.ID, records.Done)

	answers.Store(false)
	cancelled.Store(true) // which asks for it to be taken back, and not yet for it to be given up
	run = uncleaned()
	require.Eventually(t, func() bool { return r.recoverRun(ctx, run) != nil }, 40*time.Second, 10*time.Millisecond,
		"once its worker has let it go")
	over(t, db, run.ID, records.Working)
	require.NoError(t, r.Cancel(ctx, run.ID))
	require.Contains(t, over(t, db, run.ID, records.Failed).Error, "given up; what the run had made may still be there")

	// One whose process died and that cannot be taken back yet says so.
	require.NoError(t, r.End(ctx))
	_, err := db.Pool.Exec(ctx, "UPDATE runs SET status = 'working', error = '', cancel_asked = false WHERE id = $1", run.ID)
	require.NoError(t, err)
	r = runner(t, db, sorts())
	defer r.End(ctx)
	require.Eventually(t, func() bool {
		run, err = db.Run(ctx, run.ID)
		require.NoError(t, err)
		return run.Error != ""
	}, 40*time.Second, 10*time.Millisecond)
	require.Equal(t, "the service was interrupted, and what the run had made could not be taken back: it does not answer", run.Error)
	log, err := db.Log(ctx, run.ID, 0, 10)
	require.NoError(t, err)
	require.Contains(t, log[len(log)-1].Sentence, "tried again every minute")
}

func TestWorkIsPutBackWhenTheServiceEndsAndDoneByTheNext(t *testing.T) {
	db := recordstest.Open(t)
	var once sync.Once
	working := make(chan struct{})
	sorts := func() map[string]work {
		return map[string]work{"long": {Do: func(ctx context.Context, _ records.Run, _ progress.Reporter) (any, error) {
			first := false
			once.Do(func() { first = true; close(working) })
			if first {
				<-ctx.Done()
				return nil, ctx.Err()
			}
			return "done by the next", nil
		}}}
	}
	r := runner(t, db, sorts())
	run := begin(t, r, "long", "x")
	<-working
	require.NoError(t, r.End(context.Background()))
	over(t, db, run.ID, records.Waiting)
	next := runner(t, db, sorts())
	defer next.End(context.Background())
	require.JSONEq(t, `"done by the next"`, string(over(t, db, run.ID, records.Done).Result))
}

func TestARunWhoseProcessDiedIsRecoveredByItsSort(t *testing.T) {
	ctx := context.Background()
	db := recordstest.Open(t)
	for outcome, want := range map[Outcome]string{TakenBack: records.Failed, Finished: records.Done, Again: records.Done,
		Onward: records.Done} {
		recovered := false
		sorts := map[string]work{"build": {
			Do: func(context.Context, records.Run, progress.Reporter) (any, error) { return nil, nil },
			Recover: func(context.Context, records.Run) (Outcome, error) {
				recovered = true
				return outcome, nil
			},
		}}
		// A run that says it works while nobody holds its lock is what a killed process leaves.
		var id int64
		require.NoError(t, db.Pool.QueryRow(ctx,
			"INSERT INTO runs (job, title, target, who, args, status) VALUES ('build', 'b', $1, 'ines', '{}', 'working') "+
				"RETURNING id", want).Scan(&id))
		r := runner(t, db, sorts)
		over(t, db, id, want)
		require.True(t, recovered)
		require.NoError(t, r.End(ctx))
	}
}

func TestTheFractionFollowsTheStagesOfTheWork(t *testing.T) {
	tr := &tracker{to: 1, started: time.Now()}
	at := time.Now()
	fraction := func() float64 {
		at = at.Add(300 * time.Millisecond)
		tr.estimate(at)
		return tr.p.Fraction
	}
	tr.Stage(0, 0.5)
	tr.p.Expected = progress.Amount{Files: 10, Bytes: 100}
	require.Zero(t, fraction())
	tr.Add(progress.Amount{Files: 1, Bytes: 50})
	require.InDelta(t, 0.25, fraction(), 0.001, "half of the bytes of half of the work")
	tr.Add(progress.Amount{Files: 9, Bytes: 90})
	require.InDelta(t, 0.5, fraction(), 0.001, "there was more than was expected, and the second half is still to come")
	tr.Stage(0.5, 1)
	require.InDelta(t, 0.5, fraction(), 0.001)
	tr.p.Expected = tr.p.Expected.Plus(progress.Amount{Files: 4})
	tr.Add(progress.Amount{Files: 2})
	require.InDelta(t, 0.75, fraction(), 0.001)
	require.Positive(t, tr.p.LeftSecs)
	tr.Add(progress.Amount{Files: 20})
	require.InDelta(t, 0.99, fraction(), 0.001, "it never claims all while it works")
}

func TestOfManyThatLookAtOnceOneStartsWhatIsDue(t *testing.T) {
	db := recordstest.Open(t)
	var done atomic.Int32
	hold := make(chan struct{})
	jobs := map[string]work{"sweep": {Do: func(context.Context, records.Run, progress.Reporter) (any, error) {
		<-hold
		done.Add(1)
		return nil, nil
	}}}
	r := runner(t, db, jobs)
	defer r.End(context.Background())
	sweep := records.Run{Job: "sweep", Title: "Sweep", Target: "store", Who: "Nest Seed"}
	due := func(is bool) func(context.Context) (bool, error) {
		return func(context.Context) (bool, error) { return is, nil }
	}
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() { require.NoError(t, r.StartDue(context.Background(), sweep, struct{}{}, due(true))) })
	}
	all.Wait()
	runs, err := db.Runs(context.Background(), 0, 10)
	require.NoError(t, err)
	require.Len(t, runs, 1, "while it waits or works, nobody starts another")
	close(hold)
	over(t, db, runs[0].ID, records.Done)

	require.NoError(t, r.StartDue(context.Background(), sweep, struct{}{}, due(false)))
	broken := errors.New("the records are away")
	require.Eventually(t, func() bool { // PostgreSQL gives a lock free when it notices that its connection was closed
		return errors.Is(r.StartDue(context.Background(), sweep, struct{}{}, func(context.Context) (bool, error) { return true, broken }), broken)
	}, 10*time.Second, 20*time.Millisecond)
	runs, err = db.Runs(context.Background(), 0, 10)
	require.NoError(t, err)
	require.Len(t, runs, 1, "nothing was due")
	require.Eventually(t, func() bool {
		require.NoError(t, r.StartDue(context.Background(), sweep, struct{}{}, due(true)))
		runs, err = db.Runs(context.Background(), 0, 10)
		require.NoError(t, err)
		return len(runs) == 2
	}, 10*time.Second, 20*time.Millisecond)
	over(t, db, runs[0].ID, records.Done)
	require.Equal(t, int32(2), done.Load())
}

func TestWhatARunLeftOfItsOwnGoesBeforeItsJobRecoversIt(t *testing.T) {
	db := recordstest.Open(t)
	ctx := context.Background()
	killed := records.Run{Job: "build", Title: "Build", Target: "starter music-base", Who: "ines"}
	first, err := New(db, slog.New(slog.DiscardHandler), Options{Alone: true})
	require.NoError(t, err)
	Add(first, Job[struct{}, any]{Name: "build"})
	run, err := first.Start(ctx, killed, struct{}{})
	require.NoError(t, err)
	_, err = db.Pool.Exec(ctx, "UPDATE runs SET status = 'working', attempt = 1 WHERE id = $1", run.ID)
	require.NoError(t, err)

	var order []string
	var mu sync.Mutex
	note := func(what string) {
		mu.Lock()
		defer mu.Unlock()
		order = append(order, what)
	}
	second, err := New(db, slog.New(slog.DiscardHandler), Options{Alone: true, Interrupted: func(id int64) error {
		require.Equal(t, run.ID, id)
		note("its draft goes")
		return nil
	}})
	require.NoError(t, err)
	Add(second, Job[struct{}, any]{Name: "build",
		Do: func(context.Context, Run, struct{}, progress.Reporter) (any, error) {
			note("begins again")
			return nil, nil
		},
		Recover: func(context.Context, Run, struct{}) (Outcome, error) {
			note("its job recovers it")
			return Again, nil
		}})
	require.NoError(t, second.Begin(ctx))
	defer second.End(ctx)
	over(t, db, run.ID, records.Done)
	mu.Lock()
	defer mu.Unlock()
	require.Equal(t, []string{"its draft goes", "its job recovers it", "begins again"}, order)
}
