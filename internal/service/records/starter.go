package records

import (
	"context"
	"time"
)

// Starter is a named line of releases.
type Starter struct {
	ID        int64
	Name      string
	SourceID  *int64 // nil for one whose releases were imported
	Source    string
	Kind      string
	List      string // the packing list, as text
	CreatedAt time.Time
	Releases  int
	Newest    *int
	KeepLast  int // archives that are kept; 0 for all
	KeepWeeks int // weeks of which one archive each is kept besides
}

const starterQuery = `SELECT t.id, t.name, t.source_id, COALESCE(s.name, '') AS source, t.kind, t.list, t.created_at, t.keep_last,
	t.keep_weeks,
	(SELECT count(*) FROM releases r WHERE r.starter_id = t.id)::int AS releases,
	(SELECT max(number) FROM releases r WHERE r.starter_id = t.id) AS newest
	FROM starters t LEFT JOIN sources s ON s.id = t.source_id `

// Starters lists all starters.
func (db *DB) Starters(ctx context.Context) ([]Starter, error) {
	return many[Starter](ctx, db, starterQuery+"ORDER BY t.name")
}

// Starter returns a starter by name.
func (db *DB) Starter(ctx context.Context, name string) (Starter, error) {
	return one[Starter](ctx, db, "starter", name, starterQuery+"WHERE t.name = $1", name)
}

// AddStarter makes a starter; without a source it is for releases that are imported.
func (db *DB) AddStarter(ctx context.Context, name string, sourceID *int64, kind, list string) (Starter, error) {
	if err := db.exec(ctx, "starter", name, "INSERT INTO starters (name, source_id, kind, list) VALUES ($1, $2, $3, $4)", name, sourceID,
		kind, list); err != nil {
		return Starter{}, err
	}
	return db.Starter(ctx, name)
}

// SetStarterSource says what a starter is built from.
func (db *DB) SetStarterSource(ctx context.Context, name string, sourceID int64) error {
	return db.exec(ctx, "starter", name, "UPDATE starters SET source_id = $2 WHERE name = $1", name, sourceID)
}

// SetRetention says which archives of a starter are kept.
func (db *DB) SetRetention(ctx context.Context, name string, last, weeks int) error {
	return db.exec(ctx, "starter", name, "UPDATE starters SET keep_last = $2, keep_weeks = $3 WHERE name = $1", name, last, weeks)
}

// SetList replaces a starter's packing list, if it is still the one that was edited.
func (db *DB) SetList(ctx context.Context, name, before, after string) error {
	tag, err := db.Pool.Exec(ctx, "UPDATE starters SET list = $3 WHERE name = $1 AND list = $2", name, before, after)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrChanged
	}
	return err
}

// RemoveStarter removes a starter that has no releases.
func (db *DB) RemoveStarter(ctx context.Context, name string) error {
	return db.exec(ctx, "starter", name, "DELETE FROM starters WHERE name = $1", name)
}
