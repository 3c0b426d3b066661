package provision

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestJobsThatWereDueBeginAnewOrAreDropped(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	const recurs = `a:1:{s:6:"weekly";a:1:{s:3:"k_1";a:3:{s:8:"schedule";s:6:"weekly";s:4:"args";a:0:{}s:8:"interval";i:604800;}}}`
	const once = `a:1:{s:4:"mail";a:1:{s:3:"k_2";a:2:{s:8:"schedule";b:0;s:4:"args";a:0:{}}}}`
	raw := `a:6:{i:1700000000;` + recurs + `i:1700000001;` + once + `i:1700000002;` + recurs + `i:1800000120;` + once + `i:1900000000;` +
		recurs + `s:7:"version";i:2;}`
	fresh, moved, dropped, err := laterJobs([]byte(raw), "interval", now)
	require.NoError(t, err)
	require.Equal(t, 2, moved)
	require.Equal(t, 1, dropped)
	require.Equal(t, `a:5:{i:1800000120;`+once+`i:1800000135;`+recurs+`i:1800000150;`+recurs+`i:1900000000;`+recurs+`s:7:"version";i:2;}`,
		string(fresh))
	again, moved, dropped, err := laterJobs(fresh, "interval", now)
	require.NoError(t, err)
	require.Zero(t, moved+dropped)
	require.Equal(t, string(fresh), string(again))
	_, _, _, err = laterJobs([]byte("none"), "interval", now)
	require.Error(t, err)
}
