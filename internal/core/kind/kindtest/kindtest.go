// Package kindtest gives tests the kinds that come with the program.
package kindtest

import (
	"testing"

	"nestseed/internal/core/kind"
)

// Named returns the kind with a name.
func Named(t testing.TB, name string) *kind.Kind {
	t.Helper()
	kinds, err := kind.Stock()
	if err != nil {
		t.Fatal(err)
	}
	k, err := kind.Named(kinds, name)
	if err != nil {
		t.Fatal(err)
	}
	return k
}
