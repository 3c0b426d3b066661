package records

import (
	"context"
	"time"

	"nestseed/internal/core/check"
)

// Baseline returns what the checks of its source found when a release was built. Errors: ErrNotFound, when they were not made.
func (db *DB) Baseline(ctx context.Context, releaseID int64) (*check.Report, error) {
	return db.baselineWhere(ctx, "id = $1", releaseID)
}

// BaselineOf returns the newest that was found on a source since a time. Errors: ErrNotFound.
func (db *DB) BaselineOf(ctx context.Context, sourceID int64, since time.Time) (*check.Report, error) {
	return db.baselineWhere(ctx, "source_id = $1 AND (baseline->>'at')::timestamptz > $2", sourceID, since)
}

func (db *DB) baselineWhere(ctx context.Context, where string, args ...any) (*check.Report, error) {
	type row struct{ Baseline *check.Report }
	r, err := one[row](ctx, db, "baseline", "",
		"SELECT baseline FROM releases WHERE baseline IS NOT NULL AND "+where+" ORDER BY (baseline->>'at')::timestamptz DESC LIMIT 1", args...)
	return r.Baseline, err
}

// SetBaseline keeps what was found on the source of a release.
func (db *DB) SetBaseline(ctx context.Context, releaseID int64, r *check.Report) error {
	return db.exec(ctx, "release", "", "UPDATE releases SET baseline = $2 WHERE id = $1", releaseID, r)
}

// Templates returns which pages of sites of a release look alike, as far as that is known: of its source, or of the newest site of the same
// starter. See check.Report.
func (db *DB) Templates(ctx context.Context, releaseID int64) (map[string]string, error) {
	type row struct{ Templates map[string]string }
	r, err := one[row](ctx, db, "release", "", `SELECT coalesce(r.baseline->'templates',
		(SELECT s.report->'templates' FROM sites s JOIN releases o ON o.id = s.release_id
			WHERE o.starter_id = r.starter_id AND s.report->'templates' IS NOT NULL ORDER BY s.id DESC LIMIT 1), '{}') AS templates
		FROM releases r WHERE r.id = $1`, releaseID)
	return r.Templates, err
}

// WithoutBaseline lists the releases that were built since a time and have no baseline, one of each source, newest first.
func (db *DB) WithoutBaseline(ctx context.Context, since time.Time) ([]Release, error) {
	return many[Release](ctx, db, releaseQuery+`WHERE r.id IN (SELECT max(id) FROM releases WHERE imported_from = '' AND source_id IS NOT NULL
		AND (manifest->>'made')::timestamptz > $1 GROUP BY source_id) AND r.baseline IS NULL ORDER BY r.id DESC`, since)
}
