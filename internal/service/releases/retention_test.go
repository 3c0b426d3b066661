package releases

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/service/records"
)

func TestRetentionKeepsTheLastOneAWeekAndWhatSitesWereMadeFrom(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC) // a Wednesday
	made := func(number, daysAgo, sites int) records.Release {
		return records.Release{Starter: "music-base", Number: number, Archive: fmt.Sprint(number), Sites: sites,
			Manifest: &archive.Manifest{Made: now.AddDate(0, 0, -daysAgo)}}
	}
	// 10 and 9 are of this week, 8 and 7 of last week, 6 of the one before; 5 has sites; the rest is old.
	releases := []records.Release{made(10, 0, 0), made(9, 1, 0), made(8, 5, 0), made(7, 6, 0), made(6, 12, 0), made(5, 80, 2), made(4, 90, 0),
		made(3, 100, 0)}
	gone := made(2, 110, 0)
	gone.Archive = ""
	releases = append(releases, gone)
	surplus := func(last, weeks int) (out []int) {
		for _, r := range toDiscard(releases, last, weeks, now) {
			out = append(out, r.Number)
		}
		return out
	}
	require.Empty(t, surplus(0, 0), "without rules everything is kept")
	require.Equal(t, []int{7, 6, 4, 3}, surplus(3, 0))
	require.Equal(t, []int{9, 7, 4, 3}, surplus(1, 4))
	require.Equal(t, []int{9, 7, 4, 3}, surplus(0, 2), "the newest is always kept")
	require.Empty(t, surplus(20, 0))
}
