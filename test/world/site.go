package world

import (
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
)

// Shows returns what a page shows.
func Shows(t *testing.T, address string) string {
	t.Helper()
	status, body := Visit(t, address)
	require.Equal(t, 200, status, fmt.Sprint(address, ": ", body))
	return body
}

// StarterOf makes a starter of the base site once.
func StarterOf(t testing.TB, name string, flags ...string) {
	t.Helper()
	Prepared(t)
	if Nestseed(t, "starter", "show", name).Code != 0 {
		Must(t, append([]string{"starter", "create", name, "--from", "base"}, flags...)...)
	}
}

func InBase(name string) string { return filepath.Join(Stack.Sites(), "base", name) }

// SiteOf makes a site of the n-th school, unless it is there.
func SiteOf(t *testing.T, n int) wire.Site {
	t.Helper()
	Prepared(t)
	school := scenario.Schools(n)[n-1]
	AddClient(t, school)
	set := []string{"client", "set", school.Name} // another test may have added the client with less
	for k, v := range school.Settings {
		set = append(set, k+"="+v)
	}
	Must(t, set...)
	if Nestseed(t, "site", "show", school.Name).Code != 0 || Ask[wire.Site](t, "site", "show", school.Name).RetiredAt != nil {
		Must(t, "site", "provision", school.Name, "--from", "music-base@1", "--host", "preview")
	}
	return Ask[wire.Site](t, "site", "show", school.Name)
}

// Standing is a sum over every file and row of a site.
func Standing(t *testing.T, s wire.Site) string {
	t.Helper()
	out, err := exec.Command("sh", "-c",
		fmt.Sprintf(`cd '%s' && { find . -printf '%%p %%y %%m %%l\n' | sort; find . -type f -print0 | sort -z | xargs -0 sha256sum; MYSQL_PWD='%s' mariadb-dump --skip-dump-date --skip-comments -h127.0.0.1 -P%d -u%s %s; } | sha256sum`,
			s.Folder, Stack.AdminPassword, Stack.DatabasePort, Stack.AdminUser, s.Database)).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

func Rows(t *testing.T, query string, args ...any) (n int) {
	t.Helper()
	db, err := Stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(query, args...).Scan(&n))
	return n
}

func Execute(t *testing.T, stmt string) {
	t.Helper()
	db, err := Stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(stmt)
	require.NoError(t, err)
}

func Visit(t *testing.T, address string, cookies ...*http.Cookie) (int, string) {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, address, nil)
	require.NoError(t, err)
	for _, c := range cookies {
		req.AddCookie(c)
	}
	res, err := stack.Client().Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(text)
}

// Live adds a second host, for sites that have left their preview.
func Live(t *testing.T) {
	t.Helper()
	if Nestseed(t, "host", "show", "live").Code != 0 {
		Must(t, "host", "add", "live", "--files", "file://"+Stack.Sites()+"?owner=www-data", "--web-root", "live-{name}", "--address",
			Stack.Address("live-{name}"),
			"--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", Stack.AdminUser, Stack.DatabasePort))
	}
}

func AddClient(t testing.TB, s scenario.School) {
	t.Helper()
	if Nestseed(t, "client", "show", s.Name).Code == 0 {
		return
	}
	args := []string{"client", "add", s.Name}
	for k, v := range s.Settings {
		args = append(args, "--set", k+"="+v)
	}
	Must(t, args...)
}

// NothingLeft says that no folder, database or user of a site is on the host.
func NothingLeft(t testing.TB, name string) {
	t.Helper()
	for _, pattern := range []string{name + "*", "." + name + "*"} {
		left, err := filepath.Glob(filepath.Join(Stack.Sites(), pattern))
		require.NoError(t, err)
		require.Empty(t, left)
	}
	db, err := Stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	var n int
	own := "ns_" + strings.ReplaceAll(name, "-", "")
	require.NoError(t, db.QueryRow("SELECT (SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?) + (SELECT COUNT(*) "+
		"FROM mysql.user WHERE User = ?)", own, own).Scan(&n))
	require.Zero(t, n, "database or user %s is left", own)
}

// Checked checks a site, which must have no fault.
func Checked(t *testing.T, site string) {
	t.Helper()
	report := Ask[wire.Report](t, "site", "check", site)
	require.Zero(t, report.Faults(), "%+v", report)
}

// LogsIn logs in as the administrator of a site that WordPress runs, and returns the browser.
func LogsIn(t *testing.T, site wire.Site) *http.Client {
	t.Helper()
	password := strings.TrimSpace(Must(t, "vault", "reveal", "site", site.Name, "administrator"))
	browser := stack.Client()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser.Jar = jar
	res, err := browser.PostForm(site.Address+"/wp-login.php", url.Values{"log": {site.Admin}, "pwd": {password}, "wp-submit": {"Log In"}})
	require.NoError(t, err)
	res.Body.Close()
	return browser
}
