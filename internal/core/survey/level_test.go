package survey

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sitedb"
)

func TestALevelSaysWhatAListLeavesOutOfEachFolder(t *testing.T) {
	s := &Survey{Prefix: "lad_", Files: []filelist.Entry{{Path: "a.php", Bytes: 10, Area: "core"}, {Path: "cache/x.html", Bytes: 5, Area: "other"},
		{Path: "uploads/2026/choir.jpg", Bytes: 300, Area: "media"}, {Path: "uploads/2026/choir.mp4", Bytes: 900, Area: "media"},
		{Path: "uploads/index.php", Bytes: 1, Area: "media"}},
		Tables: []sitedb.Table{{Name: "lad_posts", Rows: 9, DataBytes: 90}, {Name: "lad_log", DataBytes: 500}, {Name: "lad_users", DataBytes: 50}}}
	list, err := packing.Parse([]byte("list: a\nleave-out:\n  paths: [\"cache/**\", \"**/*.mp4\"]\n  tables: [log]\nempty: [users]\n"))
	require.NoError(t, err)
	m, err := list.Compile(&kind.Kind{}, "lad_")
	require.NoError(t, err)

	nodes, all := s.Level(m, "", "")
	require.Equal(t, 3, all)
	require.Equal(t, []Node{{Path: "uploads", Name: "uploads", Folder: true, Area: "media", Files: 3, Bytes: 1201, OutFiles: 1, OutBytes: 900, Rule: "**/*.mp4"},
		{Path: "a.php", Name: "a.php", Area: "core", Files: 1, Bytes: 10},
		{Path: "cache", Name: "cache", Folder: true, Area: "other", Files: 1, Bytes: 5, OutFiles: 1, OutBytes: 5, Rule: "cache/**"}}, nodes)
	nodes, _ = s.Level(m, "uploads", "")
	require.Equal(t, []string{"uploads/2026", "uploads/index.php"}, []string{nodes[0].Path, nodes[1].Path})
	for find, want := range map[string]int{"CHOIR": 2, "*.jpg": 1, "uploads/**": 3, "none": 0} {
		nodes, all = s.Level(m, "", find)
		require.Len(t, nodes, want, find)
		require.Equal(t, want, all)
	}
	require.Equal(t, []TableNode{{Name: "log", Bytes: 500, State: "out", Rule: "tables: log"}, {Name: "posts", Rows: 9, Bytes: 90, State: "in"},
		{Name: "users", Bytes: 50, State: "empty"}}, s.TableLevel(m))
}
