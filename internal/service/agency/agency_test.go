package agency

import (
	"bytes"
	"encoding/base64"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

func TestWhatClientsSeeOfTheAgencyIsKept(t *testing.T) {
	db := recordstest.Open(t)
	svc := &Agency{db}
	none, err := db.Agency(t.Context())
	require.NoError(t, err)
	require.Empty(t, none.Name)
	logo, err := base64.StdEncoding.DecodeString("iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==")
	require.NoError(t, err)
	want := records.Agency{Name: "Loom & Ladder", Contact: "studio@loom-ladder.example", Colour: "#1c6b4f", Logo: logo}
	require.NoError(t, svc.Set(t.Context(), "ines", want))
	got, err := db.Agency(t.Context())
	require.NoError(t, err)
	require.Equal(t, want, got)

	require.NoError(t, svc.Set(t.Context(), "ines", records.Agency{Name: "Loom"}))
	got, err = db.Agency(t.Context())
	require.NoError(t, err)
	require.Equal(t, logo, got.Logo, "a logo that is not given stays")
	require.NoError(t, svc.Set(t.Context(), "ines", records.Agency{Name: "Loom", Logo: []byte{}}))
	got, err = db.Agency(t.Context())
	require.NoError(t, err)
	require.Empty(t, got.Logo, "an empty one is none any more")

	for _, wrong := range []records.Agency{{Colour: "green"}, {Colour: "#12345"}, {Logo: []byte("<svg onload=alert(1)>")}, {Logo: bytes.Repeat(logo, 9000)}} {
		require.ErrorIs(t, svc.Set(t.Context(), "ines", wrong), input.ErrWrong)
	}
}
