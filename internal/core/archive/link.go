package archive

import (
	"path"
	"strings"
)

// Links are the symbolic links of a tree, by path.
type Links map[string]string

// mostLinks is how many links a system follows on the way to one file (Linux: 40, path_resolution(7)).
const mostLinks = 40

// Stay reports whether the link at path p points into the tree. Every link on its way is followed as the system would: a
// chain of links that each stay inside may lead out.
func (l Links) Stay(p, target string) bool {
	if !LinkStays(p, target) {
		return false
	}
	rest := strings.Split(path.Dir(p)+"/"+target, "/")
	var at []string
	for followed := 0; len(rest) > 0; {
		part := rest[0]
		rest = rest[1:]
		switch part {
		case "", ".":
			continue
		case "..":
			if len(at) == 0 {
				return false
			}
			at = at[:len(at)-1]
			continue
		}
		at = append(at, part)
		to, is := l[strings.Join(at, "/")]
		if !is {
			continue
		}
		if followed++; followed > mostLinks || path.IsAbs(to) {
			return false
		}
		at = at[:len(at)-1]
		rest = append(strings.Split(to, "/"), rest...)
	}
	return true
}

// LinkStays reports whether a link at path p in the tree points into the tree, as it is written.
func LinkStays(p, target string) bool {
	if target == "" || path.IsAbs(target) || strings.ContainsAny(target, "\x00\\") {
		return false
	}
	at := path.Join(path.Dir(p), target)
	return at != ".." && !strings.HasPrefix(at, "../")
}

// RelativeLink returns what a link at path p says when it is written from where it lies: one that names a place below one of the
// site's own absolute folders leads there wherever the site is. Others stay as they are.
func RelativeLink(p, target string, roots ...string) string {
	for _, root := range roots {
		if root == "" || !path.IsAbs(target) {
			continue
		}
		to, inside := strings.CutPrefix(path.Clean(target), path.Clean(root)+"/")
		if path.Clean(target) == path.Clean(root) {
			to, inside = ".", true
		}
		if inside {
			return path.Join(strings.Repeat("../", strings.Count(path.Clean(p), "/")), to)
		}
	}
	return target
}
