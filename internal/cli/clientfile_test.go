package cli

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/wire"
)

func TestFilesGoToTheClientBeforeTheirSettings(t *testing.T) {
	dir := t.TempDir()
	logo := filepath.Join(dir, "logo.png")
	require.NoError(t, os.WriteFile(logo, []byte("a picture"), 0o600))
	value := "file:" + strings.Repeat("a", 64) + "/logo.png"
	s := &answers{by: map[string]any{"POST /clients/alder/files": wire.ClientFile{Value: value}, "PATCH /clients/alder/settings": wire.Client{Name: "alder",
		Settings: map[string]wire.Setting{"logo": {Value: value}}}}}
	p := s.typed(t, "", "client", "set", "alder", "phone=1", "--file", "logo="+logo)
	require.Zero(t, p.code, p.err)
	require.Contains(t, p.out, "logo.png")
	require.NotContains(t, p.out, "file:")
	require.Len(t, s.asked, 2)
	require.JSONEq(t, `{"name":"logo.png","content":"YSBwaWN0dXJl"}`, strings.TrimPrefix(s.asked[0], "POST /clients/alder/files "))
	require.JSONEq(t, `{"settings":{"phone":"1","logo":"`+value+`"}}`, strings.TrimPrefix(s.asked[1], "PATCH /clients/alder/settings "))

	for _, c := range []struct{ words, says string }{
		{"client set alder", "nothing is set"}, {"client set alder --file logo", "should be KEY=VALUE"}, {"client set alder --file logo=/nowhere.png", "no such file"},
	} {
		p := s.typed(t, "", strings.Fields(c.words)...)
		require.Equal(t, exitUsage, p.code, c.words)
		require.Contains(t, p.err, c.says)
		require.Empty(t, s.asked)
	}

	// A client that cannot have its files is not added.
	s.by = map[string]any{"POST /clients": wire.Client{Name: "alder"}, "POST /clients/alder/files": problem{http.StatusUnprocessableEntity, "the file is refused"},
		"DELETE /clients/alder": nil}
	p = s.typed(t, "", "client", "add", "alder", "--file", "logo="+logo)
	require.Equal(t, exitUsage, p.code)
	require.Contains(t, p.err, "the file is refused")
	require.Contains(t, s.asked, "DELETE /clients/alder")
}

func TestCellsOfATableThatNameFilesAreFiles(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "schools.csv")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "logo.png"), []byte("a picture"), 0o600))
	require.NoError(t, os.WriteFile(file, []byte("client,title,logo\nalder,logo.png,logo.png\nbrook,Brook,https://brook.example/logo.png\ncedar,Cedar,\n"), 0o600))
	release := wire.Release{Ref: "m@1", Manifest: &wire.Manifest{List: &wire.PackingList{Fields: []wire.Field{{Key: "title"}, {Key: "logo", Type: "image"}}}}}
	given := "file:" + strings.Repeat("b", 64) + "/logo.png"
	begins, events := ended(9, "table", wire.TableResult{Made: 3})
	s := &answers{by: map[string]any{"GET /releases/m": release, "POST /sites/table/plan": wire.TablePlan{Ready: 3}, "POST /clients/alder/files": wire.ClientFile{Value: given},
		"POST /sites/table": begins, "GET /runs/9/events": events}}
	p := s.typed(t, "", "site", "plan", "--from", "m", "--host", "preview", "--table", file)
	require.Zero(t, p.code, p.err)
	require.Len(t, s.asked, 2, "a plan gives nobody a file")
	require.Contains(t, s.asked[1], `"logo":"file:c6`[:13])
	require.Contains(t, s.asked[1], `"title":"logo.png"`, "a text is a text")
	require.Contains(t, s.asked[1], "https://brook.example/logo.png")
	p = s.typed(t, "", "site", "provision", "--from", "m", "--host", "preview", "--table", file)
	require.Zero(t, p.code, p.err)
	require.Contains(t, s.asked[2], given)
}
