package sites

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

// standing is records with a release and two sites of it.
func standing(t *testing.T) *records.DB {
	t.Helper()
	ctx, db := context.Background(), recordstest.Open(t)
	host, err := db.AddHost(ctx, records.Host{Name: "preview", Files: "file:///srv/www", WebRoot: "{name}", Address: "http://{name}.example"})
	require.NoError(t, err)
	src, err := db.AddSource(ctx, records.Source{Name: "base", HostID: host.ID, Path: "base", Kind: "wordpress", Address: "http://base.example"})
	require.NoError(t, err)
	starter, err := db.AddStarter(ctx, "music-base", &src.ID, "wordpress", "list: a")
	require.NoError(t, err)
	require.NoError(t, db.AddRelease(ctx, records.Release{StarterID: starter.ID, Starter: "music-base", Number: 1, Archive: "1.zip",
		Manifest: &archive.Manifest{Number: 1, Source: "base"}}, nil))
	r, err := db.Release(ctx, "music-base@1")
	require.NoError(t, err)
	c, err := db.AddClient(ctx, "schools")
	require.NoError(t, err)
	for _, name := range []string{"alder-valley", "brook-lane"} {
		var run int64
		require.NoError(t, db.Tx(ctx, func(ctx context.Context) (err error) {
			run, _, err = db.AddRun(ctx, records.Run{Job: "provision", Title: "x", Target: "site:" + name, Who: "ines", Args: json.RawMessage("{}")})
			return err
		}))
		require.NoError(t, db.AddSite(ctx, records.Site{Name: name, ClientID: c.ID, HostID: host.ID, ReleaseID: r.ID, RunID: run,
			Address: "http://" + name + ".example", Folder: name, Plan: &provision.Plan{}, Result: &provision.Result{}},
			[]records.LaunchTask{{Key: "form", Title: "Send a message"}}))
	}
	return db
}

func TestWhatAChecksWarnsOfIsAcceptedOnASiteOrOnAll(t *testing.T) {
	ctx, db := context.Background(), standing(t)
	svc := &Sites{DB: db}
	require.ErrorIs(t, svc.AcceptCheck(ctx, "alder-valley", "values", "known", "ines", false, nil), input.ErrWrong, "it was never checked")
	for _, name := range []string{"alder-valley", "brook-lane"} {
		require.NoError(t, db.SetReport(ctx, name, &check.Report{TookMillis: 4000, Checks: []check.Check{{Name: "pages", Result: check.Fail},
			{Name: "title", Result: check.Pass}, {Name: "values", Result: check.Warn, Sentence: "1 is broken", Evidence: []string{name}}}}))
	}
	accepted := func(name string) int {
		s, err := db.Site(ctx, name)
		require.NoError(t, err)
		on, err := db.AcceptedOn(ctx, s.ID)
		require.NoError(t, err)
		n := 0
		for i := range s.Report.Checks {
			if records.CoveredBy(on, &s.Report.Checks[i]) != nil {
				n++
			}
		}
		return n
	}
	for _, what := range []string{"title", "nothing"} {
		require.ErrorIs(t, svc.AcceptCheck(ctx, "alder-valley", what, "known", "ines", false, nil), input.ErrWrong, what)
	}
	require.ErrorIs(t, svc.AcceptCheck(ctx, "nobody", "values", "known", "ines", false, nil), records.ErrNotFound)
	require.ErrorIs(t, svc.UnacceptCheck(ctx, "alder-valley", "values"), input.ErrWrong)

	require.NoError(t, svc.AcceptCheck(ctx, "alder-valley", "values", "as in the source", "ines", false, nil))
	require.Equal(t, []int{1, 0}, []int{accepted("alder-valley"), accepted("brook-lane")})
	require.NoError(t, svc.UnacceptCheck(ctx, "alder-valley", "values"))
	require.NoError(t, svc.AcceptCheck(ctx, "alder-valley", "values", "as in the source", "ines", true, nil))
	require.Equal(t, []int{1, 1}, []int{accepted("alder-valley"), accepted("brook-lane")}, "the evidence of each is another, the sentence is the same")
	require.NoError(t, svc.UnacceptCheck(ctx, "brook-lane", "values"))
	require.Equal(t, []int{0, 0}, []int{accepted("alder-valley"), accepted("brook-lane")})
}

func TestHowLongChecksTakeIsLearnedFromTheNewestSites(t *testing.T) {
	ctx, db := context.Background(), standing(t)
	svc := &Sites{DB: db}
	r, err := db.Release(ctx, "music-base@1")
	require.NoError(t, err)
	took, err := svc.ChecksMillis(ctx, r.ID)
	require.NoError(t, err)
	require.EqualValues(t, checksMillis, took, "nothing to learn from yet")
	for i, name := range []string{"alder-valley", "brook-lane"} {
		require.NoError(t, db.SetReport(ctx, name, &check.Report{TookMillis: int64(3000 + i)}))
	}
	took, err = svc.ChecksMillis(ctx, r.ID)
	require.NoError(t, err)
	require.EqualValues(t, 3000, took)
	plan := &provision.Plan{ExpectedMillis: 1000}
	require.InDelta(t, 0.25, makingShare(plan, took), 0.001, "a bar stands at a quarter when the checks begin that take three")

	// Each took ten seconds, with its checks; a host that is farther away, or a tenant, tells nothing of that.
	site, err := db.Site(ctx, "alder-valley")
	require.NoError(t, err)
	o := &Opened{Site: records.Site{ReleaseID: r.ID, HostID: site.HostID}}
	_, err = svc.Expect(ctx, o, plan)
	require.NoError(t, err)
	require.EqualValues(t, 1000, plan.ExpectedMillis, "none has ended")
	_, err = db.Pool.Exec(ctx, "UPDATE runs SET status = 'done', attempt = 1, started_at = now() - interval '10 s', ended_at = now()")
	require.NoError(t, err)
	checks, err := svc.Expect(ctx, o, plan)
	require.NoError(t, err)
	require.EqualValues(t, []int64{7000, 3000}, []int64{(plan.ExpectedMillis + 5) / 10 * 10, checks})
	tenant := records.Site{ReleaseID: r.ID, HostID: site.HostID}
	tenant.CodeID = &site.ID
	for _, other := range []records.Site{{ReleaseID: r.ID, HostID: site.HostID + 1}, tenant} {
		plan.ExpectedMillis = 1000
		_, err = svc.Expect(ctx, &Opened{Site: other}, plan)
		require.NoError(t, err)
		require.EqualValues(t, 1000, plan.ExpectedMillis)
	}
}

func TestALaunchTaskHasADayThatCanBeTakenAway(t *testing.T) {
	ctx, db := context.Background(), standing(t)
	svc := &Sites{DB: db}
	day := func() *records.OpenTask {
		tasks, total, err := db.OpenTasks(ctx, 10)
		require.NoError(t, err)
		require.Equal(t, 2, total)
		return &tasks[0]
	}
	require.Nil(t, day().Due)
	due, err := time.Parse(time.DateOnly, "2026-12-01")
	require.NoError(t, err)
	require.NoError(t, svc.SetTaskDue(ctx, "brook-lane", "form", due))
	require.Equal(t, "brook-lane", day().Site, "what is due comes first")
	require.NoError(t, svc.SetTaskDue(ctx, "brook-lane", "form", time.Time{}))
	require.Nil(t, day().Due)
	require.ErrorIs(t, svc.SetTaskDue(ctx, "brook-lane", "nothing", due), records.ErrNotFound)
	require.ErrorIs(t, svc.SetTaskDue(ctx, "nobody", "form", due), records.ErrNotFound)
}
