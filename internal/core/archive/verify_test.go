package archive_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build/buildtest"
	"nestseed/internal/core/progress"
)

func TestVerifyNamesWhatIsDamaged(t *testing.T) {
	dir, in := buildtest.Site(t)
	file := filepath.Join(dir, "r.zip")
	buildtest.Build(t, in, file)
	v, err := buildtest.Open(t, file).Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)

	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	at := bytes.Index(raw, []byte("files/wp-content/uploads/big.jpg")) + 1<<20
	raw[at] ^= 1
	require.NoError(t, os.WriteFile(file, raw, 0o644))
	v, err = buildtest.Open(t, file).Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Len(t, v.Faults, 1)
	require.Equal(t, "files/wp-content/uploads/big.jpg", v.Faults[0].Entry)
	require.Contains(t, v.Usable, "the database is whole")
}

func TestVerifyNamesDefinitionsAndManifestsThatDoNotFit(t *testing.T) {
	dir, in := buildtest.Site(t)
	buildtest.Build(t, buildtest.WithRows(t, in, buildtest.RowsBefore), filepath.Join(dir, "1.zip"))
	a := buildtest.Open(t, filepath.Join(dir, "1.zip"))
	a.Manifest.Totals.Files++
	a.Manifest.Settings = "gone.php"
	a.Manifest.Tables = append(a.Manifest.Tables, archive.TableTotal{Name: "lad_ghost"})
	v, err := a.Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	text := fmt.Sprint(v.Faults)
	require.Contains(t, text, "does not make table lad_ghost")
	require.Contains(t, text, "gone.php, which is not there")
	require.Contains(t, text, "files of")
}

func FuzzOpen(f *testing.F) {
	dir, in := buildtest.Site(f)
	in.List.LeaveOut.Paths = append(in.List.LeaveOut.Paths, "wp-content/uploads/big.*")
	buildtest.Build(f, in, filepath.Join(dir, "r.zip"))
	raw, err := os.ReadFile(filepath.Join(dir, "r.zip"))
	require.NoError(f, err)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, b []byte) {
		a, err := archive.Open(bytes.NewReader(b), int64(len(b)))
		if err == nil {
			_, _ = a.Verify(context.Background(), progress.Discard)
		}
	})
}
