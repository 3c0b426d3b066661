package records

import (
	"context"
	"time"
)

// Secret is a sealed value, tied to the record it belongs to.
type Secret struct {
	Noun      string
	Owner     string
	Name      string
	Sealed    []byte
	CreatedAt time.Time
}

// Secrets lists all secrets.
func (db *DB) Secrets(ctx context.Context) ([]Secret, error) {
	return many[Secret](ctx, db, "SELECT noun, owner, name, sealed, created_at FROM secrets ORDER BY noun, owner, name")
}

// Secret returns one.
func (db *DB) Secret(ctx context.Context, noun, owner, name string) (Secret, error) {
	return one[Secret](ctx, db, "secret", noun+"/"+owner+"/"+name,
		"SELECT noun, owner, name, sealed, created_at FROM secrets WHERE noun = $1 AND owner = $2 AND name = $3", noun, owner, name)
}

// PutSecret keeps a sealed value, in place of an earlier one. Errors: ErrOvertaken.
func (db *DB) PutSecret(ctx context.Context, noun, owner, name string, sealed []byte) error {
	return db.Tx(ctx, func(ctx context.Context) error {
		_, err := db.Pool.Exec(ctx, `INSERT INTO secrets (noun, owner, name, sealed) VALUES ($1, $2, $3, $4)
			ON CONFLICT (noun, owner, name) DO UPDATE SET sealed = EXCLUDED.sealed, created_at = now()`, noun, owner, name, sealed)
		return err
	})
}

// ResealSecret keeps a secret in another seal, unless it was set or removed meanwhile.
func (db *DB) ResealSecret(ctx context.Context, s Secret, sealed []byte) error {
	_, err := db.Pool.Exec(ctx, "UPDATE secrets SET sealed = $5 WHERE noun = $1 AND owner = $2 AND name = $3 AND sealed = $4", s.Noun,
		s.Owner, s.Name, s.Sealed, sealed)
	return err
}

// RemoveSecrets removes the secrets of a record; all of them, or those named. Errors: ErrOvertaken.
func (db *DB) RemoveSecrets(ctx context.Context, noun, owner string, names ...string) error {
	return db.Tx(ctx, func(ctx context.Context) error {
		_, err := db.Pool.Exec(ctx, "DELETE FROM secrets WHERE noun = $1 AND owner = $2 AND ($3::text[] IS NULL OR name = ANY($3))", noun, owner,
			names)
		return err
	})
}
