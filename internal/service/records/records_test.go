package records_test

import (
	"context"
	"net"
	"net/url"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/filelist"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/cluster"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

func TestRecordsOfTheWholeJob(t *testing.T) {
	ctx := context.Background()
	db := recordstest.Open(t)
	require.NoError(t, db.Migrate(ctx), "bringing up to date twice is no error")

	host, err := db.AddHost(ctx, records.Host{Name: "preview", Files: "file:///srv/www", WebRoot: "{name}", Address: "http://{name}.example",
		Database: "mysql://a@h/"})
	require.NoError(t, err)
	_, err = db.AddHost(ctx, host)
	require.ErrorIs(t, err, records.ErrTaken)
	src, err := db.AddSource(ctx, records.Source{Name: "base", HostID: host.ID, Path: "base", Kind: "wordpress", Version: "6.1",
		Address: "http://base.example"})
	require.NoError(t, err)
	require.Nil(t, src.Survey)
	require.ErrorIs(t, db.RemoveHost(ctx, "preview"), records.ErrInUse)

	_, err = db.SurveyWithFiles(ctx, src.ID)
	require.ErrorIs(t, err, records.ErrNotFound)
	taken := &survey.Survey{TakenAt: time.Now(), Version: "6.2", Address: "http://base.example",
		Files: []filelist.Entry{{Path: "a", Bytes: 3}}, Totals: survey.Totals{Files: 1}}
	require.NoError(t, db.AddSurvey(ctx, src.ID, taken))
	src, err = db.Source(ctx, "base")
	require.NoError(t, err)
	require.Equal(t, "6.2", src.Version, "a survey brings the version up to date")
	require.Empty(t, src.Survey.Files)
	whole, err := db.SurveyWithFiles(ctx, src.ID)
	require.NoError(t, err)
	require.Equal(t, taken.Files, whole.Files)

	starter, err := db.AddStarter(ctx, "music-base", &src.ID, "wordpress", "list: a")
	require.NoError(t, err)
	require.ErrorIs(t, db.SetList(ctx, "music-base", "list: other", "list: b"), records.ErrChanged)
	require.NoError(t, db.SetList(ctx, "music-base", "list: a", "list: b"))
	for want := 1; want <= 2; want++ {
		n, err := db.NextNumber(ctx, starter.ID)
		require.NoError(t, err)
		require.Equal(t, want, n)
		require.NoError(t, db.AddRelease(ctx, records.Release{StarterID: starter.ID, Starter: "music-base", Number: n, Archive: "x.zip",
			ArchiveBytes: int64(n * 100), Manifest: &archive.Manifest{Number: n}}, []byte{byte(n)}))
	}
	newest, err := db.Release(ctx, "music-base")
	require.NoError(t, err)
	require.Equal(t, "music-base@2", newest.Ref())
	require.Equal(t, int64(100), *newest.BeforeBytes)
	for _, ref := range []string{"music-base@3", "music-base@0", "music-base@x", "nope", "nope@1", "@", ""} {
		_, err = db.Release(ctx, ref)
		require.ErrorIs(t, err, records.ErrNotFound, ref)
	}

	index, err := db.Contents(ctx, newest.ID)
	require.NoError(t, err)
	require.Equal(t, []byte{2}, index)
	name, err := db.Discard(ctx, newest.ID, "by ines")
	require.NoError(t, err)
	require.Equal(t, "x.zip", name)
	name, err = db.Discard(ctx, newest.ID, "by somebody else")
	require.NoError(t, err)
	require.Empty(t, name, "it was gone already")
	newest, err = db.Release(ctx, "music-base@2")
	require.NoError(t, err)
	require.Equal(t, "by ines", newest.DiscardedWhy)
	require.Empty(t, newest.Archive)
	require.NoError(t, db.SetRetention(ctx, "music-base", 3, 4))
	require.Error(t, db.SetRetention(ctx, "music-base", -1, 0))
	starter, err = db.Starter(ctx, "music-base")
	require.NoError(t, err)
	require.Equal(t, []int{3, 4}, []int{starter.KeepLast, starter.KeepWeeks})
	brought, err := db.AddStarter(ctx, "harbour", nil, "wordpress", "list: c")
	require.NoError(t, err)
	require.Nil(t, brought.SourceID)
	require.Equal(t, "wordpress", brought.Kind)

	_, err = db.AddClient(ctx, "alder-valley")
	require.NoError(t, err)
	require.NoError(t, db.SetSettings(ctx, "alder-valley", map[string]records.Setting{"a": {Value: "1"}, "b": {Secret: true}}, nil))
	require.NoError(t, db.SetSettings(ctx, "alder-valley", map[string]records.Setting{"c": {Value: "3"}}, []string{"a"}))
	c, err := db.Client(ctx, "alder-valley")
	require.NoError(t, err)
	require.Equal(t, map[string]records.Setting{"b": {Secret: true}, "c": {Value: "3"}}, c.Settings)

	var runID int64
	require.NoError(t, db.Tx(ctx, func(ctx context.Context) error {
		runID, _, err = db.AddRun(ctx, records.Run{Job: "provision", Title: "x", Target: "t", Who: "ines", Args: []byte("{}")})
		return err
	}))
	site := records.Site{Name: "alder-valley", ClientID: c.ID, HostID: host.ID, ReleaseID: newest.ID, RunID: runID,
		Address: "http://alder-valley.example", Folder: "alder-valley",
		Plan: &provision.Plan{Name: "alder-valley"}, Result: &provision.Result{Admin: "a", AdminPassword: "must not be kept"}}
	require.NoError(t, db.AddSite(ctx, site, nil))
	require.ErrorIs(t, db.AddSite(ctx, site, nil), records.ErrTaken)
	got, err := db.Site(ctx, "http://alder-valley.example")
	require.NoError(t, err)
	require.Equal(t, "music-base@2", got.Release)
	require.Empty(t, got.Result.AdminPassword)
	made, err := db.SiteOfRun(ctx, runID)
	require.NoError(t, err)
	require.True(t, made)
	require.ErrorIs(t, db.RemoveClient(ctx, "alder-valley"), records.ErrInUse)
	counts, err := db.Counts(ctx)
	require.NoError(t, err)
	require.Equal(t, records.SiteCounts{Sources: 1, Starters: 2, Clients: 1, Sites: 1, Working: 1, Hosts: 1}, counts)
}

func TestJournalKeepsItsOrderAndForgetsWhatIsNotOurs(t *testing.T) {
	ctx := context.Background()
	db := recordstest.Open(t)
	var id int64
	require.NoError(t, db.Tx(ctx, func(ctx context.Context) (err error) {
		id, _, err = db.AddRun(ctx, records.Run{Job: "provision", Args: []byte("{}")})
		return err
	}))
	all := []provision.Made{{What: "database", Name: "ns_a", Where: "1/mysql"}, {What: "user", Name: "ns_a", Where: "1/mysql"},
		{What: "folder", Name: ".a", Where: "1/mysql"}}
	journal := db.Journal(id, "1/mysql")
	for _, m := range all {
		m.Where = ""
		require.NoError(t, journal.Making(ctx, m))
	}
	require.NoError(t, journal.NotOurs(ctx, provision.Made{What: "user", Name: "ns_a"}))
	made, err := db.Made(ctx, id)
	require.NoError(t, err)
	require.Equal(t, []provision.Made{all[0], all[2]}, made)
	require.NoError(t, db.ClearMade(ctx, id))
	made, err = db.Made(ctx, id)
	require.NoError(t, err)
	require.Empty(t, made)

	// Where an attempt was overtaken, what it alone can make is looked for twice more, and that attempt clears nothing.
	require.NoError(t, db.AddMade(ctx, id, all[0]))
	require.NoError(t, db.AddMade(ctx, id, all[2]))
	_, err = db.Pool.Exec(ctx, "UPDATE runs SET attempt = 2 WHERE id = $1", id)
	require.NoError(t, err)
	first := records.WithAttempt(ctx, id, 1)
	require.ErrorIs(t, db.ClearMade(first, id), records.ErrOvertaken)
	require.ErrorIs(t, journal.NotOurs(first, all[0]), records.ErrOvertaken)
	require.NoError(t, db.ClearMade(records.WithAttempt(ctx, id, 2), id))
	made, err = db.Made(ctx, id)
	require.NoError(t, err)
	require.Empty(t, made)
	for range 2 {
		late, err := db.LateMade(ctx)
		require.NoError(t, err)
		require.Empty(t, late, "it is not time yet")
		_, err = db.Pool.Exec(ctx, "UPDATE run_journal SET over_at = over_at - interval '59 minutes'")
		require.NoError(t, err)
		late, err = db.LateMade(ctx)
		require.NoError(t, err)
		if len(late) == 0 { // the second time it is an hour
			_, err = db.Pool.Exec(ctx, "UPDATE run_journal SET over_at = over_at - interval '1 hour'")
			require.NoError(t, err)
			late, err = db.LateMade(ctx)
			require.NoError(t, err)
		}
		require.Len(t, late, 1)
		require.Equal(t, all[0], late[0].Made)
		require.NoError(t, db.LookedFor(ctx, late[0].ID))
		_, err = db.Pool.Exec(ctx, "UPDATE run_journal SET over_at = now()")
		require.NoError(t, err)
	}
	late, err := db.LateMade(ctx)
	require.NoError(t, err)
	require.Empty(t, late)
}

func TestAClusterThatWasLeftRunningIsJoined(t *testing.T) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "nestseed-records-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	first, err := cluster.Start(ctx, dir)
	require.NoError(t, err)
	second, err := cluster.Start(ctx, dir)
	require.NoError(t, err)
	require.Equal(t, first.Address(), second.Address())
	require.NoError(t, second.Stop())
	third, err := cluster.Start(ctx, dir)
	require.NoError(t, err)
	require.Equal(t, first.Address(), third.Address(), "where it was")
	require.NoError(t, third.Stop())
	u, err := url.Parse(first.Address())
	require.NoError(t, err)
	taken, err := net.Listen("tcp", u.Host)
	require.NoError(t, err)
	defer taken.Close()
	fourth, err := cluster.Start(ctx, dir)
	require.NoError(t, err)
	require.NotEqual(t, first.Address(), fourth.Address(), "another has the port")
	require.NoError(t, fourth.Stop())
	info, err := os.Stat(dir + "/postgres-password")
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}
