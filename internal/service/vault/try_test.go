package vault

import (
	"errors"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

func TestASecretThatWasTriedInVainIsNotKept(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	v, err := Open(db, "", filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	wrong := errors.New("wrong password")
	try := func(secret string, outcome error) string {
		tried := ""
		require.ErrorIs(t, v.Try(ctx, "host", "house", "database", secret, func(now string) error { tried = now; return outcome }), outcome)
		return tried
	}
	require.Equal(t, "first", try("first", wrong))
	_, err = v.Get(ctx, "host", "house", "database")
	require.ErrorIs(t, err, records.ErrNotFound)
	require.Equal(t, "first", try("first", nil))
	require.Equal(t, "second", try("second", wrong))
	require.Equal(t, "first", try("", nil), "the one that is there is tried when none is given")
}
