// Package recordstest gives tests records of their own, in a private PostgreSQL that ends with the test.
package recordstest

import (
	"context"
	"os"
	"testing"

	"nestseed/internal/service/cluster"
	"nestseed/internal/service/records"
)

// Open starts a cluster in a folder that its user may enter, and opens the records in it.
func Open(t testing.TB) *records.DB {
	t.Helper()
	dir, err := os.MkdirTemp("", "nestseed-records-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	c, err := cluster.Start(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := c.Stop(); err != nil {
			t.Error(err)
		}
	})
	db, err := records.Open(context.Background(), c.Address())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Close)
	return db
}
