package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"nestseed/internal/core/provision"
)

// journal is a provision.Journal of what a run makes on one host.
type journal struct {
	db    *DB
	run   int64
	where string
}

// Journal returns the journal of what a run makes on a host and its database server, as Made.Where names them.
func (db *DB) Journal(run int64, where string) provision.Journal { return journal{db, run, where} }

func (j journal) Making(ctx context.Context, m provision.Made) error {
	m.Where = j.where
	return j.db.AddMade(ctx, j.run, m)
}

func (j journal) NotOurs(ctx context.Context, m provision.Made) error {
	m.Where = j.where
	return j.db.inFence(ctx, "DELETE FROM run_journal WHERE run_id = $1 AND made = $2", j.run, m)
}

func (j journal) Still(ctx context.Context) error { return j.db.Claimed(ctx) }

// inFence runs a statement unless the claim of the context was lost. Errors: ErrOvertaken.
func (db *DB) inFence(ctx context.Context, query string, args ...any) error {
	return pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		if err := fence(ctx, tx); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, query, args...)
		return err
	})
}

// AddMade writes to a run's journal; when it returns, the entry survives a crash.
func (db *DB) AddMade(ctx context.Context, id int64, m provision.Made) error {
	return db.inFence(ctx, "INSERT INTO run_journal (run_id, made) VALUES ($1, $2)", id, m)
}

const clearMade = "DELETE FROM run_journal WHERE run_id = $1 AND over_at IS NULL"

// ClearMade empties a run's journal: what it made was taken back. Where the run was begun more than once, an attempt that was overtaken may
// still make what its entry names; such entries are kept for LateMade.
func (db *DB) ClearMade(ctx context.Context, id int64) error {
	return pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		if err := fence(ctx, tx); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `UPDATE run_journal SET over_at = now() WHERE run_id = $1 AND over_at IS NULL
			AND made->>'sort' IN ('database', 'user', 'staging') AND (SELECT attempt FROM runs WHERE id = $1) > 1`, id)
		if err == nil {
			_, err = tx.Exec(ctx, clearMade, id)
		}
		return err
	})
}

// When what an overtaken attempt may have made late is looked for, after its run was cleaned up: soon, and once more.
const (
	lateSoon  = time.Minute
	lateAgain = time.Hour
)

// Late is an entry of a journal that an attempt may have made after it was overtaken and its run was cleaned up.
type Late struct {
	ID   int64
	Made provision.Made
}

// LateMade returns the entries that are to be looked for now. Each names what only that attempt can have made, and no record of a site or
// safety copy names.
func (db *DB) LateMade(ctx context.Context) ([]Late, error) {
	return many[Late](ctx, db, `SELECT id, made FROM run_journal
		WHERE over_at < now() - CASE WHEN looked THEN $2::interval ELSE $1::interval END
		AND NOT EXISTS (SELECT FROM sites s WHERE s.retired_at IS NULL AND made->>'name' IN (s.database, s.db_user, s.folder))
		AND NOT EXISTS (SELECT FROM site_copies c WHERE made->>'name' IN (c.database, c.db_user, c.folder)) ORDER BY id`, lateSoon, lateAgain)
}

// LookedFor records that an entry was looked for; after the second time it is gone.
func (db *DB) LookedFor(ctx context.Context, id int64) error {
	_, err := db.Pool.Exec(ctx, `WITH gone AS (DELETE FROM run_journal WHERE id = $1 AND looked)
		UPDATE run_journal SET looked = true WHERE id = $1 AND NOT looked`, id)
	return err
}

// Made returns a run's journal in order.
func (db *DB) Made(ctx context.Context, id int64) ([]provision.Made, error) {
	type row struct{ Made provision.Made }
	rows, err := many[row](ctx, db, "SELECT made FROM run_journal WHERE run_id = $1 AND over_at IS NULL ORDER BY id", id)
	made := make([]provision.Made, len(rows))
	for i, r := range rows {
		made[i] = r.Made
	}
	return made, err
}

// OpenJournals returns the journals of runs that have not ended and what may have been made late, by run.
func (db *DB) OpenJournals(ctx context.Context) (map[int64][]provision.Made, error) {
	type row struct {
		RunID int64
		Made  provision.Made
	}
	rows, err := many[row](ctx, db, "SELECT j.run_id, j.made FROM run_journal j JOIN runs r ON r.id = j.run_id WHERE r.ended_at IS NULL "+
		"OR j.over_at IS NOT NULL ORDER BY j.id")
	out := map[int64][]provision.Made{}
	for _, r := range rows {
		out[r.RunID] = append(out[r.RunID], r.Made)
	}
	return out, err
}
