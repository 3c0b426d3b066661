package records_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/check"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
)

// listed is a world with sites in many states.
func listed(t *testing.T) *world {
	w := newWorld(t)
	for i, name := range []string{"brook-lane", "cedar-hill", "dale-end", "elm-court"} {
		s := w.made(t, name, w.releases[1].ID)
		report := &check.Report{At: time.Now().Add(-time.Duration(i) * time.Hour).UTC(), Checks: []check.Check{{Name: "pages", Result: check.Pass}}}
		switch name {
		case "cedar-hill":
			report.Checks = append(report.Checks, check.Check{Name: "title", Result: check.Fail})
		case "dale-end":
			report.Checks = append(report.Checks, check.Check{Name: "values", Result: check.Warn, Sentence: "1 is broken", Evidence: []string{"row 7"}})
		case "elm-court":
			continue
		}
		require.NoError(t, w.SetReport(w.ctx, s.Name, report))
	}
	return w
}

func names(rows []records.SiteRow) (out []string) {
	for _, r := range rows {
		out = append(out, r.Name)
	}
	return out
}

func TestSitesAreListedPageByPageInAnyOrder(t *testing.T) {
	w := listed(t)
	all := []string{"alder-valley", "brook-lane", "cedar-hill", "dale-end", "elm-court"}
	for _, sort := range []string{"", "name", "title", "attention", "newest", "size", "checked", "retired"} {
		var got []string
		f := records.SiteFilter{Sort: sort, Limit: 2}
		for pages := 1; ; pages++ {
			rows, next, err := w.SiteRows(w.ctx, f)
			require.NoError(t, err, sort)
			got = append(got, names(rows)...)
			if f.Cursor = next; next == "" {
				require.Equal(t, 3, pages, sort)
				break
			}
		}
		switch sort {
		case "attention":
			require.Equal(t, "cedar-hill", got[0])
			require.Equal(t, "brook-lane", got[4], "with nothing to look at")
		case "newest":
			require.Equal(t, "elm-court", got[0])
		case "checked":
			require.Equal(t, "brook-lane", got[0])
		}
		slices.Sort(got)
		require.Equal(t, all, got, "each once, by %s", sort)
	}
	for _, cursor := range []string{"x", "bm8", "eyJLZXkiOiJ4IiwiTmFtZSI6ImEiLCJJRCI6MX0"} { // the last says "x" where a number is due
		_, _, err := w.SiteRows(w.ctx, records.SiteFilter{Sort: "size", Limit: 2, Cursor: cursor})
		require.ErrorIs(t, err, records.ErrCursor, cursor)
	}
}

func TestSitesAreFoundByStateAndWords(t *testing.T) {
	w := listed(t)
	total, states, err := w.SiteStates(w.ctx, records.SiteFilter{})
	require.NoError(t, err)
	require.Equal(t, 5, total)
	require.Equal(t, map[string]int{"attention": 4, "failed": 1, "warned": 1, "passed": 1, "unchecked": 2, "held": 0, "behind": 1, "to-do": 0, "elsewhere": 0, "ending": 0, "uncopied": 0,
		"leading": 0}, states)
	for state, n := range states {
		rows, _, err := w.SiteRows(w.ctx, records.SiteFilter{State: state, Limit: 10})
		require.NoError(t, err)
		require.Len(t, rows, n, state)
	}
	for _, f := range []records.SiteFilter{{Find: "ELM"}, {Find: "elm-court.example"}, {State: "unchecked", Find: "elm"}} {
		f.Limit = 10
		rows, _, err := w.SiteRows(w.ctx, f)
		require.NoError(t, err)
		require.Equal(t, []string{"elm-court"}, names(rows), "%+v", f)
	}
	for _, f := range []records.SiteFilter{{Find: "%"}, {Find: "elm_court"}, {Client: "nobody"}, {Host: "nowhere"}, {Starter: "none"}, {Retired: true}} {
		f.Limit = 10
		rows, _, err := w.SiteRows(w.ctx, f)
		require.NoError(t, err)
		require.Empty(t, rows, "%+v", f)
	}
	behind, err := w.Behind(w.ctx)
	require.NoError(t, err)
	require.Equal(t, []records.StarterBehind{{Starter: "music-base", Newest: 2, Sites: 1}}, behind)
}

func TestWhatIsAcceptedHoldsUntilSomethingElseIsFound(t *testing.T) {
	w := listed(t)
	site, err := w.Site(w.ctx, "dale-end")
	require.NoError(t, err)
	accepted := func(name string) int {
		rows, _, err := w.SiteRows(w.ctx, records.SiteFilter{Find: name, Limit: 1})
		require.NoError(t, err)
		return rows[0].Accepted
	}
	found := site.Report.Checks[1]
	require.NoError(t, w.Accept(w.ctx, records.Acceptance{SiteID: &site.ID, What: found.Name, Mark: found.Mark(), Reason: "as in the source", Who: "ines"}))
	require.Equal(t, 1, accepted("dale-end"))
	other := &check.Report{Checks: []check.Check{{Name: "values", Result: check.Warn, Sentence: "1 is broken", Evidence: []string{"row 8"}}}}
	require.NoError(t, w.SetReport(w.ctx, "dale-end", other))
	require.Equal(t, 0, accepted("dale-end"), "another row")

	for _, everywhere := range []string{"dale-end", "elm-court"} {
		require.NoError(t, w.SetReport(w.ctx, everywhere, other))
	}
	starter := w.releases[1].StarterID
	require.NoError(t, w.Accept(w.ctx, records.Acceptance{StarterID: &starter, What: "values", Mark: found.MarkEverywhere(), Reason: "known", Who: "ines"}))
	require.Equal(t, []int{1, 1, 0}, []int{accepted("dale-end"), accepted("elm-court"), accepted("cedar-hill")}, "the same sentence on all sites")
	on, err := w.AcceptedOn(w.ctx, site.ID)
	require.NoError(t, err)
	for _, of := range on {
		require.NoError(t, w.Unaccept(w.ctx, of))
	}
	require.Equal(t, []int{0, 0}, []int{accepted("dale-end"), accepted("elm-court")})
}

func TestClientsAreListedPageByPage(t *testing.T) {
	w := newWorld(t)
	for i := range 6 {
		name := fmt.Sprintf("school-%d", i)
		_, err := w.AddClient(w.ctx, name)
		require.NoError(t, err)
		require.NoError(t, w.SetSettings(w.ctx, name, map[string]records.Setting{"title": {Value: fmt.Sprintf("School %d%%", i)},
			"email": {Value: name + "@schools.example"}}, nil))
	}
	var got []string
	for f := (records.ClientFilter{Find: "School", Limit: 4}); ; {
		rows, total, next, err := w.ClientRows(w.ctx, f)
		require.NoError(t, err)
		require.Equal(t, 6, total)
		for _, r := range rows {
			got = append(got, r.Name)
			require.Equal(t, 2, r.Settings)
		}
		if f.Cursor = next; next == "" {
			break
		}
	}
	require.Len(t, got, 6)
	require.True(t, slices.IsSorted(got))
	require.NoError(t, w.SetSettings(w.ctx, "school-1", map[string]records.Setting{"phone": {Value: "1"}, "key": {Secret: true}}, nil))
	wanted, _, _, err := w.ClientRows(w.ctx, records.ClientFilter{Find: "school-1", Keys: []string{"phone", "key", "none"}, Limit: 1})
	require.NoError(t, err)
	require.Equal(t, map[string]records.Setting{"phone": {Value: "1"}, "key": {Secret: true}}, wanted[0].Values)
	rows, _, _, err := w.ClientRows(w.ctx, records.ClientFilter{Find: "3%", Limit: 4})
	require.NoError(t, err)
	require.Equal(t, "school-3@schools.example", rows[0].Email)
	_, _, _, err = w.ClientRows(w.ctx, records.ClientFilter{Cursor: "?", Limit: 4})
	require.ErrorIs(t, err, records.ErrCursor)
}

func TestATitleIsListedFromThePlan(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.AddSite(w.ctx, records.Site{Name: "fern-bank", ClientID: w.client.ID, HostID: w.host.ID, ReleaseID: w.releases[0].ID,
		RunID: w.run(t), Address: "http://fern-bank.example", Folder: "fern-bank", Result: &provision.Result{},
		Plan: &provision.Plan{Bytes: 123, Values: []provision.Value{{Key: "email", Value: "x"}, {Key: "title", Value: "Fern Bank “Brass”"}}}},
		[]records.LaunchTask{{Key: "form", Title: "Send a message"}}))
	rows, _, err := w.SiteRows(w.ctx, records.SiteFilter{State: "to-do", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "Fern Bank “Brass”", rows[0].Title)
	require.EqualValues(t, 123, rows[0].Bytes)
	site, err := w.Site(w.ctx, "fern-bank")
	require.NoError(t, err)
	day := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, w.SetTaskDue(w.ctx, site.ID, "form", &day))
	tasks, total, err := w.OpenTasks(w.ctx, 10)
	require.NoError(t, err)
	require.Equal(t, 1, total)
	require.True(t, day.Equal(*tasks[0].Due))
	require.ErrorIs(t, w.SetTaskDue(w.ctx, site.ID, "none", &day), records.ErrNotFound)
}
