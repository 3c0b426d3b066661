package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"time"

	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
)

// The records of a simulation: the rules of internal/service/records/{lease,run,attempt}.go once more, in memory, under the clock of the bubble.

type simRun struct {
	records.Run
	instance int64
	made     []provision.Made
}

type simLease struct {
	instance, epoch int64
}

type simJob struct {
	run      int64
	priority int
}

// simSite is a site as the records have it.
type simSite struct {
	name, folder, folderID, database string
	run                              int64
	copies                           []simSite // safety copies
}

type simWorld struct {
	mu        sync.Mutex
	rand      *rand.Rand
	next      int64
	expires   map[int64]time.Time // of instances
	leases    map[string]simLease
	runs      map[int64]*simRun
	jobs      []simJob
	sites     map[string]simSite
	folders   map[string]string // name to identity
	databases map[string]bool
	late      []provision.Made // that an overtaken attempt may make after its run was cleaned up
	nodes     []*simNode
	listeners map[chan [2]any]bool
	trace     []string
}

func (w *simWorld) number() int64 { w.next++; return w.next }

func (w *simWorld) upTo(d time.Duration) time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return time.Duration(w.rand.Int64N(int64(d) + 1))
}

func (w *simWorld) note(format string, args ...any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.trace = append(w.trace, fmt.Sprintf("%8.3f ", time.Since(simStart).Seconds())+fmt.Sprintf(format, args...))
}

var simStart = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC) // of every bubble

// errSimAway is what a node hears that the records do not answer.
type errSimAway struct{}

func (errSimAway) Error() string   { return "the records are away" }
func (errSimAway) Timeout() bool   { return false }
func (errSimAway) Temporary() bool { return true }

// simNode is an instance of the service: what it asks for waits while it stands still, fails while it is cut off, and is never answered once it
// is dead.
type simNode struct {
	*simWorld
	of    int
	still time.Time // it stands still until then
	cut   time.Time // the records do not answer it until then
	dead  bool
}

// pass is passed by everything that a node does outside of itself.
func (n *simNode) pass() {
	for {
		n.mu.Lock()
		wait, dead := time.Until(n.still), n.dead
		n.mu.Unlock()
		if dead {
			runtime.Goexit()
		}
		if wait <= 0 {
			return
		}
		time.Sleep(wait)
	}
}

// ask does something in the records at one moment. The answer may be lost though it was done.
func (n *simNode) ask(ctx context.Context, do func() error) error {
	if ctx.Value(simTx{}) != nil {
		return do()
	}
	reached := func() bool {
		n.mu.Lock()
		defer n.mu.Unlock()
		return time.Now().After(n.cut)
	}
	time.Sleep(n.upTo(2 * time.Millisecond))
	n.pass()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if !reached() {
		time.Sleep(n.upTo(100 * time.Millisecond))
		return errSimAway{}
	}
	n.mu.Lock()
	err := do()
	n.mu.Unlock()
	n.pass()
	if !reached() {
		return errSimAway{}
	}
	return err
}

type simTx struct{}

type simClaim struct {
	run     int64
	attempt int
	lease   string
	epoch   int64
}

type simClaimKey struct{}

func simClaimOf(ctx context.Context) simClaim { c, _ := ctx.Value(simClaimKey{}).(simClaim); return c }

func (w *simWorld) alive(instance int64) bool {
	t, is := w.expires[instance]
	return is && t.After(time.Now())
}

// counts is nil while what was claimed was not claimed by another since.
func (w *simWorld) counts(ctx context.Context) error {
	c := simClaimOf(ctx)
	switch {
	case c.run != 0 && w.runs[c.run].Attempt != c.attempt, c.lease != "" && w.leases[c.lease].epoch != c.epoch:
		return records.ErrOvertaken
	}
	return nil
}

func (n *simNode) Tx(ctx context.Context, do func(ctx context.Context) error) error {
	return n.ask(ctx, func() error {
		if err := n.counts(ctx); err != nil {
			return err
		}
		return do(context.WithValue(ctx, simTx{}, true))
	})
}

func (n *simNode) Claimed(ctx context.Context) error {
	return n.ask(ctx, func() error {
		c := simClaimOf(ctx)
		if err := n.counts(ctx); err != nil {
			return err
		}
		if c.run != 0 && (n.runs[c.run].Status != records.Working || !n.alive(n.runs[c.run].instance)) {
			return records.ErrOvertaken
		}
		return nil
	})
}

func (w *simWorld) takeLease(instance int64, target string) (int64, error) {
	if !w.alive(instance) {
		return 0, records.ErrNotAlive
	}
	if l, held := w.leases[target]; held && w.alive(l.instance) {
		return 0, records.ErrHeld
	}
	epoch := w.number()
	w.leases[target] = simLease{instance, epoch}
	return epoch, nil
}

func (w *simWorld) blocked(target string, but int64) bool {
	for _, r := range w.runs {
		if r.Target == target && r.ID != but && (r.Status == records.Working || r.Status == records.Waiting && r.Committed) {
			return true
		}
	}
	return false
}

func (n *simNode) TakeLease(ctx context.Context, instance int64, target string) (held context.Context, epoch int64, err error) {
	err = n.ask(ctx, func() (err error) {
		if n.blocked(target, 0) {
			return records.ErrHeld
		}
		epoch, err = n.takeLease(instance, target)
		return err
	})
	return context.WithValue(ctx, simClaimKey{}, simClaim{lease: target, epoch: epoch}), epoch, err
}

func (n *simNode) ReleaseLease(ctx context.Context, target string, epoch int64) (waits int64, err error) {
	err = n.ask(ctx, func() error {
		if n.leases[target].epoch == epoch {
			delete(n.leases, target)
		}
		for _, r := range n.sorted() {
			if r.Target == target && (r.Status == records.Waiting || r.Aside && n.open(r.ID) == 0) {
				waits = r.ID
				break
			}
		}
		return nil
	})
	return waits, err
}

func (w *simWorld) sorted() []*simRun {
	var out []*simRun
	for _, r := range w.runs {
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b *simRun) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

func (w *simWorld) open(parent int64) (n int) {
	for _, r := range w.runs {
		if r.ParentID != nil && *r.ParentID == parent && r.EndedAt == nil {
			n++
		}
	}
	return n
}

func (n *simNode) Run(ctx context.Context, id int64) (r records.Run, err error) {
	err = n.ask(ctx, func() error {
		r = n.runs[id].Run
		return nil
	})
	return r, err
}

func (n *simNode) AddRun(ctx context.Context, r records.Run) (id int64, isNew bool, err error) {
	err = n.ask(ctx, func() error {
		for _, other := range n.runs {
			if r.ParentID != nil && other.ParentID != nil && *other.ParentID == *r.ParentID && other.Purpose == r.Purpose {
				id = other.ID
				return nil
			}
		}
		r.ID, r.Status, r.CreatedAt, isNew = n.number(), records.Waiting, time.Now(), true
		n.runs[r.ID], id = &simRun{Run: r}, r.ID
		return nil
	})
	return id, isNew, err
}

func (n *simNode) StartRun(ctx context.Context, instance int64, run records.Run) (held context.Context, started records.Run, epoch int64, err error) {
	err = n.ask(ctx, func() (err error) {
		r := n.runs[run.ID]
		if n.blocked(run.Target, run.ID) {
			return records.ErrHeld
		}
		if r.Status != records.Waiting && !r.Aside {
			return records.ErrNotFound
		}
		if epoch, err = n.takeLease(instance, run.Target); err != nil {
			return err
		}
		r.Status, r.Aside, r.instance = records.Working, false, instance
		r.Attempt++
		started = r.Run
		return nil
	})
	return context.WithValue(ctx, simClaimKey{}, simClaim{run: run.ID, attempt: started.Attempt}), started, epoch, err
}

func (n *simNode) TakeOver(ctx context.Context, instance, id int64) (held context.Context, run records.Run, err error) {
	err = n.ask(ctx, func() error {
		r := n.runs[id]
		if r.Status != records.Working || r.Aside || n.alive(r.instance) || !n.alive(instance) {
			return records.ErrNotFound
		}
		r.Attempt++
		r.instance, run = instance, r.Run
		return nil
	})
	return context.WithValue(ctx, simClaimKey{}, simClaim{run: id, attempt: run.Attempt}), run, err
}

// change changes a run, unless its attempt was overtaken.
func (n *simNode) change(ctx context.Context, id int64, do func(r *simRun)) error {
	return n.ask(ctx, func() error {
		if c := simClaimOf(ctx); c.run == id {
			if err := n.counts(ctx); err != nil {
				return err
			}
		}
		do(n.runs[id])
		return nil
	})
}

func (n *simNode) SetAside(ctx context.Context, id int64, p records.Progress, result any) error {
	text, _ := json.Marshal(result)
	return n.change(ctx, id, func(r *simRun) { r.Aside, r.instance, r.Result, r.Progress = true, 0, text, p })
}

func (n *simNode) PutBack(ctx context.Context, id int64, committed bool) error {
	return n.change(ctx, id, func(r *simRun) { r.Status, r.instance, r.Error, r.Committed = records.Waiting, 0, "", committed })
}

func (n *simNode) Interrupted(ctx context.Context, id int64, committed bool) error {
	return n.change(ctx, id, func(r *simRun) {
		r.Status, r.instance, r.Error, r.Committed = records.Waiting, 0, "", committed
		r.Interruptions++
	})
}

func (n *simNode) FailCleanup(ctx context.Context, id int64, sentence string) error {
	return n.change(ctx, id, func(r *simRun) { r.Error, r.Committed, r.CancelAsked, r.instance = sentence, false, false, 0 })
}

func (n *simNode) LeaveRun(ctx context.Context, id int64) error {
	return n.change(ctx, id, func(r *simRun) { r.instance = 0 })
}

func (n *simNode) LeaveRuns(ctx context.Context, instance int64, mine []int64) (left int64, err error) {
	err = n.ask(ctx, func() error {
		for _, r := range n.runs {
			if r.instance == instance && r.Status == records.Working && !r.Aside && !slices.Contains(mine, r.ID) {
				r.instance = 0
				left++
			}
		}
		return nil
	})
	return left, err
}

func (n *simNode) EndRun(ctx context.Context, id int64, status string, result any, sentence string) (goesOn int64, err error) {
	text, _ := json.Marshal(result)
	err = n.change(ctx, id, func(r *simRun) {
		now := time.Now()
		r.Status, r.instance, r.Error, r.Result, r.EndedAt, r.Aside = status, 0, sentence, text, &now, false
		if r.ParentID != nil && n.runs[*r.ParentID].Aside && n.open(*r.ParentID) == 0 {
			goesOn = *r.ParentID
		}
	})
	return goesOn, err
}

func (n *simNode) CommitRun(ctx context.Context, id int64) (ok bool, err error) {
	err = n.change(ctx, id, func(r *simRun) {
		r.Committed = r.Committed || !r.CancelAsked
		ok = r.Committed
	})
	return ok, err
}

func (n *simNode) AskCancel(ctx context.Context, id int64) error {
	return n.ask(ctx, func() error {
		for _, r := range n.runs {
			mine := r.ID == id || r.ParentID != nil && *r.ParentID == id
			if !mine || r.EndedAt != nil || r.Committed {
				continue
			}
			if r.CancelAsked = true; r.Status == records.Waiting {
				now := time.Now()
				r.Status, r.EndedAt = records.Cancelled, &now
			}
			for l := range n.listeners {
				select {
				case l <- [2]any{"cancel", r.ID}:
				default:
				}
			}
		}
		return nil
	})
}

func (n *simNode) InterruptedRuns(ctx context.Context, cleanup bool) (out []records.Run, err error) {
	err = n.ask(ctx, func() error {
		for _, r := range n.sorted() {
			if r.Status == records.Working && !r.Aside && !n.alive(r.instance) && (cleanup || r.Error == "") {
				out = append(out, r.Run)
			}
		}
		return nil
	})
	return out, err
}

func (n *simNode) UnqueuedRuns(ctx context.Context) (out []records.Run, err error) {
	err = n.ask(ctx, func() error {
		for _, r := range n.sorted() {
			can := r.Status == records.Waiting && time.Since(r.CreatedAt) > 2*time.Second || r.Aside && n.open(r.ID) == 0
			l, held := n.leases[r.Target]
			if can && !n.blocked(r.Target, r.ID) && !(held && n.alive(l.instance)) &&
				!slices.ContainsFunc(n.jobs, func(j simJob) bool { return j.run == r.ID }) {
				out = append(out, r.Run)
			}
		}
		return nil
	})
	return out, err
}

func (n *simNode) CancelAsked(ctx context.Context, ids []int64) (out []int64, err error) {
	err = n.ask(ctx, func() error {
		for _, id := range ids {
			if r := n.runs[id]; r.CancelAsked && !r.Committed {
				out = append(out, id)
			}
		}
		return nil
	})
	return out, err
}

func (n *simNode) RunOpen(context.Context, string) (bool, error) { return false, nil }
func (n *simNode) AddLog(ctx context.Context, _ int64, _ string) error {
	return n.ask(ctx, func() error { return nil })
}
func (n *simNode) SetProgress(context.Context, int64, records.Progress) error {
	n.pass()
	return nil
}
func (n *simNode) SetProgressOfParent(context.Context, int64) error { return nil }

func (n *simNode) Made(ctx context.Context, id int64) (made []provision.Made, err error) {
	err = n.ask(ctx, func() error {
		made = slices.Clone(n.runs[id].made)
		return nil
	})
	return made, err
}

// simQueue is the queue of all nodes, as one of them sees it.
type simQueue struct {
	*simNode
	work    func(ctx context.Context, run int64) error
	workers int
	end     context.CancelFunc
	all     sync.WaitGroup
}

func (q *simQueue) Insert(ctx context.Context, run int64, priority int) error {
	return q.ask(ctx, func() error {
		q.jobs = append(q.jobs, simJob{run, priority})
		slices.SortStableFunc(q.jobs, func(a, b simJob) int { return cmp.Compare(a.priority, b.priority) })
		return nil
	})
}

func (q *simQueue) Start(ctx context.Context) error {
	ctx, q.end = context.WithCancel(ctx)
	for range q.workers {
		q.all.Go(func() {
			for ctx.Err() == nil {
				var run int64
				err := q.ask(ctx, func() error {
					if len(q.jobs) > 0 {
						run, q.jobs = q.jobs[0].run, q.jobs[1:]
					}
					return nil
				})
				if err == nil && run != 0 {
					q.work(context.WithoutCancel(ctx), run)
					continue
				}
				select {
				case <-time.After(500 * time.Millisecond):
				case <-ctx.Done():
				}
			}
		})
	}
	return nil
}

func (q *simQueue) Stop(ctx context.Context) error {
	q.end()
	ended := make(chan struct{})
	go func() {
		q.all.Wait()
		close(ended)
	}()
	select {
	case <-ended:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// simLine is a line of a node to the records.
type simLine struct{ *simNode }

func (l simLine) Begin(ctx context.Context, _ bool) (id int64, err error) {
	err = l.ask(ctx, func() error {
		id = l.next + 1
		l.next++
		l.expires[id] = time.Now().Add(records.LeaseFor)
		return nil
	})
	return id, err
}

func (l simLine) Renew(ctx context.Context, instance int64) error {
	return l.ask(ctx, func() error {
		if !l.alive(instance) {
			return records.ErrNotAlive
		}
		l.expires[instance] = time.Now().Add(records.LeaseFor)
		return nil
	})
}

func (l simLine) Leave(ctx context.Context, instance int64) error {
	return l.ask(ctx, func() error {
		delete(l.expires, instance)
		for name, lease := range l.leases {
			if lease.instance == instance {
				delete(l.leases, name)
			}
		}
		return nil
	})
}

func (l simLine) Hear(ctx context.Context, heard func(channel string, run int64)) error {
	ch := make(chan [2]any, 8)
	l.mu.Lock()
	l.listeners[ch] = true
	l.mu.Unlock()
	defer func() {
		l.mu.Lock()
		delete(l.listeners, ch)
		l.mu.Unlock()
	}()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case event := <-ch:
			l.pass()
			heard(event[0].(string), event[1].(int64))
		}
	}
}

func (simLine) Close(context.Context) {}
