package stack

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
)

// WordPress says how a site is installed.
type WordPress struct {
	Name     string // the site's folder and host name
	Title    string
	Database string
	Prefix   string
	ReadOnly string // name of a database user who may only read, for surveys; made when not empty
	Whole    bool   // also what a throwaway site is made without (Stack.leaves)
	SQLite   bool   // its database is a file in its folder, by the drop-in in standins/wordpress-sqlite
	// Settings are further lines of the settings file.
	Settings string
	// Passwords of the site, made by the caller.
	DatabasePassword, AdminPassword, Salt string
	AdminEmail                            string
}

const wpConfig = `<?php
/** Settings of %[1]s */
define( 'DB_NAME', '%[2]s' );
define( 'DB_USER', '%[2]s' );
define( 'DB_PASSWORD', '%[3]s' );
define( 'DB_HOST', '127.0.0.1:%[4]d' );
define( 'DB_CHARSET', 'utf8mb4' );
define( 'DB_COLLATE', '' );
%[5]s
$table_prefix = '%[6]s';
define( 'WP_DEBUG', false );
define( 'DISABLE_WP_CRON', true );
define( 'WP_HTTP_BLOCK_EXTERNAL', true );
define( 'AUTOMATIC_UPDATER_DISABLED', true );
%[7]s
/* That's all, stop editing! Happy publishing. */
if ( ! defined( 'ABSPATH' ) ) {
	define( 'ABSPATH', __DIR__ . '/' );
}
require_once ABSPATH . 'wp-settings.php';
`

var saltNames = []string{"AUTH_KEY", "SECURE_AUTH_KEY", "LOGGED_IN_KEY", "NONCE_KEY", "AUTH_SALT", "SECURE_AUTH_SALT", "LOGGED_IN_SALT",
	"NONCE_SALT"}

// InstallWordPress copies Debian's WordPress into the sites folder, makes its database and runs its
// installer over HTTP.
func (s *Stack) InstallWordPress(ctx context.Context, wp WordPress) error {
	dir := filepath.Join(s.Sites(), wp.Name)
	leaves := s.leaves
	if wp.Whole {
		leaves = func(string) bool { return false }
	}
	if err := copyTree("/usr/share/wordpress", dir, leaves); err != nil {
		return fmt.Errorf("copy WordPress: %w; is Debian's package wordpress installed?", err)
	}
	os.RemoveAll(filepath.Join(dir, "wp-content"))
	for _, d := range []string{"wp-content/uploads", "wp-content/plugins", "wp-content/languages"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			return err
		}
	}
	if err := copyTree("/var/lib/wordpress/wp-content/themes", filepath.Join(dir, "wp-content/themes"), leaves); err != nil {
		return err
	}
	if wp.SQLite {
		if err := dropIn(filepath.Join(dir, "wp-content/db.php")); err != nil {
			return err
		}
	} else if err := s.MakeDatabase(ctx, wp.Database, wp.DatabasePassword, wp.ReadOnly); err != nil {
		return err
	}
	var salts strings.Builder
	for _, n := range saltNames {
		fmt.Fprintf(&salts, "define( '%s', '%s-%s' );\n", n, wp.Salt, strings.ToLower(n))
	}
	text := fmt.Sprintf(wpConfig, wp.Title, wp.Database, wp.DatabasePassword, s.DatabasePort, salts.String(), wp.Prefix, wp.Settings)
	if err := os.WriteFile(filepath.Join(dir, "wp-config.php"), []byte(text), 0o640); err != nil {
		return err
	}
	if err := s.Own(dir); err != nil {
		return err
	}
	res, err := Client().PostForm(s.Address(wp.Name)+"/wp-admin/install.php?step=2", url.Values{
		"weblog_title": {wp.Title}, "user_name": {"ines"}, "admin_password": {wp.AdminPassword}, "admin_password2": {wp.AdminPassword},
		"pw_weak": {"1"}, "admin_email": {wp.AdminEmail}, "blog_public": {"1"}, "Submit": {"Install"}, "language": {""},
	})
	if err != nil {
		return err
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	if res.StatusCode != http.StatusOK || !strings.Contains(string(body), "Success!") {
		return fmt.Errorf("WordPress did not install at %s (%d): %.600s", s.Address(wp.Name), res.StatusCode, body)
	}
	return nil
}

// dropIn lets WordPress keep its database in an SQLite file.
func dropIn(file string) error {
	text, err := standins.ReadFile("standins/wordpress-sqlite/db.php")
	if err != nil {
		return err
	}
	return os.WriteFile(file, text, 0o644)
}

// MakeDatabase makes a database with its user, and perhaps a second user who may only read it.
func (s *Stack) MakeDatabase(ctx context.Context, name, password, readOnly string) error {
	db, err := s.Admin()
	if err != nil {
		return err
	}
	defer db.Close()
	stmts := []string{
		"CREATE DATABASE `" + name + "` CHARACTER SET utf8mb4",
		fmt.Sprintf("CREATE OR REPLACE USER '%s'@'%%' IDENTIFIED BY '%s'", name, password),
		fmt.Sprintf("GRANT ALL ON `%s`.* TO '%s'@'%%'", name, name),
	}
	if readOnly != "" {
		stmts = append(stmts, fmt.Sprintf("CREATE OR REPLACE USER '%s'@'%%' IDENTIFIED BY '%s'", readOnly, password),
			fmt.Sprintf("GRANT SELECT, SHOW VIEW, TRIGGER ON `%s`.* TO '%s'@'%%'", name, readOnly))
	}
	for _, stmt := range stmts {
		if _, err := db.ExecContext(ctx, stmt); err != nil {
			return err
		}
	}
	return nil
}

// Admin opens the database server as its administrator.
func (s *Stack) Admin() (*sql.DB, error) {
	return sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/", s.AdminUser, s.AdminPassword, s.DatabasePort))
}

// Connect opens a database with an account of its own.
func (s *Stack) Connect(database, user, password string) (*sql.DB, error) {
	return sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", user, password, s.DatabasePort, database))
}

// Own gives a tree to the user that the web server's programs run as.
func (s *Stack) Own(dir string) error {
	return filepath.WalkDir(dir, func(p string, _ os.DirEntry, err error) error {
		if err == nil {
			asUser("www-data", p)
		}
		return err
	})
}

// RunPHP runs a script inside a site, as a request to it, and returns what it prints.
func (s *Stack) RunPHP(ctx context.Context, site, script string) (string, error) {
	const name = "demo-task.php"
	file := filepath.Join(s.Sites(), site, name)
	if err := os.WriteFile(file, []byte(script), 0o644); err != nil {
		return "", err
	}
	defer os.Remove(file)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Address(site)+"/"+name, nil)
	if err != nil {
		return "", err
	}
	res, err := Client().Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		return "", err
	}
	if res.StatusCode != http.StatusOK {
		return "", errors.New(res.Status + ": " + string(body))
	}
	return string(body), nil
}
