package sftp

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestFarHostsMoveMoreFilesAtATime(t *testing.T) {
	for there, want := range map[time.Duration]int{100 * time.Microsecond: 64, 10 * time.Millisecond: 125, 40 * time.Millisecond: 256, time.Second: 256} {
		require.Equal(t, want, (&transport{there: there}).Transfers(), there)
	}
}
