package job

import (
	"bufio"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/test/attack"
	"nestseed/test/world"
)

// A site that was broken into names the account of another, of an administrator, or one that the service's own account is let in as.
func TestAttackByTheSettingsOfASource(t *testing.T) {
	world.Prepared(t)
	folder := filepath.Join(world.Stack.Sites(), "robbed")
	t.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(t, exec.Command("cp", "-r", world.InBase("."), folder).Run())
	text, err := os.ReadFile(filepath.Join(folder, "wp-config.php"))
	require.NoError(t, err)
	world.Execute(t, "CREATE DATABASE IF NOT EXISTS neighbour")
	t.Cleanup(func() { world.Execute(t, "DROP DATABASE neighbour") })
	settings := func(values map[string]string) {
		changed := string(text)
		for key, value := range values {
			changed = regexp.MustCompile(`define\(\s*'`+key+`',\s*'[^']*'`).ReplaceAllLiteralString(changed, "define( '"+key+"', '"+value+"'")
		}
		require.NotEqual(t, string(text), changed)
		require.NoError(t, os.WriteFile(filepath.Join(folder, "wp-config.php"), []byte(changed), 0o644))
	}
	socket := filepath.Join(world.Stack.Dir, "mariadb", "m.sock")
	for what, c := range map[string]struct {
		values map[string]string
		says   string
	}{
		"the service's own account, by a socket": {map[string]string{"DB_USER": "root", "DB_PASSWORD": "", "DB_HOST": "localhost:" + socket}, "a socket is not used"},
		"an account without a password":          {map[string]string{"DB_USER": "root", "DB_PASSWORD": ""}, "an account without a password is not used"},
		"an administrator": {map[string]string{"DB_USER": world.Stack.AdminUser, "DB_PASSWORD": world.Stack.AdminPassword},
			"it may read other databases"},
	} {
		settings(c.values)
		r := world.Nestseed(t, "source", "add", "robbed", "--host", "preview", "--path", "robbed")
		require.NotZero(t, r.Code, what)
		require.Contains(t, r.Err, c.says, what)
		attack.Stopped(t, "settings of a source", what, c.says)
	}
	// A builder cannot say that it is well, and an owner can.
	world.WithInput(t, "a long first password\n", "user", "add", "builder-of-orders", "--role", "builder")
	r := world.Nestseed(t, "source", "add", "robbed", "--host", "preview", "--path", "robbed", "--database",
		fmt.Sprintf("mysql://root@localhost/neighbour?socket=%s", socket))
	require.Contains(t, r.Err, "a socket is not used", "nor is one that was given")
}

// What a viewer may take away, and what is open to anybody.
func TestAttackAsAViewer(t *testing.T) {
	world.Prepared(t)
	created := world.WithInput(t, "a long first password\n", "user", "add", "looker", "--role", "viewer")
	require.Zero(t, created.Code, created.Err)
	login, err := http.Post(world.Service.Address()+"/api/v1/login", "application/json", strings.NewReader(`{"name":"looker","password":"a long first password"}`))
	require.NoError(t, err)
	login.Body.Close()
	require.Equal(t, http.StatusOK, login.StatusCode)
	ask := func(method, path string) *http.Response {
		req, err := http.NewRequest(method, world.Service.Address()+path, nil)
		require.NoError(t, err)
		for _, c := range login.Cookies() {
			if c.Name == "nestseed_session" {
				req.AddCookie(c)
			}
		}
		req.Header.Set("Sec-Fetch-Site", "same-origin")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return res
	}
	for path, status := range map[string]int{"/api/v1/releases/music-base@1": 200, "/api/v1/releases/music-base@1/contents": 200,
		"/api/v1/releases/music-base@1/archive": 403, "/api/v1/releases/music-base@1/volumes/music-base-1.zip.sha256?size=65536": 403} {
		res := ask(http.MethodGet, path)
		res.Body.Close()
		require.Equal(t, status, res.StatusCode, path)
	}
	attack.Stopped(t, "a viewer", "downloads an archive, has a whole one hashed", "403: a viewer looks, and takes nothing away")
	res, err := http.Get(world.Service.Address() + "/metrics")
	require.NoError(t, err)
	res.Body.Close()
	require.NotContains(t, res.Header.Get("Content-Type"), "text/plain")
	attack.Stopped(t, "somebody who is not logged in", "reads /metrics", "it answers where its setting says so, and by itself not")

	events := ask(http.MethodGet, "/api/v1/events")
	defer events.Body.Close()
	require.Equal(t, http.StatusOK, events.StatusCode)
	out := ask(http.MethodPost, "/api/v1/logout")
	out.Body.Close()
	require.Equal(t, http.StatusOK, out.StatusCode)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for lines := bufio.NewScanner(events.Body); lines.Scan(); {
			continue
		}
	}()
	select {
	case <-ended:
	case <-time.After(time.Minute):
		require.Fail(t, "the stream of events goes on after logging out")
	}
	attack.Stopped(t, "a stream of events", "is read on after logging out", "the session is looked at every 5 s")
}
