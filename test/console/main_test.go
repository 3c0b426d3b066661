// Package console tries the console in a browser, and the HTTP interface that it uses.
package console

import (
	"testing"

	"nestseed/test/world"
)

func TestMain(m *testing.M) { world.Main(m) }
