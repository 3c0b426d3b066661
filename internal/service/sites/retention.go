package sites

import (
	"context"
	"errors"
	"fmt"
	"time"

	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// RetainCopies drops the safety copies that the rules of sites do not keep, each under its site's lock. A site that is being
// worked on is passed over: its rule is applied again within the hour.
func (svc *Sites) RetainCopies(ctx context.Context, report progress.Reporter) (dropped int, freedBytes int64, err error) {
	sites, err := svc.DB.Sites(ctx)
	if err != nil {
		return 0, 0, err
	}
	for _, s := range sites {
		copies, err := svc.DB.SiteCopies(ctx, s.ID)
		if err != nil {
			return dropped, freedBytes, err
		}
		for _, c := range copiesToDrop(copies, s.KeepLast, s.KeepDays, time.Now()) {
			freed, err := svc.DropCopy(ctx, s, c.ID)
			if errors.Is(err, engine.ErrBusy) || errors.Is(err, records.ErrNotFound) {
				continue
			}
			if err != nil {
				return dropped, freedBytes, fmt.Errorf("safety copy %d of %s: %w", c.ID, s.Name, err)
			}
			dropped++
			freedBytes += freed
			report.Note(fmt.Sprintf("dropped the safety copy of %s of %s, %s, by the site's rule", s.Name, c.MadeAt.Format("2 January 2006"),
				progress.SizeText(c.Bytes)))
		}
	}
	return dropped, freedBytes, nil
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
