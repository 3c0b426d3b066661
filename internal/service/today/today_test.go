package today_test

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
	"nestseed/internal/service/today"
)

func TestTodayHasWhatNeedsAttentionAndNothingElse(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	empty, err := today.Gather(ctx, db, today.Disk{})
	require.NoError(t, err)
	require.Empty(t, empty.Groups)

	host, err := db.AddHost(ctx, records.Host{Name: "preview", Files: "file:///srv/www", WebRoot: "{name}", Address: "http://{name}.example"})
	require.NoError(t, err)
	src, err := db.AddSource(ctx, records.Source{Name: "base", HostID: host.ID, Path: "base", Kind: "wordpress", Address: "http://base.example"})
	require.NoError(t, err)
	sentences := func() (out []string) {
		p, err := today.Gather(ctx, db, today.Disk{})
		require.NoError(t, err)
		for _, g := range p.Groups {
			for _, i := range g.Items {
				out = append(out, g.Name+": "+i.Severity+" "+i.Sentence+" "+i.Act)
			}
		}
		return out
	}
	require.Equal(t, []string{"base: note it was never surveyed survey"}, sentences())

	logs := &packing.Edit{LeaveOut: []string{"**/*.log"}}
	require.NoError(t, db.AddSurvey(ctx, src.ID, &survey.Survey{TakenAt: time.Now(), Findings: []survey.Finding{
		{Severity: "warning", What: "logs", Where: "debug.log", Remedy: logs}, {Severity: "note", What: "cache", Where: "cache"},
		{Severity: "fault", What: "secret outside the settings file", Where: "old.php"}}}))
	require.Equal(t, []string{"base: warning logs: debug.log open", "base: fault secret outside the settings file: old.php open"}, sentences())
	starter, err := db.AddStarter(ctx, "music-base", &src.ID, "wordpress", "list: a\nleave-out:\n  paths: [\"**/*.log\"]\n")
	require.NoError(t, err)
	require.Equal(t, []string{"base: fault secret outside the settings file: old.php open"}, sentences(), "the packing list deals with the logs")
	require.NoError(t, db.Accept(ctx, records.Acceptance{SourceID: &src.ID, What: "secret outside the settings file: old.php",
		Mark: "fault", Reason: "it is of a test account", Who: "ines"}))
	require.Empty(t, sentences())

	require.NoError(t, db.AddRelease(ctx, records.Release{StarterID: starter.ID, Starter: "music-base", Number: 1, Archive: "1.zip",
		Manifest: &archive.Manifest{Number: 1, Source: "base"}}, nil))
	r, err := db.Release(ctx, "music-base@1")
	require.NoError(t, err)
	c, err := db.AddClient(ctx, "alder-valley")
	require.NoError(t, err)
	run := func(job, status string) (id int64) {
		require.NoError(t, db.Tx(ctx, func(ctx context.Context) (err error) {
			id, _, err = db.AddRun(ctx, records.Run{Job: job, Title: job + " x", Target: "source/base", Who: "ines", Args: json.RawMessage("{}")})
			return err
		}))
		_, err := db.Pool.Exec(ctx, "UPDATE runs SET status = $2, error = CASE WHEN $2 = 'failed' THEN 'no page' ELSE '' END, ended_at = now() WHERE id = $1",
			id, status)
		require.NoError(t, err)
		return id
	}
	require.NoError(t, db.AddSite(ctx, records.Site{Name: "alder-valley", ClientID: c.ID, HostID: host.ID, ReleaseID: r.ID, RunID: run("provision", "done"),
		Address: "http://alder-valley.example", Folder: "alder-valley", Plan: &provision.Plan{}, Result: &provision.Result{}},
		[]records.LaunchTask{{Key: "form", Title: "Send a message", Page: "contact/"}}))
	require.Equal(t, []string{"alder-valley: warning it was never checked check"}, sentences())
	require.NoError(t, db.SetReport(ctx, "alder-valley", &check.Report{Checks: []check.Check{{Name: "pages", Result: check.Fail, Sentence: "2 are broken"},
		{Name: "values", Result: check.Warn, Sentence: "1 is broken"}}}))
	require.Equal(t, []string{"alder-valley: fault pages: 2 are broken open", "alder-valley: warning values: 1 is broken open"}, sentences())
	require.NoError(t, db.SetReport(ctx, "alder-valley", &check.Report{Checks: []check.Check{{Name: "pages", Result: check.Pass}}}))
	p, err := today.Gather(ctx, db, today.Disk{})
	require.NoError(t, err)
	require.Empty(t, p.Groups)
	require.Equal(t, 1, p.AllTasks)
	require.Equal(t, "contact/", p.Tasks[0].Page)

	soon := time.Now().Add(10 * 24 * time.Hour).UTC().Truncate(time.Second)
	require.NoError(t, db.SetReport(ctx, "alder-valley", &check.Report{CertificateEnds: &soon, Checks: []check.Check{{Name: "pages", Result: check.Pass}}}))
	_, err = db.Pool.Exec(ctx, "UPDATE sites SET visible = true, made_at = now() - interval '40 days'")
	require.NoError(t, err)
	p, err = today.Gather(ctx, db, today.Disk{})
	require.NoError(t, err)
	require.Empty(t, p.Groups)
	require.Len(t, p.Ending, 1)
	require.Equal(t, soon, p.Ending[0].Ends.UTC())
	require.Equal(t, 1, p.Uncopied, "of a public site that is 40 days old")

	room := func(free int64, trouble string) {
		r := records.Room{At: time.Now(), Trouble: trouble}
		if trouble == "" {
			r.FreeBytes = &free
		}
		require.NoError(t, db.SetRoom(ctx, host.ID, r))
	}
	room(50<<30, "")
	require.Empty(t, sentences())
	_, err = db.Pool.Exec(ctx, "UPDATE sites SET plan = '{\"bytes\": 2000000000}'")
	require.NoError(t, err)
	room(3e9, "")
	require.Equal(t, []string{"preview: warning 3.0 GB free: its largest site takes 2.0 GB open"}, sentences())
	room(1e9, "")
	require.Equal(t, []string{"preview: fault 1.0 GB free: another site like its largest (2.0 GB) does not fit open"}, sentences())
	room(0, "nobody answers")
	require.Equal(t, []string{"preview: fault it could not be reached: nobody answers open"}, sentences())
	room(50<<30, "")
	for free, severity := range map[int64]string{1 << 30: "warning", 1 << 20: "fault"} {
		p, err := today.Gather(ctx, db, today.Disk{FreeBytes: func() (int64, error) { return free, nil }})
		require.NoError(t, err)
		require.Equal(t, severity, p.Groups[0].Severity())
		require.Equal(t, "service", p.Groups[0].Noun)
	}

	run("build", "done")
	run("survey", "failed")
	require.Len(t, sentences(), 1)
	require.Contains(t, sentences()[0], "fault it failed: no page retry")
	run("survey", "done")
	require.Empty(t, sentences(), "it has gone well since")
}
