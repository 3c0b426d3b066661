package sources

import (
	"context"
	"errors"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
)

// baselineDue is how old a release is at most whose source is checked for it without a site that needs that: what a source is like
// later says little of it.
const baselineDue = 24 * time.Hour

// Baseline returns what the checks of its source found when a release was built, so that faults of the source are not taken for faults
// of the sites that are made from it. Where they were not made yet, and not for another release since it was built, they are made now,
// and kept. It is nil for a release that was imported, and where the source cannot be checked.
func (svc *Sources) Baseline(ctx context.Context, r records.Release) (*check.Report, error) {
	if r.ImportedFrom != "" || r.SourceID == nil {
		return nil, nil
	}
	kept, err := svc.DB.Baseline(ctx, r.ID)
	if !errors.Is(err, records.ErrNotFound) {
		return kept, err
	}
	found, err := svc.DB.BaselineOf(ctx, *r.SourceID, r.Manifest.Made)
	if errors.Is(err, records.ErrNotFound) {
		var src records.Source
		if src, err = svc.DB.SourceByID(ctx, *r.SourceID); err != nil || src.Address == "" {
			return nil, err
		}
		found, err = svc.Check(ctx, src.Name, progress.Discard)
	}
	if err != nil {
		return nil, err
	}
	return found, svc.DB.SetBaseline(ctx, r.ID, found)
}

// TakeBaselines checks the sources of new releases.
func (svc *Sources) TakeBaselines(ctx context.Context) (err error) {
	releases, err := svc.DB.WithoutBaseline(ctx, time.Now().Add(-baselineDue))
	for _, r := range releases {
		_, failed := svc.Baseline(ctx, r)
		err = errors.Join(err, failed)
	}
	return err
}
