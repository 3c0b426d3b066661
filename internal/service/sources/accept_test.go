package sources

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/survey"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

func TestAFindingIsAcceptedAndNoMore(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	host, err := db.AddHost(ctx, records.Host{Name: "preview", Files: "file:///srv/www", WebRoot: "{name}", Address: "http://{name}.example"})
	require.NoError(t, err)
	src, err := db.AddSource(ctx, records.Source{Name: "base", HostID: host.ID, Path: "base", Kind: "wordpress", Address: "http://base.example"})
	require.NoError(t, err)
	svc := &Sources{DB: db}
	require.ErrorIs(t, svc.AcceptFinding(ctx, "base", "logs", "debug.log", "small", "ines"), input.ErrWrong, "it was never surveyed")
	require.NoError(t, db.AddSurvey(ctx, src.ID, &survey.Survey{TakenAt: time.Now(), Findings: []survey.Finding{
		{Severity: "warning", What: "logs", Where: "debug.log"}, {Severity: "warning", What: "logs", Where: "other.log"}}}))
	require.ErrorIs(t, svc.AcceptFinding(ctx, "base", "logs", "elsewhere", "small", "ines"), input.ErrWrong)
	require.ErrorIs(t, svc.AcceptFinding(ctx, "nobody", "logs", "debug.log", "small", "ines"), records.ErrNotFound)
	for _, reason := range []string{"small", "it is wanted there"} { // the newest word counts
		require.NoError(t, svc.AcceptFinding(ctx, "base", "logs", "debug.log", reason, "ines"))
	}
	accepted, err := db.AcceptedOf(ctx, src.ID)
	require.NoError(t, err)
	require.Len(t, accepted, 1)
	require.Equal(t, []string{"logs: debug.log", "it is wanted there", "warning", "ines"},
		[]string{accepted[0].What, accepted[0].Reason, accepted[0].Mark, accepted[0].Who})
	require.ErrorIs(t, svc.UnacceptFinding(ctx, "base", "logs", "other.log"), input.ErrWrong)
	require.NoError(t, svc.UnacceptFinding(ctx, "base", "logs", "debug.log"))
	accepted, err = db.AcceptedOf(ctx, src.ID)
	require.NoError(t, err)
	require.Empty(t, accepted)
}
