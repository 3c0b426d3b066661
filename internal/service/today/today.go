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

// Group is a site, a source or a run with all that needs attention there.
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
}

// Gather reads all of it from the records.
func Gather(ctx context.Context, db *records.DB) (*Page, error) {
	p := &Page{}
	var err error
	if p.Counts, err = db.Counts(ctx); err != nil {
		return nil, err
	}
	sites, more, err := ofSites(ctx, db)
	if err != nil {
		return nil, err
	}
	sources, err := ofSources(ctx, db)
	if err != nil {
		return nil, err
	}
	runs, err := ofRuns(ctx, db)
	if err != nil {
		return nil, err
	}
	p.More, p.Groups = more, slices.Concat(runs, sites, sources)
	slices.SortStableFunc(p.Groups, func(a, b Group) int { return rank(a.Severity()) - rank(b.Severity()) })
	if p.Tasks, p.AllTasks, err = db.OpenTasks(ctx, mostListed); err != nil {
		return nil, err
	}
	if p.Behind, err = db.Behind(ctx); err != nil {
		return nil, err
	}
	for state, into := range map[string]*[]records.SiteRow{"held": &p.Held, "leading": &p.Leading} {
		if *into, _, err = db.SiteRows(ctx, records.SiteFilter{State: state, Sort: "newest", Limit: mostListed}); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func ofSites(ctx context.Context, db *records.DB) (groups []Group, more int, err error) {
	_, states, err := db.SiteStates(ctx, records.SiteFilter{})
	if err != nil {
		return nil, 0, err
	}
	all := 0
	for _, state := range []string{"failed", "unchecked", "warned", "elsewhere"} {
		all += states[state]
		rows, _, err := db.SiteRows(ctx, records.SiteFilter{State: state, Sort: "newest", Limit: mostSites})
		if err != nil {
			return nil, 0, err
		}
		for _, r := range rows {
			at := slices.IndexFunc(groups, func(g Group) bool { return g.Name == r.Name })
			if at < 0 && len(groups) == mostSites {
				break
			}
			if at < 0 {
				at = len(groups)
				groups = append(groups, Group{Noun: "site", Name: r.Name, Title: cmp.Or(r.Title, r.Name)})
			} else {
				all-- // was counted before
			}
			items, err := ofSite(ctx, db, state, r)
			if err != nil {
				return nil, 0, err
			}
			groups[at].Items = append(groups[at].Items, items...)
		}
	}
	groups = slices.DeleteFunc(groups, func(g Group) bool { return len(g.Items) == 0 })
	return groups, max(0, all-len(groups)), nil
}

// ofSite says what is to be looked at on a site in a state.
func ofSite(ctx context.Context, db *records.DB, state string, r records.SiteRow) ([]Item, error) {
	if state == "unchecked" {
		return []Item{{Severity: "warning", Sentence: "it was never checked", Act: Check}}, nil
	}
	s, err := db.SiteByID(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	if state == "elsewhere" && s.Lead != nil {
		return []Item{{Severity: "note", Sentence: s.Lead.Sentence(), Act: Check}}, nil
	}
	accepted, err := db.AcceptedOn(ctx, r.ID)
	if err != nil || s.Report == nil {
		return nil, err
	}
	var out []Item
	for i := range s.Report.Checks {
		switch c := &s.Report.Checks[i]; {
		case c.Result == check.Fail:
			out = append(out, Item{Severity: "fault", Sentence: c.Name + ": " + c.Sentence, Act: Open})
		case c.Result == check.Warn && records.CoveredBy(accepted, c) == nil:
			out = append(out, Item{Severity: "warning", Sentence: c.Name + ": " + c.Sentence, Act: Open, What: c.Name})
		}
	}
	return out, nil
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
