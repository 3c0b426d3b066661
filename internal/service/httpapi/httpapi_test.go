package httpapi

import (
	"errors"
	"fmt"
	"net/http"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/wire"
)

func TestErrorsBecomeProblemsWithAStableType(t *testing.T) {
	for name, c := range map[string]struct {
		err    error
		status int
	}{
		"not-found": {records.ErrNotFound, 404}, "taken": {records.ErrTaken, 409}, "in-use": {records.ErrInUse,
			409}, "plan-does-not-fit": {provision.ErrPlan, 409},
		"discarded": {releases.ErrDiscarded, 410}, "hostile": {archive.ErrHostile, 422}, "forbidden": {errForbidden,
			403}, "failed": {errors.New("disk"), 500}, "wrong": {input.Wrongf("typo"), 422},
	} {
		err := problem(fmt.Errorf("site alder: %w", c.err))
		var m *huma.ErrorModel
		require.ErrorAs(t, err, &m)
		require.Equal(t, c.status, m.Status, name)
		require.Equal(t, "urn:nestseed:problem:"+name, m.Type)
		require.Contains(t, m.Detail, "site alder")
		require.Equal(t, http.StatusText(c.status), m.Title)
	}
	require.NoError(t, problem(nil))
	require.NoError(t, input.Wrong(nil))
	require.Equal(t, "typo", input.Wrongf("typo").Error(), "the mark does not show")
}

func TestPlansAreKnownByWhatTheySay(t *testing.T) {
	plan := &provision.Plan{Name: "alder", FreeBytes: 10, ExpectedMillis: 5}
	mark, err := markOf(plan)
	require.NoError(t, err)
	plan.FreeBytes, plan.ExpectedMillis = 20, 6
	plan.Steps = []provision.Step{{Detail: "MariaDB 10.11, 19 GB free"}}
	same, err := markOf(plan)
	require.NoError(t, err)
	require.Equal(t, mark, same, "free space changes by itself")
	plan.Database = "ns_other"
	other, err := markOf(plan)
	require.NoError(t, err)
	require.NotEqual(t, mark, other)
	require.ErrorIs(t, errStale("alder"), provision.ErrPlan)
}

func TestATableIsLookedAtAsAWhole(t *testing.T) {
	require.NoError(t, tableProblems([]wire.TableRow{{Client: "a"}, {Client: "a", Name: "a-two"}, {Client: "b", Address: "http://b.example"}}))
	err := tableProblems([]wire.TableRow{{Client: "a"}, {Client: "b", Name: "a", Address: "http://x.example"},
		{Client: "c", Address: "http://x.example", Set: map[string]string{"Not A Key": "1"}}})
	require.ErrorIs(t, err, provision.ErrPlan)
	for _, says := range []string{"rows 1 and 2 are both to make site a", "rows 2 and 3 have the same address", `row 3: "Not A Key"`,
		"no row was begun"} {
		require.ErrorContains(t, err, says)
	}
}
