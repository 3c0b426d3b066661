package records

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// LeaseFor is how long an instance's leases last after it has last renewed them, by the clock of the records' server.
const LeaseFor = 10 * time.Second

// ErrNotAlive says that an instance did not renew its leases in time: all that it held may belong to another one.
var ErrNotAlive = errors.New("this instance of the service has lost its leases")

// alive is the condition that the instance in a column renewed its leases in time.
func alive(column string) string {
	return "EXISTS (SELECT FROM instances i WHERE i.id = " + column + " AND i.expires_at > clock_timestamp())"
}

// AddInstance records a running copy of the service and returns its number, which is never used again. The rows of those that have been
// gone for a day are removed.
func AddInstance(ctx context.Context, conn *pgx.Conn) (id int64, err error) {
	if _, err := conn.Exec(ctx, "DELETE FROM instances WHERE expires_at < clock_timestamp() - interval '1 day'"); err != nil {
		return 0, err
	}
	err = conn.QueryRow(ctx, "INSERT INTO instances (expires_at) VALUES (clock_timestamp() + $1::interval) RETURNING id", LeaseFor).Scan(&id)
	return id, err
}

// RenewInstance makes the leases of an instance last for LeaseFor from now. Errors: ErrNotAlive, for ever.
func RenewInstance(ctx context.Context, conn *pgx.Conn, id int64) error {
	tag, err := conn.Exec(ctx, "UPDATE instances SET expires_at = clock_timestamp() + $2::interval WHERE id = $1 "+
		"AND expires_at > clock_timestamp()", id, LeaseFor)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotAlive
	}
	return err
}

// RemoveInstance ends an instance and all its leases. 0 stands for every instance: nobody else uses the records.
func RemoveInstance(ctx context.Context, conn *pgx.Conn, id int64) error {
	_, err := conn.Exec(ctx, "DELETE FROM instances WHERE $1::bigint = 0 OR id = $1", id)
	return err
}

// ErrHeld says that a lease is held, or that a run works on its target or must end there what it has begun.
var ErrHeld = errors.New("the lease is held")

// takeLease takes a lease for an instance. One whose holder is gone is taken over. Errors: ErrHeld, ErrNotAlive.
func takeLease(ctx context.Context, tx pgx.Tx, instance int64, name string) (epoch int64, err error) {
	err = tx.QueryRow(ctx, `INSERT INTO leases AS l (name, instance_id) SELECT $1::text, $2::bigint WHERE `+alive("$2::bigint")+`
		ON CONFLICT (name) DO UPDATE SET instance_id = EXCLUDED.instance_id, epoch = nextval('lease_epochs') WHERE NOT `+alive("l.instance_id")+`
		RETURNING epoch`, name, instance).Scan(&epoch)
	if !errors.Is(err, pgx.ErrNoRows) {
		return epoch, err
	}
	var is bool
	if err := tx.QueryRow(ctx, "SELECT "+alive("$1::bigint"), instance).Scan(&is); err != nil || is {
		return 0, errors.Join(err, ErrHeld)
	}
	return 0, ErrNotAlive
}

// TakeLease takes the lease of a target for short work, and returns a context in which what is written is refused once the lease is lost.
// Errors: ErrHeld, ErrNotAlive.
func (db *DB) TakeLease(ctx context.Context, instance int64, target string) (held context.Context, epoch int64, err error) {
	err = pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) (err error) {
		if epoch, err = takeLease(ctx, tx, instance, target); err != nil {
			return err
		}
		return free(ctx, tx, target, 0)
	})
	return context.WithValue(ctx, claimKey{}, claim{lease: target, epoch: epoch}), epoch, err
}

// free is nil when no other run works on a target, has stopped there and was not recovered yet, or must end what it has begun. Errors:
// ErrHeld.
func free(ctx context.Context, tx pgx.Tx, target string, but int64) error {
	var taken bool
	err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM runs WHERE target = $1 AND id <> $2 AND (status = 'working' OR status = 'waiting' "+
		"AND committed))", target, but).Scan(&taken)
	if err == nil && taken {
		err = ErrHeld
	}
	return err
}

// ReleaseLease gives a lease back, and returns the run that can go on with its target, or has waited longest for it; 0 for none.
func (db *DB) ReleaseLease(ctx context.Context, target string, epoch int64) (waits int64, err error) {
	err = db.Pool.QueryRow(ctx, `WITH d AS (DELETE FROM leases WHERE name = $1 AND epoch = $2)
		SELECT r.id FROM runs r WHERE target = $1 AND (status = 'waiting' OR aside AND `+noOpenChildren+`) ORDER BY aside DESC, id LIMIT 1`, target,
		epoch).Scan(&waits)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return waits, err
}

// StartRun takes the lease of a run's target, and begins an attempt at the run: it must wait, or be aside. Errors: ErrHeld; ErrNotAlive;
// ErrNotFound when it is over, or another instance works on it. It returns the run as it is then: one that is read later may be at another
// attempt.
func (db *DB) StartRun(ctx context.Context, instance int64, run Run) (held context.Context, started Run, epoch int64, err error) {
	err = pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) (err error) {
		if epoch, err = takeLease(ctx, tx, instance, run.Target); err != nil {
			return err
		}
		if err = free(ctx, tx, run.Target, run.ID); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `UPDATE runs SET status = 'working', aside = false, attempt = attempt + 1, instance_id = $2,
			started_at = COALESCE(started_at, now()) WHERE id = $1 AND (status = 'waiting' OR aside) RETURNING `+runColumns, run.ID,
			instance)
		if err != nil {
			return err
		}
		started, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Run])
		if errors.Is(err, pgx.ErrNoRows) {
			err = notFound("waiting run", itoa(run.ID))
		}
		return err
	})
	return WithAttempt(ctx, run.ID, started.Attempt), started, epoch, err
}

// TakeOver begins another attempt at a run whose instance is gone, for recovering it: what the one before still writes is refused. Errors:
// ErrNotFound when it is over, or its instance is there.
func (db *DB) TakeOver(ctx context.Context, instance, id int64) (held context.Context, run Run, err error) {
	rows, err := db.Pool.Query(ctx, "UPDATE runs SET attempt = attempt + 1, instance_id = $2 WHERE id = $1 AND status = 'working' AND "+
		"NOT aside "+
		"AND NOT "+alive("runs.instance_id")+" AND "+alive("$2::bigint")+" RETURNING "+runColumns, id, instance)
	if err == nil {
		run, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Run])
	}
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound("interrupted run", itoa(id))
	}
	return WithAttempt(ctx, id, run.Attempt), run, err
}

// InterruptedRuns lists the runs whose instance is gone, oldest first; those that could not be cleaned up after, where cleanup says so.
func (db *DB) InterruptedRuns(ctx context.Context, cleanup bool) ([]Run, error) {
	return many[Run](ctx, db, "SELECT "+runColumns+" FROM runs WHERE status = 'working' AND NOT aside AND NOT "+alive("runs.instance_id")+
		" AND ($1 OR error = '') ORDER BY id", cleanup)
}

// LeaveRuns lets go of the runs that an instance is said to work on and does not, as when their end could not be kept. mine are those
// that it does work on. They are recovered then. It returns how many they were.
func (db *DB) LeaveRuns(ctx context.Context, instance int64, mine []int64) (int64, error) {
	tag, err := db.Pool.Exec(ctx, "UPDATE runs SET instance_id = NULL WHERE instance_id = $1 AND status = 'working' AND NOT aside "+
		"AND id <> ALL($2)", instance, mine)
	return tag.RowsAffected(), err
}
