package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/buffers"
)

func TestRowsThatAnotherArchiveHasPackedAreTakenFromIt(t *testing.T) {
	known, unknown := strings.Repeat("do re mi ", 100), strings.Repeat("fa sol la ", 100)
	var old bytes.Buffer
	w := zip.NewWriter(&old)
	e, err := w.Create(RowsDir + "another-name.sql")
	require.NoError(t, err)
	_, err = io.WriteString(e, known)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	from, err := zip.NewReader(bytes.NewReader(old.Bytes()), int64(old.Len()))
	require.NoError(t, err)
	reuse := &Reuse{a: &Archive{zip: from}, rows: map[[sha256.Size]byte]*zip.File{sha256.Sum256([]byte(known)): from.File[0]}}

	sheet, at := &sheet{}, time.Unix(1700000000, 0)
	out := NewWriter(context.Background(), sheet)
	reserved, err := out.Reserve("first", at, make([]byte, 100))
	require.NoError(t, err)
	var copied int64
	for name, text := range map[string]string{"known": known, "unknown": unknown} {
		raw := append(buffers.Take(1000)[:0], text...)
		require.NoError(t, out.Database.Piece(Header(name, 0o644, at), raw, reuse, func(n int64) { copied += n }))
	}
	require.NoError(t, errors.Join(out.Files.Close(), out.Database.Close()))
	_, err = out.Finish(reserved, at, func() ([]byte, error) { return []byte("body"), nil })
	require.NoError(t, err)
	require.Equal(t, int64(len(known)), copied)
	z, err := zip.NewReader(bytes.NewReader(sheet.b), int64(len(sheet.b)))
	require.NoError(t, err)
	for name, want := range map[string]string{"known": known, "unknown": unknown} {
		f, err := z.Open(name)
		require.NoError(t, err)
		text, err := io.ReadAll(f)
		require.NoError(t, err, "the CRC is that of the content")
		require.Equal(t, want, string(text))
	}
}
