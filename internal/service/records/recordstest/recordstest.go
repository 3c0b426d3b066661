// Package recordstest gives tests records of their own, in a private PostgreSQL that ends with the tests.
package recordstest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"
	"go.uber.org/goleak"

	"nestseed/demo/stack"
	"nestseed/internal/service/cluster"
	"nestseed/internal/service/records"
)

// shared is the PostgreSQL of all tests of a package that has Main. Each test gets a copy of a database whose tables are up to date.
var shared struct {
	sync.Mutex
	dir     string
	cluster *cluster.Cluster
	main    bool
	number  atomic.Int64
}

const template = "template_records"

// Main runs the tests of a package: they share one PostgreSQL, which ends with them, and leave no goroutine behind.
func Main(m *testing.M) {
	shared.main = true
	goleak.VerifyTestMain(stopping{m})
}

type stopping struct{ *testing.M }

func (s stopping) Run() int {
	code := s.M.Run()
	if shared.cluster != nil {
		if err := shared.cluster.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			code = 1
		}
		os.RemoveAll(shared.dir)
	}
	return code
}

// Open opens records that are empty. The package's TestMain must be Main.
func Open(t testing.TB) *records.DB {
	t.Helper()
	if !shared.main {
		t.Fatal("give this package a TestMain that calls recordstest.Main")
	}
	server, err := running()
	if err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("records_%d", shared.number.Add(1))
	if err := create(server, name, template); err != nil {
		t.Fatal(err)
	}
	db, err := records.Open(context.Background(), database(server, name))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Close)
	return db
}

// running starts the PostgreSQL, once, in a folder that its user may enter.
func running() (address string, err error) {
	shared.Lock()
	defer shared.Unlock()
	if shared.cluster != nil {
		return shared.cluster.Address(), nil
	}
	if shared.dir, err = os.MkdirTemp("", "nestseed-records-"); err != nil {
		return "", err
	}
	if err := os.Chmod(shared.dir, 0o755); err != nil {
		return "", err
	}
	if err := stack.ThrowawayPostgres(context.Background(), shared.dir); err != nil {
		return "", err
	}
	if shared.cluster, err = cluster.Start(context.Background(), shared.dir); err != nil {
		return "", err
	}
	address = shared.cluster.Address()
	if err := create(address, template, "template1"); err != nil {
		return "", err
	}
	db, err := records.Open(context.Background(), database(address, template))
	if err != nil {
		return "", err
	}
	db.Close()
	return address, nil
}

func create(server, name, from string) error {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, server)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s", name, from))
	return err
}

// database is the address of another database of a server.
func database(server, name string) string {
	u, err := url.Parse(server)
	if err != nil {
		panic(err) // our own
	}
	u.Path = "/" + name
	return u.String()
}

// Instance is the number of a running copy of the service that a test stands for.
func Instance(t testing.TB, db *records.DB) int64 {
	t.Helper()
	conn, err := db.Pool.Acquire(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Release()
	id, err := records.AddInstance(context.Background(), conn.Conn())
	if err != nil {
		t.Fatal(err)
	}
	return id
}
