package provision

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
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

// silent is when a page that tells says nothing any more.
const silent = 10 * time.Minute

// versionForm is how a version begins, and partForm what parts are called: the answer comes from outside, and is shown.
var (
	versionForm = regexp.MustCompile(`^[0-9]+(?:\.[0-9]+)+`)
	partForm    = regexp.MustCompile(`^[a-z0-9_.+-]{1,64}$`)
)

// AskRuntime puts a kind's page that tells into a folder that is for nothing else, asks for it at the folder's address
// as a visitor would, and takes it away again, with those that somebody was killed over before. The page has a name that
// nobody can guess, and is silent after ten minutes. Errors: ErrNotTold, when the web server answers something else or
// nothing.
func AskRuntime(ctx context.Context, k *kind.Kind, fsys hostfs.FS, folder string, ask func(ctx context.Context, page string) (status int,
	body []byte, err error)) (_ *Runtime, err error) {
	name := "asks-" + strings.ToLower(rand.Text())
	page, probe := name+path.Ext(k.Runtime.Ask.File), name+".probe"
	key := rand.Text()
	made := []string{folder} // and what is above it, deepest first
	for at := path.Clean(folder); at != "."; at = path.Dir(at) {
		if _, err := fsys.Stat(ctx, at); err == nil {
			break
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if at != made[0] {
			made = append(made, at)
		}
	}
	defer func() {
		err = errors.Join(err, fsys.RemoveAll(ctx, path.Join(folder, page)), fsys.RemoveAll(ctx, path.Join(folder, probe)),
			sweepPages(ctx, fsys, folder))
		for _, at := range made {
			err = errors.Join(err, fsys.RemoveEmpty(ctx, at))
		}
	}()
	text := strings.NewReplacer("{key}", key, "{probe}", probe, "{until}", strconv.FormatInt(time.Now().Add(silent).Unix(),
		10)).Replace(k.Runtime.Ask.Text)
	if err := hostfs.WriteFile(ctx, fsys, path.Join(folder, page), []byte(text), 0o644); err != nil {
		return nil, err
	}
	if err := hostfs.WriteFile(ctx, fsys, path.Join(folder, probe), nil, settingsMode); err != nil {
		return nil, err
	}
	status, body, err := ask(ctx, page)
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

// sweepPages removes pages that are silent by now.
func sweepPages(ctx context.Context, fsys hostfs.FS, folder string) error {
	var old []string
	err := fsys.Walk(context.WithoutCancel(ctx), folder, func(e hostfs.Entry) error {
		if e.Mode.IsRegular() && strings.HasPrefix(e.Path, "asks-") && time.Since(e.ModTime) > silent {
			old = append(old, path.Join(folder, e.Path))
		}
		return nil
	}, func(string, error) {})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, name := range old {
		err = errors.Join(err, fsys.RemoveAll(ctx, name))
	}
	return err
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
