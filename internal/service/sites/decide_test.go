package sites

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/check"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
)

func TestWhatSomebodyHasDecidedOnOrAcceptedDoesNotStopAChange(t *testing.T) {
	ctx, db := context.Background(), standing(t)
	svc := &Sites{DB: db}
	s, err := db.Site(ctx, "alder-valley")
	require.NoError(t, err)
	pages := check.Check{Name: "pages", Result: check.Fail, Sentence: "pages do not open (1)", Found: []string{"/gone/ 404"}}
	form := check.Check{Name: "form", Result: check.Fail, Sentence: "a form does not work (1)", Found: []string{"/send/ 500"}}
	rep := &check.Report{Checks: []check.Check{pages, form, {Name: "title", Result: check.Pass}}}
	open := func(before *check.Report, d Despite) []string {
		fresh, err := svc.newFaults(ctx, s.ID, before, rep, d)
		require.NoError(t, err)
		return faultNames(fresh)
	}
	require.Equal(t, []string{"pages", "form"}, open(nil, Despite{}))
	require.Equal(t, []string{"form"}, open(&check.Report{Checks: []check.Check{pages}}, Despite{}))
	require.Equal(t, []string{"pages"}, open(nil, Despite{Checks: []string{"form"}, Reason: "the host is told"}))

	// What was decided on is accepted, with who decided and why, wherever the site is by then.
	require.NoError(t, db.SetReport(ctx, s.Name, rep))
	require.NoError(t, svc.acceptDespite(ctx, s.ID, rep, Despite{Checks: []string{"form", "title"}, Reason: "the host is told"}, "ines"))
	accepted, err := db.AcceptedOn(ctx, s.ID)
	require.NoError(t, err)
	require.Len(t, accepted, 1)
	require.Equal(t, []string{"form", "the host is told", "ines"}, []string{accepted[0].What, accepted[0].Reason, accepted[0].Who})
	require.Equal(t, []string{"pages"}, open(nil, Despite{}))

	// Until a day, and no longer.
	tomorrow, yesterday := time.Now().Add(24*time.Hour), time.Now().Add(-24*time.Hour)
	require.ErrorIs(t, svc.AcceptCheck(ctx, s.Name, "pages", "next week", "ines", false, &yesterday), input.ErrWrong)
	require.NoError(t, svc.AcceptCheck(ctx, s.Name, "pages", "next week", "ines", false, &tomorrow))
	require.Empty(t, open(nil, Despite{}))
	_, err = db.Pool.Exec(ctx, "UPDATE acceptances SET until = now() - interval '1 minute' WHERE what = 'pages'")
	require.NoError(t, err)
	require.Equal(t, []string{"pages"}, open(nil, Despite{}))
	require.NoError(t, db.EndAcceptances(ctx))
	accepted, err = db.AcceptedOn(ctx, s.ID)
	require.NoError(t, err)
	require.Len(t, accepted, 1)
	var failed, known int
	require.NoError(t, db.Pool.QueryRow(ctx, "SELECT failed, accepted_faults FROM sites WHERE id = $1", s.ID).Scan(&failed, &known))
	require.Equal(t, []int{2, 1}, []int{failed, known}, "lists count it again")
}

func TestADecisionNamesChecksAndAReason(t *testing.T) {
	require.NoError(t, Despite{}.Valid())
	require.NoError(t, Despite{Checks: []string{"pages"}, Reason: "known"}.Valid())
	require.ErrorContains(t, Despite{Checks: []string{"sites"}, Reason: "known"}.Valid(), `there is no check "sites"; the checks are: pages, `)
	require.ErrorContains(t, Despite{Checks: []string{"pages"}, Reason: " "}.Valid(), "say for what reason")
}

func TestTheResultOfARunNamesItsNewFaults(t *testing.T) {
	names, err := FaultsOf(engine.Run{Result: json.RawMessage(`{"site":"alder","new_faults":["pages"]}`)})
	require.NoError(t, err)
	require.Equal(t, []string{"pages"}, names)
	_, err = FaultsOf(engine.Run{ID: 7})
	require.ErrorContains(t, err, "result of run 7")
}
