package starters

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

func TestAStarterIsMadeChangedAndRemoved(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	e, err := engine.New(db, slog.New(slog.DiscardHandler), engine.Options{Alone: true})
	require.NoError(t, err)
	require.NoError(t, e.Begin(ctx))
	t.Cleanup(func() { require.NoError(t, e.End(context.Background())) })
	known, err := kinds.New(db, e)
	require.NoError(t, err)
	wordpress, err := known.Named(ctx, "wordpress")
	require.NoError(t, err)
	svc := &Starters{DB: db, Engine: e, Kinds: known}
	host, err := db.AddHost(ctx, records.Host{Name: "house", Files: "/srv", WebRoot: "{name}", Address: "http://{name}.example"})
	require.NoError(t, err)
	for _, name := range []string{"base", "second"} {
		_, err := db.AddSource(ctx, records.Source{Name: name, HostID: host.ID, Path: name, Kind: wordpress.Name, Address: "http://base.example"})
		require.NoError(t, err)
	}
	_, err = db.AddSource(ctx, records.Source{Name: "other", HostID: host.ID, Path: "other", Kind: "another", Address: "http://other.example"})
	require.NoError(t, err)

	_, err = svc.Create(ctx, "music", "base", "no such list", nil, nil)
	require.ErrorIs(t, err, input.ErrWrong)
	require.ErrorContains(t, err, StockList)
	_, err = svc.Create(ctx, "music", "base", "", []packing.Field{{Key: "Not A Key"}}, nil)
	require.ErrorIs(t, err, input.ErrWrong)
	_, err = svc.Create(ctx, "music", "nowhere", "", nil, nil)
	require.ErrorIs(t, err, records.ErrNotFound)
	made, err := svc.Create(ctx, "music", "base", "", nil, nil)
	require.NoError(t, err)
	require.Equal(t, wordpress.Lists[StockList], made.List)
	_, err = svc.Create(ctx, "music", "base", "", nil, nil)
	require.ErrorIs(t, err, records.ErrTaken)

	none, err := svc.Packing(ctx, made)
	require.NoError(t, err)
	require.False(t, none.Surveyed)
	require.NoError(t, db.AddSurvey(ctx, *made.SourceID, &survey.Survey{TakenAt: time.Now(), Files: []filelist.Entry{
		{Path: "index.php", Bytes: 10}, {Path: "big.mov", Bytes: 1000}}}))
	edited, err := svc.EditList(ctx, "music", packing.Edit{LeaveOut: []string{"big.mov"}})
	require.NoError(t, err)
	p, err := svc.Packing(ctx, edited)
	require.NoError(t, err)
	require.True(t, p.Surveyed)
	require.EqualValues(t, 10, p.In.Bytes)
	require.EqualValues(t, 1000, p.Out.Bytes)

	_, err = svc.SetList(ctx, "music", "leave_out: [")
	require.ErrorIs(t, err, input.ErrWrong)
	now, err := db.Starter(ctx, "music")
	require.NoError(t, err)
	require.Equal(t, edited.List, now.List, "a list that cannot be read changes nothing")
	_, err = svc.SetList(ctx, "music", made.List)
	require.NoError(t, err)
	require.ErrorIs(t, db.SetList(ctx, "music", edited.List, "x"), records.ErrChanged, "somebody else was first")

	_, err = svc.SetSource(ctx, "music", "other")
	require.ErrorIs(t, err, input.ErrWrong)
	changed, err := svc.SetSource(ctx, "music", "second")
	require.NoError(t, err)
	require.Equal(t, "second", changed.Source)
	kept, err := svc.SetRetention(ctx, "music", 3, 2)
	require.NoError(t, err)
	require.Equal(t, []int{3, 2}, []int{kept.KeepLast, kept.KeepWeeks})
	require.NoError(t, svc.Remove(ctx, "music"))
	require.ErrorIs(t, svc.Remove(ctx, "music"), records.ErrNotFound)
}
