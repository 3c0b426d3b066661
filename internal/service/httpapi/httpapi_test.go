package httpapi

import (
	"errors"
	"fmt"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/provision"
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
			403}, "failed": {errors.New("disk"), 500}, "wrong": {wrong(errors.New("typo")), 422},
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
	require.NoError(t, wrong(nil))
	require.Equal(t, "typo", wrong(errors.New("typo")).Error(), "the mark does not show")
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

func TestEachFurtherWrongTryWaitsTwiceAsLong(t *testing.T) {
	s := newSlowdown()
	passed := func(key string) { s.mu.Lock(); s.tries[key].until = time.Time{}; s.mu.Unlock() }
	for range freeTries {
		require.Zero(t, s.begin("ines"))
	}
	last := time.Duration(0)
	for range 4 {
		require.Zero(t, s.begin("ines"))
		now := s.begin("ines")
		require.Greater(t, now, last)
		last = now
		passed("ines")
	}
	require.Zero(t, s.begin("somebody else"))
	for range 40 {
		s.begin("ines")
		passed("ines")
	}
	s.begin("ines")
	require.LessOrEqual(t, s.begin("ines"), maxWait)
	s.right("ines")
	require.Zero(t, s.begin("ines"))
}

// A try counts when it begins: a hundred at once are not a hundred for free.
func TestTriesAtOnceCountBeforeTheirOutcomeIsKnown(t *testing.T) {
	s := newSlowdown()
	var let atomic.Int32
	var group sync.WaitGroup
	for range 100 {
		group.Go(func() {
			if s.begin("ines") == 0 {
				let.Add(1)
			}
		})
	}
	group.Wait()
	require.Equal(t, int32(freeTries+1), let.Load())
	for i := range 2 * maxTries {
		s.begin(fmt.Sprint("made up ", i))
	}
	require.LessOrEqual(t, len(s.tries), maxTries)
}

func TestALinkThatDoesNotOpenSaysWhy(t *testing.T) {
	at := time.Date(2026, 11, 25, 9, 30, 0, 0, time.UTC)
	require.Contains(t, closedLink(records.Handover{OpenedAt: &at}), "was opened on 25 November 2026, 09:30 UTC")
	require.Contains(t, closedLink(records.Handover{WithdrawnAt: &at}), "withdrawn")
	require.Contains(t, closedLink(records.Handover{ExpiresAt: at}), "ended on 25 November 2026")
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

func TestSecretsAreLongAndKeptAsHashes(t *testing.T) {
	a, hash := NewSecret()
	b, _ := NewSecret()
	require.NotEqual(t, a, b)
	require.Greater(t, len(a), 40)
	require.Equal(t, hash, HashSecret(a))
	require.NotContains(t, string(hash), a)
	first, err := HashPassword("correct horse")
	require.NoError(t, err)
	second, err := HashPassword("correct horse")
	require.NoError(t, err)
	require.NotEqual(t, first, second, "salted")
	require.Regexp(t, `^\$argon2id\$`, first)
}
