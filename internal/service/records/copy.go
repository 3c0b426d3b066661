package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"nestseed/internal/core/check"
	"nestseed/internal/core/provision"
)

// Why a safety copy was made.
const (
	CopyReplaced = "replaced"
	CopyMoved    = "moved"
	CopyAsked    = "asked"
	CopyRetired  = "retired"
)

// SiteCopy is a site as it stood: an archive in the store, or, of a site that was replaced or has moved, its folder and
// its database as they were, on their host.
type SiteCopy struct {
	Standing  // of a folder
	ID        int64
	SiteID    int64
	MadeAt    time.Time
	Why       string
	RunID     int64
	Bytes     int64
	Archive   string
	Folder    string
	ReleaseID *int64
	SiteRunID *int64 // the run that made the site as it stood
	Plan      *provision.Plan
	Result    *provision.Result
	Report    *check.Report
	Held      bool

	// Of a folder.
	HostID  *int64
	Place   string // the folder that it was in, of a site that has moved
	Address string // the address it had

	SecretsSealed string // that an archive was searched for
	SumsSha256    string // of an archive: see build.Built
}

// Serves says that it still answers visitors where it is: a site that has moved and kept its address.
func (c SiteCopy) Serves() bool { return c.Why == CopyMoved && c.Folder == c.Place }

const copyColumns = "id, site_id, made_at, why, run_id, bytes, archive, folder, release_id, site_run_id, plan, result, report, held, " +
	"host_id, place, address, secrets_sealed, sums_sha256, " + standingColumns

// SiteCopies lists a site's safety copies, newest first.
func (db *DB) SiteCopies(ctx context.Context, siteID int64) ([]SiteCopy, error) {
	return many[SiteCopy](ctx, db, "SELECT "+copyColumns+" FROM site_copies WHERE site_id = $1 ORDER BY id DESC", siteID)
}

// SiteCopyByID returns a safety copy.
func (db *DB) SiteCopyByID(ctx context.Context, id int64) (SiteCopy, error) {
	return one[SiteCopy](ctx, db, "safety copy", itoa(id), "SELECT "+copyColumns+" FROM site_copies WHERE id = $1", id)
}

// CopyOfRun returns the safety copy that a run made. Errors: ErrNotFound.
func (db *DB) CopyOfRun(ctx context.Context, runID int64) (SiteCopy, error) {
	return one[SiteCopy](ctx, db, "safety copy", itoa(runID), "SELECT "+copyColumns+" FROM site_copies WHERE run_id = $1", runID)
}

// AddSiteCopy keeps a safety copy whose archive is in the store.
func (db *DB) AddSiteCopy(ctx context.Context, c SiteCopy) error {
	return db.fenced(ctx, "safety copy", c.Archive,
		"INSERT INTO site_copies (site_id, why, run_id, bytes, archive, release_id, site_run_id, secrets_sealed, sums_sha256, code_id) VALUES "+
			"($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
		c.SiteID, c.Why, c.RunID, c.Bytes, c.Archive, c.ReleaseID, c.SiteRunID, c.SecretsSealed, c.SumsSha256, c.CodeID)
}

// RemoveSiteCopy forgets a safety copy.
func (db *DB) RemoveSiteCopy(ctx context.Context, id int64) error {
	return db.fenced(ctx, "safety copy", itoa(id), "DELETE FROM site_copies WHERE id = $1", id)
}

// ReplaceSite records that a site has taken the place of what it was; what it was becomes a safety copy.
func (db *DB) ReplaceSite(ctx context.Context, old, fresh Site, folder string, bytes int64, tasks []LaunchTask) error {
	return db.counted(ctx, old.ID, db.keep(ctx, fresh.Address, fresh.RunID, func(tx pgx.Tx) error {
		if err := addStanding(ctx, tx, old, SiteCopy{Why: CopyReplaced, RunID: fresh.RunID, Folder: folder, Address: old.Address,
			Bytes: bytes}); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "UPDATE sites SET release_id = $2, run_id = $3, plan = $4, result = $5, report = NULL, held = $6, address = "+
			"$7, lead = CASE WHEN address = $7 THEN lead END, made_at = now(), "+
			"("+standingColumns+") = ($8, $9, $10, $11, $12, $13, $14) WHERE id = $1",
			append([]any{old.ID, fresh.ReleaseID, fresh.RunID, fresh.Plan, fresh.Result, fresh.Held, fresh.Address}, fresh.values()...)...)
		if err != nil {
			return err
		}
		return addLaunchTasks(ctx, tx, old.ID, tasks)
	}))
}

// MoveSite records where a site is now; what it was, in a folder of its old host, becomes a safety copy.
func (db *DB) MoveSite(ctx context.Context, old, there Site, folder string) error {
	return db.counted(ctx, there.ID, db.keep(ctx, there.Address, there.RunID, func(tx pgx.Tx) error {
		if err := addStanding(ctx, tx, old, SiteCopy{Why: CopyMoved, RunID: there.RunID, Folder: folder, Place: old.Folder, Address: old.Address,
			Bytes: old.Plan.Bytes}); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, "UPDATE sites SET host_id = $2, address = $3, folder = $4, run_id = $5, plan = $6, result = $7, report = $8, "+
			"lead = NULL, made_at = now(), ("+standingColumns+") = ($9, $10, $11, $12, $13, $14, $15) WHERE id = $1",
			append([]any{there.ID, there.HostID, there.Address, there.Folder, there.RunID, there.Plan, there.Result, there.Report},
				there.values()...)...)
		if err == nil && tag.RowsAffected() != 1 {
			err = fmt.Errorf("site %s is not there: %w", there.Name, ErrNotFound)
		}
		return err
	}))
}

// addStanding keeps a site as it stands in a folder of its host.
func addStanding(ctx context.Context, tx pgx.Tx, s Site, c SiteCopy) error {
	_, err := tx.Exec(ctx, `INSERT INTO site_copies (site_id, why, run_id, bytes, folder, place, address, host_id, release_id, site_run_id,
		plan, result, report, held, `+standingColumns+`)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21)`,
		append([]any{s.ID, c.Why, c.RunID, c.Bytes, c.Folder, c.Place, c.Address, s.HostID, s.ReleaseID, s.RunID, s.Plan, s.Result, s.Report,
			s.Held}, s.values()...)...)
	return err
}

// PutBackSite records that a site is again what a safety copy says, and forgets the copy.
func (db *DB) PutBackSite(ctx context.Context, c SiteCopy) error {
	if c.Plan == nil || c.Result == nil || c.ReleaseID == nil || c.SiteRunID == nil {
		return errors.New("this safety copy is an archive, not a site that was replaced or has moved")
	}
	return db.counted(ctx, c.SiteID, pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		if err := fence(ctx, tx); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `UPDATE sites SET release_id = $2, run_id = $3, plan = $4, result = $5, report = $6, held = $7, lead = NULL,
			host_id = COALESCE($8, host_id), folder = COALESCE(NULLIF($9, ''), folder), address = COALESCE(NULLIF($10, ''), address),
			(`+standingColumns+`) = ($11, $12, $13, $14, $15, $16, $17) WHERE id = $1`,
			append([]any{c.SiteID, *c.ReleaseID, *c.SiteRunID, c.Plan, c.Result, c.Report, c.Held, c.HostID, c.Place, c.Address}, c.values()...)...)
		if err == nil && tag.RowsAffected() != 1 {
			err = fmt.Errorf("the site of safety copy %d is not there: %w", c.ID, ErrNotFound)
		}
		if err == nil {
			_, err = tx.Exec(ctx, "DELETE FROM site_copies WHERE id = $1", c.ID)
		}
		return explain("site", c.Address, err)
	}))
}

// RetireSite records that a site is gone; its name and address are free again.
func (db *DB) RetireSite(ctx context.Context, id int64) error {
	return db.fenced(ctx, "site", itoa(id), "UPDATE sites SET retired_at = COALESCE(retired_at, now()), held = false WHERE id = $1", id)
}

// ForgetSite removes the record of a site that was undone.
func (db *DB) ForgetSite(ctx context.Context, id int64) error {
	err := db.fenced(ctx, "site", itoa(id), "DELETE FROM sites WHERE id = $1", id)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}

// SetHeld notes whether visitors are kept out of a site.
func (db *DB) SetHeld(ctx context.Context, id int64, held bool) error {
	return db.exec(ctx, "site", itoa(id), "UPDATE sites SET held = $2 WHERE id = $1", id, held)
}

// SetLive notes that search engines are let into a site, and that its mail goes out.
func (db *DB) SetLive(ctx context.Context, id int64) error {
	return db.exec(ctx, "site", itoa(id), "UPDATE sites SET visible = true, quiet = false WHERE id = $1", id)
}

// SetCopyRule says which safety copies of a site are kept.
func (db *DB) SetCopyRule(ctx context.Context, id int64, last, days int) error {
	return db.exec(ctx, "site", itoa(id), "UPDATE sites SET keep_last = $2, keep_days = $3 WHERE id = $1", id, last, days)
}

// SetSiteUser keeps the database user that a site has now.
func (db *DB) SetSiteUser(ctx context.Context, id int64, user string) error {
	return db.fenced(ctx, "site", itoa(id), "UPDATE sites SET db_user = $2 WHERE id = $1", id, user)
}

// Places is how often a release names the address and folder it came from.
type Places struct {
	Counts  []provision.Count  `json:"counts"`
	Samples []provision.Sample `json:"samples"`
}

// PlacesOf returns the places of a release, or nil when they were not counted yet.
func (db *DB) PlacesOf(ctx context.Context, releaseID int64) (p *Places, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT places FROM releases WHERE id = $1", releaseID).Scan(&p)
	return p, err
}

// SetPlaces keeps the places of a release.
func (db *DB) SetPlaces(ctx context.Context, releaseID int64, p Places) error {
	return db.exec(ctx, "release", "", "UPDATE releases SET places = $2 WHERE id = $1", releaseID, p)
}
