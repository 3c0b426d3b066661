package clients

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
	"nestseed/internal/service/vault"
)

func TestSettingsAreKeptAndSecretsGoIntoTheVault(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	v, err := vault.Open(db, "", filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	e, err := engine.New(db, slog.New(slog.DiscardHandler), engine.Options{Alone: true})
	require.NoError(t, err)
	require.NoError(t, e.Begin(ctx))
	t.Cleanup(func() { require.NoError(t, e.End(context.Background())) })
	svc := &Clients{DB: db, Vault: v, Engine: e}
	require.NoError(t, svc.Add(ctx, "alder-valley", map[string]string{"title": "Alder Valley", "booking_licence": "LB-1"}))
	require.ErrorIs(t, svc.Add(ctx, "alder-valley", nil), records.ErrTaken)
	require.NoError(t, svc.Set(ctx, "alder-valley", map[string]string{"phone": "01632 960210", "title": ""}, []string{"phone"}))
	c, err := db.Client(ctx, "alder-valley")
	require.NoError(t, err)
	require.Equal(t, map[string]records.Setting{"booking_licence": {Secret: true}, "phone": {Secret: true}}, c.Settings)
	secret, err := v.Get(ctx, "client", "alder-valley", "booking_licence")
	require.NoError(t, err)
	require.Equal(t, "LB-1", secret)

	require.ErrorIs(t, svc.Set(ctx, "alder-valley", map[string]string{"email": "a@b.example", "Not A Name": "x"}, nil), ErrKey)
	c, err = db.Client(ctx, "alder-valley")
	require.NoError(t, err)
	require.NotContains(t, c.Settings, "email", "nothing is changed when one is wrong")
	require.ErrorIs(t, svc.Add(ctx, "brook-lane", map[string]string{"Not A Name": "x"}), ErrKey)
	_, err = db.Client(ctx, "brook-lane")
	require.ErrorIs(t, err, records.ErrNotFound, "and no client without its settings is left")

	require.NoError(t, svc.Remove(ctx, "alder-valley"))
	_, err = v.Get(ctx, "client", "alder-valley", "booking_licence")
	require.ErrorIs(t, err, records.ErrNotFound)
	require.ErrorIs(t, svc.Remove(ctx, "alder-valley"), records.ErrNotFound)
}
