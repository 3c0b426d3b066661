package survey

import (
	"cmp"
	"slices"
	"strings"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/glob"
	"nestseed/internal/core/packing"
)

// Node is a folder or file of a source, with what a packing list leaves out of it.
type Node struct {
	Path     string
	Name     string
	Folder   bool
	Area     string // that of most of its bytes
	Files    int64
	Bytes    int64
	OutFiles int64
	OutBytes int64
	Rule     string // that leaves out most of what stays out
}

// TableNode is a table of a source, and what a packing list does with it.
type TableNode struct {
	Name  string // without prefix
	Rows  int64  // the server's estimate
	Bytes int64
	State string // "in", "out" or "empty"
	Rule  string
}

// mostNodes is how many nodes a level shows: the largest.
const mostNodes = 500

// gathered is a node while its files are added up.
type gathered struct {
	Node
	areas map[string]int64
	rules map[string]int64
}

// Level returns what lies directly in a folder ("" for the web root), the largest first, and how many there are in all. With find, it
// returns the files anywhere below it whose path has that in it, in any case, or that it matches as a pattern.
func (s *Survey) Level(m *packing.Matcher, folder, find string) (nodes []Node, all int) {
	prefix := ""
	if folder != "" {
		prefix = folder + "/"
	}
	at, _ := slices.BinarySearchFunc(s.Files, prefix, func(e filelist.Entry, p string) int { return strings.Compare(e.Path, p) })
	wanted := wantedBy(find)
	by := map[string]*gathered{}
	sweep := m.Sweep()
	for _, f := range s.Files[at:] {
		rest, inside := strings.CutPrefix(f.Path, prefix)
		if !inside {
			break
		}
		name, deeper := rest, false
		if wanted != nil {
			if !wanted(f.Path) {
				continue
			}
			name = rest
		} else {
			name, _, deeper = strings.Cut(rest, "/")
		}
		g := by[name]
		if g == nil {
			g = &gathered{Node: Node{Path: prefix + name, Name: name, Folder: deeper}, areas: map[string]int64{}, rules: map[string]int64{}}
			by[name] = g
		}
		g.Files++
		g.Bytes += f.Bytes
		g.areas[f.Area] += f.Bytes + 1
		if rule, out := sweep(f.Path, f.Bytes); out {
			g.OutFiles++
			g.OutBytes += f.Bytes
			g.rules[rule] += f.Bytes + 1
		}
	}
	for _, g := range by {
		g.Area, g.Rule = most(g.areas), most(g.rules)
		nodes = append(nodes, g.Node)
	}
	slices.SortFunc(nodes, func(a, b Node) int { return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Path, b.Path)) })
	return nodes[:min(len(nodes), mostNodes)], len(nodes)
}

// wantedBy judges paths by a part of them or by a pattern; nil for nothing that is looked for.
func wantedBy(find string) func(string) bool {
	switch {
	case find == "":
		return nil
	case !glob.Words(find) && glob.Validate(find) == nil:
		if !strings.Contains(find, "/") {
			find = "**/" + find
		}
		return func(p string) bool { return glob.Match(find, p) }
	}
	find = strings.ToLower(find)
	return func(p string) bool { return strings.Contains(strings.ToLower(p), find) }
}

// most returns the key with the largest number, the first of several.
func most(of map[string]int64) (key string) {
	for k, n := range of {
		if key == "" || n > of[key] || n == of[key] && k < key {
			key = k
		}
	}
	return key
}

// TableLevel returns all tables, the largest first.
func (s *Survey) TableLevel(m *packing.Matcher) []TableNode {
	out := []TableNode{}
	for i := range s.Tables {
		t := &s.Tables[i]
		n := TableNode{Name: strings.TrimPrefix(t.Name, s.Prefix), Rows: t.Rows, Bytes: t.DataBytes, State: "in"}
		if rule, leave := m.LeavesOutTable(t.Name); leave {
			n.State, n.Rule = "out", rule
		} else if m.Empties(t.Name) {
			n.State = "empty"
		}
		out = append(out, n)
	}
	slices.SortStableFunc(out, func(a, b TableNode) int { return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Name, b.Name)) })
	return out
}
