package engine

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/invariants"
	"nestseed/internal/service/records"
)

var (
	histories = flag.Int("histories", 400, "how many histories are simulated")
	seed      = flag.Uint64("seed", 1, "of the first history; the others follow")
)

// Three instances of the service make, replace and remove sites, by themselves and by tables, under a clock of the test's own. They stand still,
// are cut off from the records or killed; answers are lost. Then all is well again, and when all runs have ended nothing may be lost, left over, or
// stand still. A history that fails is told by its seed:
//
//	go test ./internal/service/engine -run Simulated -seed 4711 -histories 1 -v
func TestSimulatedHistoriesEndWell(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1)) // a history is nearly the same each time
	for i := range *histories {
		s := *seed + uint64(i)
		if i > 0 && i%10_000 == 0 {
			fmt.Fprintf(os.Stderr, "%s: %d histories, none bad\n", time.Now().Format(time.TimeOnly), i)
		}
		var faults []invariants.Fault
		var w *simWorld
		synctest.Test(t, func(t *testing.T) { w, faults = history(t, s) })
		if len(faults) > 0 {
			if testing.Verbose() {
				for _, line := range w.trace {
					t.Log(line)
				}
			}
			require.Empty(t, faults, "history %d", s)
		}
	}
}

// simHost is a host as a node reaches it.
type simHost struct {
	hostfs.FS
	n *simNode
}

// at does something on the host at one moment.
func (n *simNode) at(do func() error) error {
	n.pass()
	time.Sleep(n.upTo(20 * time.Millisecond))
	n.pass()
	n.mu.Lock()
	err := do()
	n.mu.Unlock()
	n.pass()
	return err
}

func (h simHost) Stat(_ context.Context, name string) (e hostfs.Entry, err error) {
	return e, h.n.at(func() error {
		if h.n.folders[name] == "" {
			return fs.ErrNotExist
		}
		return nil
	})
}

func (h simHost) ID(_ context.Context, name string) (id string, err error) {
	return id, h.n.at(func() error {
		if id = h.n.folders[name]; id == "" {
			return fs.ErrNotExist
		}
		return nil
	})
}

func (h simHost) Rename(_ context.Context, from, to string) error {
	return h.n.at(func() error {
		if h.n.folders[from] == "" {
			return fs.ErrNotExist
		}
		if h.n.folders[to] != "" {
			return fs.ErrExist
		}
		h.n.folders[to] = h.n.folders[from]
		delete(h.n.folders, from)
		return nil
	})
}

// Exchange is at one moment, as on a local disk.
func (h simHost) Exchange(_ context.Context, a, b string) error {
	return h.n.at(func() error {
		if h.n.folders[a] == "" || h.n.folders[b] == "" {
			return fs.ErrNotExist
		}
		h.n.folders[a], h.n.folders[b] = h.n.folders[b], h.n.folders[a]
		return nil
	})
}

func (h simHost) RemoveAll(_ context.Context, name string) error {
	return h.n.at(func() error { delete(h.n.folders, name); return nil })
}

type simServer struct {
	sitedb.Server
	n *simNode
}

func (s simServer) DropDatabase(_ context.Context, name string) error {
	return s.n.at(func() error { delete(s.n.databases, name); return nil })
}

// simArgs say which site a run is about.
type simArgs struct {
	Name string `json:"name"`
	// of what is removed
	Folder   string `json:"folder,omitempty"`
	Database string `json:"database,omitempty"`
	Run      int64  `json:"run,omitempty"`
	Rows     int    `json:"rows,omitempty"`
	Replaces bool   `json:"replaces,omitempty"` // the site that Run has made
}

// simNouns are the jobs of a node: what internal/service/sites does, in short.
type simNouns struct {
	n *simNode
	e *Engine
}

func (s simNouns) journal(ctx context.Context, run int64, m provision.Made) error {
	return s.n.Tx(ctx, func(context.Context) error {
		s.n.runs[run].made = append(s.n.runs[run].made, m)
		return nil
	})
}

func (s simNouns) clear(ctx context.Context, run int64) error {
	return s.n.Tx(ctx, func(context.Context) error {
		r := s.n.runs[run]
		if r.Attempt > 1 {
			s.n.late = append(s.n.late, r.made...)
		}
		r.made = nil
		return nil
	})
}

func (s simNouns) work() { time.Sleep(s.n.upTo(1500 * time.Millisecond)) }

// make makes a site.
func (s simNouns) make(ctx context.Context, run Run, args simArgs, _ progress.Reporter) (any, error) {
	n, folder := s.n, args.Name
	database, staging := "ns_"+args.Name+"_"+run.Token(), provision.Beside(folder, run.Token())
	fresh := "made-by-" + run.Token()
	var old simSite
	if args.Replaces {
		err := n.ask(ctx, func() error { old = n.sites[args.Name]; return nil })
		if err != nil {
			return nil, err
		}
		if old.run != args.Run {
			return nil, errors.New("the site has changed since")
		}
	}
	own := []provision.Made{{What: "database", Name: database}, {What: "staging", Name: staging}}
	steps := []func() error{
		func() error { return s.journal(ctx, run.ID, provision.Made{What: "database", Name: database}) },
		func() error { return n.at(func() error { n.databases[database] = true; return nil }) },
		func() error { return s.journal(ctx, run.ID, provision.Made{What: "staging", Name: staging}) },
		func() error { return n.at(func() error { n.folders[staging] = fresh; return nil }) },
	}
	exchange := provision.Made{What: "exchange", Name: folder + " " + staging + " " + fresh}
	if args.Replaces {
		steps = append(steps,
			func() error {
				err := s.journal(ctx, run.ID, exchange)
				if err == nil {
					own = append(own, exchange)
				}
				return err
			},
			func() error { return simHost{n: n}.Exchange(ctx, staging, folder) },
			func() error { return nil }) // what follows a swap may be interrupted, too
	} else {
		steps = append(steps,
			func() error {
				if _, err := (simHost{n: n}).Stat(ctx, folder); err == nil {
					return errors.New("something is there")
				}
				return nil
			},
			func() error { return s.journal(ctx, run.ID, provision.Made{What: "folder", Name: folder, ID: fresh}) },
			func() error { return simHost{n: n}.Rename(ctx, staging, folder) })
	}
	var err error
	for _, step := range steps {
		s.work()
		if err = errors.Join(ctx.Err(), step()); err != nil {
			break
		}
	}
	if err == nil {
		if ctx, err = s.e.Commit(ctx, run); err == nil {
			site := simSite{args.Name, folder, fresh, database, run.ID, nil}
			if args.Replaces {
				site.copies = append(slices.Clone(old.copies), simSite{name: "copy of " + args.Name, folder: staging, folderID: old.folderID,
					database: old.database})
			}
			err = s.record(ctx, run, site)
		}
	}
	if err == nil || errors.Is(err, ErrCleanup) {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx)
	if lost := n.Claimed(ctx); lost != nil { // as provision.Make does
		return nil, errors.Join(err, ErrCleanup, provision.UndoOwn(ctx, simHost{n: n}, simServer{n: n}, own))
	}
	return nil, errors.Join(err, s.takeBack(ctx, run))
}

// record records a site. When nobody knows whether it is, the run is left for whoever recovers it.
func (s simNouns) record(ctx context.Context, run Run, site simSite) error {
	err := s.n.Tx(ctx, func(context.Context) error {
		s.n.sites[site.name] = site
		s.n.runs[run.ID].made = nil
		return nil
	})
	if err == nil {
		return nil
	}
	is, asked := s.recorded(ctx, run)
	switch {
	case asked != nil:
		return errors.Join(err, ErrCleanup)
	case is:
		return nil
	}
	return err
}

func (s simNouns) recorded(ctx context.Context, run Run) (is bool, err error) {
	return is, s.n.ask(ctx, func() error {
		for _, site := range s.n.sites {
			is = is || site.run == run.ID
		}
		return nil
	})
}

func (s simNouns) takeBack(ctx context.Context, run Run) error {
	made, err := s.n.Made(ctx, run.ID)
	if err == nil {
		err = provision.Undo(ctx, simHost{n: s.n}, simServer{n: s.n}, made, s.n.Claimed)
	}
	if err == nil {
		err = s.clear(ctx, run.ID)
	}
	if err != nil {
		return errors.Join(err, ErrCleanup)
	}
	return nil
}

func (s simNouns) recoverMake(ctx context.Context, run Run, _ simArgs) (Outcome, error) {
	if is, err := s.recorded(ctx, run); err != nil || is {
		return Finished, err
	}
	return TakenBack, s.takeBack(ctx, run)
}

// retire removes a site.
func (s simNouns) retire(ctx context.Context, run Run, args simArgs, _ progress.Reporter) (any, error) {
	var there bool
	var site simSite
	err := s.n.ask(ctx, func() error {
		site, there = s.n.sites[args.Name]
		there = there && site.run == args.Run
		return nil
	})
	if err != nil {
		return nil, err
	}
	if !there {
		if run.Committed {
			return nil, s.takeBack(ctx, run)
		}
		return nil, errors.New("the site has changed since")
	}
	s.work()
	if ctx, err = s.e.Commit(ctx, run); err != nil {
		return nil, err
	}
	id, err := simHost{n: s.n}.ID(ctx, args.Folder)
	if err != nil {
		return nil, err
	}
	made, err := s.n.Made(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	goes := []provision.Made{{What: "folder", Name: args.Folder, ID: id}, {What: "database", Name: args.Database}}
	for _, c := range site.copies {
		goes = append(goes, provision.Made{What: "folder", Name: c.folder, ID: c.folderID}, provision.Made{What: "database", Name: c.database})
	}
	for _, m := range goes {
		if slices.ContainsFunc(made, func(is provision.Made) bool { return is.Name == m.Name }) {
			continue
		}
		if err := s.journal(ctx, run.ID, m); err != nil {
			return nil, err
		}
	}
	err = s.n.Tx(ctx, func(context.Context) error { delete(s.n.sites, args.Name); return nil })
	if err != nil {
		return nil, err
	}
	s.work()
	return nil, s.takeBack(ctx, run)
}

func (s simNouns) recoverRetire(ctx context.Context, run Run, _ simArgs) (Outcome, error) {
	made, err := s.n.Made(ctx, run.ID)
	switch {
	case err != nil:
		return Again, err
	case run.Committed:
		return Onward, nil
	case len(made) > 0:
		return Finished, s.takeBack(ctx, run)
	}
	return Again, nil
}

// table makes sites by runs of their own.
func (s simNouns) table(ctx context.Context, run Run, args simArgs, _ progress.Reporter) (any, error) {
	first, open := int64(0), false
	for i := range args.Rows {
		if ctx.Err() != nil {
			break
		}
		name := fmt.Sprint(args.Name, "-", i)
		child, err := s.e.Start(ctx, Run{Job: "make", Title: name, Target: "site:" + name, ParentID: &run.ID, Purpose: name}, simArgs{Name: name})
		if err != nil {
			return nil, err
		}
		if first == 0 {
			first = child.ID
		}
		open = open || child.EndedAt == nil
	}
	if open {
		return nil, &Aside{First: first, To: 1}
	}
	return nil, ctx.Err()
}

// begin starts another instance on a world.
func (w *simWorld) begin(t *testing.T) (*simNode, *Engine) {
	n := &simNode{simWorld: w, of: len(w.nodes)}
	w.nodes = append(w.nodes, n)
	log := slog.New(slog.DiscardHandler)
	if testing.Verbose() {
		log = slog.New(slog.NewTextHandler(simLog{n}, nil))
	}
	e := assemble(n, simLine{n}, simLine{n}, log, Options{})
	e.line = &simQueue{simNode: n, work: e.work, workers: 2}
	s := simNouns{n, e}
	Add(e, Job[simArgs, any]{Name: "make", Do: s.make, Recover: s.recoverMake})
	Add(e, Job[simArgs, any]{Name: "retire", Do: s.retire, Recover: s.recoverRetire})
	Add(e, Job[simArgs, any]{Name: "table", Do: s.table})
	require.NoError(t, e.Begin(t.Context()))
	return n, e
}

type simLog struct{ n *simNode }

func (l simLog) Write(p []byte) (int, error) {
	_, text, _ := strings.Cut(string(p), "level=")
	l.n.note("%d %s", l.n.of, strings.TrimSpace(text))
	return len(p), nil
}

const simNodes = 3

// history lets things happen, and returns what is wrong when all has ended.
func history(t *testing.T, seed uint64) (*simWorld, []invariants.Fault) {
	w := &simWorld{rand: rand.New(rand.NewPCG(seed, 0)), expires: map[int64]time.Time{}, leases: map[string]simLease{}, runs: map[int64]*simRun{},
		sites: map[string]simSite{}, folders: map[string]string{}, databases: map[string]bool{}, listeners: map[chan [2]any]bool{}}
	engines := make([]*Engine, simNodes)
	nodes := make([]*simNode, simNodes)
	for i := range simNodes {
		nodes[i], engines[i] = w.begin(t)
	}
	random := rand.New(rand.NewPCG(seed, 1)) // of what happens; the other one is of how long things take
	for range 4 + random.IntN(8) {
		time.Sleep(time.Duration(random.Int64N(int64(5 * time.Second))))
		i := random.IntN(simNodes)
		w.happens(t, random, nodes, engines, i)
	}
	time.Sleep(40 * time.Second)
	w.mu.Lock()
	for _, n := range nodes {
		n.still, n.cut = time.Time{}, time.Time{}
	}
	w.mu.Unlock()
	for deadline := time.Now().Add(30 * time.Minute); !w.over() && time.Now().Before(deadline); {
		time.Sleep(time.Second)
	}
	time.Sleep(time.Minute)    // whoever was overtaken does what it believes in
	for _, m := range w.late { // as every instance does after a while
		require.NoError(t, provision.UndoOwn(t.Context(), simHost{n: nodes[0]}, simServer{n: nodes[0]}, []provision.Made{m}))
	}
	view := w.view()
	for i := range engines {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		engines[i].End(ctx)
		cancel()
	}
	return w, invariants.Check(view)
}

// happens lets one thing happen: work is asked for, or goes wrong.
func (w *simWorld) happens(t *testing.T, random *rand.Rand, nodes []*simNode, engines []*Engine, i int) {
	n, e := nodes[i], engines[i]
	name := string(rune('a' + random.IntN(2)))
	until := func(most time.Duration) time.Time { return time.Now().Add(time.Duration(random.Int64N(int64(most)))) }
	switch what := random.IntN(11); what {
	case 0, 1, 2, 3:
		w.mu.Lock()
		site, there := w.sites[name]
		w.mu.Unlock()
		run, args := Run{Job: "make", Title: name, Target: "site:" + name}, simArgs{Name: name}
		if there {
			run.Job, args = "retire", simArgs{Name: name, Folder: site.folder, Database: site.database, Run: site.run}
			if what == 2 {
				run.Job, args = "make", simArgs{Name: name, Run: site.run, Replaces: true}
			}
		}
		if what == 3 {
			run, args = Run{Job: "table", Title: "table", Target: "table:sites"}, simArgs{Name: fmt.Sprint("t", random.IntN(1000)), Rows: 3}
		}
		started := make(chan error, 1)
		go func() { // a person, who asks this instance
			defer close(started)
			run, err := e.Start(context.Background(), run, args)
			w.note("%d is asked for %s %s: run %d %v", n.of, run.Job, args.Name, run.ID, err)
		}()
	case 4:
		w.mu.Lock()
		id := int64(random.IntN(int(w.next) + 1))
		r := w.runs[id]
		w.mu.Unlock()
		if r != nil {
			w.note("cancel %d", id)
			go e.Cancel(context.Background(), id)
		}
	case 5, 6:
		at := until(30 * time.Second)
		w.note("%d stands still until %.1f", n.of, at.Sub(simStart).Seconds())
		w.mu.Lock()
		n.still = at
		w.mu.Unlock()
	case 7, 8:
		at := until(20 * time.Second)
		w.note("%d is cut off until %.1f", n.of, at.Sub(simStart).Seconds())
		w.mu.Lock()
		n.cut = at
		w.mu.Unlock()
	case 9:
		at := until(15 * time.Second)
		w.note("the records are away until %.1f", at.Sub(simStart).Seconds())
		w.mu.Lock()
		for _, n := range nodes {
			n.cut = at
		}
		w.mu.Unlock()
	case 10:
		w.note("%d is killed", n.of)
		w.mu.Lock()
		n.dead = true
		w.mu.Unlock()
		e.stop()
		nodes[i], engines[i] = w.begin(t)
	}
}

func (w *simWorld) over() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, r := range w.runs {
		if r.EndedAt == nil {
			return false
		}
	}
	return true
}

func (w *simWorld) view() (v invariants.View) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, s := range w.sites {
		v.Must = append(v.Must, invariants.Thing{What: "folder", Name: s.folder, ID: s.folderID, By: "site " + s.name},
			invariants.Thing{What: "database", Name: s.database, By: "site " + s.name})
		for _, c := range s.copies {
			v.Must = append(v.Must, invariants.Thing{What: "folder", Name: c.folder, ID: c.folderID, By: c.name},
				invariants.Thing{What: "database", Name: c.database, By: c.name})
		}
	}
	for name, id := range w.folders {
		v.There = append(v.There, invariants.Thing{What: "folder", Name: name, ID: id})
	}
	for name := range w.databases {
		v.There = append(v.There, invariants.Thing{What: "database", Name: name})
	}
	for _, r := range w.runs {
		if r.EndedAt == nil {
			v.Runs = append(v.Runs, invariants.Run{ID: r.ID, Title: r.Job + " " + r.Title, Waiting: r.Status == records.Waiting, Reason: r.Error, Aside: r.Aside,
				Open: w.open(r.ID), Alive: w.alive(r.instance), Blocked: w.blocked(r.Target, r.ID), For: time.Hour})
		}
	}
	return v
}
