package records

import (
	"context"
	"errors"
	"time"

	"nestseed/internal/core/check"
)

// Acceptance says that something that was found is known, and harmless. Just one of the numbers is set.
type Acceptance struct {
	ID        int64
	SiteID    *int64
	StarterID *int64 // all sites of its releases
	SourceID  *int64
	What      string // a check, or a finding
	Mark      string // of what was found: anything else is not accepted
	Reason    string
	Who       string
	At        time.Time
	Until     *time.Time // when it ends by itself; nil for never
}

const acceptanceQuery = "SELECT id, site_id, starter_id, source_id, what, mark, reason, who, at, until FROM acceptances "

// Accept keeps an acceptance in the place of an older one of the same.
func (db *DB) Accept(ctx context.Context, a Acceptance) error {
	_, err := db.Pool.Exec(ctx, `INSERT INTO acceptances (site_id, starter_id, source_id, what, mark, reason, who, until)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (site_id, starter_id, source_id, what)
		DO UPDATE SET mark = $5, reason = $6, who = $7, at = now(), until = $8`, a.SiteID, a.StarterID, a.SourceID, a.What, a.Mark, a.Reason,
		a.Who, a.Until)
	if err != nil {
		return err
	}
	return db.countAcceptedOf(ctx, a)
}

// Unaccept forgets an acceptance.
func (db *DB) Unaccept(ctx context.Context, a Acceptance) error {
	if err := db.exec(ctx, "acceptance", a.What, "DELETE FROM acceptances WHERE id = $1", a.ID); err != nil {
		return err
	}
	return db.countAcceptedOf(ctx, a)
}

// EndAcceptances forgets those whose day has come.
func (db *DB) EndAcceptances(ctx context.Context) error {
	ended, err := many[Acceptance](ctx, db, acceptanceQuery+"WHERE until < now()")
	for _, a := range ended {
		if err := db.Unaccept(ctx, a); err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
	}
	return err
}

func (db *DB) countAcceptedOf(ctx context.Context, a Acceptance) error {
	switch {
	case a.SiteID != nil:
		return db.countAccepted(ctx, "s.id = $1", *a.SiteID)
	case a.StarterID != nil:
		return db.countAccepted(ctx, "r.starter_id = $1 AND s.retired_at IS NULL", *a.StarterID)
	}
	return nil
}

// AcceptedOn lists what is accepted on a site: for itself, and for all of its starter.
func (db *DB) AcceptedOn(ctx context.Context, siteID int64) ([]Acceptance, error) {
	return many[Acceptance](ctx, db, acceptanceQuery+`WHERE site_id = $1 OR starter_id =
		(SELECT r.starter_id FROM sites s JOIN releases r ON r.id = s.release_id WHERE s.id = $1) ORDER BY site_id NULLS LAST`, siteID)
}

// Judged is what checks have found on a site, and what of it is accepted.
type Judged struct {
	ID       int64
	Report   *check.Report
	Lead     *check.Lead
	Accepted []Acceptance `db:"-"`
	Starter  int64
}

// JudgedSites reads that of several sites at once.
func (db *DB) JudgedSites(ctx context.Context, ids []int64) (map[int64]Judged, error) {
	sites, err := many[Judged](ctx, db, `SELECT s.id, s.report, s.lead, r.starter_id AS starter FROM sites s
		JOIN releases r ON r.id = s.release_id WHERE s.id = ANY($1)`, ids)
	if err != nil {
		return nil, err
	}
	accepted, err := many[Acceptance](ctx, db, acceptanceQuery+`WHERE site_id = ANY($1)
		OR starter_id IN (SELECT r.starter_id FROM sites s JOIN releases r ON r.id = s.release_id WHERE s.id = ANY($1))`, ids)
	out := map[int64]Judged{}
	for _, s := range sites {
		for _, a := range accepted {
			if a.SiteID != nil && *a.SiteID == s.ID || a.StarterID != nil && *a.StarterID == s.Starter {
				s.Accepted = append(s.Accepted, a)
			}
		}
		out[s.ID] = s
	}
	return out, err
}

// AcceptedOf lists the findings of a source that are accepted.
func (db *DB) AcceptedOf(ctx context.Context, sourceID int64) ([]Acceptance, error) {
	return many[Acceptance](ctx, db, acceptanceQuery+"WHERE source_id = $1", sourceID)
}

// Covers reports whether an acceptance is of what a check has found.
func (a *Acceptance) Covers(c *check.Check) bool {
	same := a.Mark == c.Mark() || a.Mark == c.EarlierMark()
	if a.StarterID != nil {
		same = a.Mark == c.MarkEverywhere()
	}
	return c.Result != check.Pass && a.What == c.Name && same && (a.Until == nil || a.Until.After(time.Now()))
}

// CoveredBy returns the acceptance of what a check has found, or nil.
func CoveredBy(accepted []Acceptance, c *check.Check) *Acceptance {
	for i := range accepted {
		if accepted[i].Covers(c) {
			return &accepted[i]
		}
	}
	return nil
}

// countAccepted notes with each of some sites how many of its warnings and faults are accepted, for lists.
func (db *DB) countAccepted(ctx context.Context, where string, arg any) error {
	type row struct {
		ID     int64
		Report *check.Report
	}
	sites, err := many[row](ctx, db, "SELECT s.id, s.report FROM sites s JOIN releases r ON r.id = s.release_id WHERE "+where, arg)
	for _, s := range sites {
		n := map[check.Result]int{}
		if s.Report != nil && s.Report.Warnings()+s.Report.Faults() > 0 {
			accepted, err := db.AcceptedOn(ctx, s.ID)
			if err != nil {
				return err
			}
			for i := range s.Report.Checks {
				if c := &s.Report.Checks[i]; CoveredBy(accepted, c) != nil {
					n[c.Result]++
				}
			}
		}
		if _, err := db.Pool.Exec(ctx, `UPDATE sites SET accepted = $2, accepted_faults = $3
			WHERE id = $1 AND (accepted, accepted_faults) <> ($2, $3)`,
			s.ID, n[check.Warn], n[check.Fail]); err != nil {
			return err
		}
	}
	return err
}

// counted counts what is accepted on a site that is another one now, unless that could not be recorded. Where counting fails, the next
// report of the site counts again; what was recorded stays.
func (db *DB) counted(ctx context.Context, siteID int64, err error) error {
	if err == nil {
		_ = db.countAccepted(ctx, "s.id = $1", siteID)
	}
	return err
}
