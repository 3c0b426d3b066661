package stack

import (
	"os"
	"testing"
)

// ForTest returns a stack in a folder of its own, which other users may enter, as the servers run as
// theirs. It is stopped and removed when the test ends.
func ForTest(t testing.TB) *Stack {
	t.Helper()
	dir, err := os.MkdirTemp("", "nestseed-test-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	s := New(dir)
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
		os.RemoveAll(dir)
	})
	return s
}
