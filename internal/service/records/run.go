package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
)

// Run is background work.
type Run struct {
	ID            int64
	Job           string
	Title         string
	Target        string
	Status        string
	Who           string
	Args          json.RawMessage
	Progress      Progress
	Result        json.RawMessage
	Error         string
	CancelAsked   bool
	Committed     bool // it is past the point where it can be cancelled
	Attempt       int  // how often it has begun
	Interruptions int
	BeatAt        *time.Time // when its work was last known to go on
	CreatedAt     time.Time
	StartedAt     *time.Time
	EndedAt       *time.Time
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

const runColumns = "id, job, title, target, status, who, args, progress, result, error, cancel_asked, committed, attempt, " +
	"interruptions, beat_at, created_at, started_at, ended_at"

// Runs lists runs, newest first, before a run's number unless that is 0.
func (db *DB) Runs(ctx context.Context, before int64, limit int) ([]Run, error) {
	return many[Run](ctx, db, "SELECT "+runColumns+" FROM runs WHERE $1 = 0 OR id < $1 ORDER BY id DESC LIMIT $2", before, limit)
}

// RunFilter says which runs are listed, newest first. What is empty filters nothing.
type RunFilter struct {
	Before int64 // only runs before this number
	Status string
	Job    string
	Find   string // a part of the title, in any case
	Limit  int
}

// RunRows lists the runs that a filter lets through, without their results.
func (db *DB) RunRows(ctx context.Context, f RunFilter) ([]Run, error) {
	return many[Run](ctx, db, `SELECT id, job, title, target, status, who, '{}'::jsonb AS args, progress, NULL::jsonb AS result, error,
		cancel_asked, committed, attempt, interruptions, beat_at, created_at, started_at, ended_at FROM runs
		WHERE ($1 = 0 OR id < $1) AND ($2 = '' OR status = $2) AND ($3 = '' OR job = $3) AND ($4 = '' OR title ILIKE $4)
		ORDER BY id DESC LIMIT $5`, f.Before, f.Status, f.Job, part(f.Find), f.Limit)
}

// Troubled lists runs since a time that have failed, and of which none of the same job and target has gone well since, and those that
// could not be cleaned up after.
func (db *DB) Troubled(ctx context.Context, since time.Time, limit int) ([]Run, error) {
	return many[Run](ctx, db, "SELECT "+runColumns+` FROM runs r WHERE (status = 'working' AND error <> '' OR status = 'failed' AND ended_at > $1)
		AND NOT EXISTS (SELECT FROM runs l WHERE l.job = r.job AND l.target = r.target AND l.status = 'done' AND l.id > r.id)
		ORDER BY id DESC LIMIT $2`, since, limit)
}

// RunOpen reports whether a run of a job waits or works.
func (db *DB) RunOpen(ctx context.Context, job string) (open bool, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM runs WHERE job = $1 AND status IN ('waiting', 'working'))", job).Scan(&open)
	return open, err
}

// RunsIn lists the runs that have one of the statuses, oldest first.
func (db *DB) RunsIn(ctx context.Context, statuses ...string) ([]Run, error) {
	return many[Run](ctx, db, "SELECT "+runColumns+" FROM runs WHERE status = ANY($1) ORDER BY id", statuses)
}

// Run returns a run.
func (db *DB) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, db, "run", itoa(id), "SELECT "+runColumns+" FROM runs WHERE id = $1", id)
}

// RunBefore returns the last run of the same job that has gone well before a run: one that was asked for alike, so that it had the same
// steps, or else any; of those one about the same thing.
func (db *DB) RunBefore(ctx context.Context, r Run) (Run, error) {
	return one[Run](ctx, db, "run of job", r.Job, "SELECT "+runColumns+` FROM runs WHERE job = $1 AND status = 'done' AND id < $2
		ORDER BY (SELECT count(*) FROM unnest(ARRAY['tenant_of', 'unchecked', 'refresh', 'replace', 'copy_id']) k
			WHERE (args ? k) = ($4::jsonb ? k)) DESC, target = $3 DESC, args->'host' IS NOT DISTINCT FROM $4::jsonb->'host' DESC, id DESC LIMIT 1`,
		r.Job, r.ID, r.Target, r.Args)
}

func itoa(id int64) string { b, _ := json.Marshal(id); return string(b) }

// AddRun records work to be done, inside a transaction in which its job is queued too.
func (db *DB) AddRun(ctx context.Context, tx pgx.Tx, r Run) (id int64, err error) {
	err = tx.QueryRow(ctx, "INSERT INTO runs (job, title, target, who, args) VALUES ($1, $2, $3, $4, $5) RETURNING id", r.Job, r.Title,
		r.Target, r.Who, r.Args).Scan(&id)
	return id, err
}

// StartRun takes a waiting run and returns the number of the attempt that begins; 0 when somebody else has it or it is over.
func (db *DB) StartRun(ctx context.Context, id int64) (attempt int, err error) {
	err = db.Pool.QueryRow(ctx, `UPDATE runs SET status = 'working', attempt = attempt + 1, beat_at = now(),
		started_at = COALESCE(started_at, now())
		WHERE id = $1 AND status = 'waiting' RETURNING attempt`, id).Scan(&attempt)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, nil
	}
	return attempt, err
}

// TakeOver begins another attempt at a working run, for recovering it: what the one before still writes is refused.
func (db *DB) TakeOver(ctx context.Context, id int64) (attempt int, err error) {
	err = db.Pool.QueryRow(ctx, "UPDATE runs SET attempt = attempt + 1, beat_at = now() WHERE id = $1 RETURNING attempt", id).Scan(&attempt)
	return attempt, err
}

// Beat notes on a connection that a run's work goes on. Errors: ErrOvertaken.
func (db *DB) Beat(ctx context.Context, conn *pgxpool.Conn) error {
	a := attemptOf(ctx)
	tag, err := conn.Exec(ctx, "UPDATE runs SET beat_at = now() WHERE id = $1 AND attempt = $2 AND status = 'working'", a.run, a.number)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrOvertaken
	}
	return err
}

// PutBack makes a working run wait again; committed says whether it is still one that nobody can cancel.
func (db *DB) PutBack(ctx context.Context, id int64, committed bool) error {
	return db.onRun(ctx, id, "status = 'waiting', progress = '{}', error = '', committed = $3", "AND status = 'working'", committed)
}

// Interrupted puts a run back that was interrupted, and counts how often that was.
func (db *DB) Interrupted(ctx context.Context, id int64, committed bool) error {
	return db.onRun(ctx, id, "status = 'waiting', progress = '{}', error = '', committed = $3, interruptions = interruptions + 1",
		"AND status = 'working'", committed)
}

// onRun changes a run, unless the context is of an attempt that was overtaken, and tells listeners. Errors: ErrOvertaken.
func (db *DB) onRun(ctx context.Context, id int64, set, where string, args ...any) error {
	a := attemptOf(ctx)
	number := 0
	if a.run == id {
		number = a.number
	}
	tag, err := db.Pool.Exec(ctx, "WITH u AS (UPDATE runs SET "+set+" WHERE id = $1 AND ($2 = 0 OR attempt = $2) "+where+
		" RETURNING id) SELECT pg_notify('run', id::text) FROM u",
		append([]any{id, number}, args...)...)
	if err == nil && tag.RowsAffected() == 0 && number != 0 {
		err = ErrOvertaken
	}
	return err
}

// UnqueuedRuns returns the runs that wait and that no job in the queue is for, as when the records went away while a worker
// looked at them.
func (db *DB) UnqueuedRuns(ctx context.Context) ([]int64, error) {
	rows, err := db.Pool.Query(ctx, `SELECT r.id FROM runs r WHERE r.status = 'waiting' AND r.created_at < now() - interval '2 seconds'
		AND NOT EXISTS (
		SELECT FROM river_job j WHERE j.kind = 'run' AND j.state IN ('available', 'scheduled', 'retryable', 'pending')
			AND (j.args->>'run_id')::bigint = r.id) ORDER BY r.id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// CommitRun notes that a run is ended from here on, and not taken back any more: AskCancel refuses it. It is false when
// somebody has asked for its end before. Errors: ErrOvertaken.
func (db *DB) CommitRun(ctx context.Context, id int64) (bool, error) {
	if err := db.onRun(ctx, id, "committed = committed OR NOT cancel_asked", ""); err != nil {
		return false, err
	}
	run, err := db.Run(ctx, id)
	return run.Committed, err
}

// FailCleanup notes why what a working run had made cannot be taken back. To cancel it from then on is to leave
// what it has made, so somebody has to ask for that again.
func (db *DB) FailCleanup(ctx context.Context, id int64, sentence string) error {
	return db.onRun(ctx, id, "error = $3, committed = false, cancel_asked = false", "", sentence)
}

// TargetTaken reports whether another run works on a target, has died at it and was not recovered yet, or has begun what it
// must end.
func (db *DB) TargetTaken(ctx context.Context, target string, id int64) (taken bool, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM runs WHERE target = $1 AND id <> $2 AND (status = 'working' OR status = "+
		"'waiting' AND committed))", target, id).Scan(&taken)
	return taken, err
}

// SetProgress keeps how far a run is and tells listeners.
func (db *DB) SetProgress(ctx context.Context, id int64, p Progress) error {
	return db.onRun(ctx, id, "progress = $3", "", p)
}

// EndRun keeps how a run ended and tells listeners.
func (db *DB) EndRun(ctx context.Context, id int64, status string, result any, sentence string) error {
	text, err := json.Marshal(result)
	if err != nil {
		return fmt.Errorf("result of run %d: %w", id, err)
	}
	return db.onRun(ctx, id, "status = $3, result = NULLIF($4::jsonb, 'null'), error = $5, ended_at = now()", "", status,
		json.RawMessage(text), sentence)
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
	return pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		if err := fence(ctx, tx); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "INSERT INTO run_journal (run_id, made) VALUES ($1, $2)", id, m)
		return err
	})
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
