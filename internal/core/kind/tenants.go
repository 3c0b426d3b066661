package kind

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
)

// Tenants says how several sites of the kind share one copy of its code. Each has a folder of its own, with its settings, its content,
// and links to the code; the code finds the site by the host name that it is asked for. In names and texts {host} is a site's host
// name, {folder} the absolute name of its folder, and {code} that of the folder which all shared code of the host is in: what a
// program remembers of the file for some minutes must hold for the code that the site has then.
type Tenants struct {
	// Door is a link that is made in the code for each site, and leads to the folder To of the site's, by which the code finds it.
	Door string `yaml:"door"`
	To   string `yaml:"to"`
	// Code are files that the shared code has and a site's own has not; they must not name a site.
	Code []Text `yaml:"code"`
	// Beside are files that the shared code has in each folder with a file whose name ends in For: a web server looks for them where
	// the file lies that it is asked for, and not where a link to it is.
	Beside []Beside `yaml:"beside"`
	// Files are files that each site has, which its own programs cannot change.
	Files []Text `yaml:"files"`
	// Program is a program of ours that Files can name as {code}/Program: shared.php, which PHP is to run before every other.
	Program string `yaml:"program"`
	// Links are links from one name in a site's folder to another, relative to where it lies.
	Links []struct {
		At string `yaml:"at"`
		To string `yaml:"to"`
	} `yaml:"links"`
	// Own are folders of each site among the code, besides those of caches and those that settings name; patterns of whole names.
	Own []string `yaml:"own"`
	// Temporary is a folder that each tenant gets for files that its programs make for a moment. No web server may show it.
	Temporary string `yaml:"temporary"`
	// Settings are those that each site has while it shares code. Alone is what they are when it does no more; none: they stay.
	Settings []struct {
		Setting string  `yaml:"setting"`
		Value   string  `yaml:"value"`
		Alone   *string `yaml:"alone"`
	} `yaml:"settings"`
}

//go:embed programs
var programs embed.FS

// ProgramText is the text of the program of ours that lies beside shared code; nil where there is none.
func (t Tenants) ProgramText() ([]byte, error) {
	if t.Program == "" {
		return nil, nil
	}
	return programs.ReadFile("programs/" + t.Program)
}

// Text is a file with its text. Keeps is a pattern (RE2) of the lines that stay where a site has such a file of its own; "" for none.
type Text struct {
	File  string `yaml:"file"`
	Text  string `yaml:"text"`
	Keeps string `yaml:"keeps"`

	keeps *regexp.Regexp
}

// Kept returns those lines of a site's own file that stay before the text: what may change what the text says, as a section that it would
// be in, is not among them.
func (t *Text) Kept(own string) string {
	var out strings.Builder
	for line := range strings.Lines(own) {
		if line = strings.TrimRight(line, "\r\n"); t.keeps != nil && t.keeps.MatchString(line) {
			out.WriteString(line + "\n")
		}
	}
	return out.String()
}

// Beside is a file for each folder with a file whose name ends in For.
type Beside struct {
	Text `yaml:",inline"`
	For  string `yaml:"for"`
}

// Can reports whether sites of the kind can share code.
func (t Tenants) Can() bool { return t.Door != "" }

// Made reports whether a name in a site's folder is one that is made anew wherever the site shares code.
func (t Tenants) Made(name, host string) bool {
	for _, f := range t.Files {
		if f.File == name {
			return true
		}
	}
	for _, l := range t.Links {
		if strings.ReplaceAll(l.At, "{host}", host) == name {
			return true
		}
	}
	return false
}

func (t *Tenants) valid() error {
	if !t.Can() {
		return nil
	}
	for i := range t.Files {
		f := &t.Files[i]
		if f.Keeps == "" {
			continue
		}
		var err error
		if f.keeps, err = regexp.Compile(f.Keeps); err != nil {
			return fmt.Errorf("tenants.files: keeps of %s: %w", f.File, err)
		}
	}
	if !strings.Contains(t.Door, "{host}") {
		return fmt.Errorf("tenants.door: %q is the same for each site; put {host} into it", t.Door)
	}
	names := []string{strings.ReplaceAll(t.Door, "{host}", "host"), path.Join(".", t.To)}
	for _, f := range slices.Concat(t.Code, t.Files) {
		names = append(names, f.File)
	}
	for _, b := range t.Beside {
		if b.For == "" {
			return fmt.Errorf("tenants.beside: %s would lie in every folder; say for which files, as for: .php", b.File)
		}
		names = append(names, b.File)
	}
	for _, l := range t.Links {
		names = append(names, strings.ReplaceAll(l.At, "{host}", "host"), path.Join(path.Dir(l.At), l.To))
	}
	if _, err := t.ProgramText(); err != nil {
		return fmt.Errorf("tenants.program: there is no %q; there is shared.php", t.Program)
	}
	if t.Temporary != "" {
		names = append(names, t.Temporary)
	}
	for _, name := range append(names, t.Own...) {
		if !fs.ValidPath(name) {
			return fmt.Errorf("tenants: %q does not stay inside the folder; write a name below it", name)
		}
	}
	return nil
}

// Shared returns what of a site's code it can lead to in a copy that several sites share, as few names as do: none of them is, holds
// or lies in something of the site's own. paths are all files of the code and of the site, own those that are the site's wherever
// they lie, besides what the kind says.
func (k *Kind) Shared(paths, own []string) []string {
	mixed := map[string]bool{} // folders that hold something of the site's own
	var owned []string         // folders that are its own with all that is in them
	mark := func(name string) {
		for at := path.Clean(name); at != "."; at = path.Dir(at) {
			mixed[at] = true
		}
	}
	owned = append(owned, k.Caches...)
	owned = append(owned, k.Folders...)
	owned = append(owned, k.Tenants.Own...)
	for _, f := range k.Settings.Folders {
		owned = append(owned, f.Folder)
	}
	if k.Media.Folder != "" {
		owned = append(owned, k.Media.Folder)
	}
	for _, name := range slices.Concat(owned, own, []string{k.Hold.File, k.Mail.File, k.Pause.File}) {
		if name != "" {
			mark(name)
		}
	}
	var units []string
	for _, p := range paths {
		unit, _, is := k.Unit(p)
		inOwned := slices.ContainsFunc(owned, func(f string) bool { return p == f || strings.HasPrefix(p, f+"/") })
		file := unit == p && !slices.Contains(k.Code.Whole, k.AreaOf(p))
		switch {
		case !is || inOwned || file || k.IsSettings(p):
			mark(p)
		case !mixed[p]:
			units = append(units, p)
		}
	}
	links := map[string]bool{}
	for _, p := range units {
		unit, _, _ := k.Unit(p)
		at := unit
		for mixed[at] && at != p {
			rest := strings.TrimPrefix(p, at+"/")
			first, _, _ := strings.Cut(rest, "/")
			at = path.Join(at, first)
		}
		if !mixed[at] {
			links[at] = true
		}
	}
	out := make([]string, 0, len(links))
	for name := range links {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// Known reads a site that is known to be of the kind. code is the folder of the host's files that holds the code which the site
// shares with others; "" for a site that has its own. Errors: ErrUnknown, ErrNoSettings.
func (k *Kind) Known(ctx context.Context, fsys hostfs.FS, root, code string) (*Identity, error) {
	if code == "" {
		return Identify(ctx, fsys, root, []*Kind{k})
	}
	site, err := fsys.Sub(ctx, root)
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", path.Join(fsys.Root(), root), err)
	}
	defer site.Close()
	shared, err := fsys.Sub(ctx, code)
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", path.Join(fsys.Root(), code), err)
	}
	defer shared.Close()
	if !k.isIn(ctx, shared, ".") {
		return nil, fmt.Errorf("%w in %s, which site %s shares", ErrUnknown, path.Join(fsys.Root(), code), root)
	}
	id, err := k.read(ctx, fsys, site, root)
	if err != nil {
		return id, err
	}
	id.Version, id.Runtime = k.Version.Look(ctx, shared), k.Runtime.Look(ctx, shared)
	return id, nil
}
