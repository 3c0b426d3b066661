package stack

import (
	"context"
	"embed"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/bcrypt"
)

//go:embed all:standins
var standins embed.FS

// Page is a page of a stand-in.
type Page struct {
	Title string `json:"title"`
	Body  string `json:"body"` // HTML
}

// StandIn says how a stand-in is installed: see standins/README.md.
type StandIn struct {
	Name     string // the site's folder and host name
	Title    string
	Engine   string // of its database: mysql, postgres or sqlite
	Database string // for SQLite, the file's path below the site's folder
	Prefix   string
	Pages    []Page

	DatabasePassword, Salt, Admin, AdminPassword, AdminEmail string
}

const drupalSettings = `<?php

/**
 * @file
 * Settings of %[1]s.
 */
$databases['default']['default'] = array (
  'database' => '%[2]s',
  'username' => '%[3]s',
  'password' => '%[4]s', // of the base site
  'prefix' => '%[5]s',
  'host' => '127.0.0.1',
  'port' => '%[6]d',
  'driver' => '%[7]s',
  'namespace' => 'Drupal\\%[7]s\\Driver\\Database\\%[7]s',
);
$settings['hash_salt'] = '%[8]s';
$settings['trusted_host_patterns'] = [
  '^%[9]s$',
];
$settings['file_private_path'] = 'sites/default/private';
`

// InstallDrupal makes a site of the stand-in for Drupal.
func (s *Stack) InstallDrupal(ctx context.Context, in StandIn) error {
	user, port := in.Database, s.DatabasePort
	driver := map[string]string{"mysql": "mysql", "postgres": "pgsql", "sqlite": "sqlite"}[in.Engine]
	switch in.Engine {
	case "postgres":
		port = s.PostgresPort
	case "sqlite":
		user, port = "", 0
	}
	u, err := url.Parse(s.Address(in.Name))
	if err != nil {
		return err
	}
	host := strings.ReplaceAll(u.Hostname(), ".", `\.`)
	settings := fmt.Sprintf(drupalSettings, in.Name, in.Database, user, in.DatabasePassword, in.Prefix, port, driver, in.Salt, host)
	if err := s.placeStandIn(ctx, "drupal", in, map[string]string{"sites/default/settings.php": settings}); err != nil {
		return err
	}
	dir := filepath.Join(s.Sites(), in.Name)
	if err := os.WriteFile(filepath.Join(dir, "sites/default/files/hall.png"), OnePixel, 0o644); err != nil {
		return err
	}
	nodes, err := json.Marshal(in.Pages)
	if err != nil {
		return err
	}
	return s.install(ctx, in, "core/install.php", url.Values{"site_name": {in.Title}, "site_mail": {in.AdminEmail}, "slogan": {"Music for everyone"},
		"account_name": {in.Admin}, "account_pass": {in.AdminPassword}, "address": {s.Address(in.Name)}, "nodes": {string(nodes)}})
}

const joomlaSettings = `<?php
class JConfig {
	public $offline = false;
	public $offline_message = 'This site is down for maintenance.<br>Please check back again soon.';
	public $sitename = '%[1]s';
	public $dbtype = '%[2]s';
	public $host = '127.0.0.1:%[3]d';
	public $user = '%[4]s';
	public $password = '%[5]s';
	public $db = '%[4]s';
	public $dbprefix = '%[6]s';
	public $secret = '%[7]s';
	public $mailonline = true;
	public $mailfrom = '%[8]s';
	public $fromname = '%[1]s';
	public $log_path = '%[9]s/administrator/logs';
	public $tmp_path = '%[9]s/tmp';
	public $live_site = '';
	public $offset = 'Europe/London';
	public $MetaDesc = 'Lessons and concerts';
	public $robots = '';
	public $smtppass = '';
}
`

// InstallJoomla makes a site of the stand-in for Joomla.
func (s *Stack) InstallJoomla(ctx context.Context, in StandIn) error {
	port := s.DatabasePort
	dbtype := map[string]string{"mysql": "mysqli", "postgres": "pgsql"}[in.Engine]
	if in.Engine == "postgres" {
		port = s.PostgresPort
	}
	dir := filepath.Join(s.Sites(), in.Name)
	settings := fmt.Sprintf(joomlaSettings, in.Title, dbtype, port, in.Database, in.DatabasePassword, in.Prefix, in.Salt, in.AdminEmail, dir)
	if err := s.placeStandIn(ctx, "joomla", in, map[string]string{"configuration.php": settings}); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "images/hall.png"), OnePixel, 0o644); err != nil {
		return err
	}
	articles, err := json.Marshal(in.Pages)
	if err != nil {
		return err
	}
	return s.install(ctx, in, "includes/install.php", url.Values{"account_name": {in.Admin}, "account_pass": {in.AdminPassword}, "email": {in.AdminEmail},
		"address": {s.Address(in.Name)}, "articles": {string(articles)}})
}

// OnePixel is a PNG of one pixel.
var OnePixel = []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x06\x00\x00\x00\x1f\x15\xc4\x89\x00\x00\x00\rIDATx\x9cc\xf8\xcf" +
	"\xc0\xf0\x1f\x00\x05\x00\x01\xff\x89\x99=\x1d\x00\x00\x00\x00IEND\xaeB`\x82")

// emptyFolders are folders that a stand-in begins with and that hold nothing, by kind.
var emptyFolders = map[string][]string{"drupal": {"sites/default/files", "sites/default/private", "sites/default/database"}, "noticeboard": {"uploads"}}

// placeStandIn copies the files of a stand-in and makes its database.
func (s *Stack) placeStandIn(ctx context.Context, kind string, in StandIn, settings map[string]string) error {
	dir := filepath.Join(s.Sites(), in.Name)
	from, err := fs.Sub(standins, "standins/"+kind)
	if err != nil {
		return err
	}
	if err := os.CopyFS(dir, from); err != nil {
		return err
	}
	for _, folder := range emptyFolders[kind] {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return err
		}
	}
	for name, text := range settings {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o640); err != nil {
			return err
		}
	}
	if err := s.Own(dir); err != nil {
		return err
	}
	switch in.Engine {
	case "mysql":
		return s.MakeDatabase(ctx, in.Database, in.DatabasePassword, "")
	case "postgres":
		return s.MakePostgres(ctx, in.Database, in.DatabasePassword)
	}
	return nil
}

// install sends the form of a stand-in's installer, and takes the installer away.
func (s *Stack) install(ctx context.Context, in StandIn, page string, form url.Values) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Address(in.Name)+"/"+page, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := Client().Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err == nil && !strings.Contains(string(body), "Congratulations") {
		err = fmt.Errorf("the stand-in did not install at %s (%d): %.600s", s.Address(in.Name), res.StatusCode, body)
	}
	if err != nil {
		return err
	}
	return os.Remove(filepath.Join(s.Sites(), in.Name, page))
}

// InstallNoticeboard makes a site of a small program without a database.
func (s *Stack) InstallNoticeboard(ctx context.Context, in StandIn) error {
	if err := s.placeStandIn(ctx, "noticeboard", in, nil); err != nil {
		return err
	}
	dir := filepath.Join(s.Sites(), in.Name)
	word, err := bcrypt.GenerateFromPassword([]byte(in.AdminPassword), bcrypt.MinCost)
	if err != nil {
		return err
	}
	for _, name := range []string{"config/.site.yaml", "content/home.html", "content/hire.html"} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			return err
		}
		text = []byte(strings.NewReplacer("http://notices.example", s.Address(in.Name), `word: ""`, fmt.Sprintf("word: %q", word), "pepper-of-the-noticeboard-0815",
			in.Salt, "Loom & Ladder notices", in.Title).Replace(string(text)))
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o644); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "uploads/hall.png"), OnePixel, 0o644); err != nil {
		return err
	}
	return s.Own(dir)
}
