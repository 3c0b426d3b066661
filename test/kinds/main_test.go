// Package kinds tries every application, protocol of hosts and database, sources of all sorts, and tenants.
package kinds

import (
	"testing"

	"nestseed/test/world"
)

func TestMain(m *testing.M) { world.Main(m) }
