// Package today gathers what somebody should look at: what checks, surveys and runs have found, and what is due.
//
// What is known and harmless is accepted, a finding that every packing list of its source deals with is settled, and so is a run that
// failed and has gone well since.
package today

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// Acts that settle what was found.
const (
	Open   = "open"
	Check  = "check"
	Survey = "survey"
	Retry  = "retry"
)

// Severities, worst first.
var severities = []string{"fault", "warning", "note"}

// Item is something that somebody should look at.
type Item struct {
	Severity string
	Sentence string
	Act      string
	What     string // the check or finding, where it can be accepted
	Where    string
}

// Group is a site, a source, a host, a run or the service itself with all that needs attention there.
type Group struct {
	Noun  string
	Name  string
	Title string
	Items []Item
}

// Severity is that of its worst item.
func (g *Group) Severity() string {
	return slices.MinFunc(g.Items, func(a, b Item) int { return rank(a.Severity) - rank(b.Severity) }).Severity
}

func rank(severity string) int { return slices.Index(severities, severity) }

// Bounds of what is shown: a page that is looked through in a minute.
const (
	mostSites  = 40
	mostRuns   = 20
	mostListed = 30
	lately     = 14 * 24 * time.Hour
)

// Page is all of it.
type Page struct {
	Counts   records.SiteCounts
	Groups   []Group // worst first
	More     int     // sites that need attention and are not among the groups
	Tasks    []records.OpenTask
	AllTasks int
	Held     []records.SiteRow
	Leading  []records.SiteRow
	Behind   []records.StarterBehind
	Ending   []records.SiteRow // certificates, the first to end first
	Uncopied int               // public sites of which there is no newer safety copy
}

// Disk is the one that the service itself writes to.
type Disk struct {
	FreeBytes func() (int64, error)
}

// Gather reads all of it from the records, side by side.
func Gather(ctx context.Context, db *records.DB, own Disk) (*Page, error) {
	p := &Page{}
	var sites, sources, runs, hosts []Group
	group, ctx := parallel.WithContext(ctx)
	group.Go(func() (err error) { p.Counts, err = db.Counts(ctx); return err })
	group.Go(func() (err error) { sites, err = p.gatherSites(ctx, db); return err })
	group.Go(func() (err error) { sources, err = ofSources(ctx, db); return err })
	group.Go(func() (err error) { runs, err = ofRuns(ctx, db); return err })
	group.Go(func() (err error) { hosts, err = ofHosts(ctx, db); return err })
	group.Go(func() (err error) { p.Tasks, p.AllTasks, err = db.OpenTasks(ctx, mostListed); return err })
	group.Go(func() (err error) { p.Behind, err = db.Behind(ctx); return err })
	if err := group.Wait(); err != nil {
		return nil, err
	}
	p.Groups = slices.Concat(own.group(), runs, hosts, sites, sources)
	slices.SortStableFunc(p.Groups, func(a, b Group) int { return rank(a.Severity()) - rank(b.Severity()) })
	return p, nil
}

// gatherSites looks at the sites, and returns the groups of those that need attention.
func (p *Page) gatherSites(ctx context.Context, db *records.DB) (groups []Group, err error) {
	states, firsts, err := db.Glance(ctx, []records.First{
		{State: "attention", Sort: "attention", Limit: mostSites}, {State: "held", Sort: "newest", Limit: mostListed},
		{State: "leading", Sort: "newest", Limit: mostListed}, {State: "ending", Sort: "ending", Limit: mostListed},
	})
	if err != nil {
		return nil, err
	}
	rows := firsts[0]
	p.Held, p.Leading, p.Ending = firsts[1], firsts[2], firsts[3]
	p.Uncopied, p.More = states["uncopied"], states["attention"]-len(rows)
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	found, err := db.JudgedSites(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if items := ofSite(found[r.ID]); len(items) > 0 {
			groups = append(groups, Group{Noun: "site", Name: r.Name, Title: cmp.Or(r.Title, r.Name), Items: items})
		}
	}
	return groups, nil
}

// ofSite says what is to be looked at on a site.
func ofSite(s records.Judged) (out []Item) {
	if s.Report == nil {
		out = append(out, Item{Severity: "warning", Sentence: "it was never checked", Act: Check})
	} else {
		out = judged(s.Report, s.Accepted)
	}
	if s.Lead != nil && !s.Lead.There {
		out = append(out, Item{Severity: "note", Sentence: s.Lead.Sentence(), Act: Check})
	}
	return out
}

// judged says what checks have found that is not accepted.
func judged(r *check.Report, accepted []records.Acceptance) (out []Item) {
	for i := range r.Checks {
		switch c := &r.Checks[i]; {
		case records.CoveredBy(accepted, c) != nil:
		case c.Result == check.Fail:
			out = append(out, Item{Severity: "fault", Sentence: c.Name + ": " + c.Sentence, Act: Open, What: c.Name})
		case c.Result == check.Warn:
			out = append(out, Item{Severity: "warning", Sentence: c.Name + ": " + c.Sentence, Act: Open, What: c.Name})
		}
	}
	return out
}

// Settled reports whether every packing list of a source, of which there is one at least, deals with a finding.
func Settled(f *survey.Finding, lists []*packing.List) bool {
	if f.Remedy == nil || len(lists) == 0 {
		return false
	}
	return !slices.ContainsFunc(lists, func(l *packing.List) bool { return !f.Remedy.In(l) })
}

func ofSources(ctx context.Context, db *records.DB) (groups []Group, err error) {
	sources, err := db.Sources(ctx)
	if err != nil {
		return nil, err
	}
	starters, err := db.Starters(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range sources {
		g := Group{Noun: "source", Name: s.Name, Title: s.Name}
		if s.Survey == nil {
			g.Items = []Item{{Severity: "note", Sentence: "it was never surveyed", Act: Survey}}
			groups = append(groups, g)
			continue
		}
		accepted, err := db.AcceptedOf(ctx, s.ID)
		if err != nil {
			return nil, err
		}
		var lists []*packing.List
		for _, t := range starters {
			if t.SourceID == nil || *t.SourceID != s.ID {
				continue
			}
			if l, err := packing.Parse([]byte(t.List)); err == nil {
				lists = append(lists, l)
			}
		}
		for _, f := range s.Survey.Findings {
			known := slices.ContainsFunc(accepted, func(a records.Acceptance) bool {
				return a.What == f.Name() && a.Mark == f.Severity
			})
			if f.Severity != "note" && !known && !Settled(&f, lists) {
				g.Items = append(g.Items, Item{Severity: f.Severity, Sentence: f.What + ": " + f.Where, Act: Open, What: f.What, Where: f.Where})
			}
		}
		if len(g.Items) > 0 {
			groups = append(groups, g)
		}
	}
	return groups, nil
}

func ofRuns(ctx context.Context, db *records.DB) (groups []Group, err error) {
	runs, err := db.Troubled(ctx, time.Now().Add(-lately), mostRuns)
	for _, r := range runs {
		how, act := "it failed: ", Open
		if r.Status == records.Working {
			how = "it could not be cleaned up after: "
		} else if engine.Repeatable(r.Job) {
			act = Retry
		}
		groups = append(groups, Group{Noun: "run", Name: fmt.Sprint(r.ID), Title: r.Title,
			Items: []Item{{Severity: "fault", Sentence: how + r.Error, Act: act}}})
	}
	return groups, err
}
