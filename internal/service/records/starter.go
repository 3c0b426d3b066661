package records

import (
	"context"
	"time"
)

// Starter is a named line of releases.
type Starter struct {
	ID        int64
	Name      string
	SourceID  int64
	Source    string
	Kind      string
	List      string // the packing list, as text
	CreatedAt time.Time
	Releases  int
	Newest    *int
}

const starterQuery = `SELECT t.id, t.name, t.source_id, s.name AS source, s.kind, t.list, t.created_at,
	(SELECT count(*) FROM releases r WHERE r.starter_id = t.id)::int AS releases,
	(SELECT max(number) FROM releases r WHERE r.starter_id = t.id) AS newest
	FROM starters t JOIN sources s ON s.id = t.source_id `

// Starters lists all starters.
func (db *DB) Starters(ctx context.Context) ([]Starter, error) {
	return many[Starter](ctx, db, starterQuery+"ORDER BY t.name")
}

// Starter returns a starter by name.
func (db *DB) Starter(ctx context.Context, name string) (Starter, error) {
	return one[Starter](ctx, db, "starter", name, starterQuery+"WHERE t.name = $1", name)
}

// AddStarter makes a starter.
func (db *DB) AddStarter(ctx context.Context, name string, sourceID int64, list string) (Starter, error) {
	if err := db.exec(ctx, "starter", name, "INSERT INTO starters (name, source_id, list) VALUES ($1, $2, $3)", name, sourceID, list); err != nil {
		return Starter{}, err
	}
	return db.Starter(ctx, name)
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
