package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nestseed/demo/scenario"
	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// tally counts how runs ended, by what they did.
type tally map[string]map[string]int

func (t tally) String() string {
	var out strings.Builder
	for _, what := range slices.Sorted(maps.Keys(t)) {
		fmt.Fprintf(&out, "%-10s", what)
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

// run does rounds, each with one kill, and looks after each whether all is well.
func run(ctx context.Context, rounds int, seed uint64, log io.Writer) (t tally, err error) {
	w, err := newWorld(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	random := rand.New(rand.NewPCG(seed, 0))
	t = tally{}
	for round := 1; round <= rounds && ctx.Err() == nil; round++ {
		line, err := w.round(ctx, random, t)
		fmt.Fprintf(log, "%4d %s\n", round, line)
		if err != nil {
			return t, fmt.Errorf("round %d of seed %d (%s): %w\nthe service said:\n%s", round, seed, line, err, w.log.String())
		}
	}
	return t, ctx.Err()
}

// round starts one run, kills something while it works, and looks at what has become of everything.
func (w *world) round(ctx context.Context, random *rand.Rand, t tally) (line string, err error) {
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
	a := can[random.IntN(len(can))]
	before, err := w.standing(ctx, s)
	if err != nil {
		return a.name, err
	}
	run, err := a.do(ctx, w, s)
	if err != nil {
		return a.name, err
	}
	time.Sleep(time.Duration(random.Int64N(int64(a.long))))
	what := "service"
	switch n := random.IntN(10); {
	case n < 6:
		w.killService()
	case n < 9:
		what = "records"
		err = w.restartRecords()
	default:
		what = "both"
		w.killService()
		err = w.restartRecords()
	}
	if err == nil {
		err = w.start()
	}
	if err != nil {
		return a.name + ", killed " + what, err
	}
	run, err = w.wait(ctx, run.ID)
	if err != nil {
		return a.name + ", killed " + what, err
	}
	t.count(a.name, run.Status)
	line = fmt.Sprintf("%-10s %-8s %s", a.name, what, run.Status)
	if run.Error != "" {
		line += ": " + strings.ReplaceAll(run.Error, "\n", " / ")
	}
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
	for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
		r, err := w.client.Run(ctx, id)
		if err == nil && r.Ended() {
			return r, nil
		}
		if time.Now().After(deadline) {
			return r, fmt.Errorf("run %d is %s after three minutes, at %q: %s (%v)", id, r.Status, r.Progress.Step, r.Error, err)
		}
	}
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
