// Package attack notes what tests of attacks have shown, for the table that `make attack` prints.
package attack

import (
	"fmt"
	"testing"
)

// Mark begins the lines that Stopped writes to a test's log.
const Mark = "ATTACK\t"

// Stopped notes that an attack was tried, and what has stopped it. It is called when the test has shown that.
func Stopped(t testing.TB, what, tried, by string) {
	t.Helper()
	if !t.Failed() {
		fmt.Printf("%s%s\t%s\t%s\n", Mark, what, tried, by)
	}
}
