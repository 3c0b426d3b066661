// Package kinddraft proposes the definition of a kind from what it finds in a site's folder and database. It is a beginning: what it
// cannot know it leaves out, and what it has guessed it says beside the line.
//
//	text, err := kinddraft.Propose(ctx, kinddraft.Input{Site: folder, DB: db, Name: "noticeboard", Address: "https://notices.example"})
package kinddraft

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
)

// Input is what is looked at.
type Input struct {
	Site    hostfs.FS                            // the folder
	DB      sitedb.DB                            // nil where there is none, or nobody knows
	Name    string                               // of the kind
	Address string                               // of the site; "" where that is not known
	Open    func(kind.Access) (sitedb.DB, error) // opens the database that the settings tell; may be nil
}

// draft gathers what is found.
type draft struct {
	in       Input
	files    []hostfs.Entry
	folders  map[string]int64 // bytes of pictures below folders of the first two levels
	all      map[string]bool
	settings kind.Settings
	file     string // the settings file
	syntax   string
	roles    map[string]string // what settings are of the database, by part
	address  string            // the setting that holds the address
	title    string
	email    string
	secrets  []string
	tables   []sitedb.Table
	prefix   string
	options  *optionTable
	accounts *accountTable
	empty    []string
}

type optionTable struct{ table, key, value, address, title, email string }

type accountTable struct{ table, login, email, hash, scheme string }

// Propose returns the YAML of a definition. Errors: those of reading.
func Propose(ctx context.Context, in Input) ([]byte, error) {
	d := &draft{in: in, folders: map[string]int64{}, all: map[string]bool{}, roles: map[string]string{}}
	if err := d.walk(ctx); err != nil {
		return nil, err
	}
	d.findSettings(ctx)
	if d.in.DB == nil && d.in.Open != nil && d.roles["name"]+d.roles["url"] != "" {
		if db, err := d.in.Open(d.access()); err == nil { // the draft is worth something without it
			defer db.Close()
			d.in.DB = db
		}
	}
	if d.in.DB != nil {
		if err := d.findTables(ctx); err != nil {
			return nil, err
		}
	}
	text := d.text()
	if _, err := kind.Parse(text); err != nil {
		return nil, fmt.Errorf("what was found makes no definition: %w", err)
	}
	return text, nil
}

// mostFiles bounds how many files are looked at.
const mostFiles = 200_000

func (d *draft) walk(ctx context.Context) error {
	return d.in.Site.Walk(ctx, ".", func(e hostfs.Entry) error {
		d.all[e.Path] = true
		if !e.Mode.IsRegular() {
			return nil
		}
		if len(d.files) == mostFiles {
			return fs.SkipAll
		}
		d.files = append(d.files, e)
		if slices.Contains([]string{".jpg", ".jpeg", ".png", ".gif", ".webp", ".svg", ".pdf"}, strings.ToLower(path.Ext(e.Path))) {
			parts := strings.Split(path.Dir(e.Path), "/")
			for n := 1; n <= min(2, len(parts)); n++ {
				d.folders[strings.Join(parts[:n], "/")] += e.SizeBytes
			}
		}
		return nil
	}, func(string, error) {})
}

// settingsNames are how settings files are called, and how they are written.
var settingsNames = []struct {
	form   *regexp.Regexp
	syntax string
}{
	{regexp.MustCompile(`(?i)(^|/)\.env$`), "dotenv"},
	{regexp.MustCompile(`(?i)(^|/)\.?(config|configuration|settings|local|database|db|site|app|parameters)[a-z._-]*\.php$`), "php"},
	{regexp.MustCompile(`(?i)(^|/)\.?(config|configuration|settings|database|site|app|parameters)[a-z._-]*\.ini$`), "ini"},
	{regexp.MustCompile(`(?i)(^|/)\.?(config|configuration|settings|database|site|app|parameters)[a-z._-]*\.json$`), "json"},
	{regexp.MustCompile(`(?i)(^|/)\.?(config|configuration|settings|database|site|app|parameters)[a-z._-]*\.ya?ml$`), "yaml"},
}

// databaseRoles are how the parts of a database's access are called in settings.
var databaseRoles = []struct {
	part string
	form *regexp.Regexp
}{
	{"url", regexp.MustCompile(`(?i)^database_url$|dsn$`)},
	{"password", regexp.MustCompile(`(?i)(db|database|mysql|pg).*pass(word|wd)?\]?$|>password$|\[password\]$`)},
	{"user", regexp.MustCompile(`(?i)(db|database|mysql|pg).*user(name)?\]?$|>user$|\[username\]$`)},
	{"driver", regexp.MustCompile(`(?i)(db|database).*(driver|type|connection|engine)\]?$|>dbtype$`)},
	{"port", regexp.MustCompile(`(?i)(db|database).*port\]?$`)},
	{"host", regexp.MustCompile(`(?i)(db|database|mysql|pg).*(host|server)(name)?\]?$|>host$`)},
	{"prefix", regexp.MustCompile(`(?i)(table|db).*prefix\]?$`)},
	{"name", regexp.MustCompile(`(?i)(db|database|mysql|pg)[^a-z]*(name|database|schema)\]?$|^db$|>db$|\[(database|dbname)\]$`)},
}

// findSettings takes the file that says most of a database, or else of the site.
func (d *draft) findSettings(ctx context.Context) {
	best := -1
	for _, e := range d.files {
		if strings.Count(e.Path, "/") > 3 || e.SizeBytes > 256<<10 {
			continue
		}
		for _, n := range settingsNames {
			if !n.form.MatchString(e.Path) {
				continue
			}
			text, err := hostfs.ReadFile(ctx, d.in.Site, e.Path, 256<<10)
			if err != nil {
				continue
			}
			s, err := kind.ReadSettings(n.syntax, text, path.Join(d.in.Site.Root(), path.Dir(e.Path)), nil)
			if err != nil {
				continue
			}
			if found := score(s, d.in.Address); found > best {
				best, d.settings, d.file, d.syntax = found, s, e.Path, n.syntax
			}
			break
		}
	}
	if best <= 0 {
		d.settings, d.file = nil, ""
		return
	}
	d.name()
}

// score says how much of what is looked for a settings file holds.
func score(s kind.Settings, address string) (n int) {
	for _, name := range s.Names() {
		for _, r := range databaseRoles {
			if r.form.MatchString(name) {
				n += 3
				break
			}
		}
		v, _ := s.Get(name)
		if isAddress(v, address) || kind.SecretName(name) && v != "" {
			n++
		}
	}
	return n
}

func isAddress(v, address string) bool {
	v = strings.TrimRight(v, "/")
	return v != "" && (v == strings.TrimRight(address, "/") || address == "" && webAddress.MatchString(v))
}

var (
	webAddress = regexp.MustCompile(`^https?://[^/\s]+\.[^/\s]+(/[^\s?#]*)?$`)
	mail       = regexp.MustCompile(`^[^@\s]+@[^@\s]+\.[^@\s]+$`)
	titleName  = regexp.MustCompile(`(?i)(site|app|blog)?[^a-z]*(title|sitename|site_name|app_name)\]?$|>sitename$`)
)

// name says what the settings are.
func (d *draft) name() {
	taken := map[string]bool{}
	for _, r := range databaseRoles {
		for _, name := range d.settings.Names() {
			if d.roles[r.part] == "" && !taken[name] && r.form.MatchString(name) {
				d.roles[r.part] = name
				taken[name] = true
			}
		}
	}
	if d.roles["name"] == "" && d.roles["url"] == "" {
		d.roles = map[string]string{} // a host or a user alone is of something else
		clear(taken)
	}
	for _, name := range d.settings.Names() {
		v, err := d.settings.Get(name)
		switch {
		case err != nil || taken[name]:
		case d.address == "" && isAddress(v, d.in.Address):
			d.address = name
		case d.title == "" && v != "" && titleName.MatchString(name):
			d.title = name
		case d.email == "" && mail.MatchString(v):
			d.email = name
		case v != "" && (kind.SecretName(name) || kind.SecretShape(v)) && !slices.Contains(d.secrets, name):
			d.secrets = append(d.secrets, name)
		}
	}
}

// access is what the settings tell of the database.
func (d *draft) access() kind.Access {
	get := func(part string) string {
		if d.roles[part] == "" {
			return ""
		}
		v, _ := d.settings.Get(d.roles[part])
		return v
	}
	a := kind.Access{Engine: sitedb.EngineCalled(get("driver")), Name: get("name"), User: get("user"), Password: get("password"),
		Host: cmp.Or(get("host"), "localhost")}
	if port := get("port"); port != "" && !strings.Contains(a.Host, ":") {
		a.Host += ":" + port
	}
	return a
}

// findTables says what the tables are.
func (d *draft) findTables(ctx context.Context) (err error) {
	if d.tables, err = d.in.DB.Tables(ctx); err != nil {
		return err
	}
	if d.roles["prefix"] != "" {
		d.prefix, _ = d.settings.Get(d.roles["prefix"])
	}
	for i := range d.tables {
		t := &d.tables[i]
		if t.View || !strings.HasPrefix(t.Name, d.prefix) {
			continue
		}
		bare := strings.TrimPrefix(t.Name, d.prefix)
		if rebuilt.MatchString(bare) {
			d.empty = append(d.empty, bare)
			continue
		}
		if err := d.findAccounts(ctx, t, bare); err != nil {
			return err
		}
		if err := d.findOptions(ctx, t, bare); err != nil {
			return err
		}
	}
	return nil
}

// rebuilt are tables that an application fills in by itself.
var rebuilt = regexp.MustCompile(`(?i)(^|_)(cache|caches|session|sessions|queue|jobs|failed_jobs|flood|semaphore|tmp|temp)(_|$)`)

// column returns the first column whose name fits.
func column(t *sitedb.Table, form string) string {
	re := regexp.MustCompile(form)
	for _, c := range t.Columns {
		if re.MatchString(c.Name) {
			return c.Name
		}
	}
	return ""
}

func (d *draft) findAccounts(ctx context.Context, t *sitedb.Table, bare string) error {
	hash, login := column(t, `(?i)^(user_)?(pass(word|wd)?(_hash)?|hash)$`), column(t, `(?i)^(user_?name|login|user_login|name|email|mail)$`)
	if d.accounts != nil || hash == "" || login == "" {
		return nil
	}
	a := &accountTable{table: bare, login: login, email: column(t, `(?i)^(user_)?e?mail$`), hash: hash}
	err := d.in.DB.Select(ctx, t.Name, []string{hash}, "", nil, func(row [][]byte) error {
		a.scheme = cmp.Or(kind.HashScheme(string(row[0])), a.scheme)
		return nil
	})
	d.accounts = a
	return err
}

// optionBytes bounds the tables that are read for options.
const optionBytes = 16 << 20

// findOptions looks for a table of names and values that holds the site's address.
func (d *draft) findOptions(ctx context.Context, t *sitedb.Table, bare string) error {
	key, value := column(t, `(?i)^(option_|setting_|config_)?(name|key|variable)$`),
		column(t, `(?i)^(option_|setting_|config_)?(value|data|val)$`)
	if d.options != nil || key == "" || value == "" || t.DataBytes > optionBytes {
		return nil
	}
	o := &optionTable{table: bare, key: key, value: value}
	err := d.in.DB.Select(ctx, t.Name, []string{key, value}, "", nil, func(row [][]byte) error {
		name, v := string(row[0]), string(row[1])
		switch {
		case o.address == "" && isAddress(v, d.in.Address):
			o.address = name
		case o.title == "" && v != "" && titleName.MatchString(name):
			o.title = name
		case o.email == "" && mail.MatchString(v):
			o.email = name
		}
		return nil
	})
	if err == nil && (o.address != "" || o.title != "") {
		d.options = o
	}
	return err
}
