package console

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// contract compares answers with the service's own description of them (OpenAPI 3.1, whose schemas are JSON Schema
// 2020-12). The console's types and the Go client are made from it: an answer that is otherwise breaks them.
type contract struct {
	compiler *jsonschema.Compiler
	paths    map[string]any
	token    string
	answered map[string]bool
}

const described = "mem:///openapi.json"

func newContract(t *testing.T) *contract {
	t.Helper()
	res, err := http.Get(world.Service.Address() + "/api/openapi.json")
	require.NoError(t, err)
	defer res.Body.Close()
	doc, err := jsonschema.UnmarshalJSON(res.Body)
	require.NoError(t, err)
	c := &contract{compiler: jsonschema.NewCompiler(), token: token(t), answered: map[string]bool{}}
	require.NoError(t, c.compiler.AddResource(described, doc))
	c.paths = doc.(map[string]any)["paths"].(map[string]any)
	return c
}

// asks sends a request, and compares what comes with the schema of that operation and status.
func (c *contract) asks(t *testing.T, method, operation, path, body string, status int) []byte {
	t.Helper()
	res, text := c.send(t, method, path, body)
	require.Equal(t, status, res.StatusCode, "%s %s: %s", method, path, text)
	c.answered[method+" "+operation] = true

	media, name := "application/json", fmt.Sprint(status)
	if status >= 400 {
		media, name = "application/problem+json", "default"
	}
	require.True(t, strings.HasPrefix(res.Header.Get("Content-Type"), media), "%s %s answers %s", method, path, res.Header.Get("Content-Type"))
	pointer := "/paths"
	for _, part := range []string{operation, strings.ToLower(method), "responses", name, "content", media, "schema"} {
		pointer += "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(part)
	}
	schema, err := c.compiler.Compile(described + "#" + (&url.URL{Path: pointer}).EscapedPath())
	require.NoError(t, err, "%s %s has no schema for %s", method, operation, name)
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	assert.NoError(t, schema.Validate(value), "%s %s", method, path)
	return text
}

// send sends a request and returns what comes.
func (c *contract) send(t *testing.T, method, path, body string) (*http.Response, []byte) {
	t.Helper()
	req, err := http.NewRequest(method, world.Service.Address()+"/api/v1"+path, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+c.token)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res, text
}

func TestAnswersAreAsTheDescriptionSays(t *testing.T) {
	world.Prepared(t)
	school := scenario.Schools(4)[3]
	school.Name = "described"
	world.AddClient(t, school)
	world.Must(t, "site", "provision", school.Name, "--from", "music-base", "--host", "preview")
	t.Cleanup(func() { world.Must(t, "site", "undo", school.Name) })
	world.Must(t, "source", "survey", "base")
	world.Must(t, "client", "add", "bare")
	t.Cleanup(func() { world.Must(t, "client", "remove", "bare") })
	world.StarterOf(t, "bare-starter") // without a release
	c := newContract(t)
	svc := world.Service.Client(t)
	all, err := svc.Runs(context.Background(), 100)
	require.NoError(t, err)

	names := map[string]string{"/sites/{name}": school.Name, "/sources/{name}": "base", "/starters/{name}": "music-base",
		"/clients/{name}": school.Name, "/hosts/{name}": "preview", "/kinds/{name}": "wordpress",
		"/runs/{id}": fmt.Sprint(all[0].ID), "/releases/{ref}": "music-base@1"}
	// What is asked for with more than a name, or answered with something else than JSON.
	more := map[string]string{"/releases/{ref}/file": "", "/releases/{ref}/archive": "", "/releases/{ref}/volumes": "?size=10000000",
		"/releases/{ref}/volumes/{number}": "", "/releases/{ref}/sums": "",
		"/runs/{id}/events": "", "/events": "", "/comparisons/{id}": "", "/releases/{ref}/difference": "?to=music-base@1&path=index.php"}
	for path, item := range c.paths {
		op, has := item.(map[string]any)["get"].(map[string]any)
		if !has {
			continue
		}
		ok, _ := op["responses"].(map[string]any)["200"].(map[string]any)
		content, _ := ok["content"].(map[string]any)
		if content["application/json"] == nil {
			continue // a file, a picture, or events
		}
		query, special := more[path]
		if special && query == "" {
			continue
		}
		filled := path
		for prefix, name := range names {
			if strings.HasPrefix(path, prefix) {
				filled = strings.Replace(path, prefix, prefix[:strings.Index(prefix, "{")]+name, 1)
			}
		}
		if strings.Contains(filled, "{") {
			continue
		}
		if strings.HasSuffix(path, "/rows") {
			filled += "?table=lad_posts"
		}
		if path == "/sites/{name}/side-by-side" {
			c.asks(t, http.MethodGet, path, filled, "", http.StatusNotFound) // nobody has looked yet
			continue
		}
		c.asks(t, http.MethodGet, path, filled+query, "", http.StatusOK)
	}
	require.Greater(t, len(c.answered), 25, "%v", c.answered)

	// Where there is nothing, a list is empty and not missing.
	for path, filled := range map[string]string{"/clients/{name}": "/clients/bare", "/starters/{name}": "/starters/bare-starter",
		"/starters/{name}/packing": "/starters/bare-starter/packing", "/releases": "/releases?starter=bare-starter",
		"/releases/{ref}/contents": "/releases/music-base@1/contents?find=" +
			url.QueryEscape("*.never"), "/sites": "/sites?retired=true", "/runs": "/runs?limit=1&before=1"} {
		text := c.asks(t, http.MethodGet, path, filled, "", http.StatusOK)
		require.NotContains(t, string(text), ":null", "%s", filled)
	}
	for _, pattern := range []string{"*.php", "wp-content/**", "**/*.css"} {
		c.asks(t, http.MethodGet, "/releases/{ref}/contents", "/releases/music-base@1/contents?find="+url.QueryEscape(pattern), "", http.StatusOK)
	}
	c.asks(t, http.MethodGet, "/releases/{ref}/contents", "/releases/music-base@1/contents?find=%5B", "", http.StatusUnprocessableEntity)
	c.asks(t, http.MethodGet, "/releases/{ref}/contents", "/releases/music-base@1/contents?path=nowhere", "", http.StatusNotFound)

	// Questions that change nothing.
	text := c.asks(t, http.MethodPost, "/sites/plan", "/sites/plan",
		fmt.Sprintf(`{"client":%q,"from":"music-base","host":"preview","name":"another"}`, school.Name), http.StatusOK)
	var plan wire.Plan
	require.NoError(t, json.Unmarshal(text, &plan))
	require.True(t, plan.Ready, "%v %v", plan.Missing, plan.Problems)
	c.asks(t, http.MethodPost, "/sites/plan", "/sites/plan", `{"client":"bare","from":"music-base","host":"preview"}`, http.StatusOK)
	c.asks(t, http.MethodPost, "/sites/plan", "/sites/plan", `{"client":"nobody","from":"music-base","host":"preview"}`, http.StatusNotFound)
	c.asks(t, http.MethodPost, "/sites/plan", "/sites/plan", `{"from":"music-base"}`, http.StatusUnprocessableEntity)
	c.asks(t, http.MethodPost, "/sites/table/plan", "/sites/table/plan",
		fmt.Sprintf(`{"from":"music-base","host":"preview","rows":[{"client":%q},{"client":"bare"},{"client":"fresh-one"}]}`,
			school.Name), http.StatusOK)
	c.asks(t, http.MethodPost, "/hosts/{name}/test", "/hosts/preview/test", "", http.StatusOK)
	c.asks(t, http.MethodPost, "/starters/{name}/packing/try", "/starters/music-base/packing/try", `{"text":"only: database\n"}`,
		http.StatusOK)
	c.asks(t, http.MethodPost, "/starters/{name}/packing/try", "/starters/music-base/packing/try", `{"text":"only: everything\n"}`,
		http.StatusUnprocessableEntity)
	c.asks(t, http.MethodPost, "/sites/{name}/refresh/plan", "/sites/"+school.Name+"/refresh/plan", `{}`, http.StatusOK)
	c.asks(t, http.MethodPost, "/sites/{name}/move/plan", "/sites/"+school.Name+"/move/plan",
		`{"host":"preview","address":"http://elsewhere.localhost"}`, http.StatusOK)
}
