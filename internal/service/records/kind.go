package records

import (
	"context"
	"fmt"
	"time"
)

// Kind is the definition of a CMS family that somebody has added.
type Kind struct {
	Name       string
	Definition string // YAML
	AddedBy    string
	AddedAt    time.Time
}

// Kinds lists the kinds that were added.
func (db *DB) Kinds(ctx context.Context) ([]Kind, error) {
	return many[Kind](ctx, db, "SELECT name, definition, added_by, added_at FROM kinds ORDER BY name")
}

// PutKind adds a kind, or replaces its definition.
func (db *DB) PutKind(ctx context.Context, k Kind) error {
	_, err := db.Pool.Exec(ctx, "INSERT INTO kinds (name, definition, added_by) VALUES ($1, $2, $3) ON CONFLICT (name) DO UPDATE SET "+
		"definition = $2, "+
		"added_by = $3, added_at = now()", k.Name, k.Definition, k.AddedBy)
	return err
}

// RemoveKind removes a kind that was added, unless a source or starter is of it. Errors: ErrInUse, ErrNotFound.
func (db *DB) RemoveKind(ctx context.Context, name string) error {
	var used bool
	if err := db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM sources WHERE kind = $1) OR EXISTS (SELECT FROM starters WHERE kind = $1)",
		name).
		Scan(&used); err != nil {
		return err
	}
	if used {
		return fmt.Errorf("kind %s is of sources or starters: %w", name, ErrInUse)
	}
	return db.exec(ctx, "kind", name, "DELETE FROM kinds WHERE name = $1", name)
}
