package sites

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/check"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
)

func TestValuesOfASiteComeBeforeThoseOfItsClient(t *testing.T) {
	values := map[string]provision.Given{"title": {Value: "Client's", Origin: "client"}, "licence": {Value: "LB-1", Origin: "client"}}
	ownValues(values, []provision.Value{{Key: "title", Value: "Site's"}, {Key: "licence", Value: "••••", Secret: true},
		{Key: "tagline", Value: ""}, {Key: "phone", Value: "1"}})
	require.Equal(t, map[string]provision.Given{"title": {Value: "Site's", Origin: "site"}, "licence": {Value: "LB-1", Origin: "client"},
		"phone": {Value: "1", Origin: "site"}}, values)
}

func TestTheResultSaysWhichLoginWorks(t *testing.T) {
	require.Contains(t, LoginSentence("alder", &provision.Result{Admin: "alder-admin"}), "the vault has as administrator of site alder")
	require.Contains(t, LoginSentence("alder", &provision.Result{Admin: "maria", KeptAccounts: true}), "as before, maria among them")
}

func TestFaultsAreNamedAndWarningsAreNot(t *testing.T) {
	rep := &check.Report{Checks: []check.Check{{Name: "pages", Result: check.Fail, Sentence: "2 do not open"},
		{Name: "mail", Result: check.Pass}, {Name: "values", Result: check.Warn, Sentence: "odd"}, {Name: "login", Result: check.Fail,
			Sentence: "does not work"}}}
	require.Equal(t, "pages: 2 do not open; login: does not work", Faults(rep.Since(nil)))
}

func TestARuleKeepsTheLastSafetyCopiesForSoManyDays(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	var copies []records.SiteCopy // newest first
	for i, days := range []int{0, 1, 10, 40, 100} {
		copies = append(copies, records.SiteCopy{ID: int64(i), MadeAt: now.AddDate(0, 0, -days)})
	}
	surplus := func(last, days int) (out []int64) {
		for _, c := range copiesToDrop(copies, last, days, now) {
			out = append(out, c.ID)
		}
		return out
	}
	require.Empty(t, surplus(0, 0), "without a rule all are kept")
	require.Equal(t, []int64{2, 3, 4}, surplus(2, 0))
	require.Equal(t, []int64{3, 4}, surplus(0, 30))
	require.Equal(t, []int64{1, 2, 3, 4}, surplus(1, 30))
	require.Empty(t, surplus(9, 365))
	copies[3].Why, copies[3].Folder, copies[3].Place = records.CopyMoved, "alder", "alder"
	require.Equal(t, []int64{4}, surplus(0, 30), "an old place that visitors may be led to is not dropped by a rule")
	copies[3].Folder = ".alder.nestseed-7"
	require.Equal(t, []int64{3, 4}, surplus(0, 30))
}

func TestCredentialsThatWerePutAsideAreNamedByTheirRun(t *testing.T) {
	require.Equal(t, "database before run 12", secretOfRun("database", 12))
	require.NotEqual(t, secretOfRun("database", 1), secretOfRun("database", 11))
}
