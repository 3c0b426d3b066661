// Package console tries the console in a browser, the HTTP interface that it uses, and the service behind it: log-in, kills, copies, a full disk.
package console

import (
	"testing"

	"nestseed/test/world"
)

func TestMain(m *testing.M) { world.Main(m) }
