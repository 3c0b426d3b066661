package console

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

func TestRequestsWithoutATokenAreRefused(t *testing.T) {
	for _, path := range []string{"/api/v1/hosts", "/api/v1/vault", "/api/v1/runs/1/events", "/api/v1/releases/x@1/archive"} {
		for _, header := range []map[string]string{nil, {"Authorization": "Bearer nst_wrong"}, {"Cookie": "nestseed_session=nst_wrong"}} {
			res, problem := world.Request(t, http.MethodGet, path, "", header)
			require.Equal(t, http.StatusUnauthorized, res.StatusCode, path)
			require.Equal(t, "urn:nestseed:problem:not-logged-in", problem["type"])
		}
	}
	res, _ := world.Request(t, http.MethodGet, "/livez", "", nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	res, doc := world.Request(t, http.MethodGet, "/api/openapi.json", "", nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.Equal(t, "3.1.0", doc["openapi"])
	require.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'self'")
}

func TestWrongPasswordsAreSlowedDown(t *testing.T) {
	login := func(password string) int {
		body, _ := json.Marshal(wire.Credentials{Name: "somebody", Password: password})
		res, _ := world.Request(t, http.MethodPost, "/api/v1/login", string(body), nil)
		return res.StatusCode
	}
	for range 5 {
		require.Equal(t, http.StatusUnauthorized, login("wrong"))
	}
	require.Equal(t, http.StatusTooManyRequests, login("wrong"))
}

func TestSessionsWorkAndCrossOriginWritesAreRefused(t *testing.T) {
	body, _ := json.Marshal(wire.Credentials{Name: "owner", Password: world.Password})
	res, _ := world.Request(t, http.MethodPost, "/api/v1/login", string(body), map[string]string{"Sec-Fetch-Site": "cross-site"})
	require.Equal(t, http.StatusForbidden, res.StatusCode)
	res, _ = world.Request(t, http.MethodPost, "/api/v1/login", string(body), nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	c := res.Cookies()[0]
	require.True(t, c.Secure && c.HttpOnly && c.SameSite == http.SameSiteStrictMode)
	cookie := map[string]string{"Cookie": c.Name + "=" + c.Value}
	res, me := world.Request(t, http.MethodGet, "/api/v1/me", "", cookie)
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.Equal(t, "owner", me["role"])

	evil := map[string]string{"Cookie": cookie["Cookie"], "Origin": "https://evil.example"}
	res, _ = world.Request(t, http.MethodPost, "/api/v1/clients", `{"name":"evil"}`, evil)
	require.Equal(t, http.StatusForbidden, res.StatusCode)

	res, _ = world.Request(t, http.MethodPost, "/api/v1/logout", "", cookie)
	require.Equal(t, http.StatusOK, res.StatusCode)
	res, _ = world.Request(t, http.MethodGet, "/api/v1/me", "", cookie)
	require.Equal(t, http.StatusUnauthorized, res.StatusCode)
}

func TestRolesAreKept(t *testing.T) {
	world.Prepared(t)
	ctx := context.Background()
	svc := world.Service.Client(t)
	for _, role := range []string{"viewer", "builder"} {
		_, err := svc.AddUser(ctx, wire.NewUser{Name: "a-" + role, Role: role, Password: "long enough for " + role})
		require.NoError(t, err)
		body, _ := json.Marshal(wire.Credentials{Name: "a-" + role, Password: "long enough for " + role})
		res, _ := world.Request(t, http.MethodPost, "/api/v1/login", string(body), nil)
		require.Equal(t, http.StatusOK, res.StatusCode)
		cookie := map[string]string{"Cookie": res.Cookies()[0].Name + "=" + res.Cookies()[0].Value}
		res, _ = world.Request(t, http.MethodGet, "/api/v1/sites", "", cookie)
		require.Equal(t, http.StatusOK, res.StatusCode)
		want := map[string]int{"viewer": http.StatusForbidden, "builder": http.StatusOK}[role]
		res, _ = world.Request(t, http.MethodPost, "/api/v1/clients", `{"name":"by-`+role+`"}`, cookie)
		require.Equal(t, want, res.StatusCode)
		for _, path := range []string{"/api/v1/sources/base/values", "/api/v1/hosts/preview/folders"} {
			res, _ = world.Request(t, http.MethodGet, path, "", cookie)
			require.Equal(t, want, res.StatusCode, "who looks on does not look into hosts")
		}
		res, _ = world.Request(t, http.MethodPost, "/api/v1/vault/reveal", `{"noun":"host","owner":"preview","name":"database"}`, cookie)
		require.Equal(t, http.StatusForbidden, res.StatusCode, "passwords of hosts are the owner's")
		res, _ = world.Request(t, http.MethodPost, "/api/v1/hosts",
			`{"name":"x","files":"file:///","web_root":"{name}","address":"http://{name}.example","database":"mysql://a@b/"}`, cookie)
		require.Equal(t, http.StatusForbidden, res.StatusCode)
		res, _ = world.Request(t, http.MethodPost, "/api/v1/users", `{"name":"x","role":"owner","password":"0123456789ab"}`, cookie)
		require.Equal(t, http.StatusForbidden, res.StatusCode)
	}
	_, err := svc.AddUser(ctx, wire.NewUser{Name: "short", Role: "viewer", Password: "short"})
	require.ErrorContains(t, err, "password")
}

func TestAStartThatCannotSucceedSaysWhatToDo(t *testing.T) {
	start := func(data, listen string) string { return world.Refused(t, data, listen) }
	free := fmt.Sprintf("127.0.0.1:%d", stack.FreePort())
	require.Contains(t, start(world.Service.Data, free), "stop it, or set NESTSEED_DATA")
	require.Contains(t, start(filepath.Join(world.Dir, "other"), world.Service.Listen), "set NESTSEED_LISTEN")
	require.Contains(t, start("/proc/nestseed", free), "set NESTSEED_DATA to another folder")
	closed := filepath.Join(t.TempDir(), "closed")
	require.NoError(t, os.Mkdir(closed, 0o700))
	if os.Geteuid() == 0 {
		require.Contains(t, start(closed, free), "other users may enter")
	}
}

func TestTokensAndKindsByCommandLine(t *testing.T) {
	token := strings.TrimSpace(world.Must(t, "token", "add", "for a script"))
	require.Equal(t, "owner", world.Ask[wire.Me](t, "--token", token, "login").Name)
	kept := filepath.Join(world.Dir, "config/nestseed/access.yaml")
	info, err := os.Stat(kept)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.Contains(t, world.Must(t, "doctor"), "commands run as owner")
	require.NoError(t, os.Remove(kept))
	require.Contains(t, world.Must(t, "token", "list"), "for a script")
	world.Must(t, "token", "remove", "for a script")
	require.Equal(t, 4, world.Nestseed(t, "--token", token, "host", "list").Code)
	require.Equal(t, 3, world.Nestseed(t, "token", "remove", "for a script").Code)

	require.Contains(t, world.Must(t, "kind", "list"), "starter, whole-site")
	definition := world.Must(t, "kind", "show", "wordpress")
	require.Zero(t, world.WithInput(t, definition, "kind", "check", "-").Code)
	r := world.WithInput(t, "name: x\nfrob: 1\n", "kind", "check", "-")
	require.Equal(t, 2, r.Code)
	require.Equal(t, 3, world.Nestseed(t, "kind", "show", "nope").Code)

	require.Zero(t, world.WithInput(t, "a long enough password\n", "user", "add", "jonas", "--role", "viewer").Code)
	require.Contains(t, world.Must(t, "user", "list"), "jonas")
	world.Must(t, "user", "remove", "jonas")
	require.Equal(t, 2, world.Nestseed(t, "user", "remove", "owner").Code)
}

func TestABuildThatIsKilledBeginsAgain(t *testing.T) {
	world.Prepared(t)
	goOn := world.StalledSource(t)
	svc := world.Service.Client(t)
	ctx := context.Background()
	before := len(world.Ask[[]wire.Release](t, "release", "list", "music-base"))
	run, err := svc.BuildRelease(ctx, "music-base", wire.NewRelease{Note: "killed"})
	require.NoError(t, err)
	world.Working(t, svc, run.ID, func(r wire.Run) bool { return r.Progress.Done.Bytes > 1<<20 })
	require.Contains(t, strings.Join(world.Archives(t), " "), ".scratch-")
	require.NoError(t, world.Service.Kill())
	goOn()
	world.Restart(t)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Done, run.Status, run.Error)
	releases := world.Ask[[]wire.Release](t, "release", "list", "music-base")
	require.Len(t, releases, before+1)
	kept := 0
	for _, r := range world.Ask[[]wire.Release](t, "release", "list") {
		if r.Kept {
			kept++
		}
	}
	ofReleases := slices.DeleteFunc(world.Archives(t), func(name string) bool {
		return !strings.Contains(name, ".zip") ||
			strings.HasPrefix(name, "copy-of-")
	})
	require.Len(t, ofReleases, kept, "no orphan is left in the store")
	require.Contains(t, world.Must(t, "release", "verify", releases[0].Ref), "every sum holds")
}

func TestABuildThatIsCancelledLeavesNothing(t *testing.T) {
	world.Prepared(t)
	world.StalledSource(t)
	svc := world.Service.Client(t)
	before := world.Archives(t)
	run, err := svc.BuildRelease(context.Background(), "music-base", wire.NewRelease{})
	require.NoError(t, err)
	world.Working(t, svc, run.ID, func(r wire.Run) bool { return r.Progress.Done.Bytes > 1<<20 })
	world.Must(t, "run", "cancel", fmt.Sprint(run.ID))
	run, err = svc.Wait(context.Background(), run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Cancelled, run.Status)
	require.Equal(t, before, world.Archives(t))
	require.Equal(t, 2, world.Nestseed(t, "run", "cancel", fmt.Sprint(run.ID)).Code)
}

func TestAProvisioningThatIsKilledIsTakenBack(t *testing.T) {
	world.Prepared(t)
	svc := world.Service.Client(t)
	ctx := context.Background()
	school := scenario.Schools(5)[4]
	world.AddClient(t, school)
	for _, moment := range []func(wire.Run) bool{
		func(wire.Run) bool { return true },
		func(r wire.Run) bool { return r.Progress.Done.Files > 300 },
		func(r wire.Run) bool { return len(r.Progress.Steps) > 3 },
	} {
		run, err := svc.ProvisionSite(ctx, wire.NewSite{Client: school.Name, From: "music-base@1", Host: "preview"})
		require.NoError(t, err)
		world.Working(t, svc, run.ID, moment)
		require.NoError(t, world.Service.Kill())
		world.Restart(t)
		run, err = svc.Wait(ctx, run.ID, nil)
		require.NoError(t, err)
		if run.Status == wire.Done { // it was killed after the site was recorded
			require.Zero(t, world.Nestseed(t, "site", "check", school.Name).Code)
			return
		}
		require.Equal(t, wire.Failed, run.Status)
		require.Contains(t, run.Error, "taken back")
		world.NothingLeft(t, school.Name)
	}
	world.Must(t, "site", "provision", school.Name, "--from", "music-base@1", "--host", "preview")
}

// A site that was half made when its database server was lost is taken back once the server answers again.
func TestAProvisioningWhoseDatabaseIsLostIsTakenBackLater(t *testing.T) {
	world.Prepared(t)
	line, err := stack.NewLine(world.Stack.DatabasePort)
	require.NoError(t, err)
	defer line.Close()
	world.Must(t, "host", "add", "far", "--files", "file://"+world.Stack.Sites()+"?owner=www-data", "--address", world.Stack.Address("{name}"),
		"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", world.Stack.AdminUser, line.Port()))
	svc := world.Service.Client(t)
	ctx := context.Background()
	school := scenario.Schools(5)[4]
	school.Name = "quarry-lane"
	world.AddClient(t, school)
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
		require.Contains(t, world.Must(t, "run", "list", "--limit", "3"), "cleanup-failed")
		today, err := svc.Today(ctx)
		require.NoError(t, err)
		require.Contains(t, fmt.Sprint(today.Groups), run.Title+" fault [{fault it could not be cleaned up after")
		shown := world.Must(t, "run", "show", fmt.Sprint(run.ID))
		require.Contains(t, shown, "this is tried again every minute")
		return run
	}
	run := lost()
	line.Mend()
	require.NoError(t, world.Service.Stop())
	world.Restart(t)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Failed, run.Status)
	require.Contains(t, run.Error, "what the run had made was taken back since")
	world.NothingLeft(t, school.Name)

	run = lost()
	require.Equal(t, 0, world.Nestseed(t, "run", "cancel", fmt.Sprint(run.ID)).Code)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Contains(t, run.Error, "given up; what the run had made may still be there (database ns_quarrylane")
}

func TestAServiceThatIsStoppedPutsWorkBack(t *testing.T) {
	world.Prepared(t)
	goOn := world.StalledSource(t)
	svc := world.Service.Client(t)
	ctx := context.Background()
	run, err := svc.BuildRelease(ctx, "music-base", wire.NewRelease{Note: "stopped"})
	require.NoError(t, err)
	world.Working(t, svc, run.ID, func(r wire.Run) bool { return r.Progress.Done.Bytes > 1<<20 })
	require.NoError(t, world.Service.Stop())
	goOn()
	world.Restart(t)
	run, err = svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Done, run.Status, run.Error)
}
