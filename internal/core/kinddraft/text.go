package kinddraft

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/sitedb"
)

// writer writes YAML line by line.
type writer struct{ strings.Builder }

func (w *writer) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// q is a text as YAML holds it, whatever is in it.
func q(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(s) + `"`
}

func list(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = q(n)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

func (d *draft) text() []byte {
	w := &writer{}
	w.line("# A draft of the kind %s, from what was found in %s. Lines with a question mark are guesses: look at them,", d.in.Name,
		d.in.Site.Root())
	w.line("# then: nestseed kind check FILE, nestseed kind add FILE. docs/kinds.md says what each part means.")
	w.line("name: %s", d.in.Name)
	w.line("title: %s", q(strings.ToUpper(d.in.Name[:1])+strings.ReplaceAll(d.in.Name[1:], "-", " ")))
	w.line("detect: %s # ? files that every site of the kind has, and others do not", list(d.signs()))
	w.line("")
	d.settingsText(w)
	d.valuesText(w)
	d.accountsText(w)
	d.foldersText(w)
	d.listsText(w)
	return []byte(w.String())
}

// plainSign are files that say nothing of an application.
var plainSign = regexp.MustCompile(`(?i)^(index\.(php|html?)|robots\.txt|favicon\.ico|\.htaccess|readme.*|license.*|\.git.*|\.env)$`)

// signs are files near the top that have names of their own.
func (d *draft) signs() (out []string) {
	for _, e := range d.files {
		if len(out) < 3 && !strings.Contains(e.Path, "/") && !plainSign.MatchString(e.Path) && e.Path != d.file {
			out = append(out, e.Path)
		}
	}
	for _, e := range d.files {
		if len(out) < 2 && strings.Count(e.Path, "/") == 1 && strings.HasSuffix(e.Path, ".php") && e.Path != d.file &&
			!slices.Contains(out, e.Path) {
			out = append(out, e.Path)
		}
	}
	if d.file != "" && len(out) < 3 {
		out = append(out, d.file)
	}
	if len(out) == 0 && len(d.files) > 0 {
		out = append(out, d.files[0].Path)
	}
	return out
}

func (d *draft) settingsText(w *writer) {
	if d.file == "" {
		w.line("# No settings file was found. If there is one, name it: settings: {files: [path], syntax: php|dotenv|ini|json|yaml}")
		return
	}
	w.line("settings:")
	w.line("  files: %s", list([]string{d.file}))
	w.line("  syntax: %s", d.syntax)
	if len(d.roles) > 0 {
		w.line("  database:")
		if driver := d.roles["driver"]; driver != "" {
			value, _ := d.settings.Get(driver)
			w.line("    driver: %s", q(driver))
			w.line("    drivers: {%s: %s} # ? others that sites of the kind can have", sitedb.EngineCalled(value), list([]string{value}))
		} else {
			w.line("    engine: %s # ? or another", sitedb.EngineCalled(""))
		}
		for _, part := range []string{"url", "name", "user", "password", "host", "port"} {
			if name := d.roles[part]; name != "" {
				w.line("    %s: %s", part, q(name))
			}
		}
	}
	if p := d.roles["prefix"]; p != "" {
		w.line("  prefix: %s", q(p))
	}
	if len(d.secrets) > 0 {
		w.line("  salts: %s # ? keys that each site has for itself; take out those of services", list(d.secrets))
	}
	w.line("")
}

// place is a setting, or else an option.
func place(setting, option string) string {
	if setting != "" {
		return "{setting: " + q(setting) + "}"
	}
	return q(option)
}

func (d *draft) valuesText(w *writer) {
	o := cmp.Or(d.options, &optionTable{})
	if d.options != nil {
		w.line("options: {table: %s, key: %s, value: %s} # ?", q(o.table), q(o.key), q(o.value))
	}
	if d.address != "" || o.address != "" {
		w.line("address: [%s]", place(d.address, o.address))
	}
	if d.title != "" || o.title != "" {
		w.line("site-title: %s # ?", place(d.title, o.title))
	}
	if d.email != "" || o.email != "" {
		w.line("site-email: %s # ?", place(d.email, o.email))
	}
	if len(d.empty) > 0 {
		w.line("empty: %s # ? tables that the application fills in by itself", list(d.empty))
	}
	var signs []string
	for _, t := range d.tables {
		if bare, own := strings.CutPrefix(t.Name, d.prefix); own && !t.View && len(signs) < 4 && !slices.Contains(d.empty, bare) {
			signs = append(signs, bare)
		}
	}
	if len(signs) > 0 {
		w.line("tables: %s # ? those that tell the kind where there is only a dump", list(signs))
	}
	w.line("")
}

func (d *draft) accountsText(w *writer) {
	a := d.accounts
	if a == nil {
		w.line("# No table of accounts was found: sites get no administrator, and nobody tries to log in.")
		w.line("")
		return
	}
	w.line("administrator: # ? compare with the row of an administrator; other tables may say what an account may do")
	w.line("  hash: %s", cmp.Or(a.scheme, "bcrypt"))
	w.line("  rows:")
	values := []string{q(a.login) + `: "{login}"`, q(a.hash) + `: "{hash}"`}
	if a.email != "" && a.email != a.login {
		values = append(values, q(a.email)+`: "{email}"`)
	}
	w.line("    - table: %s", q(a.table))
	w.line("      values: {%s}", strings.Join(values, ", "))
	w.line("# login: {path: login, form: true, fields: {username: \"{login}\", password: \"{password}\"}, inside: account}")
	w.line("")
}

var cacheName = regexp.MustCompile(`(?i)(^|/)(cache|caches|tmp|temp|compiled|sessions)$`)

func (d *draft) foldersText(w *writer) {
	var caches []string
	for name := range d.all {
		if cacheName.MatchString(name) && !slices.ContainsFunc(d.files, func(e hostfs.Entry) bool { return e.Path == name }) {
			caches = append(caches, name)
		}
	}
	slices.Sort(caches)
	if len(caches) > 0 {
		w.line("caches: %s # ? folders that are emptied on a new site", list(caches))
	}
	media := d.media()
	w.line(`pages: [""]`)
	if d.file != "" {
		w.line("private: %s", list([]string{d.file, ".git/config"}))
	}
	w.line("")
	w.line("areas: # ?")
	if media != "" {
		w.line("  - {area: media, match: %s}", list([]string{media + "/**"}))
	}
	w.line(`  - {area: core, match: ["**"]}`)
	w.line("code: {whole: [core]}")
	if media != "" {
		w.line("keep:")
		w.line("  - {what: uploads, title: files that were uploaded, folders: %s}", list([]string{media}))
	}
	w.line("")
}

// media is the folder that most of the pictures are in.
func (d *draft) media() string {
	best := ""
	for _, name := range slices.Sorted(maps.Keys(d.folders)) {
		if name != "." && (best == "" || d.folders[name] > d.folders[best] || d.folders[name] == d.folders[best] && len(name) > len(best)) {
			best = name
		}
	}
	if best != "" && path.Dir(best) != "." && d.folders[path.Dir(best)] == d.folders[best] &&
		!regexp.MustCompile(`(?i)upload|media|files|images`).MatchString(best) {
		return path.Dir(best)
	}
	return best
}

func (d *draft) listsText(w *writer) {
	out := []string{"**/.git/**", "**/node_modules/**", "**/*.log"}
	w.line("lists:")
	w.line("  starter: |")
	w.line("    list: starter")
	w.line("    leave-out:")
	w.line("      paths: %s", list(out))
	if a := d.accounts; a != nil {
		w.line("    empty: %s", list(append([]string{a.table}, d.empty...)))
	} else if len(d.empty) > 0 {
		w.line("    empty: %s", list(d.empty))
	}
	var blank []string
	for _, part := range []string{"url", "name", "user", "password", "host"} {
		if d.roles[part] != "" {
			blank = append(blank, d.roles[part])
		}
	}
	blank = append(blank, d.secrets...)
	if d.email != "" {
		blank = append(blank, d.email)
	}
	if len(blank) > 0 || d.options != nil && d.options.email != "" && d.email == "" {
		w.line("    blank:")
	}
	if len(blank) > 0 {
		w.line("      settings: %s", list(blank))
	}
	o := cmp.Or(d.options, &optionTable{})
	if o.email != "" && d.email == "" {
		w.line("      options: %s", list([]string{o.email}))
	}
	d.fieldsText(w, o)
	w.line("  whole-site: |")
	w.line("    list: whole-site")
	if p := cmp.Or(d.roles["password"], d.roles["url"]); p != "" {
		w.line("    blank:")
		w.line("      settings: %s", list([]string{p}))
	}
}

func (d *draft) fieldsText(w *writer, o *optionTable) {
	to := func(setting, option string) string {
		if setting != "" {
			return "[{setting: " + q(setting) + "}]"
		}
		return "[{option: " + q(option) + "}]"
	}
	title, email := d.title != "" || o.title != "", d.email != "" || o.email != ""
	if title || email {
		w.line("    fields:")
	}
	if title {
		w.line("      - {key: title, label: Site title, required: true, to: %s}", to(d.title, o.title))
	}
	if email {
		w.line("      - {key: email, label: Contact e-mail, type: email, required: true, to: %s}", to(d.email, o.email))
	}
}
