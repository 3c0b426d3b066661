package sources

import (
	"context"
	"errors"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
)

const (
	baselineFresh = time.Hour      // what was found on a source is good for all releases that are built within
	baselineDue   = 24 * time.Hour // a release that is older is not judged by what its source is today, unless a site needs it
)

// Baseline returns what the checks of its source found when a release was built, so that faults of the source are not taken for faults
// of the sites that are made from it. Where they were not made yet, they are made now, and kept. It is nil for a release that was
// imported, and where the source cannot be checked.
func (svc *Sources) Baseline(ctx context.Context, r records.Release) (*check.Report, error) {
	if r.ImportedFrom != "" || r.SourceID == nil {
		return nil, nil
	}
	kept, err := svc.DB.Baseline(ctx, r.ID)
	if !errors.Is(err, records.ErrNotFound) {
		return kept, err
	}
	found, err := svc.DB.BaselineOf(ctx, *r.SourceID, time.Now().Add(-baselineFresh))
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
