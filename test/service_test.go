package test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// request sends JSON without a client's help.
func request(t *testing.T, method, path, body string, header map[string]string) (*http.Response, map[string]any) {
	req, err := http.NewRequest(method, world.service.address()+path, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for k, v := range header {
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	var out map[string]any
	json.NewDecoder(res.Body).Decode(&out)
	return res, out
}

func TestRequestsWithoutATokenAreRefused(t *testing.T) {
	for _, path := range []string{"/api/v1/hosts", "/api/v1/vault", "/api/v1/runs/1/events", "/api/v1/releases/x@1/archive"} {
		for _, header := range []map[string]string{nil, {"Authorization": "Bearer nst_wrong"}, {"Cookie": "nestseed_session=nst_wrong"}} {
			res, problem := request(t, http.MethodGet, path, "", header)
			require.Equal(t, http.StatusUnauthorized, res.StatusCode, path)
			require.Equal(t, "urn:nestseed:problem:not-logged-in", problem["type"])
		}
	}
	res, _ := request(t, http.MethodGet, "/livez", "", nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	res, doc := request(t, http.MethodGet, "/api/openapi.json", "", nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.Equal(t, "3.1.0", doc["openapi"])
	require.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'self'")
}

func TestWrongPasswordsAreSlowedDown(t *testing.T) {
	login := func(password string) int {
		body, _ := json.Marshal(wire.Credentials{Name: "somebody", Password: password})
		res, _ := request(t, http.MethodPost, "/api/v1/login", string(body), nil)
		return res.StatusCode
	}
	for range 5 {
		require.Equal(t, http.StatusUnauthorized, login("wrong"))
	}
	require.Equal(t, http.StatusTooManyRequests, login("wrong"))
}

func TestSessionsWorkAndCrossOriginWritesAreRefused(t *testing.T) {
	body, _ := json.Marshal(wire.Credentials{Name: "owner", Password: world.password})
	res, _ := request(t, http.MethodPost, "/api/v1/login", string(body), map[string]string{"Sec-Fetch-Site": "cross-site"})
	require.Equal(t, http.StatusForbidden, res.StatusCode)
	res, _ = request(t, http.MethodPost, "/api/v1/login", string(body), nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	c := res.Cookies()[0]
	require.True(t, c.Secure && c.HttpOnly && c.SameSite == http.SameSiteStrictMode)
	cookie := map[string]string{"Cookie": c.Name + "=" + c.Value}
	res, me := request(t, http.MethodGet, "/api/v1/me", "", cookie)
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.Equal(t, "owner", me["role"])

	evil := map[string]string{"Cookie": cookie["Cookie"], "Origin": "https://evil.example"}
	res, _ = request(t, http.MethodPost, "/api/v1/clients", `{"name":"evil"}`, evil)
	require.Equal(t, http.StatusForbidden, res.StatusCode)

	res, _ = request(t, http.MethodPost, "/api/v1/logout", "", cookie)
	require.Equal(t, http.StatusOK, res.StatusCode)
	res, _ = request(t, http.MethodGet, "/api/v1/me", "", cookie)
	require.Equal(t, http.StatusUnauthorized, res.StatusCode)
}

func TestRolesAreKept(t *testing.T) {
	prepared(t)
	ctx := context.Background()
	svc := world.service.client(t)
	for _, role := range []string{"viewer", "builder"} {
		_, err := svc.AddUser(ctx, wire.NewUser{Name: "a-" + role, Role: role, Password: "long enough for " + role})
		require.NoError(t, err)
		body, _ := json.Marshal(wire.Credentials{Name: "a-" + role, Password: "long enough for " + role})
		res, _ := request(t, http.MethodPost, "/api/v1/login", string(body), nil)
		require.Equal(t, http.StatusOK, res.StatusCode)
		cookie := map[string]string{"Cookie": res.Cookies()[0].Name + "=" + res.Cookies()[0].Value}
		res, _ = request(t, http.MethodGet, "/api/v1/sites", "", cookie)
		require.Equal(t, http.StatusOK, res.StatusCode)
		want := map[string]int{"viewer": http.StatusForbidden, "builder": http.StatusOK}[role]
		res, _ = request(t, http.MethodPost, "/api/v1/clients", `{"name":"by-`+role+`"}`, cookie)
		require.Equal(t, want, res.StatusCode)
		for _, path := range []string{"/api/v1/sources/base/values", "/api/v1/hosts/preview/folders"} {
			res, _ = request(t, http.MethodGet, path, "", cookie)
			require.Equal(t, want, res.StatusCode, "who looks on does not look into hosts")
		}
		res, _ = request(t, http.MethodPost, "/api/v1/vault/reveal", `{"noun":"host","owner":"preview","name":"database"}`, cookie)
		require.Equal(t, http.StatusForbidden, res.StatusCode, "passwords of hosts are the owner's")
		res, _ = request(t, http.MethodPost, "/api/v1/hosts",
			`{"name":"x","files":"file:///","web_root":"{name}","address":"http://{name}.example","database":"mysql://a@b/"}`, cookie)
		require.Equal(t, http.StatusForbidden, res.StatusCode)
		res, _ = request(t, http.MethodPost, "/api/v1/users", `{"name":"x","role":"owner","password":"0123456789ab"}`, cookie)
		require.Equal(t, http.StatusForbidden, res.StatusCode)
	}
	_, err := svc.AddUser(ctx, wire.NewUser{Name: "short", Role: "viewer", Password: "short"})
	require.ErrorContains(t, err, "password")
}

func TestAStartThatCannotSucceedSaysWhatToDo(t *testing.T) {
	start := func(data, listen string) string {
		p, err := serve(data, listen)
		if err == nil {
			p.stop()
			t.Fatal("it started")
		}
		return err.Error()
	}
	free := fmt.Sprintf("127.0.0.1:%d", stack.FreePort())
	require.Contains(t, start(world.service.data, free), "stop it, or set NESTSEED_DATA")
	require.Contains(t, start(filepath.Join(world.dir, "other"), world.service.listen), "set NESTSEED_LISTEN")
	require.Contains(t, start("/proc/nestseed", free), "set NESTSEED_DATA to another folder")
	closed := filepath.Join(t.TempDir(), "closed")
	require.NoError(t, os.Mkdir(closed, 0o700))
	if os.Geteuid() == 0 {
		require.Contains(t, start(closed, free), "other users may enter")
	}
}

func TestTokensAndKindsByCommandLine(t *testing.T) {
	token := strings.TrimSpace(must(t, "token", "add", "for a script"))
	require.Equal(t, "owner", ask[wire.Me](t, "--token", token, "login").Name)
	kept := filepath.Join(world.dir, "config/nestseed/access.yaml")
	info, err := os.Stat(kept)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.Contains(t, must(t, "doctor"), "commands run as owner")
	require.NoError(t, os.Remove(kept))
	require.Contains(t, must(t, "token", "list"), "for a script")
	must(t, "token", "remove", "for a script")
	require.Equal(t, 4, nestseed(t, "--token", token, "host", "list").code)
	require.Equal(t, 3, nestseed(t, "token", "remove", "for a script").code)

	require.Contains(t, must(t, "kind", "list"), "starter, whole-site")
	definition := must(t, "kind", "show", "wordpress")
	require.Zero(t, withInput(t, definition, "kind", "check", "-").code)
	r := withInput(t, "name: x\nfrob: 1\n", "kind", "check", "-")
	require.Equal(t, 2, r.code)
	require.Equal(t, 3, nestseed(t, "kind", "show", "nope").code)

	require.Zero(t, withInput(t, "a long enough password\n", "user", "add", "jonas", "--role", "viewer").code)
	require.Contains(t, must(t, "user", "list"), "jonas")
	must(t, "user", "remove", "jonas")
	require.Equal(t, 2, nestseed(t, "user", "remove", "owner").code)
}

// working waits until a run has begun its work.
func working(t *testing.T, svc *client.Client, id int64, enough func(wire.Run) bool) {
	t.Helper()
	for range 2000 {
		r, err := svc.Run(context.Background(), id)
		require.NoError(t, err)
		require.False(t, r.Ended(), "run %d ended before it could be disturbed: %s %s", id, r.Status, r.Error)
		if r.Status == wire.Working && enough(r) {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
	t.Fatal("the run does not begin")
}

// stalledSource keeps work on the base site from ending until goOn is called or the test ends: it holds a table of the
// site that the work has to read.
func stalledSource(t *testing.T) (goOn func()) {
	db, err := world.stack.Admin()
	require.NoError(t, err)
	holding, err := db.Conn(t.Context())
	require.NoError(t, err)
	_, err = holding.ExecContext(t.Context(), "LOCK TABLES lad_base.lad_links WRITE")
	require.NoError(t, err)
	goOn = sync.OnceFunc(func() {
		_, err := holding.ExecContext(context.Background(), "UNLOCK TABLES")
		require.NoError(t, errors.Join(err, holding.Close(), db.Close()))
	})
	t.Cleanup(goOn)
	return goOn
}

func archives(t *testing.T) []string {
	files, err := os.ReadDir(filepath.Join(world.service.data, "archives"))
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		names = append(names, f.Name())
	}
	return names
}

func restart(t *testing.T) {
	data, listen := world.service.data, world.service.listen
	var err error
	world.service, err = serve(data, listen)
	require.NoError(t, err)
}

func TestABuildThatIsKilledBeginsAgain(t *testing.T) {
	prepared(t)
	goOn := stalledSource(t)
	svc := world.service.client(t)
	ctx := context.Background()
	before := len(ask[[]wire.Release](t, "release", "list", "music-base"))
	run, err := svc.BuildRelease(ctx, "music-base", wire.NewRelease{Note: "killed"})
	require.NoError(t, err)
	working(t, svc, run.ID, func(r wire.Run) bool { return r.Progress.Done.Bytes > 1<<20 })
	require.Contains(t, strings.Join(archives(t), " "), ".scratch-")
	world.service.kill(t)
	goOn()
	restart(t)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Done, run.Status, run.Error)
	releases := ask[[]wire.Release](t, "release", "list", "music-base")
	require.Len(t, releases, before+1)
	kept := 0
	for _, r := range ask[[]wire.Release](t, "release", "list") {
		if r.Kept {
			kept++
		}
	}
	ofReleases := slices.DeleteFunc(archives(t), func(name string) bool {
		return !strings.Contains(name, ".zip") ||
			strings.HasPrefix(name, "copy-of-")
	})
	require.Len(t, ofReleases, kept, "no orphan is left in the store")
	require.Contains(t, must(t, "release", "verify", releases[0].Ref), "every sum holds")
}

func TestABuildThatIsCancelledLeavesNothing(t *testing.T) {
	prepared(t)
	stalledSource(t)
	svc := world.service.client(t)
	before := archives(t)
	run, err := svc.BuildRelease(context.Background(), "music-base", wire.NewRelease{})
	require.NoError(t, err)
	working(t, svc, run.ID, func(r wire.Run) bool { return r.Progress.Done.Bytes > 1<<20 })
	must(t, "run", "cancel", fmt.Sprint(run.ID))
	run, err = svc.Wait(context.Background(), run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Cancelled, run.Status)
	require.Equal(t, before, archives(t))
	require.Equal(t, 2, nestseed(t, "run", "cancel", fmt.Sprint(run.ID)).code)
}

func TestAProvisioningThatIsKilledIsTakenBack(t *testing.T) {
	prepared(t)
	svc := world.service.client(t)
	ctx := context.Background()
	school := scenario.Schools(5)[4]
	addClient(t, school)
	for _, moment := range []func(wire.Run) bool{
		func(wire.Run) bool { return true },
		func(r wire.Run) bool { return r.Progress.Done.Files > 300 },
		func(r wire.Run) bool { return len(r.Progress.Steps) > 3 },
	} {
		run, err := svc.ProvisionSite(ctx, wire.NewSite{Client: school.Name, From: "music-base@1", Host: "preview"})
		require.NoError(t, err)
		working(t, svc, run.ID, moment)
		world.service.kill(t)
		restart(t)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		if run.Status == wire.Done { // it was killed after the site was recorded
			require.Zero(t, nestseed(t, "site", "check", school.Name).code)
			return
		}
		require.Equal(t, wire.Failed, run.Status)
		require.Contains(t, run.Error, "taken back")
		nothingLeft(t, school.Name)
	}
	must(t, "site", "provision", school.Name, "--from", "music-base@1", "--host", "preview")
}

// A site that was half made when its database server was lost is taken back once the server answers again.
func TestAProvisioningWhoseDatabaseIsLostIsTakenBackLater(t *testing.T) {
	prepared(t)
	line, err := stack.NewLine(world.stack.DatabasePort)
	require.NoError(t, err)
	defer line.Close()
	must(t, "host", "add", "far", "--files", "file://"+world.stack.Sites()+"?owner=www-data", "--address", world.stack.Address("{name}"),
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.stack.AdminUser, line.Port()))
	svc := world.service.client(t)
	ctx := context.Background()
	school := scenario.Schools(5)[4]
	school.Name = "quarry-lane"
	addClient(t, school)
	lost := func() wire.Run {
		line.Mend()
		line.CutAfter(16<<10, true) // the database is there by then, and not all of its rows
		run, err := svc.ProvisionSite(ctx, wire.NewSite{Client: school.Name, From: "music-base@1", Host: "far"})
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			run, err = svc.Run(ctx, run.ID)
			require.NoError(t, err)
			require.False(t, run.Ended(), run.Error)
			return run.Error != ""
		}, time.Minute, 20*time.Millisecond)
		require.Equal(t, wire.CleanupFailed, run.Status)
		require.Contains(t, run.Error, "taking back what was made did not work either")
		require.Contains(t, must(t, "run", "list", "--limit", "3"), "cleanup-failed")
		today, err := svc.Today(ctx)
		require.NoError(t, err)
		require.Contains(t, fmt.Sprint(today.Groups), run.Title+" fault [{fault it could not be cleaned up after")
		shown := must(t, "run", "show", fmt.Sprint(run.ID))
		require.Contains(t, shown, "taking back is tried again every minute")
		return run
	}
	run := lost()
	line.Mend()
	require.NoError(t, world.service.stop())
	restart(t)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Failed, run.Status)
	require.Contains(t, run.Error, "what the run had made was taken back since")
	nothingLeft(t, school.Name)

	run = lost()
	require.Equal(t, 0, nestseed(t, "run", "cancel", fmt.Sprint(run.ID)).code)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Contains(t, run.Error, "given up; what the run had made may still be there (database ns_quarrylane")
}

func TestAServiceThatIsStoppedPutsWorkBack(t *testing.T) {
	prepared(t)
	goOn := stalledSource(t)
	svc := world.service.client(t)
	ctx := context.Background()
	run, err := svc.BuildRelease(ctx, "music-base", wire.NewRelease{Note: "stopped"})
	require.NoError(t, err)
	working(t, svc, run.ID, func(r wire.Run) bool { return r.Progress.Done.Bytes > 1<<20 })
	require.NoError(t, world.service.stop())
	goOn()
	restart(t)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Done, run.Status, run.Error)
}
