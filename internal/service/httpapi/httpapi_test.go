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

func TestSitesThatAreBehindAreNamedOrCounted(t *testing.T) {
	sites := []records.Site{{Name: "a", Release: "m@1", Behind: 2}, {Name: "b", Release: "m@3"}, {Name: "c", Release: "m@2", Behind: 1}}
	out := behind(sites)
	require.Len(t, out, 2)
	require.Equal(t, "a is of m@1, 2 releases behind the newest", out[0].Sentence)
	require.Equal(t, "c is of m@2, 1 release behind the newest", out[1].Sentence)
	for range 3 {
		sites = append(sites, sites[0])
	}
	out = behind(sites)
	require.Len(t, out, 1)
	require.Contains(t, out[0].Sentence, "5 sites are of older releases")
	require.Equal(t, "a has 2 launch tasks to do", launching(sites[:3], map[string]int{"a": 2})[0].Sentence)
	require.Contains(t, launching([]records.Site{{Name: "a"}, {Name: "b"}, {Name: "c"}, {Name: "d"}},
		map[string]int{"a": 1, "b": 1, "c": 1, "d": 1})[0].Sentence, "4 sites have launch tasks")
}

func TestRunsThatFailedOrCouldNotBeCleanedUpAreNamedOnce(t *testing.T) {
	stuck := records.Run{ID: 7, Title: "Make site a", Status: records.Working, Error: "no server"}
	out := troubled([]records.Run{stuck, {ID: 8, Title: "Make site b", Status: records.Working},
		{ID: 9, Title: "Check c", Status: records.Failed, Error: "no page"}, stuck, {ID: 6, Status: records.Done}})
	require.Equal(t, []wire.Attention{{Severity: "fault", Sentence: "Make site a could not be cleaned up after: no server", Link: "/runs/7"},
		{Severity: "fault", Sentence: "Check c failed: no page", Link: "/runs/9"}}, out)
}
