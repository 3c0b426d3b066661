// Package records keeps what the service knows, in PostgreSQL through pgx: one file per noun.
//
// A DB is a pool of connections with the queries of all nouns as methods. Rows are plain structs whose
// fields are the columns; documents that the core defines (surveys, manifests, plans, reports) are kept
// as JSON. Names are unique, and what people type is a name, so most look-ups are by name and give
// ErrNotFound with a sentence.
package records

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

// Errors that callers decide on.
var (
	ErrNotFound = errors.New("not found")
	ErrTaken    = errors.New("taken")
	ErrInUse    = errors.New("in use")
	ErrChanged  = errors.New("somebody else changed it meanwhile; look at it again and repeat your change")
)

// DB is the records.
type DB struct {
	Pool Pool
}

// Pool is connections to the records: some for people's requests, and others for runs, so that neither waits for the other. What is done
// in the context of a transaction of Tx is done in that.
type Pool struct {
	*pgxpool.Pool
	Runs *pgxpool.Pool
}

const (
	connsOfPeople = 16
	connsOfRuns   = 10
)

// of is the part of the pool that is for a context.
func (p Pool) of(ctx context.Context) *pgxpool.Pool {
	if claimOf(ctx).run != 0 {
		return p.Runs
	}
	return p.Pool
}

type txKey struct{}

// Tx does several things at one moment, or none of them: every method of DB that is called in the context that do gets belongs to it, and
// sees what was written in it before. Nothing else may be waited for in it, and its context is for one goroutine. Errors: ErrOvertaken.
func (db *DB) Tx(ctx context.Context, do func(ctx context.Context) error) error {
	return pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		if err := fence(ctx, tx); err != nil {
			return err
		}
		return do(context.WithValue(ctx, txKey{}, tx))
	})
}

// TxOf is the transaction of Tx that a context is in.
func TxOf(ctx context.Context) (pgx.Tx, bool) {
	tx, is := ctx.Value(txKey{}).(pgx.Tx)
	return tx, is
}

// Begin begins a transaction; within one of Tx, a part of it.
func (p Pool) Begin(ctx context.Context) (pgx.Tx, error) {
	if tx, is := ctx.Value(txKey{}).(pgx.Tx); is {
		return tx.Begin(ctx)
	}
	return p.of(ctx).Begin(ctx)
}

// Exec runs a statement.
func (p Pool) Exec(ctx context.Context, query string, args ...any) (pgconn.CommandTag, error) {
	if tx, is := ctx.Value(txKey{}).(pgx.Tx); is {
		return tx.Exec(ctx, query, args...)
	}
	return p.of(ctx).Exec(ctx, query, args...)
}

// Query runs a query.
func (p Pool) Query(ctx context.Context, query string, args ...any) (pgx.Rows, error) {
	if tx, is := ctx.Value(txKey{}).(pgx.Tx); is {
		return tx.Query(ctx, query, args...)
	}
	return p.of(ctx).Query(ctx, query, args...)
}

// QueryRow runs a query of one row.
func (p Pool) QueryRow(ctx context.Context, query string, args ...any) pgx.Row {
	if tx, is := ctx.Value(txKey{}).(pgx.Tx); is {
		return tx.QueryRow(ctx, query, args...)
	}
	return p.of(ctx).QueryRow(ctx, query, args...)
}

// whenLost ends the sessions of a machine that is gone, or of a process that stands still in a transaction: what they have locked would
// be locked for hours (PostgreSQL manual, 20.3.2 and 20.11.1).
var whenLost = map[string]string{"idle_in_transaction_session_timeout": "8s", "tcp_keepalives_idle": "5", "tcp_keepalives_interval": "2",
	"tcp_keepalives_count": "3", "tcp_user_timeout": "10s"}

//go:embed migrations/*.sql
var migrations embed.FS

// Open connects to the records at a PostgreSQL address and brings their tables up to date.
func Open(ctx context.Context, address string) (*DB, error) {
	cfg, err := pgxpool.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("address of the records: %w", err)
	}
	for name, value := range whenLost {
		cfg.ConnConfig.RuntimeParams[name] = value
	}
	cfg.MaxConns = connsOfPeople
	forRuns := cfg.Copy()
	forRuns.MaxConns = connsOfRuns
	db := &DB{}
	if db.Pool.Pool, err = pgxpool.NewWithConfig(ctx, cfg); err != nil {
		return nil, err
	}
	if db.Pool.Runs, err = pgxpool.NewWithConfig(ctx, forRuns); err != nil {
		db.Pool.Pool.Close()
		return nil, err
	}
	if err := db.Pool.Ping(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("the records' PostgreSQL does not answer; start it or correct NESTSEED_RECORDS: %w", err)
	}
	if err := db.Migrate(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// Migrate brings the tables of records and queues up to date. Several services may do so at once.
func (db *DB) Migrate(ctx context.Context) error {
	conn, err := db.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	const everyone = 0x6e657374 // any number, the same for all
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock($1)", everyone); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", everyone)
	std := stdlib.OpenDBFromPool(db.Pool.Pool)
	defer std.Close()
	sub, err := goose.NewProvider(goose.DialectPostgres, std, mustSub())
	if err != nil {
		return err
	}
	if _, err := sub.Up(ctx); err != nil {
		return fmt.Errorf("bring the records up to date: %w", err)
	}
	queues, err := rivermigrate.New(riverpgxv5.New(db.Pool.Pool), nil)
	if err != nil {
		return err
	}
	if _, err := queues.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bring the queues up to date: %w", err)
	}
	return nil
}

// Close ends all connections.
func (db *DB) Close() {
	db.Pool.Pool.Close()
	db.Pool.Runs.Close()
}

// many reads all rows of a query into structs by column name.
func many[T any](ctx context.Context, db *DB, query string, args ...any) ([]T, error) {
	rows, err := db.Pool.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[T])
}

// one reads the one row of a query; noun and name say what was not found.
func one[T any](ctx context.Context, db *DB, noun, name, query string, args ...any) (T, error) {
	rows, err := db.Pool.Query(ctx, query, args...)
	if err != nil {
		var zero T
		return zero, err
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound(noun, name)
	}
	return v, explain(noun, name, err)
}

// exec runs a statement that must touch a row.
func (db *DB) exec(ctx context.Context, noun, name, query string, args ...any) error {
	tag, err := db.Pool.Exec(ctx, query, args...)
	if err == nil && tag.RowsAffected() == 0 {
		return notFound(noun, name)
	}
	return explain(noun, name, err)
}

func notFound(noun, name string) error {
	return fmt.Errorf("there is no %s %q: %w", noun, name, ErrNotFound)
}

// explain makes sentences of what the constraints of tables refuse.
func explain(noun, name string, err error) error {
	var e *pgconn.PgError
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code {
	case "23505":
		return fmt.Errorf("there is a %s %q already: %w; choose another name", noun, name, ErrTaken)
	case "23503":
		return fmt.Errorf("%s %q cannot be removed, %s still need it: %w; remove those first", noun, name,
			strings.ReplaceAll(e.TableName, "_", " "), ErrInUse)
	}
	return err
}

// pgCode is the error code of PostgreSQL (its manual, appendix A), or "".
func pgCode(err error) string {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		return e.Code
	}
	return ""
}

func mustSub() fs.FS {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // embedded
	}
	return sub
}
