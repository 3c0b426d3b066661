package archive

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"nestseed/internal/core/filelist"
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

	children []*Node // by name
}

// NewTree makes a tree of an archive's index: the site's files by path, and the database as a folder of tables.
// Errors: filelist.ErrDamaged.
func NewTree(index []byte, m *Manifest) (*Node, error) {
	root := &Node{Folder: true}
	t := growing{open: []opened{{node: root}}}
	rows := map[string]filelist.Entry{}
	err := filelist.Each(index, func(count int) { t.room = make([]Node, 0, count+64) }, func(e *filelist.Entry) {
		if p, in := strings.CutPrefix(e.Path, FilesDir); in {
			t.add(p, e)
		} else if strings.HasPrefix(e.Path, RowsDir) {
			rows[e.Path] = *e
		}
	})
	if err != nil {
		return nil, err
	}
	for len(t.open) > 1 {
		t.close()
	}
	if len(m.Tables) == 0 {
		return root, nil
	}
	db := &Node{Name: "database", Path: "database", Folder: true, Area: "database"}
	for _, t := range m.Tables {
		n := &Node{Name: t.Name, Path: "database/" + t.Name, Area: "database", Rows: t.Rows}
		for i := range t.Entries {
			if e, is := rows[rowsName(t.Name, i)]; is {
				n.Bytes += e.Bytes
				n.Packed += e.Packed
				n.Modified = time.Unix(e.Modified, 0).UTC()
			}
		}
		db.Bytes += n.Bytes
		db.Packed += n.Packed
		db.Modified = n.Modified
		db.children = append(db.children, n)
	}
	slices.SortFunc(db.children, func(a, b *Node) int { return strings.Compare(a.Name, b.Name) })
	root.Bytes += db.Bytes
	root.Packed += db.Packed
	at, taken := root.place("database")
	if !taken {
		root.children = slices.Insert(root.children, at, db)
	}
	return root, nil
}

// place returns where a child of this name is or would be. Paths come nearly sorted, so the last is tried first.
func (n *Node) place(name string) (int, bool) {
	if last := len(n.children) - 1; last >= 0 {
		if c := strings.Compare(n.children[last].Name, name); c <= 0 {
			return last + 1 - b2i(c == 0), c == 0
		}
	}
	return slices.BinarySearchFunc(n.children, name, func(c *Node, s string) int { return strings.Compare(c.Name, s) })
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// growing is a tree that entries are put into. They come nearly sorted: the folders that the last one lay in stay open,
// and what is below a folder counts for the one around it when it is closed.
type growing struct {
	open []opened // from the root down
	room []Node   // so that nodes are not made one by one
}

// opened is a folder with what it had when it was opened.
type opened struct {
	node                 *Node
	files, bytes, packed int64
}

func (t *growing) close() {
	last := len(t.open) - 1
	o, around := t.open[last], t.open[last-1].node
	t.open = t.open[:last]
	around.Files += o.node.Files - o.files
	around.Bytes += o.node.Bytes - o.bytes
	around.Packed += o.node.Packed - o.packed
	around.isOf(o.node.Area)
}

// isOf leaves a folder of several areas without one.
func (n *Node) isOf(area string) {
	if n.Area != area {
		n.Area = ""
	}
}

func (t *growing) add(p string, e *filelist.Entry) {
	n := t.open[len(t.open)-1].node
	for len(n.Path) > 0 && (len(p) <= len(n.Path) || p[len(n.Path)] != '/' || p[:len(n.Path)] != n.Path) {
		t.close()
		n = t.open[len(t.open)-1].node
	}
	from := 0
	if n.Path != "" {
		from = len(n.Path) + 1
	}
	for {
		slash := strings.IndexByte(p[from:], '/')
		if slash < 0 {
			break
		}
		n = t.child(n, p[from:from+slash], p[:from+slash], e)
		n.Folder = true
		t.open = append(t.open, opened{n, n.Files, n.Bytes, n.Packed})
		from += slash + 1
	}
	c := t.child(n, p[from:], p, e)
	n.isOf(c.Area)
	c.Modified, c.Link = time.Unix(e.Modified, 0).UTC(), e.Target
	if e.Mode.IsDir() {
		c.Folder = true
		n.Packed += e.Packed
		return
	}
	size := e.Bytes
	if e.Mode&fs.ModeSymlink != 0 {
		size = 0 // what is stored of a link is its target
	}
	for _, x := range []*Node{n, c} {
		x.Files++
		x.Bytes += size
		x.Packed += e.Packed
	}
}

// child returns a node of a folder, which is made if it is not there.
func (t *growing) child(n *Node, name, p string, e *filelist.Entry) *Node {
	at, found := n.place(name)
	if found {
		n.children[at].isOf(e.Area)
		return n.children[at]
	}
	if len(t.room) == cap(t.room) {
		t.room = make([]Node, 0, max(64, cap(t.room)/8))
	}
	t.room = append(t.room, Node{Name: name, Path: p, Area: e.Area})
	c := &t.room[len(t.room)-1]
	if at == len(n.children) {
		n.children = append(n.children, c)
	} else {
		n.children = slices.Insert(n.children, at, c)
	}
	return c
}

func (n *Node) find(p string) (*Node, error) {
	p = strings.Trim(p, "/")
	if p == "" || p == "." {
		return n, nil
	}
	for part := range strings.SplitSeq(p, "/") {
		at, found := n.place(part)
		if !found {
			return nil, fmt.Errorf("%s: %w", p, ErrNoEntry)
		}
		n = n.children[at]
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
	out := slices.Clone(at.children)
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
	out := []*Node{}
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
	children := slices.Clone(n.children)
	bySize(children)
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
