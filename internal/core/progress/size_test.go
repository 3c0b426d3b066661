package progress

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSizesAreWrittenForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0 bytes", 999: "999 bytes", 1000: "1.0 kB", 30_000_000: "30.0 MB", 999_960: "1.0 MB",
		5_400_000_000: "5.4 GB", 7e12: "7.0 TB"} {
		require.Equal(t, want, SizeText(n))
	}
}
