package kind

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
)

// Identity is what a folder turned out to hold.
type Identity struct {
	Kind         *Kind
	Version      string
	Runtime      string // the least version required, as the CMS says
	SettingsPath string // relative to the host's folder
	Settings     Settings
	Database     Access
	Prefix       string
	SubSites     []SubSite // of a network
	Also         []string  // addresses at which it is found, though it does not say so itself
	Unreadable   []string  // sentences about settings that are computed
	refused      error     // why it cannot be a source
	secrets      []Secret  // that are known from elsewhere
}

// Identify finds out the kind of the site in folder root: the one whose signs are all there. Of several, the one counts that asks for
// all signs of the others; where there is none, somebody has to say which. Links that lead out of the folder are not followed. With
// ErrNoSettings the identity has its kind and nothing else. Errors: ErrUnknown, ErrNoSettings, ErrAmbiguous.
func Identify(ctx context.Context, fsys hostfs.FS, root string, kinds []*Kind) (*Identity, error) {
	site, err := fsys.Sub(ctx, root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: there is no folder %s; say where it is now", ErrCannotRead, path.Join(fsys.Root(), root))
	}
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", path.Join(fsys.Root(), root), err)
	}
	defer site.Close()
	switch fit, err := narrowest(slices.DeleteFunc(slices.Clone(kinds), func(k *Kind) bool { return !k.isIn(ctx, site, ".") })); {
	case err != nil:
		return nil, fmt.Errorf("%s %w", path.Join(fsys.Root(), root), err)
	case fit != nil:
		return fit.read(ctx, fsys, site, root)
	}
	for _, k := range kinds {
		for _, folder := range k.Below {
			if k.isIn(ctx, site, folder) {
				return nil, &BelowError{In: path.Join(fsys.Root(), root), Title: k.Title, Path: path.Join(root, folder)}
			}
		}
	}
	return nil, fmt.Errorf("%w in %s; give the folder that holds the site itself, its web root", ErrUnknown, path.Join(fsys.Root(), root))
}

// narrowest returns the kind of several that asks for all signs of the others; nil of none. Errors: ErrAmbiguous.
func narrowest(fit []*Kind) (*Kind, error) {
	if len(fit) == 0 {
		return nil, nil
	}
	var names []string
	for _, k := range fit {
		if !slices.ContainsFunc(fit, func(other *Kind) bool { return other != k && (!k.narrower(other) || other.narrower(k)) }) {
			return k, nil
		}
		names = append(names, k.Name)
	}
	return nil, fmt.Errorf("%w (%s); say which it is, or let one of them ask for more signs", ErrAmbiguous, strings.Join(names, ", "))
}

// narrower reports whether a kind asks for all signs of another.
func (k *Kind) narrower(other *Kind) bool {
	return !slices.ContainsFunc(other.Detect, func(sign string) bool { return !slices.Contains(k.Detect, sign) })
}

// BelowError says that a site lies in a folder of the one that was given. It is ErrUnknown.
type BelowError struct {
	In, Title string
	Path      string // of the site, below the host's files
}

func (e *BelowError) Error() string {
	return fmt.Sprintf("%v in %s itself; %s lies in %s: give that", ErrUnknown, e.In, e.Title, e.Path)
}

func (e *BelowError) Unwrap() error { return ErrUnknown }

// refuses says why a site is not one that can be read, though it is of the kind. Errors: ErrCannotRead.
func (k *Kind) refuses(ctx context.Context, site hostfs.FS, settings Settings) error {
	for _, r := range k.Refuse {
		if v, err := settings.Get(r.Setting); r.Setting != "" && err == nil && v != "" && v != "0" && !strings.EqualFold(v, "false") {
			return fmt.Errorf("%w: %s", ErrCannotRead, r.Why)
		}
		if r.File != "" && r.in(ctx, site) {
			return fmt.Errorf("%w: %s", ErrCannotRead, r.Why)
		}
	}
	return nil
}

// Told says that settings are known from elsewhere, so that it does not matter that they cannot be read.
func (id *Identity) Told(settings ...string) {
	id.Unreadable = slices.DeleteFunc(id.Unreadable, func(why string) bool {
		return slices.ContainsFunc(settings, func(s string) bool { return strings.HasPrefix(why, s+" ") })
	})
}

// CanBeSource says why a site cannot be read as a source, or imported, though its kind is known. Errors: ErrCannotRead.
func (id *Identity) CanBeSource() error { return id.refused }

// HasPrefix says when the settings file does not tell the table prefix. Errors: ErrCannotRead.
func (id *Identity) HasPrefix() error {
	if id.Prefix != "" || id.Settings == nil || id.Kind.Settings.Prefix == "" {
		return nil
	}
	if _, err := id.Settings.Get(id.Kind.Settings.Prefix); err != nil {
		return fmt.Errorf("%w: its table prefix is computed (%w); say what the prefix is", ErrCannotRead, err)
	}
	return nil
}

// PlaceIn returns where a site loads a file from that its kind names, relative to its folder: its settings may have moved the
// folder that the file lies in. root is where the folder lies, absolute. Errors: ErrCannotRead, when that is outside of it.
func (k *Kind) PlaceIn(ctx context.Context, site hostfs.FS, root, file string) (string, error) {
	var settings Settings
	if name, text := k.settingsIn(ctx, site); name != "" {
		var err error
		if settings, err = k.ReadSettings(ctx, text, site, root, name); err != nil {
			return "", err
		}
	}
	for _, m := range k.Moved {
		rest, in := strings.CutPrefix(file, m.Folder+"/")
		if !in || settings == nil {
			continue
		}
		to, err := settings.Get(m.Setting)
		if err != nil {
			return "", fmt.Errorf("%w: where %s lies is computed (%w); write %s as a plain value", ErrCannotRead, m.Folder, err, m.Setting)
		}
		if to == "" {
			continue
		}
		inside, is := strings.CutPrefix(path.Clean(to), path.Clean(root)+"/")
		if !is {
			return "", fmt.Errorf("%w: %s has moved %s to %s, outside the site's folder", ErrCannotRead, m.Setting, m.Folder, to)
		}
		return path.Join(inside, rest), nil
	}
	return file, nil
}

// In reports whether a folder looks like the web root of a site of the kind: all that it is told by is there.
func (k *Kind) In(ctx context.Context, fsys hostfs.FS, folder string) bool {
	return k.isIn(ctx, fsys, folder)
}

// isIn reports whether all signs of the kind are in a folder of a site.
func (k *Kind) isIn(ctx context.Context, site hostfs.FS, folder string) bool {
	return !slices.ContainsFunc(k.Detect, func(sign string) bool {
		_, err := site.Stat(ctx, path.Join(folder, sign))
		return err != nil
	})
}

const maxSettingsBytes = 1 << 20

func (k *Kind) read(ctx context.Context, fsys, site hostfs.FS, root string) (*Identity, error) {
	k = k.variantIn(ctx, site)
	id := &Identity{Kind: k}
	for _, f := range k.Settings.Files {
		p := path.Join(root, f)
		if text, err := readSettingsFile(ctx, fsys, site, root, f); err == nil {
			id.SettingsPath = p
			id.Settings, err = ReadSettings(k.Settings.Syntax, text, path.Join(fsys.Root(), path.Dir(p)),
				k.loader(ctx, fsys, site, path.Join(fsys.Root(), root)))
			if err != nil {
				return id, err
			}
			break
		} else if target := linked(ctx, fsys, site, root, f); target != "" {
			return id, fmt.Errorf("%w: its settings file %s is a link to %s, which could as well lead to another site's; put the file itself in "+
				"the link's place", ErrCannotRead, p, target)
		}
	}
	if id.Settings == nil && len(k.Settings.Files) > 0 {
		return id, fmt.Errorf("%s %w (%s); it is not set up yet, or the file cannot be read",
			path.Join(fsys.Root(), root), ErrNoSettings, strings.Join(k.Settings.Files, ", "))
	}
	get := func(name string) string {
		if name == "" || id.Settings == nil {
			return ""
		}
		v, err := id.Settings.Get(name)
		if err != nil {
			id.Unreadable = append(id.Unreadable, err.Error())
		}
		return v
	}
	id.Database = k.Settings.Database.read(get)
	if k.Settings.Prefix != "" {
		id.Prefix = get(k.Settings.Prefix)
	}
	if id.Settings != nil {
		id.refused = cmp.Or(k.refuses(ctx, site, id.Settings), id.settingsOutside(ctx, fsys))
	}
	id.Version = k.Version.Look(ctx, site)
	id.Runtime = k.Runtime.Look(ctx, site)
	return id, nil
}

// ReadSettings reads the text of a settings file, name below a site's folder, and the files there that it takes settings from. root is
// where the folder lies, or is to lie, absolute.
func (k *Kind) ReadSettings(ctx context.Context, text []byte, site hostfs.FS, root, name string) (Settings, error) {
	return ReadSettings(k.Settings.Syntax, text, path.Join(root, path.Dir(name)), k.loader(ctx, site, site, root))
}

// SettingsName returns the name that the settings file has in a site's folder, and so in a release: one that lies above the web root
// travels inside it.
func (id *Identity) SettingsName(root string) string {
	if id.SettingsPath == "" {
		return ""
	}
	if rel, inside := strings.CutPrefix(path.Clean(id.SettingsPath), path.Clean(root)+"/"); inside {
		return rel
	}
	if path.Clean(root) == "." && !strings.HasPrefix(id.SettingsPath, "../") {
		return path.Clean(id.SettingsPath)
	}
	return path.Base(id.SettingsPath)
}

// IsSettings reports whether a release can have its settings file under a name.
func (k *Kind) IsSettings(name string) bool {
	return slices.ContainsFunc(k.Settings.Files, func(f string) bool { return strings.TrimPrefix(f, "../") == name })
}

// loader reads the files that a settings file takes settings from: in the site, whose folder is root on the host, and nowhere else.
func (k *Kind) loader(ctx context.Context, fsys, site hostfs.FS, root string) Load {
	return func(name string) ([]byte, error) {
		rel, inside := strings.CutPrefix(name, path.Clean(root)+"/")
		if !inside {
			if path.Base(name) == envName {
				return nil, errGone // of another, for all that is known
			}
			below, there := strings.CutPrefix(name, path.Clean(fsys.Root())+"/")
			if _, err := fsys.Stat(ctx, below); there && err != nil {
				return nil, errGone
			}
			return nil, ErrOutside
		}
		if slices.Contains(k.Settings.Loads, rel) || rel == k.Hold.File {
			return nil, errGone
		}
		return hostfs.ReadFile(ctx, site, rel, maxSettingsBytes)
	}
}

// settingsOutside says when a site takes its database's name or password from a file outside its folder, which a release cannot
// carry: on a new site of the same host, the old file would be found. Errors: ErrCannotRead.
func (id *Identity) settingsOutside(ctx context.Context, fsys hostfs.FS) error {
	d := id.Kind.Settings.Database
	for _, name := range id.Settings.Outside() {
		rel, there := strings.CutPrefix(name, path.Clean(fsys.Root())+"/")
		if !there {
			continue
		}
		text, err := hostfs.ReadFile(ctx, fsys, rel, maxSettingsBytes)
		if err != nil {
			continue
		}
		if s, err := ReadSettings(id.Kind.Settings.Syntax, text, path.Dir(name), nil); err == nil && (s.Has(d.Name) || s.Has(d.Password)) {
			return fmt.Errorf("%w: it takes the name or password of its database from %s, outside its folder; put that file into the site's "+
				"folder, or its lines into %s", ErrCannotRead, name, path.Base(id.SettingsPath))
		}
	}
	return nil
}

// linked returns where a settings file leads that is a link; "" when it is none.
func linked(ctx context.Context, fsys, site hostfs.FS, root, name string) string {
	in := site
	if strings.HasPrefix(name, "../") {
		in, name = fsys, path.Join(root, name)
	}
	if e, err := in.Stat(ctx, name); err == nil && e.Mode&fs.ModeSymlink != 0 {
		return e.Target
	}
	return ""
}

// readSettingsFile reads a settings file in the site, or one beside its folder. A link is not taken for the latter: whoever
// may change the site could let it lead to the settings of another.
func readSettingsFile(ctx context.Context, fsys, site hostfs.FS, root, name string) ([]byte, error) {
	if !strings.HasPrefix(name, "../") {
		return hostfs.ReadFile(ctx, site, name, maxSettingsBytes)
	}
	p := path.Join(root, name)
	e, err := fsys.Stat(ctx, p)
	if err != nil {
		return nil, err
	}
	if !e.Mode.IsRegular() {
		return nil, fmt.Errorf("%s %w", p, hostfs.ErrNotRegular)
	}
	return hostfs.ReadFile(ctx, fsys, p, maxSettingsBytes)
}
