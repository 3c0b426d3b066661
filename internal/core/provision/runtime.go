package provision

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitepage"
)

// Runtime is what runs the programs of a kind on a host, as the host itself has told.
type Runtime struct {
	Name    string    `json:"name"`
	Version string    `json:"version"`
	Parts   []string  `json:"parts"` // what it has been built with, in small letters
	AskedAt time.Time `json:"asked_at"`
	// Account is who the programs run as; "" where that was not told.
	Account string `json:"account,omitempty"`
	// Folder is what the programs call the folder that they were asked in; "" where that was not told.
	Folder string `json:"folder,omitempty"`
	// Clock is the time there when it was asked.
	Clock time.Time `json:"clock,omitzero"`
	// Unreadable says that they cannot read a file that is placed as a settings file is.
	Unreadable bool `json:"unreadable,omitempty"`
	// Writes is in which folders the programs can write; "" where that was not tried.
	Writes Writing `json:"writes,omitempty"`
	// Stays says that what they make in folders of their own cannot be removed by who places sites.
	Stays bool `json:"stays,omitempty"`
	// Apart says whether the programs of one site are kept from the settings of another, as was tried there; nil where it was not.
	Apart *bool `json:"apart,omitempty"`
}

// TellsApart says why sites of different clients must not share code on a host; "" where they may. r is nil where the host has not told.
func (r *Runtime) TellsApart() string {
	switch {
	case r == nil || r.Apart == nil:
		return "it was not tried yet whether the programs of one site are kept from the settings of another there; test the host"
	case !*r.Apart:
		return "the programs of one site can read the settings of another there: whoever breaks into one has all. Let the web server or an " +
			"account for each site keep them apart, as the guide shows, and test the host"
	}
	return ""
}

// Writing is in which folders the programs of a host can write.
type Writing string

// The ways in which they can.
const (
	WritesOwn   Writing = "own"   // in every folder: they run as the account that places sites
	WritesGroup Writing = "group" // in those that the group, or a list of rights, lets them write in
	WritesNot   Writing = "no"
)

// Refuses says why no site works on a host, as its programs cannot read or write what is placed there; "" when they can.
func (r *Runtime) Refuses() string {
	cannot := ""
	switch {
	case r.Unreadable:
		cannot = "read the settings files that are placed"
	case r.Writes == WritesNot:
		cannot = "write in the folders for uploads and caches that are placed"
	default:
		return ""
	}
	return fmt.Sprintf("%s runs as %s there, which cannot %s; let it run as the account that places sites, or let both be in one group that "+
		"the host's folder belongs to, with the set-group bit on it (chmod g+s); where the service itself places the files, say whose they "+
		"are to be in the host's files address, ?owner=%s", r.Name, r.who(), cannot, cmp.Or(r.Account, "ACCOUNT"))
}

func (r *Runtime) who() string {
	if r.Account == "" {
		return "another account"
	}
	return "the account " + r.Account
}

// byGroup reports whether the programs have what they read and write by the group of it.
func (r *Runtime) byGroup() bool { return r != nil && r.Writes == WritesGroup }

const (
	settingsMode = 0o640 // of settings files: nobody else reads the passwords in them
	folderMode   = 0o755
	groupWrites  = 0o020 // more, for what programs write that are of the group and of another account
	groupReads   = 0o040
	groupEnters  = 0o010 // folders
)

// ErrNotTold says that a host did not tell what runs on it.
var ErrNotTold = errors.New("did not tell what it runs")

// versionForm is how a version begins, and partForm what parts are called: the answer comes from outside, and is shown.
var (
	versionForm = regexp.MustCompile(`^[0-9]+(?:\.[0-9]+)+`)
	partForm    = regexp.MustCompile(`^[a-z0-9_.+-]{1,64}$`)
)

// AskedAs are the spots in the folders of two sites that are for nothing else, and the way from the first to the second.
type AskedAs struct {
	Site, Other sitepage.Spot
	Way         string // relative, as ../other
}

// opensAll is what somebody who has broken into a site would have PHP read in a folder below it.
const opensAll = "open_basedir = /\n"

// AskRuntime places a kind's page that tells in a folder below one that is for nothing else, asks for it as a visitor of that site would,
// and removes it. ask asks for a page of the site, or of the other one. Errors: ErrNotTold, when the web server answers something else or
// nothing.
func AskRuntime(ctx context.Context, k *kind.Kind, as AskedAs, ask func(ctx context.Context, other bool, page string) (status int,
	body []byte, err error)) (_ *Runtime, err error) {
	key := rand.Text()
	// The other site runs it first: what PHP has compiled once may be open to all. Fresh files are not kept compiled.
	other, err := as.Other.Place(ctx, path.Ext(k.Runtime.Ask.File), settingsMode, func(string) []byte { return []byte(k.Runtime.Ask.Other) })
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, other.Remove(ctx)) }()
	if err := as.Other.Folder.Chtimes(ctx, other.Name, time.Now().Add(-time.Hour)); err != nil {
		return nil, err
	}
	for range 2 {
		if _, _, err := ask(ctx, true, other.Name); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotTold, err)
		}
	}
	const probe = "settings.probe"
	page, err := as.Site.PlaceFolder(ctx, func(folder hostfs.FS) error {
		until := strconv.FormatInt(time.Now().Add(sitepage.Silent).Unix(), 10)
		text := strings.NewReplacer("{key}", key, "{probe}", probe, "{until}", until,
			"{other}", path.Join("..", as.Way, other.Name)).Replace(k.Runtime.Ask.Text)
		return errors.Join(folder.Mkdir(ctx, ".", folderMode), hostfs.WriteNew(ctx, folder, probe, nil, settingsMode),
			folder.Mkdir(ctx, string(WritesOwn), folderMode), folder.Mkdir(ctx, string(WritesGroup), folderMode|groupWrites),
			hostfs.WriteNew(ctx, folder, ".user.ini", []byte(opensAll), 0o644),
			hostfs.WriteNew(ctx, folder, path.Base(k.Runtime.Ask.File), []byte(text), 0o644))
	})
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, page.Remove(ctx)) }()
	at := page.Name + "/" + path.Base(k.Runtime.Ask.File)
	status, body, err := ask(ctx, false, at)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotTold, err)
	}
	stays, err := removesMade(ctx, as.Site.Folder, page.Name)
	if err != nil {
		return nil, err
	}
	if stays {
		if _, _, err := ask(ctx, false, at+"?tidy=1"); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotTold, err)
		}
	}
	r, err := answered(k, key, status, body)
	if err == nil {
		r.Stays = stays
	}
	return r, err
}

// answered reads what a page has told. Errors: ErrNotTold.
func answered(k *kind.Kind, key string, status int, body []byte) (*Runtime, error) {
	lines := strings.Fields(string(body))
	switch {
	case len(lines) >= 2 && lines[0] == key && versionForm.MatchString(lines[1]):
		r := &Runtime{Name: k.Runtime.Name, Version: versionForm.FindString(lines[1]), Parts: []string{},
			AskedAt: time.Now().UTC().Truncate(time.Second)}
		for _, line := range lines[2:] {
			r.read(line)
		}
		return r, nil
	case strings.Contains(string(body), key) && lines[0] != key:
		return nil, fmt.Errorf("%w: the page was shown as text and not run; %s is not set up for this folder", ErrNotTold, k.Runtime.Name)
	case status != http.StatusOK:
		return nil, fmt.Errorf("%w: the answer was %d %s; the web server may know new names only after it was told of them", ErrNotTold, status,
			http.StatusText(status))
	}
	return nil, fmt.Errorf("%w: something else answers at this address", ErrNotTold)
}

// read takes one line of an answer. What is not understood is passed over.
func (r *Runtime) read(line string) {
	name, value, named := strings.Cut(line, "=")
	if !named {
		if part := strings.ToLower(line); partForm.MatchString(part) {
			r.Parts = append(r.Parts, part)
		}
		return
	}
	switch name {
	case "account":
		if partForm.MatchString(value) {
			r.Account = value
		}
	case "folder":
		if folder, err := url.PathUnescape(value); err == nil && len(folder) < 4096 {
			r.Folder = folder
		}
	case "time":
		if n, err := strconv.ParseInt(value, 10, 64); err == nil {
			r.Clock = time.Unix(n, 0).UTC()
		}
	case "reads":
		r.Unreadable = value == "no"
	case "writes":
		if w := Writing(value); w == WritesOwn || w == WritesGroup || w == WritesNot {
			r.Writes = w
		}
	case "apart":
		yes := value == "yes"
		r.Apart = &yes
	}
}

// removesMade replaces and removes what the programs of a host have made in a folder below that of a page, as a site is replaced and
// removed.
// It reports whether what is in a folder that they have made stays. Errors: a file in a folder of ours cannot be replaced.
func removesMade(ctx context.Context, site hostfs.FS, page string) (stays bool, err error) {
	for _, folder := range []Writing{WritesOwn, WritesGroup} {
		at := path.Join(page, string(folder))
		if _, err := site.Stat(ctx, path.Join(at, "made.txt")); err != nil {
			continue
		}
		if err := hostfs.WriteFile(ctx, site, path.Join(at, "made.txt"), nil, 0o644); err != nil {
			return false, fmt.Errorf("a file that the programs there have made cannot be replaced: %w", err)
		}
		stays = stays || site.RemoveAll(ctx, path.Join(at, "made")) != nil
	}
	return stays, nil
}

// runtime says what runs the site's programs, and what stands against that.
func (p *Plan) runtime(req Request, problem func(format string, args ...any)) {
	name, needs := req.Kind.Runtime.Name, req.Archive.Manifest.Runtime
	if name == "" {
		return
	}
	r := req.Runtime
	if r == nil {
		p.Runtime = name + " not asked yet"
		return
	}
	p.Runtime = r.Name + " " + r.Version
	if why := r.Refuses(); why != "" {
		problem("%s", why)
	} else if r.byGroup() {
		p.Runtime += fmt.Sprintf(" as %s: folders for uploads and caches are placed so that their group may write in them", r.who())
		if p.Engine != "" && !sitedb.HasAccounts(p.Engine) {
			problem("%s runs as %s there, which shares a group with the account that places sites; a database in a file of the site needs one "+
				"account for both", r.Name, r.who())
		}
	}
	asked := fmt.Sprintf("as it told on %s; a test of the host asks again", r.AskedAt.Format("2 January 2006"))
	if needs != "" && kind.CompareVersions(r.Version, needs) < 0 {
		problem("%s needs %s %s and the host runs %s (%s)", p.Release, name, needs, r.Version, asked)
	}
	for _, part := range req.Kind.Runtime.Needs {
		if !slices.Contains(r.Parts, part) {
			problem("the host's %s lacks %s, without which %s does not run (%s)", name, part, req.Kind.Title, asked)
		}
	}
}
