package contents

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/filelist"
	"nestseed/internal/core/glob"
)

// Contents is the list of an archive's entries, to look at without the archive. Every question is answered by one pass
// over the packed list, which takes tens of milliseconds for 200,000 entries and no memory to speak of.
type Contents struct {
	index  []byte
	tables []archive.TableTotal
	rows   map[string]int // which table the rows in an entry are of
}

// New takes an archive's index and the manifest that tells of its tables.
func New(index []byte, m *archive.Manifest) *Contents {
	c := &Contents{index: index, tables: slices.Clone(m.Tables), rows: map[string]int{}}
	slices.SortFunc(c.tables, func(a, b archive.TableTotal) int { return strings.Compare(a.Name, b.Name) })
	for at, t := range c.tables {
		for i := range t.Entries {
			c.rows[archive.RowsName(t.Name, i)] = at
		}
	}
	return c
}

// Node is a file or folder of the archive with the sums of what is below it. The database is a folder of tables.
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
}

// Listing is an answer about contents.
type Listing struct {
	Nodes []*Node
	Files int64 // of the whole archive
	Bytes int64 // of its files and rows
}

// Children lists what lies directly in folder p, largest first and up to limit; a file is listed alone. Errors:
// ErrNoEntry, filelist.ErrDamaged.
func (c *Contents) Children(p string, limit int) (*Listing, error) {
	p = tidy(p)
	found := largest{most: limit}
	var itself *Node
	out, err := c.pass(func(n *Node) {
		if n.Path == p {
			kept := *n
			itself = &kept
		} else if rest, in := below(n.Path, p); in && !strings.Contains(rest, "/") {
			found.add(n)
		}
	})
	switch {
	case err != nil:
		return nil, err
	case p != "" && itself == nil:
		return nil, fmt.Errorf("%s: %w", p, archive.ErrNoEntry)
	case p != "" && !itself.Folder:
		out.Nodes = []*Node{itself}
	default:
		out.Nodes = found.nodes()
	}
	return out, nil
}

// Largest lists the largest files below p. Errors: filelist.ErrDamaged.
func (c *Contents) Largest(p string, limit int) (*Listing, error) {
	return c.those(p, limit, func(n *Node) bool { return !n.Folder })
}

// Find lists files and folders below p whose path, or name where the pattern has no slash, matches a glob. Errors: where it is
// none; filelist.ErrDamaged.
func (c *Contents) Find(p, pattern string, limit int) (*Listing, error) {
	if err := glob.Validate(pattern); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrPattern, err)
	}
	byPath := strings.Contains(pattern, "/")
	if byPath && !strings.HasPrefix(pattern, "**/") {
		pattern = "**/" + pattern
	}
	return c.those(p, limit, func(n *Node) bool {
		subject := n.Name
		if byPath {
			subject = n.Path
		}
		return glob.Match(pattern, subject)
	})
}

// Words lists files and folders below p whose name, or path where there is a slash in them, has words in it, in any case. Errors:
// filelist.ErrDamaged.
func (c *Contents) Words(p, words string, limit int) (*Listing, error) {
	words = strings.ToLower(words)
	byPath := strings.Contains(words, "/")
	return c.those(p, limit, func(n *Node) bool {
		if byPath {
			return strings.Contains(strings.ToLower(n.Path), words)
		}
		return strings.Contains(strings.ToLower(n.Name), words)
	})
}

// ErrPattern says that a text is no pattern.
var ErrPattern = errors.New("not a pattern")

func (c *Contents) those(p string, limit int, wanted func(n *Node) bool) (*Listing, error) {
	p = tidy(p)
	found := largest{most: limit}
	out, err := c.pass(func(n *Node) {
		if _, in := below(n.Path, p); in && wanted(n) {
			found.add(n)
		}
	})
	if err != nil {
		return nil, err
	}
	out.Nodes = found.nodes()
	return out, nil
}

// Map returns what is below p down to a depth, for a size map: folders with their sizes, each level largest first. Errors:
// ErrNoEntry, filelist.ErrDamaged.
func (c *Contents) Map(p string, depth int) (*MapNode, error) {
	p = tidy(p)
	folders := map[string]*largest{}
	root := &Node{Folder: true}
	there := p == ""
	out, err := c.pass(func(n *Node) {
		if n.Path == p {
			there, *root = true, *n
			return
		}
		rest, in := below(n.Path, p)
		if !in || strings.Count(rest, "/") >= depth {
			return
		}
		parent := n.Path[:max(0, len(n.Path)-len(n.Name)-1)]
		if folders[parent] == nil {
			folders[parent] = &largest{most: mapChildren}
		}
		folders[parent].add(n)
	})
	if err != nil {
		return nil, err
	}
	if !there {
		return nil, fmt.Errorf("%s: %w", p, archive.ErrNoEntry)
	}
	if p == "" {
		root.Bytes = out.Bytes
	}
	return mapped(root, folders), nil
}

func mapped(n *Node, folders map[string]*largest) *MapNode {
	out := &MapNode{Name: n.Name, Path: n.Path, Area: n.Area, Bytes: n.Bytes, Folder: n.Folder}
	below := folders[n.Path]
	if below == nil || !n.Folder {
		return out
	}
	for _, c := range below.nodes() {
		out.Children = append(out.Children, mapped(c, folders))
	}
	if below.rest != nil {
		out.Children = append(out.Children, &MapNode{Name: "others", Area: below.rest.Area, Bytes: below.rest.Bytes})
	}
	return out
}

// MapNode is a Node with its children, for a size map.
type MapNode struct {
	Name     string     `json:"name"`
	Path     string     `json:"path"`
	Area     string     `json:"area"`
	Bytes    int64      `json:"bytes"`
	Folder   bool       `json:"folder,omitempty"`
	Children []*MapNode `json:"children,omitempty"`
}

const mapChildren = 40 // of one folder; the rest is one node

// tidy is a path as nodes have it.
func tidy(p string) string {
	if p = strings.Trim(p, "/"); p == "." {
		return ""
	}
	return p
}

// below says whether a path lies in a folder, and what it is there.
func below(name, folder string) (rest string, in bool) {
	if folder == "" {
		return name, true
	}
	if len(name) > len(folder) && name[len(folder)] == '/' && name[:len(folder)] == folder {
		return name[len(folder)+1:], true
	}
	return "", false
}

// largest keeps the largest of many nodes.
type largest struct {
	most int
	kept []*Node
	rest *Node // the others together; nil when there are none
}

func (l *largest) add(n *Node) {
	kept := *n
	l.kept = append(l.kept, &kept)
	if len(l.kept) > 4*l.most+64 {
		l.cut()
	}
}

func (l *largest) cut() {
	bySize(l.kept)
	for _, n := range l.kept[min(l.most, len(l.kept)):] {
		if l.rest == nil {
			l.rest = &Node{Area: n.Area}
		}
		l.rest.isOf(n.Area)
		l.rest.Bytes += n.Bytes
	}
	l.kept = l.kept[:min(l.most, len(l.kept))]
}

func (l *largest) nodes() []*Node {
	l.cut()
	return append([]*Node{}, l.kept...)
}

// pass visits all files and tables, and each folder when all in it was visited. A node is the visitor's only during the
// visit.
func (c *Contents) pass(visit func(n *Node)) (*Listing, error) {
	taken := false
	w := walk{open: []Node{{Folder: true}}, own: map[string]filelist.Entry{}, visit: func(n *Node) {
		taken = taken || n.Path == "database"
		visit(n)
	}}
	tables := make([]Node, len(c.tables))
	err := filelist.Each(c.index, func(e *filelist.Entry) {
		if p, in := strings.CutPrefix(e.Path, archive.FilesDir); in {
			w.add(p, e)
		} else if at, in := c.rows[e.Path]; in {
			tables[at].Bytes += e.Bytes
			tables[at].Packed += e.Packed
			tables[at].Modified = time.Unix(e.Modified, 0).UTC()
		}
	})
	if err != nil {
		return nil, err
	}
	w.end()
	out := &Listing{Files: w.open[0].Files, Bytes: w.open[0].Bytes}
	db := Node{Name: "database", Path: "database", Folder: true, Area: "database"}
	for i := range tables {
		n := &tables[i]
		n.Name, n.Path, n.Area, n.Rows = c.tables[i].Name, "database/"+c.tables[i].Name, "database", c.tables[i].Rows
		db.Bytes += n.Bytes
		db.Packed += n.Packed
		db.Modified = n.Modified
		out.Bytes += n.Bytes
		if !taken {
			visit(n)
		}
	}
	if len(tables) > 0 && !taken {
		visit(&db)
	}
	return out, nil
}

// walk goes through the site's files, which come in order of their paths: the folders that the last one lay in are open,
// and what is in a folder counts for the one around it when it is closed.
type walk struct {
	open  []Node                    // from the root down
	own   map[string]filelist.Entry // entries of folders that nothing in was seen yet
	file  Node                      // the last one
	visit func(n *Node)
}

func (w *walk) close() {
	last := len(w.open) - 1
	n, around := &w.open[last], &w.open[last-1]
	around.Files += n.Files
	around.Bytes += n.Bytes
	around.Packed += n.Packed
	around.isOf(n.Area)
	w.visit(n)
	w.open = w.open[:last]
}

// isOf leaves a folder of several areas without one.
func (n *Node) isOf(area string) {
	if n.Area != area {
		n.Area = ""
	}
}

// add takes the next entry.
func (w *walk) add(p string, e *filelist.Entry) {
	rest, in := below(p, w.open[len(w.open)-1].Path)
	for ; !in; rest, in = below(p, w.open[len(w.open)-1].Path) {
		w.close()
	}
	for {
		slash := strings.IndexByte(rest, '/')
		if slash < 0 {
			break
		}
		n := Node{Name: rest[:slash], Path: p[:len(p)-len(rest)+slash], Folder: true, Area: e.Area}
		if own, there := w.own[n.Path]; there {
			n.Modified, n.Packed = time.Unix(own.Modified, 0).UTC(), own.Packed
			n.isOf(own.Area)
			delete(w.own, n.Path)
		}
		w.open, rest = append(w.open, n), rest[slash+1:]
	}
	if e.Mode.IsDir() {
		w.own[p] = *e
		return
	}
	w.file = Node{Name: rest, Path: p, Link: e.Target, Area: e.Area, Files: 1, Bytes: e.Bytes, Packed: e.Packed,
		Modified: time.Unix(e.Modified, 0).UTC()}
	if e.Mode&fs.ModeSymlink != 0 {
		w.file.Bytes = 0 // what is stored of a link is its target
	}
	around := &w.open[len(w.open)-1]
	around.Files++
	around.Bytes += w.file.Bytes
	around.Packed += e.Packed
	around.isOf(e.Area)
	w.visit(&w.file)
}

// end visits the folders that are open, and those that nothing is in.
func (w *walk) end() {
	for len(w.open) > 1 {
		w.close()
	}
	for p, e := range w.own {
		w.visit(&Node{Name: path.Base(p), Path: p, Folder: true, Area: e.Area, Packed: e.Packed, Modified: time.Unix(e.Modified, 0).UTC()})
	}
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
