package releases

import (
	"context"
	"errors"
	"fmt"
	"time"

	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// Discard removes a release's archive and keeps its record, under its starter's lock. One whose archive is gone already is
// left as it is. It returns how many bytes of the store are free now. Errors: engine.ErrBusy.
func (svc *Releases) Discard(ctx context.Context, r records.Release, why string) (freed int64, err error) {
	err = svc.Engine.WithLock(ctx, engine.Target("starter", r.Starter), func(ctx context.Context) (err error) {
		freed, err = svc.discard(ctx, r, why)
		return err
	})
	return freed, err
}

// discard is Discard for whoever has the lock. The record says that the archive is gone before it is: what could not be
// removed is swept later.
func (svc *Releases) discard(ctx context.Context, r records.Release, why string) (freed int64, err error) {
	name, err := svc.DB.Discard(ctx, r.ID, why)
	if err != nil || name == "" {
		return 0, err
	}
	return svc.Stored.Remove(ctx, name)
}

// toDiscard says which archives a starter's rules do not keep: not among the last so many releases, not the newest
// of one of the last so many weeks, and no site was made from it. Releases come newest first.
func toDiscard(releases []records.Release, last, weeks int, now time.Time) (out []records.Release) {
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

// Retained is what the rules have discarded.
type Retained struct {
	Discarded []string
	Bytes     int64 // that are free now
}

// Retain applies the rules of all starters, each under its own lock. A starter that is being worked on is passed over: its
// rules are applied when that work ends, and within the hour.
func (svc *Releases) Retain(ctx context.Context, report progress.Reporter) (out Retained, err error) {
	starters, err := svc.DB.Starters(ctx)
	if err != nil {
		return out, err
	}
	for _, t := range starters {
		if t.KeepLast == 0 && t.KeepWeeks == 0 {
			continue
		}
		err := svc.Engine.WithLock(ctx, engine.Target("starter", t.Name), func(ctx context.Context) error {
			return svc.retainStarter(ctx, t, &out, report)
		})
		if err != nil && !errors.Is(err, engine.ErrBusy) {
			return out, err
		}
	}
	return out, nil
}

func (svc *Releases) retainStarter(ctx context.Context, t records.Starter, out *Retained, report progress.Reporter) error {
	releases, err := svc.DB.Releases(ctx, t.Name)
	if err != nil {
		return err
	}
	for _, r := range toDiscard(releases, t.KeepLast, t.KeepWeeks, time.Now()) {
		freed, err := svc.discard(ctx, r, "by the starter's rules: "+rules(t))
		if err != nil {
			return err
		}
		out.Discarded = append(out.Discarded, r.Ref())
		out.Bytes += freed
		report.Note(fmt.Sprintf("discarded the archive of %s, %s of which %s were its own, by the rule: %s", r.Ref(),
			progress.SizeText(r.ArchiveBytes), progress.SizeText(freed), rules(t)))
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

// retain applies a starter's rules after a release of it was made, by the run that has its lock. That it did not work is
// told and is no reason for the release to fail: the rules are applied again every hour.
func (svc *Releases) retain(ctx context.Context, starter string, report progress.Reporter) {
	t, err := svc.DB.Starter(ctx, starter)
	if err == nil {
		err = svc.retainStarter(ctx, t, &Retained{}, report)
	}
	if err != nil {
		report.Note(fmt.Sprintf("older archives could not be discarded: %v", err))
	}
}

// RetentionDue reports whether any archive is to be discarded by a rule.
func (svc *Releases) RetentionDue(ctx context.Context) (bool, error) {
	starters, err := svc.DB.Starters(ctx)
	if err != nil {
		return false, err
	}
	for _, t := range starters {
		releases, err := svc.DB.Releases(ctx, t.Name)
		if err != nil {
			return false, err
		}
		if len(toDiscard(releases, t.KeepLast, t.KeepWeeks, time.Now())) > 0 {
			return true, nil
		}
	}
	return false, nil
}
