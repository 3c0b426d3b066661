package provision

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
)

// cutOff is a folder in which a file is written and never gets its name, as when the process is killed.
type cutOff struct{ hostfs.FS }

var errKilled = errors.New("killed")

func (cutOff) Rename(context.Context, string, string) error { return errKilled }

func TestAPauseThatIsCutOffLeavesNothing(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "site"), 0o755))
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	defer fsys.Close()
	site, err := fsys.Sub(ctx, "site")
	require.NoError(t, err)
	defer site.Close()
	k := &kind.Kind{}
	k.Pause.File, k.Pause.Text = ".maintenance", "<?php"
	journal := &ledger{}
	mk := &maker{req: Request{Kind: k, FS: fsys, Folder: "site"}, plan: &Plan{}, old: cutOff{site}, journal: journal}
	require.ErrorIs(t, mk.pause(ctx), errKilled)
	left, err := os.ReadDir(filepath.Join(dir, "site"))
	require.NoError(t, err)
	require.Len(t, left, 1, "so a kill finds it")
	require.NoError(t, Undo(ctx, fsys, nil, journal.made, ours))
	left, err = os.ReadDir(filepath.Join(dir, "site"))
	require.NoError(t, err)
	require.Empty(t, left)
}
