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

// Refuses says why no site works on a host, as its programs cannot read what is placed there; "" when they can.
func (r *Runtime) Refuses() string {
	if !r.Unreadable {
		return ""
	}
	who := "another account"
	if r.Account != "" {
		who = "the account " + r.Account
	}
	return fmt.Sprintf("%s runs as %s there, which cannot read the files that are placed; say whose they are to be in the host's files "+
		"address, ?owner=%s, and let the service run as root, or as that account",
		r.Name, who, cmp.Or(r.Account, "ACCOUNT"))
}

// settingsMode is the mode that settings files are placed with: nobody else reads the passwords in them.
const settingsMode = 0o640

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
		return errors.Join(hostfs.WriteNew(ctx, folder, probe, nil, settingsMode),
			hostfs.WriteNew(ctx, folder, ".user.ini", []byte(opensAll), 0o644),
			hostfs.WriteNew(ctx, folder, path.Base(k.Runtime.Ask.File), []byte(text), 0o644))
	})
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, page.Remove(ctx)) }()
	status, body, err := ask(ctx, false, page.Name+"/"+path.Base(k.Runtime.Ask.File))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotTold, err)
	}
	lines := strings.Fields(string(body))
	switch {
	case len(lines) >= 2 && lines[0] == key && versionForm.MatchString(lines[1]):
		r := &Runtime{Name: k.Runtime.Name, Version: versionForm.FindString(lines[1]), Parts: []string{},
			AskedAt: time.Now().UTC().Truncate(time.Second)}
		for _, p := range lines[2:] {
			if account, is := strings.CutPrefix(p, "account="); is {
				if partForm.MatchString(account) {
					r.Account = account
				}
				continue
			}
			if folder, is := strings.CutPrefix(p, "folder="); is {
				if folder, err := url.PathUnescape(folder); err == nil && len(folder) < 4096 {
					r.Folder = folder
				}
				continue
			}
			if seconds, is := strings.CutPrefix(p, "time="); is {
				if n, err := strconv.ParseInt(seconds, 10, 64); err == nil {
					r.Clock = time.Unix(n, 0).UTC()
				}
				continue
			}
			if reads, is := strings.CutPrefix(p, "reads="); is {
				r.Unreadable = reads == "no"
				continue
			}
			if apart, is := strings.CutPrefix(p, "apart="); is {
				told := apart == "yes"
				r.Apart = &told
				continue
			}
			if p = strings.ToLower(p); partForm.MatchString(p) {
				r.Parts = append(r.Parts, p)
			}
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
