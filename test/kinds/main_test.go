// Package kinds tries every application, protocol of hosts and database, sources of all sorts, networks of sites and tenants.
package kinds

import (
	"testing"

	"nestseed/test/world"
)

func TestMain(m *testing.M) { world.Main(m) }
