package runs

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
)

// Discard removes a release's archive and keeps its record. One whose archive is gone already is left as it is. It returns
// how many bytes of the store are free now.
func (w *Works) Discard(ctx context.Context, r records.Release, why string) (freed int64, err error) {
	name, err := w.DB.Discard(ctx, r.ID, why)
	if err != nil || name == "" {
		return 0, err
	}
	// The record says it is gone; a file that could not be removed is swept at the next start.
	return w.Store.Remove(name)
}

// Surplus says which archives a starter's rules do not keep: not among the last so many releases, not the newest
// of one of the last so many weeks, and no site was made from it. Releases come newest first.
func Surplus(releases []records.Release, last, weeks int, now time.Time) (out []records.Release) {
	if last == 0 && weeks == 0 {
		return nil
	}
	ofWeek := map[string]bool{}
	kept := 0
	for _, r := range releases {
		if r.Archive == "" {
			continue
		}
		year, week := r.Manifest.Made.ISOWeek()
		key := fmt.Sprint(year, week)
		inWeeks := now.Sub(r.Manifest.Made) < time.Duration(weeks)*7*24*time.Hour && !ofWeek[key]
		if kept < max(last, 1) || inWeeks || r.Sites > 0 {
			kept++
			ofWeek[key] = true
			continue
		}
		out = append(out, r)
	}
	return out
}

// RetentionArgs ask for the rules of all starters to be applied.
type RetentionArgs struct{}

// RetentionResult is what was discarded.
type RetentionResult struct {
	Discarded []string `json:"discarded"`
	Copies    int      `json:"copies"` // safety copies of sites that were dropped
	Bytes     int64    `json:"bytes"`  // that are free now
}

func (w *Works) retention(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args RetentionArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	report.Step("Apply the rules for archives", progress.Amount{})
	starters, err := w.DB.Starters(ctx)
	if err != nil {
		return nil, err
	}
	res := RetentionResult{Discarded: []string{}}
	for _, t := range starters {
		if err := w.retainStarter(ctx, t, &res, report); err != nil {
			return nil, err
		}
	}
	return res, w.retainCopies(ctx, &res, report)
}

// retainCopies drops the safety copies that the rules of sites do not keep.
func (w *Works) retainCopies(ctx context.Context, res *RetentionResult, report progress.Reporter) error {
	sites, err := w.DB.Sites(ctx)
	if err != nil {
		return err
	}
	for _, s := range sites {
		copies, err := w.DB.SiteCopies(ctx, s.ID)
		if err != nil {
			return err
		}
		for _, c := range SurplusCopies(copies, s.KeepLast, s.KeepDays, time.Now()) {
			freed, err := w.DropCopy(ctx, s, c.ID)
			if err != nil {
				return fmt.Errorf("safety copy %d of %s: %w", c.ID, s.Name, err)
			}
			res.Copies++
			res.Bytes += freed
			report.Note(fmt.Sprintf("dropped the safety copy of %s of %s, %s, by the site's rule", s.Name, c.MadeAt.Format("2 January 2006"), archive.SizeText(c.Bytes)))
		}
	}
	return nil
}

// SurplusCopies says which safety copies a site's rule does not keep. They come newest first. Without a rule all
// are kept until a person drops them; so is, with one, the old place of a site that visitors may still be led to.
func SurplusCopies(copies []records.SiteCopy, last, days int, now time.Time) (out []records.SiteCopy) {
	for i, c := range copies {
		if !c.Serves() && (last > 0 && i >= last || days > 0 && now.Sub(c.MadeAt) > time.Duration(days)*24*time.Hour) {
			out = append(out, c)
		}
	}
	return out
}

func (w *Works) retainStarter(ctx context.Context, t records.Starter, res *RetentionResult, report progress.Reporter) error {
	releases, err := w.DB.Releases(ctx, t.Name)
	if err != nil {
		return err
	}
	for _, r := range Surplus(releases, t.KeepLast, t.KeepWeeks, time.Now()) {
		freed, err := w.Discard(ctx, r, "by the starter's rules: "+rules(t))
		if err != nil {
			return err
		}
		res.Discarded = append(res.Discarded, r.Ref())
		res.Bytes += freed
		report.Note(fmt.Sprintf("discarded the archive of %s, %s of which %s were its own, by the rule: %s", r.Ref(), archive.SizeText(r.ArchiveBytes), archive.SizeText(freed), rules(t)))
	}
	return nil
}

func rules(t records.Starter) string {
	s := fmt.Sprintf("keep the last %d", max(1, t.KeepLast))
	if t.KeepWeeks > 0 {
		s += fmt.Sprintf(" and one a week for %d weeks", t.KeepWeeks)
	}
	return s + ", and those that sites were made from"
}

// retain applies a starter's rules after a release of it was made. That it did not work is told and is no reason
// for the release to fail: the rules are applied again every hour.
func (w *Works) retain(ctx context.Context, starter string, report progress.Reporter) {
	t, err := w.DB.Starter(ctx, starter)
	if err == nil {
		err = w.retainStarter(ctx, t, &RetentionResult{}, report)
	}
	if err != nil {
		report.Note(fmt.Sprintf("older archives could not be discarded: %v", err))
	}
}

// RetentionDue reports whether any archive is to be discarded.
func (w *Works) RetentionDue(ctx context.Context) (bool, error) {
	starters, err := w.DB.Starters(ctx)
	if err != nil {
		return false, err
	}
	for _, t := range starters {
		releases, err := w.DB.Releases(ctx, t.Name)
		if err != nil {
			return false, err
		}
		if len(Surplus(releases, t.KeepLast, t.KeepWeeks, time.Now())) > 0 {
			return true, nil
		}
	}
	sites, err := w.DB.Sites(ctx)
	if err != nil {
		return false, err
	}
	for _, s := range sites {
		if s.KeepLast == 0 && s.KeepDays == 0 {
			continue
		}
		copies, err := w.DB.SiteCopies(ctx, s.ID)
		if err != nil {
			return false, err
		}
		if len(SurplusCopies(copies, s.KeepLast, s.KeepDays, time.Now())) > 0 {
			return true, nil
		}
	}
	return false, nil
}
