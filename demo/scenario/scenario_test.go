package scenario

import (
	"encoding/csv"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A client of the agency brings what its starter asks for, in the form that is asked for.
func TestEverySchoolHasWhatTheFieldsAskFor(t *testing.T) {
	all := Schools(12)
	require.Len(t, all, 12)
	require.Equal(t, all[:3], Schools(3))
	fields := Fields()
	require.NotEmpty(t, fields)
	for _, f := range fields {
		require.NotEmpty(t, f.Label, f.Key)
		require.NotEmpty(t, f.To, "%s goes nowhere", f.Key)
	}
	names := map[string]bool{}
	for _, s := range all {
		require.Regexp(t, `^[a-z0-9][a-z0-9-]*$`, s.Name)
		require.False(t, names[s.Name], "%s is there twice", s.Name)
		names[s.Name] = true
		require.Equal(t, s.Title, s.Settings["title"])
		for _, f := range fields {
			v, has := s.Settings[f.Key]
			require.True(t, has || !f.Required || f.Default != "", "%s lacks %s", s.Name, f.Key)
			if has && f.Pattern != "" {
				require.Regexp(t, "^(?:"+f.Pattern+")$", v, "%s of %s", f.Key, s.Name)
			}
		}
	}
}

func TestATableHasALineForEachSchool(t *testing.T) {
	file := filepath.Join(t.TempDir(), "clients.csv")
	require.NoError(t, WriteTable(file, Schools(5)))
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	lines, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	require.Len(t, lines, 6)
	require.Contains(t, lines[0], "client")
	for i, s := range Schools(5) {
		require.Contains(t, lines[i+1], s.Name)
		for _, v := range s.Settings {
			require.Contains(t, lines[i+1], v)
		}
	}
}

var someAddress = regexp.MustCompile(`https?://([a-z0-9.-]+)|[a-z0-9._-]+@([a-z0-9.-]+)`)

// Nothing of the made-up world leads to somebody's real host (RFC 2606 and RFC 6761 keep these names for that).
func TestAddressesAreMadeUp(t *testing.T) {
	made := func(where, text string) {
		for _, m := range someAddress.FindAllStringSubmatch(text, -1) {
			host := strings.TrimSuffix(m[1]+m[2], ".")
			ok := strings.HasSuffix(host, ".example") || strings.HasSuffix(host, ".localhost") || host == "127.0.0.1" || host == "localhost" ||
				host == "www.w3.org" || !strings.Contains(host, ".")
			require.True(t, ok, "%s names %s", where, m[0])
		}
	}
	for _, s := range Schools(12) {
		for key, v := range s.Settings {
			made(s.Name+" "+key, v)
		}
	}
	n := 0
	require.NoError(t, fs.WalkDir(files, "files", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := files.ReadFile(p)
		n++
		made(p, string(text))
		return err
	}))
	require.Positive(t, n)
	for _, task := range LaunchTasks() {
		made(task.Key, task.Detail)
		require.NotEmpty(t, task.Title)
	}
}
