package hosts

import (
	"testing"

	"nestseed/internal/service/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }
