package provision

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/sitepage"
)

// A host is asked by a page that is there only as long as the question takes.
func TestAHostTellsWhatItRunsAndNothingStaysThere(t *testing.T) {
	k := kindtest.Named(t, "wordpress")
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "school"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "school", "index.html"), nil, 0o644))
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	defer fsys.Close()
	const text = "the page's own text"
	for _, c := range []struct {
		what, folder string
		status       int
		body         string // KEY is what the page was to say
		err          error
		says         string
	}{
		{"told", "new/public", 200, "KEY\n8.2.7-1ubuntu2.19\naccount=www-data\nreads=no\nwrites=group\napart=no\nCore\nmysqli\nZend-OPcache\n\x1b[31m\n", nil, ""},
		{"no version", "new", 200, "KEY\n\x1b[31m\n", nil, "something else"},
		{"told from a folder that was there", "school", 200, "KEY\n8.2.7\n", nil, ""},
		{"shown as text", "new", 200, text, nil, "shown as text"},
		{"not found", "new", 404, "no such site", nil, "404 Not Found"},
		{"another site", "new", 200, "<h1>It works</h1>", nil, "something else"},
		{"no web server", "new", 0, "", errors.New("connection refused"), "connection refused"},
	} {
		folder, err := fsys.MakeSub(t.Context(), c.folder)
		require.NoError(t, err)
		spot := sitepage.Spot{Folder: folder, Journal: sitepage.Unrecorded{}}
		r, err := AskRuntime(t.Context(), k, AskedAs{spot, spot, "."}, func(_ context.Context, other bool, page string) (int, []byte, error) {
			if other {
				return 200, nil, nil
			}
			put, err := os.ReadFile(filepath.Join(dir, c.folder, page))
			require.NoError(t, err)
			require.NotContains(t, string(put), "{key}")
			require.NotContains(t, string(put), "{until}")
			require.NotContains(t, string(put), "{probe}")
			require.NotContains(t, string(put), "{other}")
			others, err := filepath.Glob(filepath.Join(dir, c.folder, sitepage.Prefix+"*.php"))
			require.NoError(t, err)
			require.Len(t, others, 1)
			require.Contains(t, string(put), "/../"+filepath.Base(others[0]))
			require.FileExists(t, filepath.Join(dir, c.folder, filepath.Dir(page), "settings.probe"))
			_, key, _ := strings.Cut(string(put), `echo "`)
			key, _, _ = strings.Cut(key, `\n`)
			require.Len(t, key, 26)
			if c.body == text {
				return c.status, put, c.err
			}
			return c.status, []byte(strings.ReplaceAll(c.body, "KEY", key)), c.err
		})
		if c.says == "" {
			require.NoError(t, err, c.what)
			require.Equal(t, "PHP 8.2.7", r.Name+" "+r.Version, "what the packager adds is no part of it")
			require.NotContains(t, strings.Join(r.Parts, ""), "\x1b")
			require.Equal(t, strings.Contains(c.body, "reads=no"), strings.Contains(r.Refuses(), "runs as the account www-data there"))
			require.Equal(t, strings.Contains(c.body, "writes=group"), r.Writes == WritesGroup)
			require.Equal(t, strings.Contains(c.body, "apart=no"), strings.Contains(r.TellsApart(), "can read the settings of another"))
			require.WithinDuration(t, time.Now(), r.AskedAt, time.Minute)
		} else {
			require.ErrorIs(t, err, ErrNotTold, c.what)
			require.ErrorContains(t, err, c.says)
		}
		left, err := folder.List(t.Context(), ".")
		require.NoError(t, err)
		require.False(t, slices.ContainsFunc(left, func(e hostfs.Entry) bool { return sitepage.Is(e.Path) }), c.what)
		require.NoError(t, folder.Close())
	}
}

func TestAPlanSaysWhetherTheHostRunsWhatTheReleaseNeeds(t *testing.T) {
	for _, c := range []struct {
		runtime  *Runtime
		says     string
		problems []string
	}{
		{nil, "PHP not asked yet", nil},
		{&Runtime{Name: "PHP", Version: "8.2.30", Parts: []string{"json", "mysqli"}}, "PHP 8.2.30", nil},
		{&Runtime{Name: "PHP", Version: "5.6.3", Parts: []string{"json", "mysqli"}}, "PHP 5.6.3",
			[]string{"music-base@1 needs PHP 5.6.20 and the host runs 5.6.3"}},
		{&Runtime{Name: "PHP", Version: "8.2.30", Parts: []string{"json", "mysqli"}, Account: "www-data", Unreadable: true}, "PHP 8.2.30",
			[]string{"?owner=www-data"}},
		{&Runtime{Name: "PHP", Version: "8.2.30", Parts: []string{"json"}}, "PHP 8.2.30",
			[]string{"lacks mysqli, without which WordPress does not run"}},
	} {
		p := &Plan{Release: "music-base@1"}
		p.runtime(Request{Kind: kindtest.Named(t, "wordpress"), Archive: &archive.Archive{Manifest: archive.Manifest{Runtime: "5.6.20"}}, Runtime: c.runtime},
			func(format string, args ...any) { p.Problems = append(p.Problems, fmt.Sprintf(format, args...)) })
		require.Equal(t, c.says, p.Runtime)
		require.Len(t, p.Problems, len(c.problems))
		for i, want := range c.problems {
			require.Contains(t, p.Problems[i], want)
		}
	}
}
