package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"nestseed/internal/core/progress"
	"nestseed/internal/service/invariants"
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
	ParentID      *int64 // the run that has started it
	Purpose       string // what its parent has started it for
	Aside         bool   // it waits for the runs that it has started, and no instance works on it
	CreatedAt     time.Time
	StartedAt     *time.Time
	EndedAt       *time.Time
}

// Token names what an attempt at a run makes on hosts: no other attempt has the same.
func (r Run) Token() string { return fmt.Sprintf("%d-%d", r.ID, r.Attempt) }

// Progress is how far a run is.
type Progress struct {
	Step      string          `json:"step"`
	Steps     []StepTime      `json:"steps"`
	Done      progress.Amount `json:"done"`
	Expected  progress.Amount `json:"expected"`
	Fraction  float64         `json:"fraction"` // 0 to 1; 0 while nothing is known
	BytesRate float64         `json:"bytes_per_second"`
	LeftSecs  float64         `json:"seconds_left"` // 0 while nothing is known
	// Children is which share of the whole the runs are that this one waits for.
	Children *ChildrenProgress `json:"children,omitempty"`
}

// ChildrenProgress is where the progress of runs that another one waits for counts.
type ChildrenProgress struct {
	First int64   `json:"first"` // the number of the first of them
	Done  int64   `json:"done"`  // how many there were before them
	From  float64 `json:"from"`
	To    float64 `json:"to"`
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
	"interruptions, parent_id, purpose, aside, created_at, started_at, ended_at"

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
		cancel_asked, committed, attempt, interruptions, parent_id, purpose, aside, created_at, started_at, ended_at FROM runs
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

// AddRun records work to be done, inside a transaction in which its job is queued too. A run that has been started for the same purpose
// by the same parent is returned in its place, and is not new.
func (db *DB) AddRun(ctx context.Context, r Run) (id int64, isNew bool, err error) {
	err = db.Pool.QueryRow(ctx, `INSERT INTO runs (job, title, target, who, args, parent_id, purpose) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (parent_id, purpose) WHERE parent_id IS NOT NULL DO NOTHING RETURNING id`, r.Job, r.Title, r.Target, r.Who, r.Args, r.ParentID,
		r.Purpose).Scan(&id)
	if !errors.Is(err, pgx.ErrNoRows) {
		return id, true, err
	}
	err = db.Pool.QueryRow(ctx, "SELECT id FROM runs WHERE parent_id = $1 AND purpose = $2", r.ParentID, r.Purpose).Scan(&id)
	return id, false, err
}

// Children lists the runs that a run has started, oldest first.
func (db *DB) Children(ctx context.Context, parent int64) ([]Run, error) {
	return many[Run](ctx, db, "SELECT "+runColumns+" FROM runs WHERE parent_id = $1 ORDER BY id", parent)
}

const noOpenChildren = "NOT EXISTS (SELECT FROM runs c WHERE c.parent_id = r.id AND c.status IN ('waiting', 'working'))"

// SetAside lets a run wait for those that it has started; result is what it knows so far. Their progress is that of the run from now on, in
// the share of its own that p says. When all of them have ended it goes on (see ReleaseLease, EndRun).
func (db *DB) SetAside(ctx context.Context, id int64, p Progress, result any) error {
	text, err := json.Marshal(result)
	if err != nil {
		return fmt.Errorf("result of run %d: %w", id, err)
	}
	err = db.onRun(ctx, id, "aside = true, instance_id = NULL, progress = $3, result = $4", "AND status = 'working'", p, json.RawMessage(text))
	if err == nil {
		err = db.SetProgressOfParent(ctx, id) // some may have ended before
	}
	return err
}

// progressOfParent gives a run that is aside the progress of those that it waits for, from the first of them on.
const progressOfParent = `UPDATE runs p SET progress = p.progress || jsonb_build_object('fraction', (p.progress->'children'->>'from')::float
		+ ((p.progress->'children'->>'to')::float - (p.progress->'children'->>'from')::float) * c.share,
		'done', jsonb_build_object('files', (p.progress->'children'->>'done')::bigint + c.ended), 'seconds_left', 0)
	FROM (SELECT count(*) FILTER (WHERE ended_at IS NOT NULL) AS ended,
		avg(CASE WHEN ended_at IS NOT NULL THEN 1 ELSE COALESCE((progress->>'fraction')::float, 0) END) AS share FROM runs WHERE parent_id = $1
			AND id >= (SELECT (progress->'children'->>'first')::bigint FROM runs WHERE id = $1)) c
	WHERE p.id = $1 AND p.aside AND p.progress ? 'children'`

// SetProgressOfParent gives a run that is aside the progress of those that it waits for, and tells listeners.
func (db *DB) SetProgressOfParent(ctx context.Context, id int64) error {
	_, err := db.Pool.Exec(ctx, "WITH u AS ("+progressOfParent+" RETURNING id) SELECT pg_notify('run', id::text) FROM u", id)
	return err
}

// PutBack makes a working run wait again; committed says whether it is still one that nobody can cancel.
func (db *DB) PutBack(ctx context.Context, id int64, committed bool) error {
	return db.onRun(ctx, id, "status = 'waiting', instance_id = NULL, progress = '{}', error = '', committed = $3",
		"AND status = 'working'", committed)
}

// Interrupted puts a run back that was interrupted, and counts how often that was.
func (db *DB) Interrupted(ctx context.Context, id int64, committed bool) error {
	return db.onRun(ctx, id, "status = 'waiting', instance_id = NULL, progress = '{}', error = '', committed = $3, "+
		"interruptions = interruptions + 1", "AND status = 'working'", committed)
}

// onRun changes a run, unless the context is of an attempt that was overtaken, and tells listeners. Errors: ErrOvertaken.
func (db *DB) onRun(ctx context.Context, id int64, set, where string, args ...any) error {
	c := claimOf(ctx)
	number := 0
	if c.run == id {
		number = c.attempt
	}
	tag, err := db.Pool.Exec(ctx, "WITH u AS (UPDATE runs SET "+set+" WHERE id = $1 AND ($2 = 0 OR attempt = $2) "+where+
		" RETURNING id) SELECT pg_notify('run', id::text) FROM u",
		append([]any{id, number}, args...)...)
	if err == nil && tag.RowsAffected() == 0 && number != 0 {
		err = ErrOvertaken
	}
	return err
}

// UnqueuedRuns returns the runs that can be worked on and that no job in the queue is for: their target is free again, or the runs that
// they wait for have ended, or the records went away while a worker looked at them.
func (db *DB) UnqueuedRuns(ctx context.Context) ([]Run, error) {
	return many[Run](ctx, db, `SELECT `+runColumns+` FROM runs r WHERE (r.status = 'waiting' AND r.created_at < now() - interval '2 seconds'
			OR r.aside AND `+noOpenChildren+`)
		AND NOT EXISTS (SELECT FROM runs o WHERE o.target = r.target AND o.id <> r.id AND (o.status = 'working' OR o.status = 'waiting'
			AND (o.committed OR o.id < r.id)))
		AND NOT EXISTS (SELECT FROM leases l WHERE l.name = r.target AND `+alive("l.instance_id")+`)
		AND NOT EXISTS (SELECT FROM river_job j WHERE j.kind = 'run' AND j.state IN ('available', 'scheduled', 'retryable', 'pending')
			AND (j.args->>'run_id')::bigint = r.id) ORDER BY r.id`)
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
	return db.onRun(ctx, id, "error = $3, committed = false, cancel_asked = false, instance_id = NULL", "", sentence)
}

// LeaveRun lets go of a run, which stays as it is for whoever recovers it.
func (db *DB) LeaveRun(ctx context.Context, id int64) error {
	return db.onRun(ctx, id, "instance_id = NULL", "")
}

// SetProgress keeps how far a run is and tells listeners.
func (db *DB) SetProgress(ctx context.Context, id int64, p Progress) error {
	return db.onRun(ctx, id, "progress = $3", "", p)
}

// EndRun keeps how a run ended and tells listeners. It returns the run that has waited for this one, when it was the last that that waits
// for; 0 for none.
func (db *DB) EndRun(ctx context.Context, id int64, status string, result any, sentence string) (goesOn int64, err error) {
	text, err := json.Marshal(result)
	if err != nil {
		return 0, fmt.Errorf("result of run %d: %w", id, err)
	}
	c := claimOf(ctx)
	number := 0
	if c.run == id {
		number = c.attempt
	}
	err = pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		var parent int64
		err := tx.QueryRow(ctx, "SELECT p.id FROM runs r JOIN runs p ON p.id = r.parent_id WHERE r.id = $1 FOR UPDATE OF p", id).Scan(&parent)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		tag, err := tx.Exec(ctx, `WITH u AS (UPDATE runs SET status = $3, result = NULLIF($4::jsonb, 'null'), error = $5, ended_at = now(),
			instance_id = NULL, aside = false WHERE id = $1 AND ($2 = 0 OR attempt = $2) RETURNING id) SELECT pg_notify('run', id::text) FROM u`, id,
			number, status, json.RawMessage(text), sentence)
		if err != nil || tag.RowsAffected() == 0 || parent == 0 {
			if err == nil && tag.RowsAffected() == 0 && number != 0 {
				err = ErrOvertaken
			}
			return err
		}
		if status == Failed {
			if _, err := tx.Exec(ctx, "INSERT INTO run_log (run_id, sentence) SELECT $2, title || ': ' || error FROM runs WHERE id = $1", id,
				parent); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, progressOfParent, parent); err != nil {
			return err
		}
		err = tx.QueryRow(ctx, "SELECT r.id FROM runs r WHERE id = $1 AND aside AND "+noOpenChildren, parent).Scan(&goesOn)
		if errors.Is(err, pgx.ErrNoRows) {
			err = nil
		}
		return err
	})
	return goesOn, err
}

// AskCancel ends a waiting run at once, and asks a working one to end, with the runs that it waits for. Errors: ErrNotFound, also of a
// run that is over or is committed.
func (db *DB) AskCancel(ctx context.Context, id int64) error {
	return db.exec(ctx, "run", itoa(id), `WITH u AS (UPDATE runs SET cancel_asked = true,
			status = CASE status WHEN 'waiting' THEN 'cancelled' ELSE status END, ended_at = CASE status WHEN 'waiting' THEN now() ELSE ended_at END
			WHERE (id = $1 OR parent_id = $1 AND EXISTS (SELECT FROM runs WHERE id = $1 AND NOT committed)) AND status IN ('waiting', 'working')
				AND NOT committed RETURNING id)
		SELECT pg_notify('cancel', id::text), pg_notify('run', id::text) FROM u`, id)
}

// CancelAsked returns those of some runs whose end was asked for.
func (db *DB) CancelAsked(ctx context.Context, ids []int64) ([]int64, error) {
	rows, err := db.Pool.Query(ctx, "SELECT id FROM runs WHERE id = ANY($1) AND cancel_asked AND NOT committed", ids)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
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

// OpenRuns returns the runs that have not ended, and what keeps each of them.
func (db *DB) OpenRuns(ctx context.Context) ([]invariants.Run, error) {
	type row struct {
		ID, Open                       int64
		Title, Reason                  string
		Waiting, Aside, Alive, Blocked bool
		Since                          time.Time
	}
	rows, err := many[row](ctx, db, `SELECT r.id, r.title, r.status = 'waiting' AS waiting, r.error AS reason, r.aside, `+alive("r.instance_id")+` AS alive,
		COALESCE(r.started_at, r.created_at) AS since, (SELECT count(*) FROM runs c WHERE c.parent_id = r.id AND c.ended_at IS NULL) AS open,
		EXISTS (SELECT FROM runs o WHERE o.target = r.target AND o.id <> r.id AND (o.status = 'working' OR o.status = 'waiting'
			AND (o.committed OR o.id < r.id))) OR (SELECT count(*) FROM runs w WHERE w.status = 'working' AND NOT w.aside) > 0 AS blocked
		FROM runs r WHERE r.ended_at IS NULL ORDER BY r.id`)
	out := make([]invariants.Run, len(rows))
	for i, r := range rows {
		out[i] = invariants.Run{ID: r.ID, Title: r.Title, Waiting: r.Waiting, Reason: r.Reason, Aside: r.Aside, Open: int(r.Open), Alive: r.Alive,
			Blocked: r.Blocked, For: time.Since(r.Since)}
	}
	return out, err
}
