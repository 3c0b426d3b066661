package records_test

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sidebyside"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

// world is records with a host, a source, a starter, two releases of it, a client and one site.
type world struct {
	*records.DB
	ctx      context.Context
	host     records.Host
	client   records.Client
	releases []records.Release
	site     records.Site
}

func newWorld(t *testing.T) *world {
	t.Helper()
	w := &world{DB: recordstest.Open(t), ctx: context.Background()}
	var err error
	w.host, err = w.AddHost(w.ctx, records.Host{Name: "preview", Files: "file:///srv/www", WebRoot: "{name}",
		Address: "http://{name}.example", Database: "mysql://a@h/"})
	require.NoError(t, err)
	src, err := w.AddSource(w.ctx, records.Source{Name: "base", HostID: w.host.ID, Path: "base", Kind: "wordpress",
		Address: "http://base.example"})
	require.NoError(t, err)
	starter, err := w.AddStarter(w.ctx, "music-base", &src.ID, "wordpress", "list: a")
	require.NoError(t, err)
	for n := 1; n <= 2; n++ {
		require.NoError(t, w.AddRelease(w.ctx, records.Release{StarterID: starter.ID, Starter: "music-base", Number: n,
			Archive: fmt.Sprintf("%d.zip", n), Manifest: &archive.Manifest{Number: n, Source: "base"}}, nil))
		r, err := w.Release(w.ctx, fmt.Sprintf("music-base@%d", n))
		require.NoError(t, err)
		w.releases = append(w.releases, r)
	}
	w.client, err = w.AddClient(w.ctx, "alder-valley")
	require.NoError(t, err)
	w.site = w.made(t, "alder-valley", w.releases[0].ID)
	return w
}

func (w *world) run(t *testing.T) (id int64) {
	t.Helper()
	require.NoError(t, w.Tx(w.ctx, func(ctx context.Context) (err error) {
		id, _, err = w.AddRun(w.ctx, records.Run{Job: "provision", Title: "x", Target: "t", Who: "ines", Args: []byte("{}")})
		return err
	}))
	return id
}

func (w *world) made(t *testing.T, name string, release int64) records.Site {
	t.Helper()
	require.NoError(t, w.AddSite(w.ctx, records.Site{Name: name, ClientID: w.client.ID, HostID: w.host.ID, ReleaseID: release,
		RunID: w.run(t), Address: "http://" + name + ".example", Folder: name,
		Plan: &provision.Plan{Name: name, Database: "ns_" + name, User: "ns_" + name}, Result: &provision.Result{Admin: name + "-admin",
			Quiet: true}}, nil))
	s, err := w.Site(w.ctx, name)
	require.NoError(t, err)
	return s
}

func TestAReplacedSiteIsASafetyCopyUntilItIsPutBack(t *testing.T) {
	w := newWorld(t)
	require.Equal(t, 1, w.site.Behind)
	fresh := w.site
	fresh.ReleaseID, fresh.RunID = w.releases[1].ID, w.run(t)
	fresh.Plan, fresh.Result = &provision.Plan{Name: "alder-valley", Database: "ns_alder_2"}, &provision.Result{Admin: "other"}
	require.NoError(t, w.ReplaceSite(w.ctx, w.site, fresh, ".alder-valley.nestseed-2", 77, nil))
	now, err := w.Site(w.ctx, "alder-valley")
	require.NoError(t, err)
	require.Equal(t, "music-base@2", now.Release)
	require.Zero(t, now.Behind)
	require.Equal(t, "ns_alder_2", now.Plan.Database)
	copies, err := w.SiteCopies(w.ctx, now.ID)
	require.NoError(t, err)
	require.Len(t, copies, 1)
	require.Equal(t, records.CopyReplaced, copies[0].Why)
	require.Equal(t, "ns_alder-valley", copies[0].Plan.Database)
	require.Equal(t, int64(77), copies[0].Bytes)

	require.NoError(t, w.PutBackSite(w.ctx, copies[0]))
	back, err := w.Site(w.ctx, "alder-valley")
	require.NoError(t, err)
	require.Equal(t, w.site.Release, back.Release)
	require.Equal(t, w.site.RunID, back.RunID)
	require.Equal(t, w.site.Plan, back.Plan)
	require.Equal(t, w.site.Result, back.Result)
	_, err = w.SiteCopyByID(w.ctx, copies[0].ID)
	require.ErrorIs(t, err, records.ErrNotFound)
	require.ErrorContains(t, w.PutBackSite(w.ctx, records.SiteCopy{ID: 5, SiteID: now.ID}), "an archive")
	require.ErrorIs(t, w.PutBackSite(w.ctx, func() records.SiteCopy { c := copies[0]; c.SiteID = 9999; return c }()), records.ErrNotFound)
}

func TestARetiredSiteLeavesItsNameToOthers(t *testing.T) {
	w := newWorld(t)
	run := w.run(t)
	require.NoError(t, w.AddSiteCopy(w.ctx, records.SiteCopy{SiteID: w.site.ID, Why: records.CopyRetired, RunID: run, Bytes: 5,
		Archive: "copy.zip", ReleaseID: &w.site.ReleaseID}))
	require.NoError(t, w.SetHeld(w.ctx, w.site.ID, true))
	require.NoError(t, w.RetireSite(w.ctx, w.site.ID))
	_, err := w.Site(w.ctx, "alder-valley")
	require.ErrorIs(t, err, records.ErrNotFound)
	gone, err := w.SiteOrRetired(w.ctx, "alder-valley")
	require.NoError(t, err)
	require.NotNil(t, gone.RetiredAt)
	require.False(t, gone.Held)
	then := *gone.RetiredAt
	require.NoError(t, w.RetireSite(w.ctx, w.site.ID), "twice is no error")
	gone, err = w.SiteByID(w.ctx, w.site.ID)
	require.NoError(t, err)
	require.True(t, then.Equal(*gone.RetiredAt), "and does not change when it was")

	second := w.made(t, "alder-valley", w.releases[1].ID)
	newest, err := w.SiteOrRetired(w.ctx, "alder-valley")
	require.NoError(t, err)
	require.Equal(t, second.ID, newest.ID, "one that stands comes first")
	retired, _, err := w.SiteRows(w.ctx, records.SiteFilter{Retired: true, Limit: 10})
	require.NoError(t, err)
	require.Len(t, retired, 1)
	c, err := w.CopyOfRun(w.ctx, run)
	require.NoError(t, err)
	require.Equal(t, "copy.zip", c.Archive)
}

func TestAHandoverIsOpenedOnceWhoeverComes(t *testing.T) {
	w := newWorld(t)
	week := time.Now().Add(7 * 24 * time.Hour)
	_, err := w.AddHandover(w.ctx, w.site.ID, []byte("first"), "ines", week)
	require.NoError(t, err)
	_, err = w.AddHandover(w.ctx, w.site.ID, []byte("second"), "ines", week)
	require.NoError(t, err)
	h, opened, err := w.OpenHandover(w.ctx, []byte("first"))
	require.NoError(t, err)
	require.False(t, opened, "a newer link withdraws the older")
	require.NotNil(t, h.WithdrawnAt)
	_, _, err = w.OpenHandover(w.ctx, []byte("guess"))
	require.ErrorIs(t, err, records.ErrNotFound)

	var times atomic.Int64
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			if _, opened, err := w.OpenHandover(w.ctx, []byte("second")); err == nil && opened {
				times.Add(1)
			}
		})
	}
	wg.Wait()
	require.Equal(t, int64(1), times.Load(), "of eight who open it at once, one does")
	h, opened, err = w.OpenHandover(w.ctx, []byte("second"))
	require.NoError(t, err)
	require.False(t, opened)
	require.NoError(t, w.NotHandedOver(w.ctx, h.ID))
	_, opened, err = w.OpenHandover(w.ctx, []byte("second"))
	require.NoError(t, err)
	require.True(t, opened, "nothing was learned from it before")

	_, err = w.AddHandover(w.ctx, w.site.ID, []byte("late"), "ines", time.Now().Add(-time.Minute))
	require.NoError(t, err)
	_, opened, err = w.OpenHandover(w.ctx, []byte("late"))
	require.NoError(t, err)
	require.False(t, opened)
	_, err = w.AddHandover(w.ctx, w.site.ID, []byte("third"), "ines", week)
	require.NoError(t, err)
	n, err := w.WithdrawHandovers(w.ctx, w.site.ID)
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	all, err := w.Handovers(w.ctx, w.site.ID)
	require.NoError(t, err)
	require.Len(t, all, 4)
	require.NotNil(t, all[2].OpenedAt)
}

func TestDescentGoesBackThroughSitesThatAreSources(t *testing.T) {
	w := newWorld(t)
	at, err := w.SiteAt(w.ctx, w.host.ID, "/alder-valley/")
	require.NoError(t, err)
	require.Equal(t, w.site.ID, *at)
	none, err := w.SiteAt(w.ctx, w.host.ID, "elsewhere")
	require.NoError(t, err)
	require.Nil(t, none)
	src, err := w.AddSource(w.ctx, records.Source{Name: "second-line", HostID: w.host.ID, Path: "alder-valley", Kind: "wordpress",
		FromSite: at})
	require.NoError(t, err)
	starter, err := w.AddStarter(w.ctx, "second-base", &src.ID, "wordpress", "list: a")
	require.NoError(t, err)
	require.NoError(t, w.AddRelease(w.ctx, records.Release{StarterID: starter.ID, Starter: "second-base", Number: 1, Archive: "s.zip",
		Manifest: &archive.Manifest{Number: 1, Source: "second-line"}}, nil))
	r, err := w.Release(w.ctx, "second-base@1")
	require.NoError(t, err)
	child := w.made(t, "brook-lane", r.ID)
	line, err := w.Descent(w.ctx, child)
	require.NoError(t, err)
	require.Equal(t, []records.Ancestor{{"release", "second-base@1", false}, {"source", "second-line", false},
		{"site", "alder-valley", false}, {"release", "music-base@1", false}, {"source", "base", false}}, line)

	_, err = w.Discard(w.ctx, r.ID, "by ines")
	require.NoError(t, err)
	require.NoError(t, w.RetireSite(w.ctx, w.site.ID))
	line, err = w.Descent(w.ctx, child)
	require.NoError(t, err)
	require.True(t, line[0].Gone, "the archive is not kept")
	require.True(t, line[2].Gone, "the site is off its host")
}

func TestWhatIsNotedOfASiteStays(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.SetReport(w.ctx, "alder-valley", &check.Report{Pages: 3, LoginAt: "http://alder-valley.example/stage-door/"}))
	require.NoError(t, w.SetSiteUser(w.ctx, w.site.ID, "ns_alder_r9"))
	require.NoError(t, w.SetCopyRule(w.ctx, w.site.ID, 3, 30))
	require.NoError(t, w.SetLive(w.ctx, w.site.ID))
	s, err := w.Site(w.ctx, "alder-valley")
	require.NoError(t, err)
	require.Equal(t, 3, s.Report.Pages)
	require.Equal(t, "ns_alder_r9", s.DBUser)
	require.Equal(t, []int{3, 30}, []int{s.KeepLast, s.KeepDays})
	require.True(t, s.Visible)
	require.False(t, s.Quiet)
	require.ErrorIs(t, w.SetCopyRule(w.ctx, 9999, 1, 1), records.ErrNotFound)

	seen, err := w.SideBySideOf(w.ctx, s.ID)
	require.NoError(t, err)
	require.Nil(t, seen)
	want := &records.SideBySide{Source: "base", At: time.Now().UTC().Truncate(time.Second),
		Pages: []sidebyside.Page{{Path: "lessons/", Share: 0.25}}}
	require.NoError(t, w.SetSideBySide(w.ctx, s.ID, want))
	seen, err = w.SideBySideOf(w.ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, want, seen)

	there := s
	there.Address, there.Folder, there.RunID = "http://alder-valley-school.example", "alder-valley-school", w.run(t)
	require.NoError(t, w.MoveSite(w.ctx, s, there, ".alder-valley.nestseed-9"))
	moved, err := w.Site(w.ctx, "http://alder-valley-school.example")
	require.NoError(t, err)
	require.Equal(t, "alder-valley", moved.Name)
	copies, err := w.SiteCopies(w.ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, records.CopyMoved, copies[0].Why)
	require.Equal(t, s.HostID, *copies[0].HostID)
	require.False(t, copies[0].Serves())
	require.NoError(t, w.PutBackSite(w.ctx, copies[0]))
	back, err := w.Site(w.ctx, "alder-valley")
	require.NoError(t, err)
	require.Equal(t, []any{s.Address, s.Folder, s.HostID, s.RunID, s.Plan}, []any{back.Address, back.Folder, back.HostID, back.RunID,
		back.Plan})

	there.Address = s.Address
	require.NoError(t, w.MoveSite(w.ctx, s, there, s.Folder))
	copies, err = w.SiteCopies(w.ctx, s.ID)
	require.NoError(t, err)
	require.True(t, copies[0].Serves(), "its address is the site's still")
	there.ID = 9999
	require.ErrorIs(t, w.MoveSite(w.ctx, s, there, s.Folder), records.ErrNotFound)
}

func TestLaunchTasksAreTickedAndCounted(t *testing.T) {
	w := newWorld(t)
	tasks := []records.LaunchTask{{Key: "booking", Title: "Enter the licence"}, {Key: "form", Title: "Send a message", Page: "contact/"}}
	replaced := func() {
		fresh := w.site
		fresh.RunID = w.run(t)
		require.NoError(t, w.ReplaceSite(w.ctx, w.site, fresh, ".aside", 1, tasks))
	}
	replaced()
	_, open, err := w.OpenTasks(w.ctx, 1)
	require.NoError(t, err)
	require.Equal(t, 2, open)
	require.NoError(t, w.TickTask(w.ctx, w.site.ID, "booking", "ines", true))
	tasks[0].Title = "Enter the licence again"
	replaced() // a newer release may say it otherwise
	got, err := w.LaunchTasks(w.ctx, w.site.ID)
	require.NoError(t, err)
	require.Equal(t, "Enter the licence again", got[0].Title)
	require.NotNil(t, got[0].DoneAt, "what was done stays done")
	require.Equal(t, "ines", got[0].DoneBy)
	require.NoError(t, w.TickTask(w.ctx, w.site.ID, "booking", "ines", false))
	require.ErrorIs(t, w.TickTask(w.ctx, w.site.ID, "nothing", "ines", true), records.ErrNotFound)
	require.NoError(t, w.RetireSite(w.ctx, w.site.ID))
	_, open, err = w.OpenTasks(w.ctx, 1)
	require.NoError(t, err)
	require.Zero(t, open)
}
