package packing

import (
	"path"
	"strings"

	"nestseed/internal/core/glob"
)

// globs answers which of many patterns matches a path. A survey has hundreds of thousands of paths, so the
// common forms are looked up instead of tried one by one:
//
//	a/b.txt, a/b        exact, and everything below
//	a/b/**              everything below
//	**/name/**          any folder of that name
//	**/name             any file of that name
//	**/*.ext            any name that ends so
type globs struct {
	literal map[string]string // folder or file -> rule; matches itself and what is below it
	around  map[string]bool   // folders that something in literal lies in directly
	folder  map[string]string // name of a folder anywhere
	name    map[string]string // name of a file or folder anywhere
	ending  []rule            // **/*tail
	other   []rule            // the rest, with the literal text they begin with
}

type rule struct{ rule, text string }

const wildcards = `*?[{\`

func compileGlobs(patterns []string) *globs {
	g := &globs{literal: map[string]string{}, around: map[string]bool{}, folder: map[string]string{}, name: map[string]string{}}
	at := func(p, rule string) {
		g.literal[p] = rule
		g.around[folderOf(p)] = true
	}
	for _, p := range patterns {
		p = strings.TrimSuffix(p, "/")
		anywhere, isAnywhere := strings.CutPrefix(p, "**/")
		switch {
		case !strings.ContainsAny(p, wildcards):
			at(p, p)
		case strings.HasSuffix(p, "/**") && !strings.ContainsAny(strings.TrimSuffix(p, "/**"), wildcards):
			at(strings.TrimSuffix(p, "/**"), p)
		case isAnywhere && strings.HasSuffix(anywhere, "/**") && !strings.ContainsAny(strings.TrimSuffix(anywhere, "/**"), wildcards+"/"):
			g.folder[strings.TrimSuffix(anywhere, "/**")] = p
			g.name[strings.TrimSuffix(anywhere, "/**")] = p
		case isAnywhere && !strings.ContainsAny(anywhere, wildcards+"/"):
			g.name[anywhere] = p
		case isAnywhere && strings.HasPrefix(anywhere, "*") && !strings.ContainsAny(anywhere[1:], wildcards+"/"):
			g.ending = append(g.ending, rule{p, anywhere[1:]})
		default:
			g.other = append(g.other, rule{p, p[:strings.IndexAny(p, wildcards)]})
		}
	}
	return g
}

func folderOf(p string) string {
	if i := strings.LastIndexByte(p, '/'); i > 0 {
		return p[:i]
	}
	return ""
}

// dir returns the rule that keeps out everything in a folder; of several the one of the outermost folder, so
// that a rule which another makes needless is seen to do nothing.
func (g *globs) dir(dir string) (rule string) {
	for at := dir; at != "" && at != "."; at = folderOf(at) {
		if r := g.folder[path.Base(at)]; r != "" {
			rule = r
		}
		if r := g.literal[at]; r != "" {
			rule = r
		}
	}
	return rule
}

// file returns the rule that matches a path by itself, its folder not looked at; lone says that no literal rule
// lies in its folder.
func (g *globs) file(p string, lone bool) string {
	if !lone {
		if r := g.literal[p]; r != "" {
			return r
		}
	}
	base := p[strings.LastIndexByte(p, '/')+1:]
	if r := g.name[base]; r != "" {
		return r
	}
	for _, e := range g.ending {
		if strings.HasSuffix(base, e.text) {
			return e.rule
		}
	}
	for _, o := range g.other {
		if strings.HasPrefix(p, o.text) && glob.Match(o.rule, p) {
			return o.rule
		}
	}
	return ""
}
