package sites

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// RetainCopies drops the safety copies that the rules of sites do not keep, each by a run of its own: one that cannot be dropped keeps no
// other. While one of them goes on, waits is the first of them; called again then, it says what became of all.
func (svc *Sites) RetainCopies(ctx context.Context, run engine.Run, report progress.Reporter) (dropped int, freedBytes, waits int64,
	err error) {
	begun, err := svc.DB.Children(ctx, run.ID)
	if err != nil {
		return 0, 0, 0, err
	}
	if len(begun) == 0 {
		if begun, err = svc.dropByRules(ctx, run); err != nil {
			return 0, 0, 0, err
		}
	}
	for _, child := range begun {
		if child.EndedAt == nil {
			return 0, 0, begun[0].ID, nil
		}
	}
	for _, child := range begun {
		if child.Status != records.Done {
			continue // it says so itself, and is tried again within the hour
		}
		var res CopyResult
		if err := json.Unmarshal(child.Result, &res); err != nil {
			return 0, 0, 0, err
		}
		dropped++
		freedBytes += res.Bytes
		report.Note(fmt.Sprintf("dropped a safety copy of %s, %s, by the site's rule", res.Site, progress.SizeText(res.Bytes)))
	}
	return dropped, freedBytes, 0, nil
}

// dropByRules starts a run for each safety copy that a rule does not keep.
func (svc *Sites) dropByRules(ctx context.Context, run engine.Run) (begun []engine.Run, err error) {
	sites, err := svc.DB.Sites(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range sites {
		copies, err := svc.DB.SiteCopies(ctx, s.ID)
		if err != nil {
			return nil, err
		}
		for _, c := range copiesToDrop(copies, s.KeepLast, s.KeepDays, time.Now()) {
			args, err := svc.DropArgs(ctx, s, c.ID)
			if err != nil {
				return nil, err
			}
			child, err := svc.Engine.Start(ctx, engine.Run{Job: "drop-copy", Title: "Drop a safety copy of " + s.Name,
				Target: engine.Target("site", s.Name), Who: run.Who, ParentID: &run.ID, Purpose: fmt.Sprint("copy ", c.ID)}, args)
			if err != nil {
				return nil, err
			}
			begun = append(begun, child)
		}
	}
	return begun, nil
}

// SetCopyRule says which safety copies of a site are kept: the last so many, and for how many days; 0 is no limit. It waits for no
// run: the rule is read when it is applied. Errors: records.ErrNotFound.
func (svc *Sites) SetCopyRule(ctx context.Context, name string, last, days int) error {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return err
	}
	return svc.DB.SetCopyRule(ctx, s.ID, last, days)
}

// TickTask ticks a launch task of a site off, or puts it back. Errors: records.ErrNotFound.
func (svc *Sites) TickTask(ctx context.Context, name, key, who string, done bool) error {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return err
	}
	return svc.DB.TickTask(ctx, s.ID, key, who, done)
}

// SetTaskDue says by which day a launch task of a site is to be done; the zero time for none. Errors: records.ErrNotFound.
func (svc *Sites) SetTaskDue(ctx context.Context, name, key string, due time.Time) error {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return err
	}
	if due.IsZero() {
		return svc.DB.SetTaskDue(ctx, s.ID, key, nil)
	}
	return svc.DB.SetTaskDue(ctx, s.ID, key, &due)
}

// copiesToDrop says which safety copies a site's rule does not keep. They come newest first. Without a rule all
// are kept until a person drops them; so is, with one, the old place of a site that visitors may still be led to.
func copiesToDrop(copies []records.SiteCopy, last, days int, now time.Time) (out []records.SiteCopy) {
	for i, c := range copies {
		if !c.Serves() && (last > 0 && i >= last || days > 0 && now.Sub(c.MadeAt) > time.Duration(days)*24*time.Hour) {
			out = append(out, c)
		}
	}
	return out
}

// RetentionDue reports whether a safety copy is to be dropped by a rule.
func (svc *Sites) RetentionDue(ctx context.Context) (bool, error) {
	sites, err := svc.DB.Sites(ctx)
	if err != nil {
		return false, err
	}
	for _, s := range sites {
		if s.KeepLast == 0 && s.KeepDays == 0 {
			continue
		}
		copies, err := svc.DB.SiteCopies(ctx, s.ID)
		if err != nil {
			return false, err
		}
		if len(copiesToDrop(copies, s.KeepLast, s.KeepDays, time.Now())) > 0 {
			return true, nil
		}
	}
	return false, nil
}
