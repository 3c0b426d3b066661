// Package kind knows what CMS families look like, from definitions in YAML.
//
// A Kind says how a family is recognised, where its settings file is and what its settings are called,
// which tables hold options and accounts, which folders belong to which area, and what stock packing
// lists there are. No program logic mentions a family by name: a family is a file in defs.
//
//	kinds, err := kind.Stock()
//	id, err := kind.Identify(fsys, "base", kinds)
//	// id.Kind.Title is "WordPress", id.Database.Name is "lad_base"
//
// Settings files are read as tokens and never run (see Settings). What can only be known by running
// the site is reported as not readable, with the reason.
package kind

import (
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"nestseed/internal/core/bounds"
	"nestseed/internal/core/glob"
	"nestseed/internal/core/hostfs"
)

//go:embed defs/*.yaml
var defs embed.FS

// Kind is the definition of a CMS family.
type Kind struct {
	Name   string   `yaml:"name"`
	Title  string   `yaml:"title"`
	Detect []string `yaml:"detect"` // all of these exist in the web root
	// Below are folders of a web root in which sites of the kind are found when not in the web root itself.
	Below []string `yaml:"below"`
	// Moved are settings by which a site has a folder elsewhere; the first that fits counts.
	Moved []struct {
		Setting string `yaml:"setting"`
		Folder  string `yaml:"folder"`
	} `yaml:"moved"`
	// Refuse are signs of sites that are of the kind and cannot be read.
	Refuse []struct {
		Setting string `yaml:"setting"` // is set, and not to false
		Sign    `yaml:",inline"`
		Why     string `yaml:"why"`
	} `yaml:"refuse"`
	Variants []Variant `yaml:"variants"`
	Version  Place     `yaml:"version"` // of the CMS
	Runtime  Runtime   `yaml:"runtime"` // what runs it
	Settings struct {
		Files    []string `yaml:"files"`  // the first that exists
		Sample   string   `yaml:"sample"` // what a settings file is made of where there is none
		Syntax   string   `yaml:"syntax"` // see Settings; php where none is named
		Database Database `yaml:"database"`
		Prefix   string   `yaml:"prefix"`
		Salts    []string `yaml:"salts"`
		Optional []string `yaml:"optional"` // settings that not every site has
		// Hosts is a list of settings that say, as regular expressions, which host names the site answers to.
		Hosts string `yaml:"hosts"`
		// Folders are settings that name a folder of the site by its absolute path.
		Folders []struct {
			Setting string `yaml:"setting"`
			Folder  string `yaml:"folder"`
		} `yaml:"folders"`
		Loads []string `yaml:"loads"` // files of the CMS itself that a settings file loads; no settings are in them
	} `yaml:"settings"`
	Options struct {
		Table string `yaml:"table"`
		Key   string `yaml:"key"`
		Value string `yaml:"value"`
	} `yaml:"options"`
	Address    []Value    `yaml:"address"` // where it is kept; the first is the one to read
	SiteTitle  Value      `yaml:"site-title"`
	SiteEmail  Value      `yaml:"site-email"`
	Visibility Visibility `yaml:"visibility"`
	Prefixed   []Rows     `yaml:"prefixed"` // values that follow the table prefix in these columns
	Forget     []Rows     `yaml:"forget"`   // rows the CMS rebuilds, wrong on a new site
	Empty      []string   `yaml:"empty"`    // tables of which that is true as a whole; patterns
	Admin      Admin      `yaml:"administrator"`
	Login      Login      `yaml:"login"`
	Pages      []string   `yaml:"pages"`       // paths that every site answers, for checks
	Passes     []string   `yaml:"passes-over"` // addresses, with their queries, that checks do not open by following links; patterns
	Answers    []string   `yaml:"answers"`     // paths that programs ask for, where there is something
	OwnRules   []string   `yaml:"own-rules"`   // marks of the blocks that the CMS writes into files of rules for the web server
	Private    []string   `yaml:"private"`     // paths that must not be served as text
	Caches     []string   `yaml:"caches"`      // folders emptied on a new site
	Folders    []string   `yaml:"folders"`     // folders that every site has, also where nothing is in them
	Areas      []Area     `yaml:"areas"`

	Tables     []string   `yaml:"tables"`    // tables that tell the family where there is only a dump
	Relations  []Relation `yaml:"relations"` // rows that belong to other rows
	Counted    []Column   `yaml:"counted"`   // columns of few values that a survey counts rows by
	Clutter    []Clutter  `yaml:"clutter"`   // rows that pile up and that a site can do without
	ByName     []Clutter  `yaml:"clutter-tables"`
	Media      Media      `yaml:"media"`
	Named      Called     `yaml:"named-pages"`
	Entries    []Called   `yaml:"named-entries"` // of menus; the first way that finds one counts
	Updates    []Update   `yaml:"updates"`       // where the CMS notes that updates are pending
	Extensions []Parts    `yaml:"extensions"`    // what is installed, and what of it is active
	DropIns    []string   `yaml:"drop-ins"`      // files that cache, and that the CMS loads by their name
	Keep       []Keep     `yaml:"keep"`          // what of an old site can be kept when it is replaced
	Matched    []Matched  `yaml:"matched"`       // what rows are found again by on another site
	Recount    []Recount  `yaml:"recount"`       // numbers that follow from rows
	Hold       Hold       `yaml:"hold"`
	Code       Code       `yaml:"code"`
	Pause      Pause      `yaml:"pause"`
	Upgrade    Upgrade    `yaml:"upgrade"`
	Jobs       Jobs       `yaml:"jobs"`
	Tenants    Tenants    `yaml:"tenants"`
	Network    Network    `yaml:"network"`
	Mail       Mail       `yaml:"mail"`
	Report     Report     `yaml:"report"`
	Ends       []End      `yaml:"ends"` // when versions stop being looked after
	// Lists are the stock packing lists by name, as YAML text.
	Lists map[string]string `yaml:"lists"`
	// Subs is what stands before the names of the tables of each sub-site, of a network.
	Subs []string `yaml:"-"`

	// Described says that somebody has added the definition: it is not one of those that come with the program.
	Described bool `yaml:"-"`

	single    *Kind // of a network's, the kind itself
	text      string
	listTexts map[string]string // with the lines for networks
}

// Text returns the definition as it was read.
func (k *Kind) Text() string { return k.text }

// Sum tells a definition from others: the first 12 hexadecimal digits of its SHA-256.
func (k *Kind) Sum() string {
	sum := sha256.Sum256([]byte(k.text))
	return hex.EncodeToString(sum[:6])
}

// Place is where a value is found in a file: a setting, or what a regular expression (RE2) finds between its first brackets.
type Place struct {
	Name    string `yaml:"name"`
	File    string `yaml:"file"`
	Syntax  string `yaml:"syntax"`
	Setting string `yaml:"setting"`
	Pattern string `yaml:"pattern"`

	found *regexp.Regexp
}

// Runtime is what runs the CMS, and where the CMS says the least version of it. Ask is a page that tells, one a line, its {key}, the
// version, account= and the account that it runs as, reads= and yes or no, whether it can read the file {probe} beside it, writes= and
// the first of the folders own and group beside it in which it can make a file made.txt, or no, and in which it then makes a folder
// made with a file, both of which it removes when it is asked with ?tidy=1, apart= and yes or no, whether programs here are kept from
// the file {other} of another site in all ways that it knows, folder= and the folder above its own (percent-encoded), time= and the
// time there, and the parts that it was built with; it is silent after {until}, in seconds of Unix time.
type Runtime struct {
	Place `yaml:",inline"`
	Needs []string `yaml:"needs"` // parts without which the CMS does not run, in small letters
	Ask   struct {
		File  string `yaml:"file"` // for its ending
		Text  string `yaml:"text"`
		Other string `yaml:"other"` // the file of another site that it looks for, a program
	} `yaml:"ask"`
}

// Relation says that a row belongs to another: when that one is dropped, so is this. A table may relate to itself.
type Relation struct {
	Table  string `yaml:"table"`
	Column string `yaml:"column"`
	To     Column `yaml:"to"`
}

// Clutter is a sort of rows, or of tables, that piles up.
type Clutter struct {
	What   string   `yaml:"what"`
	Why    string   `yaml:"why"`
	Rows   *Rows    `yaml:"rows"`
	Tables []string `yaml:"tables"` // patterns of names
}

// Update is an option in which the CMS notes pending updates: those members of the value at Path are counted
// whose member Where has the value Is, or all of them.
type Update struct {
	What   string   `yaml:"what"`
	Option string   `yaml:"option"`
	Path   []string `yaml:"path"`
	Where  string   `yaml:"where"`
	Is     string   `yaml:"is"`
}

// Parts are extensions or themes: folders and files directly in Folder, active when one of the options names
// them. Named means that an option's whole value is the name; otherwise names are inside a serialised list.
type Parts struct {
	What   string   `yaml:"what"`
	Folder string   `yaml:"folder"`
	Active []string `yaml:"active"`
	Skip   []string `yaml:"skip"`
}

// Keep is a part of a site that can be kept when the rest of it is replaced: tables, by patterns, and folders.
type Keep struct {
	What    string   `yaml:"what"`
	Title   string   `yaml:"title"`
	Tables  []string `yaml:"tables"`
	Folders []string `yaml:"folders"`
	// Rows are rows of a matched table that stand among others, by values of a column, and With are columns of tables that name them.
	Rows []Rows   `yaml:"rows"`
	With []Column `yaml:"with"`
}

// Matched says what a row of Table, whose number is Key, is found again by in other content: the first list of columns whose values
// are those of one row there.
type Matched struct {
	Table string     `yaml:"table"`
	Key   string     `yaml:"key"`
	By    [][]string `yaml:"by"`
	// Named are columns of kept tables, whose names may be patterns with *, that name such a row or, where it is gone, none (0).
	Named []Column `yaml:"named"`
	// Moved are columns of kept tables that may name rows which are kept (Keep.Rows): they follow where such a row gets a new number.
	Moved []Column `yaml:"moved"`
}

// Recount sets a column to the number of rows that belong to each row: those of table Of whose column By has the
// row's Key, and in whose column Where is Is.
type Recount struct {
	Table  string `yaml:"table"`
	Column string `yaml:"column"`
	Key    string `yaml:"key"`
	Of     string `yaml:"of"`
	By     string `yaml:"by"`
	Where  string `yaml:"where"`
	Is     string `yaml:"is"`
}

// Code says which areas are code, that a site takes from a newer release: Whole ones, and others ByFolder, where
// each folder or file directly below a pattern's folder is taken when the release has it and left when not.
type Code struct {
	Whole    []string `yaml:"whole"`
	ByFolder []string `yaml:"by-folder"`
}

// Pause is a file that makes the CMS tell visitors that it is being worked on, for the moments in which a site's
// data must not change.
type Pause struct {
	File string `yaml:"file"`
	Text string `yaml:"text"`
}

// Upgrade is how the CMS brings its own tables to the version of its code: the number that a setting in a file of
// the code has and the one in Option must be the same, and a request for the page Visit makes them so.
type Upgrade struct {
	File    string `yaml:"file"`
	Setting string `yaml:"setting"`
	Option  string `yaml:"option"`
	Visit   string `yaml:"visit"`
}

// Jobs is where scheduled work is kept: an option with a serialised array whose keys are times in seconds. What
// recurs has a number of the name Recurs in it.
type Jobs struct {
	Option string `yaml:"option"`
	Recurs string `yaml:"recurs"`
}

// Mail is a file that keeps mail from going out while it is there, or a setting that does while it is Kept.
type Mail struct {
	File    string `yaml:"file"`
	Text    string `yaml:"text"`
	Setting string `yaml:"setting"`
	Kept    string `yaml:"kept"`
	Sends   string `yaml:"sends"`
}

// Can reports whether mail can be kept from going out.
func (m Mail) Can() bool { return m.File != "" || m.Setting != "" }

// End is the day from which versions of a product that begin with Version are looked after no more. Versions
// are compared as numbers: Before means every version below it.
type End struct {
	Of      string `yaml:"of"`
	Version string `yaml:"version"`
	Before  string `yaml:"before"`
	On      string `yaml:"on"` // YYYY-MM-DD
}

// Column names a column of a table; table names in definitions are without the prefix.
type Column struct {
	Table  string `yaml:"table" json:"table"`
	Column string `yaml:"column" json:"column"`
}

// Rows names rows by the value of a column; values may be patterns with *.
type Rows struct {
	Table  string   `yaml:"table" json:"table"`
	Column string   `yaml:"column" json:"column"`
	Values []string `yaml:"values" json:"values"`
}

// Visibility is the value that keeps search engines out or lets them in.
type Visibility struct {
	Option  string   `yaml:"option"`
	Path    []string `yaml:"path"`
	Setting string   `yaml:"setting"`
	Cell    *Spot    `yaml:"cell"`
	Visible string   `yaml:"visible"`
	Hidden  string   `yaml:"hidden"`
}

// Place returns where it is kept; none where the kind has no such value.
func (v Visibility) Place() Value { return Value{v.Option, v.Path, v.Setting, v.Cell} }

// Admin says how an administrator is made: rows to insert, in order. Values may hold {login}, {email}, {hash}, {salt}, {now} (UTC,
// YYYY-MM-DD HH:MM:SS), {unix} (seconds), {uuid} (RFC 9562, version 4), {prefix}, {id}, the number that the first row was given, and,
// as a whole value of that row where the database gives no numbers, {next}: one more than the highest that is there.
type Admin struct {
	// Hash is how passwords are hashed: by name or by a form (see form). Hashes are others, for versions of the CMS.
	Hash   string `yaml:"hash"`
	Hashes []struct {
		Since string `yaml:"since"` // the first version that has it; the last that fits counts
		Hash  string `yaml:"hash"`
	} `yaml:"hashes"`
	// Examples prove forms: passwords with their hashes, from the application.
	Examples []HashExample `yaml:"examples"`
	Rows     []NewRow      `yaml:"rows"`
	Authors  []Column      `yaml:"authors"` // columns that name the account content belongs to
	// LoginColumn is, by table, the column that people log in by, where several hold their name.
	LoginColumn map[string]string `yaml:"login-columns"`
	// Settings is where a site without accounts in a database keeps its administrator: settings that get name and hash.
	Settings struct {
		Login string `yaml:"login"`
		Email string `yaml:"email"`
		Hash  string `yaml:"hash"`
		Salt  string `yaml:"salt"`
	} `yaml:"settings"`
}

// Salt returns the column in which a table of accounts keeps the salt of each; "" where there is none.
func (a Admin) Salt(table string) string {
	for _, row := range a.Rows {
		for column, value := range row.Values {
			if row.Table == table && value == "{salt}" {
				return column
			}
		}
	}
	return ""
}

// Scheme returns how a version of the CMS hashes passwords.
func (a Admin) Scheme(version string) string {
	scheme := a.Hash
	for _, h := range a.Hashes {
		if version != "" && CompareVersions(version, h.Since) >= 0 {
			scheme = h.Hash
		}
	}
	return scheme
}

// Made reports whether sites of the kind get an administrator.
func (a Admin) Made() bool { return len(a.Rows) > 0 || a.Settings.Hash != "" }

// Account says where accounts are: the table, and its columns of log-in names, password hashes and numbers; the last is "" where the
// database gives the numbers. ok is false where the kind makes no accounts in the database.
func (a Admin) Account() (table, login, hash, id string, ok bool) {
	for _, row := range a.Rows {
		login, hash, id = "", "", ""
		for column, value := range row.Values {
			switch value {
			case "{login}":
				if login == "" || column < login { // the first by name, where several have it
					login = column
				}
			case "{hash}":
				hash = column
			case "{id}", "{next}":
				id = column
			}
		}
		if hash != "" && login != "" {
			if name, is := a.LoginColumn[row.Table]; is {
				login = name
			}
			return row.Table, login, hash, id, true
		}
	}
	return "", "", "", "", false
}

// NewRow is a row to insert.
type NewRow struct {
	Table  string            `yaml:"table"`
	Values map[string]string `yaml:"values"`
}

// Login says how to log in over HTTP, and how to tell that it worked.
type Login struct {
	Path        string            `yaml:"path"`
	Fields      map[string]string `yaml:"fields"` // {login} and {password} are filled in
	Cookies     map[string]string `yaml:"cookies"`
	Form        bool              `yaml:"form"`         // the page is opened first: its hidden fields are sent with the others
	ProofCookie string            `yaml:"proof-cookie"` // a cookie whose name begins so is set on success
	Inside      string            `yaml:"inside"`       // a page only those logged in can see
	// Moved is in the names of options in which extensions keep where they have moved the login page to.
	Moved string `yaml:"moved"`
}

// Area groups paths that belong together.
type Area struct {
	Area  string   `yaml:"area"`
	Match []string `yaml:"match"`
}

// ErrUnknown says that no kind fits.
var ErrUnknown = errors.New("no known kind of site")

// ErrAmbiguous says that more than one kind fits.
var ErrAmbiguous = errors.New("looks like more than one kind of site")

// ErrNoSettings says that the kind is known and that there is no settings file.
var ErrNoSettings = errors.New("has no settings file")

// ErrCannotRead says that a site is of a kind that is known, and not one that can be read; the sentence says what to do.
var ErrCannotRead = errors.New("this site cannot be a source")

// Parse reads a definition.
func Parse(text []byte) (*Kind, error) {
	k := &Kind{text: string(text)}
	if err := bounds.YAML(text); err != nil {
		return nil, fmt.Errorf("definition of a kind: %w", err)
	}
	if err := yaml.UnmarshalWithOptions(text, k, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("definition of a kind: %w", err)
	}
	if err := k.valid(); err != nil {
		return nil, fmt.Errorf("definition of a kind: %w", err)
	}
	k.listTexts = k.Lists
	k.Lists = map[string]string{}
	for name, text := range k.listTexts {
		k.Lists[name] = withoutNetworks(text)
	}
	return k, nil
}

// SignTable returns the table, without prefix, by which a database is known as one of the kind: that of options, or the first of those
// that tell the family; "" where there is none.
func (k *Kind) SignTable() string {
	if k.Options.Table != "" || len(k.Tables) == 0 {
		return k.Options.Table
	}
	return k.Tables[0]
}

// Stock returns the kinds that come with the program.
func Stock() ([]*Kind, error) {
	names, err := fs.Glob(defs, "defs/*.yaml")
	if err != nil {
		return nil, err
	}
	var kinds []*Kind
	for _, n := range names {
		text, err := defs.ReadFile(n)
		if err != nil {
			return nil, err
		}
		k, err := Parse(text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", n, err)
		}
		kinds = append(kinds, k)
	}
	return kinds, nil
}

// Named returns the kind with this name.
func Named(kinds []*Kind, name string) (*Kind, error) {
	for _, k := range kinds {
		if k.Name == name {
			return k, nil
		}
	}
	return nil, fmt.Errorf("%w: %q", ErrUnknown, name)
}

// AreaOf returns the area that a path in the web root belongs to; "other" where no rule fits.
func (k *Kind) AreaOf(p string) string {
	for _, a := range k.Areas {
		for _, m := range a.Match {
			if folder, ok := strings.CutSuffix(m, "/**"); ok && !strings.ContainsAny(folder, "*?[{") {
				if strings.HasPrefix(p, folder) && (len(p) == len(folder) || p[len(folder)] == '/') {
					return a.Area
				}
				continue
			}
			if glob.Match(m, p) {
				return a.Area
			}
		}
	}
	return "other"
}

// Written returns the folders that the programs of a site write in: those of its media and its caches.
func (k *Kind) Written() (folders []string) {
	for _, a := range k.Areas {
		if a.Area != "media" {
			continue
		}
		for _, m := range a.Match {
			if folder, whole := strings.CutSuffix(m, "/**"); whole && !strings.ContainsAny(folder, "*?[{") {
				folders = append(folders, folder)
			}
		}
	}
	return append(folders, k.Caches...)
}

// Writes reports whether the programs of a site write at a path.
func (k *Kind) Writes(p string) bool {
	return slices.ContainsFunc(k.Written(), func(folder string) bool { return p == folder || strings.HasPrefix(p, folder+"/") })
}

// Look reads the setting from its file in a site, or what Pattern finds there; what is not known is "".
func (p Place) Look(ctx context.Context, site hostfs.FS) string {
	if p.File == "" {
		return ""
	}
	text, err := hostfs.ReadFile(ctx, site, p.File, maxSettingsBytes)
	if err != nil {
		return ""
	}
	if p.found != nil {
		if m := p.found.FindSubmatch(text); len(m) > 1 {
			return string(m[1])
		}
		return ""
	}
	s, err := ReadSettings(p.Syntax, text, "", nil)
	if err != nil {
		return ""
	}
	v, _ := s.Get(p.Setting)
	return v
}

// Unit returns the part of a site's code that a path belongs to, and whether it is code at all: in an area that is
// taken whole, the folder of a pattern, or a file by itself; in one that is taken by folder, the folder or file
// directly below the pattern's.
func (k *Kind) Unit(p string) (unit string, whole, code bool) {
	area := k.AreaOf(p)
	taken := slices.Contains(k.Code.Whole, area)
	if !taken && !slices.Contains(k.Code.ByFolder, area) {
		return "", false, false
	}
	for _, a := range k.Areas {
		for _, m := range a.Match {
			folder, ok := strings.CutSuffix(m, "/**")
			rest, below := strings.CutPrefix(p, folder+"/")
			if !ok || a.Area != area || !below && p != folder {
				continue
			}
			if taken {
				return folder, true, true
			}
			first, _, _ := strings.Cut(rest, "/")
			return folder + "/" + first, false, below
		}
	}
	return p, false, taken
}

// Covers reports whether the end is that of a version.
func (e End) Covers(version string) bool {
	if e.Before != "" {
		return CompareVersions(version, e.Before) < 0
	}
	return version == e.Version || strings.HasPrefix(version, e.Version+".")
}
