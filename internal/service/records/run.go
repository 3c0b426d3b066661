package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
)

// Run is background work.
type Run struct {
	ID          int64
	Sort        string
	Title       string
	Target      string
	Status      string
	Who         string
	Args        json.RawMessage
	Progress    Progress
	Result      json.RawMessage
	Error       string
	CancelAsked bool
	Committed   bool // it is past the point where it can be cancelled
	CreatedAt   time.Time
	StartedAt   *time.Time
	EndedAt     *time.Time
}

// Progress is how far a run is.
type Progress struct {
	Step      string          `json:"step"`
	Steps     []StepTime      `json:"steps"`
	Done      progress.Amount `json:"done"`
	Expected  progress.Amount `json:"expected"`
	Fraction  float64         `json:"fraction"` // 0 to 1; 0 while nothing is known
	BytesRate float64         `json:"bytes_per_second"`
	LeftSecs  float64         `json:"seconds_left"` // 0 while nothing is known
}

// StepTime is a step that a run has begun, and how long it took once it ended.
type StepTime struct {
	Name   string    `json:"name"`
	At     time.Time `json:"at"`
	Millis int64     `json:"ms"`
}

// Statuses of runs.
const (
	Waiting   = "waiting"
	Working   = "working"
	Done      = "done"
	Failed    = "failed"
	Cancelled = "cancelled"
)

const runColumns = "id, sort, title, target, status, who, args, progress, result, error, cancel_asked, committed, created_at, started_at, ended_at"

// Runs lists runs, newest first, before a run's number unless that is 0.
func (db *DB) Runs(ctx context.Context, before int64, limit int) ([]Run, error) {
	return many[Run](ctx, db, "SELECT "+runColumns+" FROM runs WHERE $1 = 0 OR id < $1 ORDER BY id DESC LIMIT $2", before, limit)
}

// RunsIn lists the runs that have one of the statuses, oldest first.
func (db *DB) RunsIn(ctx context.Context, statuses ...string) ([]Run, error) {
	return many[Run](ctx, db, "SELECT "+runColumns+" FROM runs WHERE status = ANY($1) ORDER BY id", statuses)
}

// Run returns a run.
func (db *DB) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, db, "run", itoa(id), "SELECT "+runColumns+" FROM runs WHERE id = $1", id)
}

func itoa(id int64) string { b, _ := json.Marshal(id); return string(b) }

// AddRun records work to be done, inside a transaction in which its job is queued too.
func (db *DB) AddRun(ctx context.Context, tx pgx.Tx, r Run) (id int64, err error) {
	err = tx.QueryRow(ctx, "INSERT INTO runs (sort, title, target, who, args) VALUES ($1, $2, $3, $4, $5) RETURNING id", r.Sort, r.Title, r.Target, r.Who, r.Args).Scan(&id)
	return id, err
}

// StartRun takes a waiting run; false when somebody else has it or it is over.
func (db *DB) StartRun(ctx context.Context, id int64) (bool, error) {
	tag, err := db.Pool.Exec(ctx, "UPDATE runs SET status = 'working', started_at = COALESCE(started_at, now()) WHERE id = $1 AND status = 'waiting'", id)
	return tag.RowsAffected() == 1, err
}

// PutBack makes a working run wait again; committed says whether it is still one that nobody can cancel.
func (db *DB) PutBack(ctx context.Context, id int64, committed bool) error {
	_, err := db.Pool.Exec(ctx, "UPDATE runs SET status = 'waiting', progress = '{}', error = '', committed = $2 WHERE id = $1 AND status = 'working'", id, committed)
	return err
}

// CommitRun notes that a run is ended from here on, and not taken back any more: AskCancel refuses it. It is false when
// somebody has asked for its end before.
func (db *DB) CommitRun(ctx context.Context, id int64) (bool, error) {
	tag, err := db.Pool.Exec(ctx, "UPDATE runs SET committed = true WHERE id = $1 AND NOT cancel_asked", id)
	return tag.RowsAffected() == 1, err
}

// Hinder notes what keeps a working run from being taken back, and tells listeners. To cancel it from then on is to leave
// what it has made, so somebody has to ask for that anew.
func (db *DB) Hinder(ctx context.Context, id int64, sentence string) error {
	_, err := db.Pool.Exec(ctx, "WITH u AS (UPDATE runs SET error = $2, committed = false, cancel_asked = false WHERE id = $1) SELECT pg_notify('run', $1::text)", id, sentence)
	return err
}

// TargetTaken reports whether another run works on a target, or has died at it and was not recovered yet.
func (db *DB) TargetTaken(ctx context.Context, target string, id int64) (taken bool, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM runs WHERE target = $1 AND id <> $2 AND status = 'working')", target, id).Scan(&taken)
	return taken, err
}

// SetProgress keeps how far a run is and tells listeners.
func (db *DB) SetProgress(ctx context.Context, id int64, p Progress) error {
	_, err := db.Pool.Exec(ctx, "WITH u AS (UPDATE runs SET progress = $2 WHERE id = $1) SELECT pg_notify('run', $1::text)", id, p)
	return err
}

// EndRun keeps how a run ended and tells listeners.
func (db *DB) EndRun(ctx context.Context, id int64, status string, result any, sentence string) error {
	text, err := json.Marshal(result)
	if err != nil {
		return fmt.Errorf("result of run %d: %w", id, err)
	}
	_, err = db.Pool.Exec(ctx, "WITH u AS (UPDATE runs SET status = $2, result = NULLIF($3::jsonb, 'null'), error = $4, ended_at = now() WHERE id = $1) SELECT pg_notify('run', $1::text)", id, status, json.RawMessage(text), sentence)
	return err
}

// AskCancel ends a waiting run at once, and asks a working one to end. Errors: ErrNotFound, also of a run that is over or
// is committed.
func (db *DB) AskCancel(ctx context.Context, id int64) error {
	return db.exec(ctx, "run", itoa(id), `WITH u AS (UPDATE runs SET cancel_asked = true,
			status = CASE status WHEN 'waiting' THEN 'cancelled' ELSE status END, ended_at = CASE status WHEN 'waiting' THEN now() ELSE ended_at END
			WHERE id = $1 AND status IN ('waiting', 'working') AND NOT committed RETURNING id)
		SELECT pg_notify('cancel', id::text), pg_notify('run', id::text) FROM u`, id)
}

// LogLine is a sentence in a run's log.
type LogLine struct {
	ID       int64
	At       time.Time
	Sentence string
}

// AddLog appends to a run's log.
func (db *DB) AddLog(ctx context.Context, id int64, sentence string) error {
	_, err := db.Pool.Exec(ctx, "INSERT INTO run_log (run_id, sentence) VALUES ($1, $2)", id, sentence)
	return err
}

// Log returns a run's log after a line.
func (db *DB) Log(ctx context.Context, id, after int64, limit int) ([]LogLine, error) {
	return many[LogLine](ctx, db, "SELECT id, at, sentence FROM run_log WHERE run_id = $1 AND id > $2 ORDER BY id LIMIT $3", id, after, limit)
}

// AddMade writes to a run's journal; when it returns, the entry survives a crash.
func (db *DB) AddMade(ctx context.Context, id int64, m provision.Made) error {
	_, err := db.Pool.Exec(ctx, "INSERT INTO run_journal (run_id, made) VALUES ($1, $2)", id, m)
	return err
}

// RemoveMade takes an entry out of a run's journal.
func (db *DB) RemoveMade(ctx context.Context, id int64, m provision.Made) error {
	_, err := db.Pool.Exec(ctx, "DELETE FROM run_journal WHERE run_id = $1 AND made = $2", id, m)
	return err
}

const clearMade = "DELETE FROM run_journal WHERE run_id = $1"

// ClearMade empties a run's journal: what it made was taken back.
func (db *DB) ClearMade(ctx context.Context, id int64) error {
	_, err := db.Pool.Exec(ctx, clearMade, id)
	return err
}

// Made returns a run's journal in order.
func (db *DB) Made(ctx context.Context, id int64) ([]provision.Made, error) {
	type row struct{ Made provision.Made }
	rows, err := many[row](ctx, db, "SELECT made FROM run_journal WHERE run_id = $1 ORDER BY id", id)
	made := make([]provision.Made, len(rows))
	for i, r := range rows {
		made[i] = r.Made
	}
	return made, err
}
