// Package job tries the job step by step on WordPress and on networks of it, and what goes wrong on the way: mistakes, kills, forged archives.
package job

import (
	"testing"

	"nestseed/test/world"
)

func TestMain(m *testing.M) { world.Main(m) }
