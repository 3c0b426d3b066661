package httpapi

import (
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/records"
)

func TestARowOfAListSaysAllThatIsKnown(t *testing.T) {
	at, yes := time.Date(2026, 11, 2, 10, 0, 0, 0, time.UTC), true
	row := siteRowOut(records.SiteRow{Name: "alder", Title: "Alder", Client: "alder", Host: "preview", Release: "m@1", Install: "schools",
		Address: "https://alder.example", Bytes: 1, MadeAt: at, RunID: 1, Held: true, Visible: true, RetiredAt: &at, CheckedAt: &at, Passed: 1, Warned: 1, Failed: 1,
		Accepted: 1, Behind: 1, Tasks: 1, Picture: "1.png", SeenAt: &at, Ends: &at, Leads: &yes})
	for v, i := reflect.ValueOf(row), 0; i < v.NumField(); i++ {
		require.False(t, v.Field(i).IsZero(), v.Type().Field(i).Name)
	}
}
