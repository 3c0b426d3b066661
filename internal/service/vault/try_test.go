package vault

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/records/recordstest"
)

func TestASecretThatIsTriedIsNobodyElses(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	v, err := Open(db, "", filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	require.NoError(t, v.Keep(ctx, "host", "house", map[string]string{"database": "first", "files": ""}))
	trying := Trying(ctx, "host", "house", "database", "second")
	for in, want := range map[string]string{"second": "second", "": "first"} {
		got, err := v.Get(Trying(ctx, "host", "house", "database", in), "host", "house", "database")
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	got, err := v.Get(ctx, "host", "house", "database")
	require.NoError(t, err)
	require.Equal(t, "first", got, "whoever works with the host goes on")
	_, err = v.Get(trying, "host", "house", "files")
	require.Error(t, err, "there is none")
	require.NoError(t, v.Keep(trying, "host", "house", map[string]string{"database": "second"}))
	got, err = v.Get(ctx, "host", "house", "database")
	require.NoError(t, err)
	require.Equal(t, "second", got)
}
