package records

import (
	"context"
	"errors"
	"io"
	"net"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// ErrOvertaken says that another attempt at a run has begun: this one must not write any more.
var ErrOvertaken = errors.New("another attempt at this run has begun meanwhile")

// attempt is one attempt at a run.
type attempt struct {
	run    int64
	number int
}

type attemptKey struct{}

// WithAttempt returns a context of an attempt at a run. What is written in it is refused when a later attempt has begun.
func WithAttempt(ctx context.Context, runID int64, number int) context.Context {
	return context.WithValue(ctx, attemptKey{}, attempt{runID, number})
}

// SameAttempt returns ctx as one of the attempt that of is of.
func SameAttempt(ctx, of context.Context) context.Context {
	return context.WithValue(ctx, attemptKey{}, attemptOf(of))
}

func attemptOf(ctx context.Context) attempt {
	a, _ := ctx.Value(attemptKey{}).(attempt)
	return a
}

// fence ends a transaction of an attempt that was overtaken, and keeps later ones from beginning until it is over. Errors:
// ErrOvertaken.
func fence(ctx context.Context, tx pgx.Tx) error {
	a := attemptOf(ctx)
	if a.run == 0 {
		return nil
	}
	var number int
	if err := tx.QueryRow(ctx, "SELECT attempt FROM runs WHERE id = $1 FOR SHARE", a.run).Scan(&number); err != nil {
		return err
	}
	if number != a.number {
		return ErrOvertaken
	}
	return nil
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
