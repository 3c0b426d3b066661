package vault_test

import (
	"context"
	"encoding/base64"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
	"nestseed/internal/service/vault"
)

func TestSecretsAreSealedAndTiedToTheirRecord(t *testing.T) {
	ctx := context.Background()
	db := recordstest.Open(t)
	file := filepath.Join(t.TempDir(), "vault-key")
	v, err := vault.Open(db, "", file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	require.NoError(t, v.Put(ctx, "site", "alder-valley", "administrator", "pineapple"))
	s, err := db.Secret(ctx, "site", "alder-valley", "administrator")
	require.NoError(t, err)
	require.NotContains(t, string(s.Sealed), "pineapple")
	got, err := v.Get(ctx, "site", "alder-valley", "administrator")
	require.NoError(t, err)
	require.Equal(t, "pineapple", got)
	_, err = v.Get(ctx, "site", "alder-valley", "other")
	require.ErrorIs(t, err, records.ErrNotFound)

	require.NoError(t, db.PutSecret(ctx, "site", "brook-lane", "administrator", s.Sealed))
	_, err = v.Get(ctx, "site", "brook-lane", "administrator")
	require.ErrorIs(t, err, vault.ErrKey, "a sealed value that was moved to another record does not open")

	log, err := db.AuditLog(ctx, 10)
	require.NoError(t, err)
	require.Empty(t, log, "the service's own use is not a reveal")
	_, err = v.Reveal(ctx, "ines", "site", "alder-valley", "administrator")
	require.NoError(t, err)
	log, err = db.AuditLog(ctx, 10)
	require.NoError(t, err)
	require.Equal(t, "revealed administrator of site alder-valley", log[0].What)

	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	again, err := vault.Open(db, base64.StdEncoding.EncodeToString(raw), "/nowhere")
	require.NoError(t, err)
	got, err = again.Get(ctx, "site", "alder-valley", "administrator")
	require.NoError(t, err)
	require.Equal(t, "pineapple", got)

	other, err := vault.Open(db, "", filepath.Join(t.TempDir(), "vault-key"))
	require.NoError(t, err)
	_, err = other.Get(ctx, "site", "alder-valley", "administrator")
	require.ErrorIs(t, err, vault.ErrKey)
	_, err = vault.Open(db, "not base64!", "")
	require.ErrorContains(t, err, "NESTSEED_VAULT_KEY")

	sealed, err := v.Seal("one purpose", "text")
	require.NoError(t, err)
	_, err = v.Unseal("another purpose", sealed)
	require.ErrorIs(t, err, vault.ErrForgotten)
	text, err := v.Unseal("one purpose", sealed)
	require.NoError(t, err)
	require.Equal(t, "text", text)
}

func TestANewKeyOpensEverythingAndTheOldOneNothing(t *testing.T) {
	ctx := context.Background()
	db := recordstest.Open(t)
	file := filepath.Join(t.TempDir(), "vault-key")
	v, err := vault.Open(db, "", file)
	require.NoError(t, err)
	require.NoError(t, v.Put(ctx, "site", "alder-valley", "administrator", "pineapple"))
	note, err := v.Seal("a purpose", "values")
	require.NoError(t, err)
	first, err := os.ReadFile(file)
	require.NoError(t, err)

	n, err := v.RotateKey(ctx, true)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	got, err := v.Unseal("a purpose", note)
	require.NoError(t, err)
	require.Equal(t, "values", got, "what waits still opens")
	n, err = v.RotateKey(ctx, false)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	_, err = v.Unseal("a purpose", note)
	require.ErrorIs(t, err, vault.ErrForgotten)
	got, err = v.Get(ctx, "site", "alder-valley", "administrator")
	require.NoError(t, err)
	require.Equal(t, "pineapple", got)

	again, err := vault.Open(db, "", file)
	require.NoError(t, err)
	got, err = again.Get(ctx, "site", "alder-valley", "administrator")
	require.NoError(t, err)
	require.Equal(t, "pineapple", got)
	old, err := vault.Open(db, base64.StdEncoding.EncodeToString(first), "")
	require.NoError(t, err)
	_, err = old.Get(ctx, "site", "alder-valley", "administrator")
	require.ErrorIs(t, err, vault.ErrKey)
	_, err = old.RotateKey(ctx, false)
	require.ErrorIs(t, err, vault.ErrNotHere)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	left, err := filepath.Glob(file + "*")
	require.NoError(t, err)
	require.Len(t, left, 1)
}
