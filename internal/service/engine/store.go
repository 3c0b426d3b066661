package engine

import (
	"context"
	"encoding/json"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
)

// store is what the engine keeps in the records: *records.DB, or that of a simulation.
type store interface {
	Tx(ctx context.Context, do func(ctx context.Context) error) error
	Claimed(ctx context.Context) error
	TakeLease(ctx context.Context, instance int64, target string) (context.Context, int64, error)
	ReleaseLease(ctx context.Context, target string, epoch int64) (int64, error)

	Run(ctx context.Context, id int64) (records.Run, error)
	AddRun(ctx context.Context, r records.Run) (id int64, isNew bool, err error)
	StartRun(ctx context.Context, instance int64, r records.Run) (held context.Context, started records.Run, epoch int64, err error)
	TakeOver(ctx context.Context, instance, id int64) (held context.Context, run records.Run, err error)
	SetAside(ctx context.Context, id int64, p records.Progress, result any) error
	PutBack(ctx context.Context, id int64, committed bool) error
	Interrupted(ctx context.Context, id int64, committed bool) error
	FailCleanup(ctx context.Context, id int64, sentence string) error
	LeaveRun(ctx context.Context, id int64) error
	LeaveRuns(ctx context.Context, instance int64, mine []int64) (int64, error)
	EndRun(ctx context.Context, id int64, status string, result any, sentence string) (int64, error)
	CommitRun(ctx context.Context, id int64) (bool, error)
	AskCancel(ctx context.Context, id int64) error

	InterruptedRuns(ctx context.Context, cleanup bool) ([]records.Run, error)
	UnqueuedRuns(ctx context.Context) ([]records.Run, error)
	CancelAsked(ctx context.Context, ids []int64) ([]int64, error)
	RunOpen(ctx context.Context, job string) (bool, error)

	AddLog(ctx context.Context, id int64, sentence string) error
	SetProgress(ctx context.Context, id int64, p records.Progress) error
	SetProgressOfParent(ctx context.Context, id int64) error
	Made(ctx context.Context, id int64) ([]provision.Made, error)
}

// queue hands runs to workers of any instance, those of the smallest priority first.
type queue interface {
	// Insert belongs to the transaction of Tx that it is called in.
	Insert(ctx context.Context, run int64, priority int) error
	// Start begins to work, until ctx ends or Stop is called.
	Start(ctx context.Context) error
	// Stop takes no more, and waits for what is being worked on.
	Stop(ctx context.Context) error
}

// line is a connection of its own to the records: that of an instance which renews its leases, or hears of what others do.
type line interface {
	// Begin takes a number for an instance; after it ended all others, where it is alone.
	Begin(ctx context.Context, alone bool) (int64, error)
	Renew(ctx context.Context, instance int64) error
	Leave(ctx context.Context, instance int64) error
	// Hear calls heard with what is told, until ctx ends or the line is lost.
	Hear(ctx context.Context, heard func(channel string, run int64)) error
	Close(ctx context.Context)
}

// river is a queue in the records, through River.
type riverQueue struct{ client *river.Client[pgx.Tx] }

// queued is what River's queue holds.
type queued struct {
	RunID int64 `json:"run_id"`
}

func (queued) Kind() string { return "run" }

type worker struct {
	river.WorkerDefaults[queued]
	work func(ctx context.Context, run int64) error
}

func (w *worker) Timeout(*river.Job[queued]) time.Duration { return -1 }

func (w *worker) Work(ctx context.Context, j *river.Job[queued]) error {
	return w.work(ctx, j.Args.RunID)
}

func newRiver(db *records.DB, workers int, work func(ctx context.Context, run int64) error) (queue, error) {
	known := river.NewWorkers()
	river.AddWorker(known, &worker{work: work})
	client, err := river.NewClient(riverpgxv5.New(db.Pool.Runs), &river.Config{
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: workers}},
		Workers:           known,
		Logger:            slog.New(slog.DiscardHandler),
		FetchCooldown:     20 * time.Millisecond,
		FetchPollInterval: 500 * time.Millisecond,
		MaxAttempts:       1,
	})
	return riverQueue{client}, err
}

// Insert leaves the time to the records' server.
func (q riverQueue) Insert(ctx context.Context, run int64, priority int) (err error) {
	o := &river.InsertOpts{Priority: priority}
	if tx, in := records.TxOf(ctx); in {
		_, err = q.client.InsertTx(ctx, tx, queued{run}, o)
	} else {
		_, err = q.client.Insert(ctx, queued{run}, o)
	}
	return err
}

func (q riverQueue) Start(ctx context.Context) error { return q.client.Start(ctx) }
func (q riverQueue) Stop(ctx context.Context) error  { return q.client.Stop(ctx) }

// pgLine is a line to PostgreSQL, which is made again when it was lost.
type pgLine struct {
	config *pgx.ConnConfig
	conn   *pgx.Conn
}

func (l *pgLine) do(ctx context.Context, what func(conn *pgx.Conn) error) (err error) {
	if l.conn == nil || l.conn.IsClosed() {
		if l.conn, err = pgx.ConnectConfig(ctx, l.config); err != nil {
			return err
		}
	}
	return what(l.conn)
}

func (l *pgLine) Begin(ctx context.Context, alone bool) (id int64, err error) {
	err = l.do(ctx, func(conn *pgx.Conn) error {
		if alone {
			if err := records.RemoveInstance(ctx, conn, 0); err != nil {
				return err
			}
		}
		id, err = records.AddInstance(ctx, conn)
		return err
	})
	return id, err
}

func (l *pgLine) Renew(ctx context.Context, instance int64) error {
	return l.do(ctx, func(conn *pgx.Conn) error { return records.RenewInstance(ctx, conn, instance) })
}

func (l *pgLine) Leave(ctx context.Context, instance int64) error {
	if l.conn == nil || l.conn.IsClosed() {
		return nil // its leases end by themselves
	}
	return records.RemoveInstance(ctx, l.conn, instance)
}

func (l *pgLine) Hear(ctx context.Context, heard func(channel string, run int64)) error {
	return l.do(ctx, func(conn *pgx.Conn) error {
		if _, err := conn.Exec(ctx, "LISTEN run; LISTEN cancel"); err != nil {
			return err
		}
		for {
			n, err := conn.WaitForNotification(ctx)
			if err != nil {
				return err
			}
			var id int64
			if json.Unmarshal([]byte(n.Payload), &id) == nil {
				heard(n.Channel, id)
			}
		}
	})
}

func (l *pgLine) Close(ctx context.Context) {
	if l.conn != nil {
		l.conn.Close(ctx)
	}
}
