package httpapi

import (
	"encoding/json"
	"io/fs"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever the interface can do, and so the command line, can be done in the console too.
func TestTheConsoleCanDoWhatTheInterfaceCan(t *testing.T) {
	text, err := Description("x")
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	typed := regexp.MustCompile(`http\.(GET|POST|PUT|PATCH|DELETE)\(([^)]*?)['{]?,? ?\{? ?(?:params|body)|http\.(GET|POST|PUT|PATCH|DELETE)\('([^']+)'\)`)
	address := regexp.MustCompile(`addressOf\('([^']+)'`)
	quoted := regexp.MustCompile(`'(/[^']*)'`)
	used := map[string]bool{}
	src := os.DirFS("../../../web/src")
	require.NoError(t, fs.WalkDir(src, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.Contains(p, ".ts") || strings.HasSuffix(p, ".d.ts") {
			return err
		}
		code, err := fs.ReadFile(src, p)
		for _, call := range address.FindAllStringSubmatch(string(code), -1) {
			used["GET "+call[1]] = true
		}
		for _, call := range typed.FindAllStringSubmatch(string(code), -1) {
			for _, path := range quoted.FindAllStringSubmatch(call[2]+"'"+call[4]+"'", -1) {
				used[call[1]+call[3]+" "+path[1]] = true
			}
		}
		return err
	}))
	require.Greater(t, len(used), 60)
	// The console hears of all runs by one stream, and the list of volumes says where each is.
	byAddress := map[string]bool{"GET /runs/{id}/events": true, "GET /releases/{ref}/volumes/{file}": true,
		"GET /doctor/hosts": true} // whoever keeps the service running has a terminal
	for path, methods := range doc.Paths {
		for method := range methods {
			operation := strings.ToUpper(method) + " " + path
			require.True(t, used[operation] || byAddress[operation], "nothing in the console uses %s", operation)
		}
	}
}
