package records

import (
	"context"
	"errors"
	"io"
	"net"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// ErrOvertaken says that another attempt at a run has begun, or that a lease was lost: nothing may be changed any more.
var ErrOvertaken = errors.New("another attempt at this has begun meanwhile")

// claim is what a context changes the records and hosts under: an attempt at a run, or a lease.
type claim struct {
	run     int64
	attempt int
	lease   string
	epoch   int64
}

type claimKey struct{}

// WithAttempt returns a context of an attempt at a run. What is written in it is refused when a later attempt has begun.
func WithAttempt(ctx context.Context, runID int64, number int) context.Context {
	return context.WithValue(ctx, claimKey{}, claim{run: runID, attempt: number})
}

func claimOf(ctx context.Context) claim {
	c, _ := ctx.Value(claimKey{}).(claim)
	return c
}

// fence ends a transaction whose claim was lost, and keeps others from claiming the same until it is over. Errors: ErrOvertaken.
func fence(ctx context.Context, tx pgx.Tx) error {
	c := claimOf(ctx)
	var err error
	var one int
	switch {
	case c.run != 0:
		err = tx.QueryRow(ctx, "SELECT 1 FROM runs WHERE id = $1 AND attempt = $2 FOR SHARE", c.run, c.attempt).Scan(&one)
	case c.lease != "":
		err = tx.QueryRow(ctx, "SELECT 1 FROM leases WHERE name = $1 AND epoch = $2 FOR SHARE", c.lease, c.epoch).Scan(&one)
	}
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrOvertaken
	}
	return err
}

// Claimed is nil while the claim of a context counts: its attempt is the last one or its lease was not taken over, and its instance has
// renewed in time. It is asked right before anything is destroyed. Errors: ErrOvertaken.
func (db *DB) Claimed(ctx context.Context) error {
	c := claimOf(ctx)
	var counts bool
	var err error
	switch {
	case c.run != 0:
		err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM runs WHERE id = $1 AND attempt = $2 AND status = 'working' AND "+
			alive("runs.instance_id")+")", c.run, c.attempt).Scan(&counts)
	case c.lease != "":
		err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM leases WHERE name = $1 AND epoch = $2 AND "+
			alive("leases.instance_id")+")", c.lease, c.epoch).Scan(&counts)
	default:
		return errors.New("nothing may be removed from a host outside of a run")
	}
	if err == nil && !counts {
		err = ErrOvertaken
	}
	return err
}

// fenced runs a statement that must touch a row, unless its attempt was overtaken.
func (db *DB) fenced(ctx context.Context, noun, name, query string, args ...any) error {
	return explain(noun, name, pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		if err := fence(ctx, tx); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, query, args...)
		if err == nil && tag.RowsAffected() == 0 {
			err = notFound(noun, name)
		}
		return err
	}))
}

// Unreachable reports whether an error says that the records' server does not answer: it is being restarted, or the line to
// it was cut (PostgreSQL manual, appendix A, classes 08 and 57P).
func Unreachable(err error) bool {
	var connect *pgconn.ConnectError
	var server *pgconn.PgError
	var line net.Error
	switch {
	case errors.As(err, &connect), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF), errors.Is(err, net.ErrClosed):
		return true
	case errors.As(err, &server):
		return server.Code[:2] == "08" || len(server.Code) == 5 && server.Code[:4] == "57P0"
	case errors.As(err, &line):
		return true
	}
	return err != nil && (err.Error() == "conn closed" || pgconn.SafeToRetry(err))
}
