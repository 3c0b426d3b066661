package console

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/wire"
	"nestseed/test/world"
)

// operation is one of the interface's, as its own description lists it.
type operation struct{ method, path, id, summary string }

var placeholder = regexp.MustCompile(`\{(\w+)\}`)

func operations(t *testing.T) (all []operation) {
	t.Helper()
	_, doc := world.Request(t, http.MethodGet, "/api/openapi.json", "", nil)
	for path, item := range doc["paths"].(map[string]any) {
		for method, op := range item.(map[string]any) {
			o, ok := op.(map[string]any)
			if !ok {
				continue
			}
			all = append(all, operation{strings.ToUpper(method), path, fmt.Sprint(o["operationId"]), fmt.Sprint(o["summary"])})
		}
	}
	require.Greater(t, len(all), 60)
	return all
}

// at fills in a path with names that nothing has.
func at(path string) string {
	return "/api/v1" + placeholder.ReplaceAllStringFunc(path, func(p string) string {
		if p == "{id}" {
			return "999999"
		}
		return "nothing-of-this-name"
	})
}

// open are the operations that ask for no login: to log in, and to open a handover by its key.
var open = map[string]bool{"login": true, "open-handover": true}

func TestEveryOperationAsksWhoYouAre(t *testing.T) {
	ids := map[string]bool{}
	for _, o := range operations(t) {
		require.False(t, ids[o.id], "%s is declared twice", o.id)
		ids[o.id] = true
		require.NotEmpty(t, o.summary, o.id)
		if open[o.id] {
			continue
		}
		for _, header := range []map[string]string{nil, {"Authorization": "Bearer nst_wrong"}, {"Authorization": "Basic b3duZXI6b3duZXI="},
			{"Cookie": "nestseed_session="}} {
			res, problem := world.Request(t, o.method, at(o.path), "{}", header)
			require.Equal(t, http.StatusUnauthorized, res.StatusCode, "%s %s", o.method, o.path)
			require.Equal(t, "urn:nestseed:problem:not-logged-in", problem["type"])
		}
	}
	for id := range open {
		require.True(t, ids[id], id)
	}
}

func TestAViewerReadsAndChangesNothing(t *testing.T) {
	world.Prepared(t)
	svc := world.Service.Client(t)
	_, err := svc.AddUser(context.Background(), wire.NewUser{Name: "onlooker", Role: "viewer", Password: "only looking at it"})
	require.NoError(t, err)
	text, err := json.Marshal(wire.Credentials{Name: "onlooker", Password: "only looking at it"})
	require.NoError(t, err)
	res, _ := world.Request(t, http.MethodPost, "/api/v1/login", string(text), nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	cookie := map[string]string{"Cookie": res.Cookies()[0].Name + "=" + res.Cookies()[0].Value}
	for _, o := range operations(t) {
		if open[o.id] || o.id == "logout" {
			continue
		}
		text := "{}"
		if o.id == "set-password" { // one's own is anyone's to change, so this one must be well formed to get as far as whose it is
			text = `{"new": "another long enough"}`
		}
		res, problem := world.Request(t, o.method, at(o.path), text, cookie)
		if o.method == http.MethodGet {
			require.NotEqual(t, http.StatusUnauthorized, res.StatusCode, o.path)
			require.Less(t, res.StatusCode, 500, "%s: %v", o.path, problem["detail"])
			continue
		}
		require.Equal(t, http.StatusForbidden, res.StatusCode, "%s %s", o.method, o.path)
		require.Contains(t, problem["detail"], "ask an owner")
	}
}

func TestWhatIsNotThereIsNotFoundAndWhatIsOddIsToldSo(t *testing.T) {
	owner := map[string]string{"Authorization": "Bearer " + token(t)}
	for _, o := range operations(t) {
		if open[o.id] || o.id == "logout" || !strings.Contains(o.path, "{") {
			continue
		}
		res, problem := world.Request(t, o.method, at(o.path), "{}", owner)
		require.Less(t, res.StatusCode, 500, "%s %s: %v", o.method, o.path, problem["detail"])
		if res.StatusCode >= 400 {
			require.NotEmpty(t, problem["detail"], "%s %s", o.method, o.path)
			require.Contains(t, res.Header.Get("Content-Type"), "problem+json", "%s %s", o.method, o.path)
		}
		if o.method == http.MethodGet {
			// Some ask for more than a name, and say that first.
			require.Contains(t, []int{http.StatusNotFound, http.StatusUnprocessableEntity}, res.StatusCode, "%s", o.path)
		}
		if o.method == http.MethodPost || o.method == http.MethodPut || o.method == http.MethodPatch {
			res, problem = world.Request(t, o.method, at(o.path), `{"not": "json`, owner)
			require.GreaterOrEqual(t, res.StatusCode, 400, "%s %s", o.method, o.path)
			require.Less(t, res.StatusCode, 500, "%s %s: %v", o.method, o.path, problem["detail"])
		}
	}
	res, problem := world.Request(t, http.MethodGet, "/api/v1/nowhere", "", owner)
	require.Equal(t, http.StatusNotFound, res.StatusCode)
	require.Contains(t, problem["detail"], "/api/openapi.json")
	res, _ = world.Request(t, http.MethodPost, "/sites", "", owner)
	require.Equal(t, http.StatusNotFound, res.StatusCode, "pages are only read")
}

func TestCommandsSayWhatIsWrongAndWhatToDo(t *testing.T) {
	world.Prepared(t)
	s := world.SiteOf(t, 7)
	for _, c := range []struct {
		code int
		says string
		args string
	}{
		{2, "takes NAME", "site show"},
		{2, "takes CLIENT, or --table", "site plan --from music-base --host preview"},
		{2, "takes CLIENT, or --table", "site provision --from music-base --host preview"},
		{2, "from", "site plan alder-valley --host preview"},
		{2, "KEY=VALUE", "site plan " + s.Client + " --from music-base --host preview --set title"},
		{2, "is for one site and not for a --table", "site provision --table - --from music-base --host preview --replace"},
		{2, "not the number of a safety copy", "site drop-copy " + s.Name + " newest"},
		{2, "flag provided but not defined", "site show " + s.Name + " --loudly"},
		{3, "nobody", "site show nobody"},
		{3, "nobody", "site refresh nobody"},
		{3, "nobody", "site handover nobody"},
		{3, "nobody", "site copy-rule nobody --last 1"},
		{3, "nobody", "site side-by-side nobody"},
		{3, "nobody", "site move nobody --host preview"},
		{3, "nowhere", "site move " + s.Name + " --host nowhere"},
		{3, "music-base@999", "site plan " + s.Client + " --from music-base@999 --host preview"},
		{3, "music-base@999", "site refresh " + s.Name + " --to music-base@999"},
		{3, "nobody", "site plan nobody --from music-base --host preview"},
		{3, "999999", "site drop-copy " + s.Name + " 999999"},
		{3, "999999", "site put-back " + s.Name + " 999999"},
		{3, "nothing", "site tick " + s.Name + " nothing"},
		{3, "999999", "run show 999999"},
		{3, "weather", "kind show weather"},
		{3, "weather", "vault reveal site weather administrator"},
		{3, "nobody", "source check nobody"},
		{4, "exists already", "site provision " + s.Client + " --from music-base@1 --host preview"},
		{4, "part \"weather\"", "site provision " + s.Client + " --from music-base@1 --host preview --replace --keep weather"},
		{4, "no field \"mood\"", "site provision " + s.Client + " --from music-base@1 --host preview --name another-one --set mood=green"},
		{4, "no site can be named table", "site provision " + s.Client + " --from music-base@1 --host preview --name table"},
		{4, "name another host, or another address", "site move " + s.Name + " --host preview"},
	} {
		r := world.Nestseed(t, strings.Fields(c.args)...)
		require.Equal(t, c.code, r.Code, "nestseed %s: %s", c.args, r.Err)
		require.Contains(t, r.Err+r.Out, c.says, "nestseed %s", c.args)
		require.Equal(t, 1, strings.Count(strings.TrimSpace(r.Err), "\n")+1, "one sentence: nestseed %s: %s", c.args, r.Err)
	}
	// Not one of them has changed anything.
	require.Equal(t, s.RunID, world.Ask[wire.Site](t, "site", "show", s.Name).RunID)
	world.NothingLeft(t, "another-one")
}
