package httpapi

import (
	"encoding/json"
	"regexp"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"
)

// What is answered with something else than JSON is in the description too, but for uploads, which follow a protocol of their own, and
// HEAD, which answers as GET does.
func TestStreamsAreDescribed(t *testing.T) {
	text, err := Description("x")
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			Parameters []struct{ Name, In string }
			Responses  map[string]struct {
				Content map[string]json.RawMessage
			}
		}
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	router := gin.New()
	a := &api{}
	a.streams(router.Group(""))
	placeholder := regexp.MustCompile(`:(\w+)`)
	var seen int
	for _, r := range router.Routes() {
		if r.Method == "HEAD" {
			continue
		}
		path := placeholder.ReplaceAllString(r.Path, "{$1}")
		op, has := doc.Paths[path][strings.ToLower(r.Method)]
		require.True(t, has, "%s %s is not described", r.Method, path)
		require.NotEmpty(t, op.Responses["200"].Content)
		require.NotContains(t, op.Responses["200"].Content, "application/json")
		require.Contains(t, op.Responses["default"].Content, "application/problem+json")
		for _, name := range placeholder.FindAllStringSubmatch(r.Path, -1) {
			require.Contains(t, op.Parameters, struct{ Name, In string }{name[1], "path"})
		}
		seen++
	}
	require.Greater(t, seen, 6)
}
