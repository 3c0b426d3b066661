package contents

import (
	"fmt"
	"path"
	"strings"

	"nestseed/internal/core/progress"
)

// Explain fills in the sizes of the archives and the sentence, which need what only the caller knows.
func (c *Comparison) Explain(before, after int64) {
	c.Before, c.After = before, after
	if c.Added.Files+c.Removed.Files+c.Changed.Files == 0 && len(c.Tables) == 0 {
		c.Summary = fmt.Sprintf("%s and %s hold the same files and rows", c.From, c.To)
		return
	}
	size := "is as large as"
	if d := after - before; d > 0 {
		size = "is " + progress.SizeText(d) + " larger than"
	} else if d < 0 {
		size = "is " + progress.SizeText(-d) + " smaller than"
	}
	var why []string
	for _, x := range c.Causes {
		why = append(why, x.Sentence)
	}
	c.Summary = fmt.Sprintf("%s %s %s", c.To, size, c.From)
	if len(why) > 0 {
		c.Summary += ": " + strings.Join(why, "; ")
	}
}

// deltaNode is a folder or file in the tree of differences.
type deltaNode struct {
	name     string
	path     string
	weight   int64 // sum of the differences' magnitudes
	packed   int64 // sum of the differences
	counts   map[string]int64
	children map[string]*deltaNode
}

func (n *deltaNode) put(p string, packed int64, change string) {
	at := n
	for rest := p; ; {
		at.weight += max(packed, -packed)
		at.packed += packed
		if at.counts == nil {
			at.counts = map[string]int64{}
		}
		at.counts[change]++
		if rest == "" {
			return
		}
		name, deeper, _ := strings.Cut(rest, "/")
		if at.children == nil {
			at.children = map[string]*deltaNode{}
		}
		next := at.children[name]
		if next == nil {
			next = &deltaNode{name: name, path: path.Join(at.path, name)}
			at.children[name] = next
		}
		at, rest = next, deeper
	}
}

// causes finds the places that explain most of the difference: it goes down the tree while one child has most
// of the weight, takes what it stands on, and begins again without it.
func (n *deltaNode) causes(most int) []Cause {
	out := []Cause{}
	total := n.weight
	for len(out) < most && n.weight*50 >= total && n.weight > 0 {
		chain := []*deltaNode{n}
		at := n
		for {
			var heaviest *deltaNode
			for _, c := range at.children {
				if heaviest == nil || c.weight > heaviest.weight || c.weight == heaviest.weight && c.name < heaviest.name {
					heaviest = c
				}
			}
			if heaviest == nil || heaviest.weight == 0 || at != n && heaviest.weight*10 < at.weight*6 {
				break
			}
			at = heaviest
			chain = append(chain, at)
		}
		if at == n {
			break
		}
		out = append(out, Cause{at.path, at.sentence(), at.packed})
		weight, packed := at.weight, at.packed
		for _, c := range chain {
			c.weight -= weight
			c.packed -= packed
		}
		at.children = nil
	}
	return out
}

func (n *deltaNode) sentence() string {
	sign := "+"
	if n.packed < 0 {
		sign = "−"
	}
	amount := sign + progress.SizeText(max(n.packed, -n.packed))
	if table, is := strings.CutPrefix(n.path, "database/"); is {
		for change := range n.counts {
			if change == "changed" {
				return fmt.Sprintf("%s by rows of table %s", amount, table)
			}
			return fmt.Sprintf("%s by table %s, which was %s", amount, table, change)
		}
	}
	if len(n.children) == 0 {
		for change := range n.counts {
			return fmt.Sprintf("%s by %s, which was %s", amount, n.path, change)
		}
	}
	var parts []string
	for _, change := range []string{"added", "removed", "changed"} {
		if c := n.counts[change]; c > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c, change))
		}
	}
	what := "files in "
	if n.path == "database" {
		return fmt.Sprintf("%s by the database (tables: %s)", amount, strings.Join(parts, ", "))
	}
	return fmt.Sprintf("%s by %s%s (%s)", amount, what, n.path, strings.Join(parts, ", "))
}
