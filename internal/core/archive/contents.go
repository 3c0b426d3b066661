package archive

import (
	"archive/zip"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"nestseed/internal/core/kind"
)

// Node is a file or folder of the archive with the sums of what is below it.
type Node struct {
	Name     string    `json:"name"`
	Path     string    `json:"path"`
	Folder   bool      `json:"folder,omitempty"`
	Link     string    `json:"link,omitempty"`
	Area     string    `json:"area,omitempty"`
	Files    int64     `json:"files"`
	Bytes    int64     `json:"bytes"`
	Packed   int64     `json:"packed"`
	Rows     int64     `json:"rows,omitempty"`
	Modified time.Time `json:"modified"`

	children map[string]*Node
}

// Tree returns the contents as a tree: the site's files by path, and the database as a folder of tables.
func (a *Archive) Tree(k *kind.Kind) *Node {
	a.treeOnce.Do(func() {
		root := &Node{Folder: true, children: map[string]*Node{}}
		for _, f := range a.zip.File {
			if p, ok := strings.CutPrefix(strings.TrimSuffix(f.Name, "/"), FilesDir); ok && p != "" {
				root.add(p, f, k.AreaOf(p))
			}
		}
		for _, t := range a.Manifest.Tables {
			for _, name := range a.Rows(t) {
				if f := a.byName[name]; f != nil {
					root.add("database/"+t.Name, f, "database")
				}
			}
			if n, err := root.find("database/" + t.Name); err == nil {
				n.Rows, n.Files = t.Rows, 0
			}
		}
		if db := root.children["database"]; db != nil {
			root.Files -= db.Files
			db.Files, db.Area = 0, "database"
		}
		a.tree = root
	})
	return a.tree
}

func (n *Node) add(p string, f *zip.File, area string) {
	size, packed := int64(f.UncompressedSize64), int64(f.CompressedSize64)
	if f.Mode()&fs.ModeSymlink != 0 {
		size = 0 // what is stored of a link is its target
	}
	for {
		isFile := !strings.Contains(p, "/") && !f.Mode().IsDir()
		n.Bytes += size
		n.Packed += packed
		if !f.Mode().IsDir() {
			n.Files++
		}
		name, rest, deeper := strings.Cut(p, "/")
		c := n.children[name]
		if c == nil {
			c = &Node{Name: name, Path: path.Join(n.Path, name), Folder: !isFile, Area: area, Modified: f.Modified}
			n.children[name] = c
		}
		if c.Folder && c.children == nil {
			c.children = map[string]*Node{}
		}
		if c.Area != area {
			c.Area = "" // a folder of several areas
		}
		if !deeper {
			if isFile {
				c.Files++
				c.Bytes += size
				c.Packed += packed
			}
			if f.Mode()&fs.ModeSymlink != 0 {
				target, _ := readAll(f, 4096)
				c.Link = string(target)
			}
			return
		}
		n, p = c, rest
	}
}

func (n *Node) find(p string) (*Node, error) {
	p = strings.Trim(p, "/")
	if p == "" || p == "." {
		return n, nil
	}
	for part := range strings.SplitSeq(p, "/") {
		next := n.children[part]
		if next == nil {
			return nil, fmt.Errorf("%s: %w", p, ErrNoEntry)
		}
		n = next
	}
	return n, nil
}

// Children returns what lies directly in folder p, largest first.
func (n *Node) Children(p string) ([]*Node, error) {
	at, err := n.find(p)
	if err != nil {
		return nil, err
	}
	if !at.Folder {
		return []*Node{at}, nil
	}
	out := make([]*Node, 0, len(at.children))
	for _, c := range at.children {
		out = append(out, c)
	}
	bySize(out)
	return out, nil
}

// Largest returns the n largest files.
func (n *Node) Largest(count int) []*Node {
	var out []*Node
	n.each(func(c *Node) {
		if !c.Folder {
			out = append(out, c)
			if len(out) > 4*count+64 {
				bySize(out)
				out = out[:count]
			}
		}
	})
	bySize(out)
	return out[:min(count, len(out))]
}

// Find returns up to limit files and folders whose path, or name where the pattern has no slash, matches a glob.
func (n *Node) Find(glob string, limit int) ([]*Node, error) {
	if !doublestar.ValidatePattern(glob) {
		return nil, fmt.Errorf("%q is not a pattern; write something like *.jpg or uploads/**", glob)
	}
	if strings.Contains(glob, "/") && !strings.HasPrefix(glob, "**/") {
		glob = "**/" + glob
	}
	var out []*Node
	n.each(func(c *Node) {
		subject := c.Name
		if strings.Contains(glob, "/") {
			subject = c.Path
		}
		if doublestar.MatchUnvalidated(glob, subject) {
			out = append(out, c)
		}
	})
	bySize(out)
	return out[:min(limit, len(out))], nil
}

func (n *Node) each(visit func(*Node)) {
	for _, c := range n.children {
		visit(c)
		c.each(visit)
	}
}

// Map returns the tree down to a depth, for a size map: folders with their sizes, each level largest first.
func (n *Node) Map(p string, depth int) (*MapNode, error) {
	at, err := n.find(p)
	if err != nil {
		return nil, err
	}
	return at.mapped(depth), nil
}

// MapNode is a Node with its children, for a size map.
type MapNode struct {
	Name     string     `json:"name"`
	Path     string     `json:"path"`
	Area     string     `json:"area"`
	Bytes    int64      `json:"bytes"`
	Children []*MapNode `json:"children,omitempty"`
}

const mapChildren = 40 // of one folder; the rest is one node

func (n *Node) mapped(depth int) *MapNode {
	out := &MapNode{Name: n.Name, Path: n.Path, Area: n.Area, Bytes: n.Bytes}
	if depth == 0 || !n.Folder {
		return out
	}
	children, _ := n.Children("")
	for i, c := range children {
		if i == mapChildren {
			rest := &MapNode{Name: "others", Area: c.Area}
			for _, o := range children[i:] {
				rest.Bytes += o.Bytes
			}
			out.Children = append(out.Children, rest)
			break
		}
		out.Children = append(out.Children, c.mapped(depth-1))
	}
	return out
}

func bySize(nodes []*Node) {
	slices.SortFunc(nodes, func(a, b *Node) int {
		if a.Bytes != b.Bytes {
			if a.Bytes > b.Bytes {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Path, b.Path)
	})
}
