package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// tally counts how runs ended, by what they did.
type tally map[string]map[string]int

func (t tally) String() string {
	var out strings.Builder
	for _, what := range slices.Sorted(maps.Keys(t)) {
		fmt.Fprintf(&out, "%-42s", what)
		for _, how := range slices.Sorted(maps.Keys(t[what])) {
			fmt.Fprintf(&out, " %d %s", t[what][how], how)
		}
		out.WriteByte('\n')
	}
	return out.String()
}

func (t tally) count(what, how string) {
	if t[what] == nil {
		t[what] = map[string]int{}
	}
	t[what][how]++
}

// action starts work on the site, or on its starter.
type action struct {
	name string
	// when says whether it can be done, as the site is; nil for a site that is not there.
	when func(s *wire.Site) bool
	do   func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error)
	site bool          // it works on the site: when it fails the site must be as before
	long time.Duration // about how long it takes
}

var school = scenario.Schools(1)[0]

func stands(s *wire.Site) bool { return s != nil && s.RetiredAt == nil }

var actions = []action{
	{"build", func(*wire.Site) bool { return true }, func(ctx context.Context, w *world, _ *wire.Site) (wire.Run, error) {
		return w.client.BuildRelease(ctx, "music-base", wire.NewRelease{Note: "chaos"})
	}, false, 500 * time.Millisecond},
	{"survey", func(*wire.Site) bool { return true }, func(ctx context.Context, w *world, _ *wire.Site) (wire.Run, error) {
		return w.client.SurveySource(ctx, "base")
	}, false, 600 * time.Millisecond},
	{"import", func(*wire.Site) bool { return true }, func(ctx context.Context, w *world, _ *wire.Site) (wire.Run, error) {
		return w.importRelease(ctx)
	}, false, 800 * time.Millisecond},
	{"provision", func(s *wire.Site) bool { return !stands(s) }, func(ctx context.Context, w *world, _ *wire.Site) (wire.Run, error) {
		return w.client.ProvisionSite(ctx, wire.NewSite{Client: school.Name, From: w.release, Host: "preview"})
	}, true, 1400 * time.Millisecond},
	{"replace", stands, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
		return w.client.ProvisionSite(ctx, wire.NewSite{Client: school.Name, From: w.release, Host: s.Host, Replace: true,
			Keep: []string{"comments", "users"}})
	}, true, 1800 * time.Millisecond},
	{"refresh", stands, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
		return w.client.RefreshSite(ctx, s.Name, wire.NewCode{From: w.release})
	}, true, 1200 * time.Millisecond},
	{"undo", stands, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
		return w.client.UndoSite(ctx, s.Name, "")
	}, true, 400 * time.Millisecond},
	{"move", stands, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
		to := map[string]string{"preview": "live", "live": "preview"}[s.Host]
		return w.client.MoveSite(ctx, s.Name, wire.Move{Host: to})
	}, true, 3 * time.Second},
	{"copy", stands, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
		return w.client.KeepCopy(ctx, s.Name)
	}, true, 800 * time.Millisecond},
	{"rotate", stands, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
		return w.client.RotateSite(ctx, s.Name)
	}, false, 3500 * time.Millisecond},
	{"drop copy", func(s *wire.Site) bool { return s != nil && len(s.Copies) > 0 }, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
		return w.client.DropCopy(ctx, s.Name, s.Copies[0].ID)
	}, false, 300 * time.Millisecond},
	{"retire", stands, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
		return w.client.RetireSite(ctx, s.Name, false)
	}, true, time.Second},
	{"put back",
		func(s *wire.Site) bool { return s != nil && archived(s) != 0 }, func(ctx context.Context, w *world, s *wire.Site) (wire.Run, error) {
			return w.client.PutBackCopy(ctx, s.Name, archived(s))
		}, true, 1800 * time.Millisecond},
}

// archived returns the newest safety copy of a site that is an archive, or 0.
func archived(s *wire.Site) int64 {
	for _, c := range s.Copies {
		if strings.HasSuffix(c.Where, ".zip") {
			return c.ID
		}
	}
	return 0
}

// run does rounds, each with one fault, of one kind only unless that is "", and looks after each whether all is well.
func run(ctx context.Context, rounds int, seed uint64, only string, log io.Writer) (t tally, err error) {
	w, err := newWorld(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	random := rand.New(rand.NewPCG(seed, 0))
	t = tally{}
	for round := 1; round <= rounds && ctx.Err() == nil; round++ {
		line, err := w.round(ctx, random, only, t)
		fmt.Fprintf(log, "%4d %s\n", round, line)
		if err != nil {
			return t, fmt.Errorf("round %d of seed %d (%s): %w\nthe service said:\n%s", round, seed, line, err, w.said(ctx))
		}
	}
	return t, ctx.Err()
}

// fault is something that goes wrong while a run works. do returns what ends it; that is called when the run is over, or right away.
type fault struct {
	name string
	do   func(ctx context.Context, w *world, random *rand.Rand) (end func() error, err error)
	late bool // it ends when the run is over
}

func nothing() error { return nil }

var faults = []fault{
	{"one copy killed", func(_ context.Context, w *world, random *rand.Rand) (func() error, error) {
		w.kill(random.IntN(copies))
		return w.start, nil
	}, false},
	{"all copies killed", func(_ context.Context, w *world, _ *rand.Rand) (func() error, error) {
		for i := range copies {
			w.kill(i)
		}
		return w.start, nil
	}, false},
	// Two of three stand still until the third has ended the run, and come back then.
	{"pause and return", func(_ context.Context, w *world, random *rand.Rand) (func() error, error) {
		goesOn := random.IntN(copies)
		var still []*stack.Service
		for i, c := range w.copies {
			if i != goesOn {
				still = append(still, c)
			}
		}
		w.ask(goesOn)
		for _, c := range still {
			if err := syscall.Kill(c.Pid(), syscall.SIGSTOP); err != nil {
				return nothing, err
			}
		}
		return func() error {
			for _, c := range still {
				if err := syscall.Kill(c.Pid(), syscall.SIGCONT); err != nil {
					return err
				}
			}
			time.Sleep(4 * time.Second) // whatever they believe they have to do, they do now
			return nil
		}, nil
	}, true},
	{"sessions ended", func(ctx context.Context, w *world, _ *rand.Rand) (func() error, error) {
		return nothing, w.endSessions(ctx)
	}, false},
	{"PostgreSQL away", func(_ context.Context, w *world, random *rand.Rand) (func() error, error) {
		return nothing, w.restartRecords(time.Duration(random.IntN(14)) * time.Second)
	}, false},
	{"MariaDB away", func(ctx context.Context, w *world, random *rand.Rand) (func() error, error) {
		if err := w.stack.KillMariaDB(); err != nil {
			return nothing, err
		}
		time.Sleep(time.Duration(random.IntN(5)) * time.Second)
		return nothing, w.stack.StartMariaDB(ctx)
	}, false},
	{"disk full", func(_ context.Context, w *world, random *rand.Rand) (func() error, error) {
		if len(w.disks) == 0 {
			return nothing, errors.New("no disk can be filled here; the folders of sites and archives have to be mounted")
		}
		d := w.disks[random.IntN(len(w.disks))]
		if err := d.fill(); err != nil {
			return d.free, err
		}
		time.Sleep(time.Duration(random.Int64N(int64(4 * time.Second))))
		return nothing, d.free()
	}, false},
	// Whoever has asked for the run goes away before the answer.
	{requestCutOff, func(context.Context, *world, *rand.Rand) (func() error, error) { return nothing, nil }, false},
	{"copy killed, PostgreSQL away", func(_ context.Context, w *world, random *rand.Rand) (func() error, error) {
		w.kill(random.IntN(copies))
		return w.start, w.restartRecords(time.Second)
	}, false},
}

// round starts one run, lets something go wrong while it works, and looks at what has become of everything.
func (w *world) round(ctx context.Context, random *rand.Rand, only string, t tally) (line string, err error) {
	s, err := w.site(ctx)
	if err != nil {
		return "look", err
	}
	var can []action
	for _, a := range actions {
		if a.when(s) {
			can = append(can, a)
		}
	}
	if random.IntN(3) > 0 { // mostly what works on a site, of which there is more to lose
		can = slices.DeleteFunc(can, func(a action) bool { return !a.site })
	}
	a := can[random.IntN(len(can))]
	before, err := w.standing(ctx, s)
	if err != nil {
		return a.name, err
	}
	f := faults[random.IntN(len(faults))]
	for only != "" && f.name != only || f.name == "disk full" && len(w.disks) == 0 {
		f = faults[random.IntN(len(faults))]
	}
	if f.name == requestCutOff {
		return w.cutOff(ctx, random, a, s, before, t)
	}
	run, err := a.do(ctx, w, s)
	var refused *client.Problem
	if errors.As(err, &refused) && refused.Status == http.StatusConflict {
		t.count(a.name, "refused")
		return a.name + " is refused: " + refused.Detail, nil
	}
	if err != nil {
		return a.name, err
	}
	time.Sleep(time.Duration(random.Int64N(int64(a.long))))
	line = a.name + ", " + f.name
	end, err := f.do(ctx, w, random)
	if err == nil && !f.late {
		err = end()
	}
	if err != nil {
		return line, err
	}
	run, err = w.wait(ctx, run.ID)
	if f.late {
		err = errors.Join(err, end())
	}
	if err != nil {
		return line, err
	}
	t.count(f.name+": "+a.name, run.Status)
	line = fmt.Sprintf("%-10s %-30s %s", a.name, f.name, run.Status)
	if run.Error != "" {
		line += ": " + strings.ReplaceAll(run.Error, "\n", " / ")
	}
	return line, w.judge(ctx, a, s, before, run)
}

const requestCutOff = "request cut off"

// cutOff asks for an action and goes away before the answer, and looks at what has become of everything when the runs that were begun are
// over: the action was begun, or it was not.
func (w *world) cutOff(ctx context.Context, random *rand.Rand, a action, s *wire.Site, before string, t tally) (line string, err error) {
	newest, err := w.client.Runs(ctx, 1)
	if err != nil {
		return a.name, err
	}
	brief, cancel := context.WithTimeout(ctx, time.Duration(random.Int64N(int64(60*time.Millisecond))))
	a.do(brief, w, s) //nolint:errcheck // it was cut off
	cancel()
	time.Sleep(200 * time.Millisecond)
	since, listErr := w.client.Runs(ctx, 5)
	if listErr != nil {
		return a.name, listErr
	}
	run := wire.Run{Status: "not begun"}
	for _, r := range since {
		if len(newest) == 0 || r.ID > newest[0].ID {
			if run, err = w.wait(ctx, r.ID); err != nil {
				return a.name, err
			}
		}
	}
	t.count(requestCutOff+": "+a.name, run.Status)
	line = fmt.Sprintf("%-10s %-30s %s", a.name, requestCutOff, run.Status)
	return line, w.judge(ctx, a, s, before, run)
}

// site returns the school's site, one that was retired, or nil.
func (w *world) site(ctx context.Context) (*wire.Site, error) {
	s, err := w.client.Site(ctx, school.Name)
	var p *client.Problem
	if errors.As(err, &p) && p.Status == 404 {
		return nil, nil
	}
	return &s, err
}

// wait waits until a run is over. The service may still be coming back.
func (w *world) wait(ctx context.Context, id int64) (wire.Run, error) {
	for deadline := time.Now().Add(90 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		r, err := w.client.Run(ctx, id)
		if err == nil && r.Ended() {
			return r, nil
		}
		if time.Now().After(deadline) {
			return r, fmt.Errorf("run %d is %s after 90 seconds, at %q: %s (%v)\n%s", id, r.Status, r.Progress.Step, r.Error, err, w.standstill(ctx))
		}
	}
}

// standstill is what the records know of runs that have not ended.
func (w *world) standstill(ctx context.Context) string {
	conn, err := w.records(ctx)
	if err != nil {
		return err.Error()
	}
	defer conn.Close(ctx)
	var out strings.Builder
	for _, query := range []string{"SELECT now()::text || ' ' || i::text FROM instances i", "SELECT l::text FROM leases l",
		"SELECT row(id, job, target, status, attempt, committed, aside, instance_id, error)::text FROM runs ORDER BY id DESC LIMIT 8",
		"SELECT row(name, folder, database, db_user, address, run_id, host_id, retired_at)::text FROM sites",
		"SELECT row(id, why, run_id, folder, place, database, address, host_id)::text FROM site_copies", "SELECT row(run_id, made)::text FROM run_journal",
		"SELECT row(id, state, priority, scheduled_at, attempted_by, args)::text FROM river_job WHERE finalized_at IS NULL",
		"SELECT r::text FROM river_leader r"} {
		lines, err := texts(ctx, conn, query)
		fmt.Fprintln(&out, query, err)
		for _, line := range lines {
			fmt.Fprintln(&out, "  ", line)
		}
	}
	return out.String()
}

// importRelease imports a download of the first release.
func (w *world) importRelease(ctx context.Context) (wire.Run, error) {
	name := filepath.Join(w.dir, "download.zip")
	if _, err := os.Stat(name); err != nil {
		f, err := os.Create(name)
		if err != nil {
			return wire.Run{}, err
		}
		_, _, err = w.client.Download(ctx, w.release, 0, f)
		if err := errors.Join(err, f.Close()); err != nil {
			return wire.Run{}, err
		}
	}
	id, err := w.client.Upload(ctx, name, func(int64, int64) {})
	if err != nil {
		return wire.Run{}, err
	}
	return w.client.ImportRelease(ctx, "brought-in", wire.NewImport{Files: []wire.GivenFile{{Upload: id}}})
}
