package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
)

// Plan is what a provisioning will do.
type Plan struct {
	Release        string        `json:"release"`
	Name           string        `json:"name"`
	Address        string        `json:"address"`
	Folder         string        `json:"folder"` // absolute, on the host
	Database       string        `json:"database"`
	User           string        `json:"user"`
	Prefix         string        `json:"prefix"`
	OldPrefix      string        `json:"old_prefix"`
	Admin          string        `json:"admin"`
	Files          int64         `json:"files"`
	Bytes          int64         `json:"bytes"`
	Tables         int64         `json:"tables"`
	Rows           int64         `json:"rows"`
	Rules          rewrite.Rules `json:"rules"`
	Values         []Value       `json:"values"`
	Generated      []string      `json:"generated"` // credentials that will be made
	Visible        bool          `json:"visible"`
	FreeBytes      int64         `json:"free_bytes"`
	Without        []string      `json:"without,omitempty"`  // views, triggers, routines and events of the source that the release lacks
	Replaces       string        `json:"replaces,omitempty"` // what stands there now, kept as a safety copy
	Shares         string        `json:"shares,omitempty"`   // the install whose code it shares
	Keeps          []string      `json:"keeps,omitempty"`    // parts of it that the new site takes over
	Counts         []Count       `json:"counts,omitempty"`   // what will be replaced, by table and folder
	Samples        []Sample      `json:"samples,omitempty"`
	SubSites       []SubSite     `json:"sub_sites,omitempty"` // of a network
	Refresh        *Refreshed    `json:"refresh,omitempty"`   // of a site that takes newer code
	Server         string        `json:"server"`
	Given          bool          `json:"given,omitempty"`  // the database and its account were there
	Engine         string        `json:"engine,omitempty"` // of the database: the scheme that the server is known by
	Runtime        string        `json:"runtime,omitempty"`
	Steps          []Step        `json:"steps"`
	Missing        []string      `json:"missing"`  // keys of fields without a value they need
	Problems       []string      `json:"problems"` // sentences; with any, it cannot be done
	ExpectedMillis int64         `json:"expected_ms"`
}

// Count is how often the old address and folder are found in a table or folder of the release.
type Count struct {
	Where  string `json:"where"`
	Places int64  `json:"places"`
}

// Sample shows one place.
type Sample struct {
	Where string `json:"where"`
	Text  string `json:"text"`
}

// Value is a field with the value it will have.
type Value struct {
	Key     string   `json:"key"`
	Label   string   `json:"label"`
	Value   string   `json:"value"` // of secrets, dots
	Origin  string   `json:"origin"`
	To      []string `json:"to"`
	Secret  bool     `json:"secret,omitempty"`
	Problem string   `json:"problem,omitempty"`
}

// Step is one line of the plan.
type Step struct {
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Amount string `json:"amount,omitempty"`
}

// Ready reports whether nothing stands in the way.
func (p *Plan) Ready() bool { return len(p.Missing) == 0 && len(p.Problems) == 0 }

// ErrPlan says that a plan cannot be carried out; the sentence says why.
var ErrPlan = errors.New("cannot be done as planned")

// PlanError says what stands in the way of a plan. It is ErrPlan.
type PlanError struct {
	Problems []string // sentences
	Missing  []Value  // values that are missing or do not fit; Problem says why
}

func (e *PlanError) Error() string {
	sentences := slices.Clone(e.Problems)
	for _, v := range e.Missing {
		sentences = append(sentences, fmt.Sprintf("%s (%s) %s", v.Label, v.Key, v.Problem))
	}
	return ErrPlan.Error() + ": " + strings.Join(sentences, "; ")
}

// Unwrap implements errors.Is.
func (e *PlanError) Unwrap() error { return ErrPlan }

// Err returns what stands in the way: nil, or a PlanError.
func (p *Plan) Err() error {
	if p.Ready() {
		return nil
	}
	e := &PlanError{Problems: p.Problems}
	for _, v := range p.Values {
		if v.Problem != "" {
			e.Missing = append(e.Missing, v)
		}
	}
	return e
}

// CheckName judges the name of a site, which is part of folders and addresses.
func CheckName(name string) error {
	if !nameForm.MatchString(name) {
		return fmt.Errorf("%q is not a site's name; use small letters, digits and dashes, at most 63", name)
	}
	return nil
}

// Prepare makes the plan.
func Prepare(ctx context.Context, req Request) (*Plan, error) {
	m := &req.Archive.Manifest
	p := &Plan{
		Release: m.Ref(), Name: req.Name, Folder: path.Join(req.FS.Root(), req.Folder),
		Files: m.Totals.Files + m.Totals.Links, Bytes: m.Totals.Bytes, Tables: m.Totals.Tables, Rows: m.Totals.Rows,
		OldPrefix: m.Origin.Prefix, Visible: req.Visible || req.Kind.Visibility.Place().IsZero(), Missing: []string{}, Problems: []string{},
		Without: m.Without,
	}
	if err := CheckName(req.Name); err != nil {
		return nil, err
	}
	address, err := rewrite.ParseAddress(req.Address)
	if err != nil {
		return nil, err
	}
	p.Address, p.Engine = address.String(), req.Server.Scheme()
	p.nameDatabase(req)
	if p.Prefix = prefixFor(req.Name); m.Origin.Prefix == "" || req.Kind.Settings.Prefix == "" {
		p.Prefix = m.Origin.Prefix // the site has a database of its own
	}
	if req.Kind.Admin.Made() {
		p.Admin = req.Name + "-admin"
	}
	if req.Admin != "" {
		p.Admin = req.Admin
	}
	if sitedb.HasAccounts(p.Engine) {
		p.freeNames(ctx, req)
	}
	if req.Replace != nil {
		if err := p.replacing(ctx, req); err != nil {
			return nil, err
		}
	}
	if req.Refresh != nil {
		p.Prefix, p.Admin = req.Replace.Prefix, req.Replace.Admin
		if err := p.refreshing(ctx, req); err != nil {
			return nil, err
		}
	}
	if why := p.folderFits(address); why != "" && req.Replace == nil {
		p.Problems = append(p.Problems, why)
	}
	if err := p.subSites(m); err != nil {
		return nil, err
	}
	p.Rules = rulesFor(m, p)
	p.Rules.Mail, p.Rules.Mend = req.MailAddresses, req.Mend
	if _, err := rewrite.New(p.Rules); err != nil {
		return nil, err
	}
	if err := p.sharing(ctx, req); err != nil {
		return nil, err
	}
	p.values(req, m)
	p.Generated = []string{}
	if p.User != "" && !p.Given {
		p.Generated = append(p.Generated, "password of database user "+p.User)
	}
	if req.Refresh == nil {
		if p.Admin != "" {
			p.Generated = append(p.Generated, "password of administrator "+p.Admin)
		}
		if n := len(req.Kind.Settings.Salts); n > 0 {
			p.Generated = append(p.Generated, map[bool]string{true: "a key", false: fmt.Sprintf("%d keys and salts", n)}[n == 1])
		}
	}
	if err := p.facts(ctx, req); err != nil {
		return nil, err
	}
	p.ExpectedMillis = 200 + p.Bytes/(300<<10) + m.Totals.SQLByte/(40<<10)
	if req.Refresh != nil {
		p.refreshSteps(req)
	} else {
		p.steps(req, m)
	}
	return p, nil
}

// nameDatabase says what the database and its user are called. One that is a file is called by its path.
func (p *Plan) nameDatabase(req Request) {
	compact := strings.ReplaceAll(req.Name, "-", "")
	switch d := req.Kind.Settings.Database; {
	case sitedb.HasAccounts(p.Engine):
		p.Database, p.User = usedOnce(NamePrefix+compact, req.RunID, 57), usedOnce(NamePrefix+compact, req.RunID, 32)
	case d.None():
	case d.File == "":
		p.Problems = append(p.Problems,
			fmt.Sprintf("the definition of %s does not say where the file of a new database goes (settings.database.file)",
				req.Kind.Title))
	default:
		p.Database = path.Join(req.Folder, d.File)
	}
}

// NamePrefix begins the names of databases and accounts that are made.
const NamePrefix = "ns_"

// usedOnce adds the run and its attempt to a name, so that none is used for two things one after the other: whoever still believes in the
// first would remove the second. most is how long the name may be.
func usedOnce(name, runID string, most int) string {
	end := "_" + strings.ReplaceAll(runID, "-", "_")
	if runID == "" {
		end = "_" + UntilRun // a plan
	}
	return name[:min(len(name), most-len(end))] + end
}

// UntilRun stands in the names of a plan for the number of the run that will carry it out.
const UntilRun = "…"

// prefixFor makes a table prefix from the first letters of a name's parts.
func prefixFor(name string) string {
	var out strings.Builder
	for part := range strings.SplitSeq(name, "-") {
		if part != "" && part[0] >= 'a' {
			out.WriteByte(part[0])
		}
	}
	if out.Len() == 0 {
		return "s_"
	}
	return out.String() + "_"
}

func rulesFor(m *archive.Manifest, p *Plan) rewrite.Rules {
	r := rewrite.Rules{Addresses: []rewrite.Pair{}}
	if m.Origin.Address != "" { // files alone that were imported do not tell it
		r.Addresses = append(r.Addresses, rewrite.Pair{Old: m.Origin.Address, New: p.Address})
		for _, also := range alsoKnown(m.Origin, p.Address) {
			r.Addresses = append(r.Addresses, rewrite.Pair{Old: also, New: p.Address})
		}
		r.Addresses = append(r.Addresses, p.elsewhere(m)...)
	}
	if strings.Count(path.Clean(m.Origin.WebRoot), "/") >= 2 {
		r.Paths = []rewrite.Pair{{Old: m.Origin.WebRoot, New: p.Folder}}
	}
	if real := path.Clean(m.Origin.RealRoot); strings.Count(real, "/") >= 2 && real != path.Clean(m.Origin.WebRoot) {
		r.Paths = append(r.Paths, rewrite.Pair{Old: real, New: p.Folder})
	}
	return r
}

// alsoText names the other addresses that become the new one.
func (p *Plan) alsoText() (text string) {
	for _, a := range p.Rules.Addresses[min(1, len(p.Rules.Addresses)):] {
		if u, err := url.Parse(a.Old); err == nil {
			text += ", " + u.Host + u.Path
		}
	}
	return text
}

// alsoKnown returns what else a site was known as: the other addresses it gave for itself, and each of its hosts with www.
// before it or without. A site that stays at its host is not looked into for the latter.
func alsoKnown(of archive.Origin, address string) []string {
	known := []string{of.Address}
	for _, a := range of.Also {
		if _, err := rewrite.ParseAddress(a); err == nil {
			known = append(known, a)
		}
	}
	if old, err := rewrite.ParseAddress(of.Address); err == nil {
		if fresh, err := rewrite.ParseAddress(address); err == nil && fresh.Hostname() == old.Hostname() {
			return known[1:]
		}
	}
	for _, a := range slices.Clone(known) {
		u, err := rewrite.ParseAddress(a)
		if err != nil || net.ParseIP(u.Hostname()) != nil || !strings.Contains(u.Hostname(), ".") {
			continue
		}
		twin, has := strings.CutPrefix(u.Host, "www.")
		if !has {
			twin = "www." + u.Host
		}
		if u.Host = twin; !slices.Contains(known, u.String()) && !strings.EqualFold(u.String(), address) {
			known = append(known, u.String())
		}
	}
	return known[1:]
}

// values decides the value of each field: what was given, else the release's own, as it will be on the site, else the field's default.
func (p *Plan) values(req Request, m *archive.Manifest) {
	inRelease := map[string]string{}
	r, err := rewrite.New(p.Rules)
	for _, d := range m.Defaults {
		inRelease[d.Key] = d.Value
		if err == nil {
			inRelease[d.Key] = string(r.Worker().Value(nil, []byte(d.Value)))
		}
	}
	for _, f := range m.List.Fields {
		v := Value{Key: f.Key, Label: f.Label, Secret: f.Secret}
		for _, t := range f.To {
			v.To = append(v.To, t.String())
		}
		given, ok := req.Values[f.Key]
		switch {
		case ok && given.Value != "":
			v.Value, v.Origin = given.Value, given.Origin
		case inRelease[f.Key] != "" && !f.Required:
			v.Value, v.Origin = inRelease[f.Key], fromRelease
		case f.Default != "":
			v.Value, v.Origin = f.Default, fromField
		}
		if err := f.Check(v.Value); err != nil && v.Origin != fromRelease {
			v.Problem = err.Error()
			p.Missing = append(p.Missing, f.Key)
		}
		for _, t := range f.To {
			if req.Kind.Own(t.Place()) {
				p.Problems = append(p.Problems, fmt.Sprintf("field %s goes to %s, which each site has its own of; take it out of the packing list and "+
					"build again", f.Key, t))
			}
			if err := tokenFits(t, v.Value); err != nil && v.Problem == "" {
				v.Problem = err.Error()
				p.Missing = append(p.Missing, f.Key)
			}
		}
		if f.Secret && v.Value != "" {
			v.Value = "••••••••"
		}
		p.Values = append(p.Values, v)
	}
	for key := range req.Values {
		if !slices.ContainsFunc(m.List.Fields, func(f packing.Field) bool { return f.Key == key }) && req.Values[key].Origin == "given" {
			p.Problems = append(p.Problems, fmt.Sprintf("%s asks for no field %q; it has %s", m.Ref(), key, fieldKeys(m.List.Fields)))
		}
	}
	slices.Sort(p.Problems)
}

func fieldKeys(fields []packing.Field) string {
	keys := make([]string, len(fields))
	for i, f := range fields {
		keys[i] = f.Key
	}
	return strings.Join(keys, ", ")
}

// facts looks at the target: what stands there, what room there is, what the server is.
func (p *Plan) facts(ctx context.Context, req Request) error {
	problem := func(format string, args ...any) { p.Problems = append(p.Problems, fmt.Sprintf(format, args...)) }
	switch _, err := req.FS.Stat(ctx, req.Folder); {
	case err == nil && req.Replace == nil:
		problem("%s exists already; choose another name, replace the site that is there, or retire it", p.Folder)
	case err == nil:
	case errors.Is(err, fs.ErrNotExist) && req.Replace != nil:
		problem("%s, which is to be replaced, is not there", p.Folder)
	case !errors.Is(err, fs.ErrNotExist):
		problem("%s cannot be read: %v", p.Folder, err)
	}
	above := path.Dir(path.Clean(req.Folder))
	for ; above != "."; above = path.Dir(above) {
		if _, err := req.FS.Stat(ctx, above); err == nil {
			break // the folders below it are made
		}
	}
	if err := req.FS.Writable(ctx, above); err != nil {
		problem("%s cannot be written to (%v); give the service's user the right to, or another host", path.Join(req.FS.Root(), above), err)
	}
	free, err := hostfs.FreeBytes(ctx, req.FS)
	if err != nil && !errors.Is(err, hostfs.ErrSpaceUnknown) {
		return err
	}
	if p.FreeBytes = free; err == nil && free < p.Bytes+64<<20 {
		problem("the host has %d MB free and the site needs %d MB; make room first", free>>20, p.Bytes>>20+64)
	}
	switch has := req.Archive.Manifest.Totals; {
	case has.Files == 0 && req.Refresh != nil:
		problem("%s holds a database only, and a site takes code; choose a release with files", p.Release)
	case has.Files == 0:
		problem("%s holds a database only; a site needs a release with its files", p.Release)
	case has.Tables == 0 && req.Refresh == nil && !req.Kind.Settings.Database.None():
		problem("%s holds files only; a site needs a release with its database. A site that is there can take its code, "+
			"refreshed from it", p.Release)
	}
	if links := linksIn(req.Archive); links > 0 && !hostfs.CanLink(req.FS) {
		problem("%s holds %d symbolic links, and none can be made on this host the way its files are reached; reach it another way, or "+
			"leave them out",
			p.Release, links)
	}
	if engines := req.Kind.Settings.Database.Engines(); p.Engine != "" && !slices.Contains(engines, p.Engine) {
		problem("%s has its database for %s, and sites of %s have one of %s; it cannot be placed", p.Release, p.Engine, req.Kind.Title,
			strings.Join(engines, ", "))
	}
	p.runtime(req, problem)
	v, err := req.Server.Version(ctx)
	if err != nil {
		problem("%v", err)
		return nil
	}
	if p.Server = strings.TrimSpace(v.Engine + " " + v.Number); p.Server == "" {
		p.Server = "no database"
	}
	return nil
}

func linksIn(a *archive.Archive) (n int) {
	for _, f := range a.Entries() {
		if f.Mode()&fs.ModeSymlink != 0 {
			n++
		}
	}
	return n
}

// freeNames gives database and user a number when their names are taken: names of different sites may become the same.
// Where there are databases that were given, one of those is taken.
func (p *Plan) freeNames(ctx context.Context, req Request) {
	var err error
	server := req.Server
	if g, is := server.(sitedb.Giver); is {
		if p.Database, p.User, err = g.Give(ctx); err != nil {
			p.Problems = append(p.Problems, err.Error())
		}
		p.Given = true
		return
	}
	if p.Database, err = freeName(ctx, p.Database, 64, server.DatabaseExists); err == nil {
		p.User, err = freeName(ctx, p.User, 32, server.UserExists)
	}
	if err != nil {
		p.Problems = append(p.Problems, err.Error())
	}
}

// folderFits says why a web server would not find the site where its address says; "" where nothing speaks against it.
func (p *Plan) folderFits(address *url.URL) string {
	if address.Path == "" || strings.HasSuffix(p.Folder, address.Path) {
		return ""
	}
	return fmt.Sprintf("the address has the folder %s, and the site would lie in %s; choose an address without a folder, or a host whose "+
		"web root is {name}%s", address.Path, p.Folder, address.Path)
}
