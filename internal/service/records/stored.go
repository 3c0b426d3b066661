package records

import "context"

// AddStored notes that something is about to be written into the store. When it returns, the note survives a crash.
func (db *DB) AddStored(ctx context.Context, name string, runID int64) error {
	_, err := db.Pool.Exec(ctx, "INSERT INTO stored (name, run_id) VALUES ($1, $2) ON CONFLICT (name) DO NOTHING", name, runID)
	return err
}

// RemoveStored forgets what is not in the store any more.
func (db *DB) RemoveStored(ctx context.Context, name string) error {
	_, err := db.Pool.Exec(ctx, "DELETE FROM stored WHERE name = $1", name)
	return err
}

// Stray is something in the store that the service has written and that nothing needs.
type Stray struct {
	Name  string
	RunID int64
}

// Strays returns what was written into the store for runs that are over or wait, and that no release and no safety copy
// names.
func (db *DB) Strays(ctx context.Context) ([]Stray, error) {
	return many[Stray](ctx, db, `SELECT s.name, COALESCE(s.run_id, 0) AS run_id FROM stored s
		WHERE NOT EXISTS (SELECT FROM releases r WHERE r.archive = s.name) AND NOT EXISTS (SELECT FROM site_copies c WHERE c.archive = s.name)
		AND NOT EXISTS (SELECT FROM runs x WHERE x.id = s.run_id AND x.status = 'working') ORDER BY s.name`)
}

// Idle reports whether a run is one of these records and does not work now.
func (db *DB) Idle(ctx context.Context, runID int64) (idle bool, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM runs WHERE id = $1 AND status <> 'working')", runID).Scan(&idle)
	return idle, err
}
