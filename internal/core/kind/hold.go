package kind

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"nestseed/internal/core/hostfs"
)

// Hold is a file that keeps visitors out while it is there. In its text {key} is what lets somebody in, as the value of {parameter} in the
// address, once, and then of {cookie}; {title} is the site's.
type Hold struct {
	File string `yaml:"file"`
	// Text is what the file holds; where it is empty, that is the program for PHP that is in programs/hold.php, which leaves addresses
	// alone whose path has what Admin (a regular expression) finds: those that people log in at and work at behind that.
	Text  string `yaml:"text"`
	Admin string `yaml:"admin"`
	// Load is a statement of PHP behind the first <?php of the settings file, while the site is held, where the CMS does not load the
	// file by itself.
	Load string `yaml:"load"`
	// LoadIn is a file that PHP loads before the settings file, where the CMS writes that one anew: it loads the page as well, and is made
	// where there is none. Shared code is left alone.
	LoadIn    string `yaml:"load-in"`
	Parameter string `yaml:"parameter"` // held-preview, where none is named
	Cookie    string `yaml:"cookie"`    // nestseed_preview, where none is named
}

// valid says what is wrong with it, and fills in what goes without saying.
func (h *Hold) valid() error {
	if h.File == "" {
		return nil
	}
	if h.Parameter == "" {
		h.Parameter = "held-preview"
	}
	if h.Cookie == "" {
		h.Cookie = "nestseed_preview"
	}
	if h.LoadIn != "" && (h.Load == "" || path.Base(h.File) != h.File || path.Base(h.LoadIn) != h.LoadIn) {
		return errors.New("hold.load-in: it is for a kind with hold.load, and a file beside hold.file in the site's folder")
	}
	if h.Text != "" {
		return nil
	}
	if _, err := regexp.Compile(h.Admin); err != nil || h.Admin == "" || strings.ContainsAny(h.Admin, "'~\\") {
		return fmt.Errorf("hold.admin: write a regular expression for the paths at which people log in, without quotes, ~ and \\, " +
			"like (^|/)login$")
	}
	text, err := programs.ReadFile("programs/hold.php")
	h.Text = strings.ReplaceAll(string(text), "{admin}", h.Admin)
	return err
}

// Page returns what the file holds for a site whose visitors are kept out but for those with a key.
func (h Hold) Page(key, title string) []byte {
	// The title stands inside a PHP string.
	title = strings.NewReplacer(`\`, "", `'`, "&#039;").Replace(html.EscapeString(title))
	return []byte(strings.NewReplacer("{key}", key, "{title}", title, "{parameter}", h.Parameter, "{cookie}", h.Cookie).Replace(h.Text))
}

// Loaded returns a settings file as it is while the site is held, or not.
func (h Hold) Loaded(settings []byte, held bool) []byte {
	const begin = "<?php"
	line := []byte(begin + " " + h.Load + "\n")
	settings = bytes.Replace(settings, line, []byte(begin), 1)
	if held {
		settings = bytes.Replace(settings, []byte(begin), line, 1)
	}
	return settings
}

// settingsIn returns the name and the text of the settings file in a site's folder; "" where there is none.
func (k *Kind) settingsIn(ctx context.Context, site hostfs.FS) (name string, text []byte) {
	for _, name := range k.Settings.Files {
		name = strings.TrimPrefix(name, "../")
		if text, err := hostfs.ReadFile(ctx, site, name, maxSettingsBytes); err == nil {
			return name, text
		}
	}
	return "", nil
}

// KeepOut keeps visitors out of the site in a folder, which lies or is to lie at root, absolute, with a page (see Hold.Page); without one
// it lets them in. Killed in between, the site is open or held, and whole.
func (k *Kind) KeepOut(ctx context.Context, site hostfs.FS, root string, page []byte) error {
	if k.Hold.File == "" {
		return nil
	}
	file, err := k.PlaceIn(ctx, site, root, k.Hold.File)
	if err != nil && page == nil {
		return nil // none of ours can be there
	}
	if err != nil {
		return err
	}
	if page != nil {
		if err := site.Mkdir(ctx, path.Dir(file), 0o755); err != nil {
			return err
		}
		if err := hostfs.WriteSecret(ctx, site, file, page, 0o644); err != nil {
			return err
		}
	}
	if k.Hold.Load != "" {
		if err := k.loadHold(ctx, site, page != nil); err != nil {
			return err
		}
	}
	if k.Hold.LoadIn != "" {
		if err := k.loadBefore(ctx, site, page != nil); err != nil {
			return err
		}
	}
	if page == nil {
		if err := site.RemoveAll(ctx, file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// loadHold lets the settings file load the page, or not.
func (k *Kind) loadHold(ctx context.Context, site hostfs.FS, held bool) error {
	name, text := k.settingsIn(ctx, site)
	now := k.Hold.Loaded(text, held)
	if name == "" || bytes.Equal(now, text) {
		return nil
	}
	e, err := site.Stat(ctx, name)
	if err != nil {
		return err
	}
	return hostfs.WriteSecret(ctx, site, name, now, e.Mode.Perm())
}

// loadBefore lets the file that comes before the settings file load the page, or not.
func (k *Kind) loadBefore(ctx context.Context, site hostfs.FS, held bool) error {
	name, also := k.Hold.LoadIn, Hold{Load: "@include_once __DIR__ . '/" + k.Hold.File + "';"}
	text, mode := []byte(alone), fs.FileMode(0o644)
	e, err := site.Stat(ctx, name)
	switch {
	case errors.Is(err, fs.ErrNotExist) && held:
	case errors.Is(err, fs.ErrNotExist) || err == nil && !e.Mode.IsRegular():
		return nil
	case err != nil:
		return err
	default:
		mode = e.Mode.Perm()
		if text, err = hostfs.ReadFile(ctx, site, name, maxSettingsBytes); err != nil {
			return err
		}
	}
	now := also.Loaded(text, held)
	switch {
	case goesFirst.Match(text):
		return nil
	case !held && string(now) == alone:
		return site.RemoveAll(ctx, name)
	case bytes.Equal(now, text):
		return nil
	}
	return hostfs.WriteSecret(ctx, site, name, now, mode)
}

// goesFirst finds what PHP wants before any other statement of a file.
var goesFirst = regexp.MustCompile(`(?m)^\s*(<\?php\s+)?(declare\s*\(|namespace\s)`)

// alone is a file of PHP with nothing in it: one that was made to load the page.
const alone = "<?php\n"
