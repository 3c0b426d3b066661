// Package job tries the job step by step on WordPress, and what goes wrong on the way: mistakes, kills, full disks, forged archives.
package job

import (
	"testing"

	"nestseed/test/world"
)

func TestMain(m *testing.M) { world.Main(m) }
