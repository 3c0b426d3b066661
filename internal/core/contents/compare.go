package contents

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
)

const (
	listedFiles   = 2000
	listedValues  = 300
	listedFolders = 60
	folderDepth   = 4
	shownValue    = 160
	mostRows      = 4_000_000 // of a table that is compared row by row; 16 bytes each are held
	mask          = "••••••••"
)

// Compare says how b differs from a. Both are of the same kind.
func Compare(ctx context.Context, a, b *archive.Archive, k *kind.Kind, report progress.Reporter) (*Comparison, error) {
	return compareArchives(ctx, a, b, k, true, report)
}

// CompareSizes is Compare without a look at settings and single rows: what makes the difference in size.
func CompareSizes(ctx context.Context, a, b *archive.Archive, k *kind.Kind) (*Comparison, error) {
	return compareArchives(ctx, a, b, k, false, progress.Discard)
}

func compareArchives(ctx context.Context, a, b *archive.Archive, k *kind.Kind, deep bool, report progress.Reporter) (*Comparison, error) {
	c := &comparer{ctx: ctx, a: a, b: b, k: k, out: &Comparison{From: a.Manifest.Ref(), To: b.Manifest.Ref(), Areas: []AreaDelta{},
		Folders: []FolderDelta{}, Files: []FileDelta{}, Tables: []TableDelta{}, Values: []ValueDelta{}, Causes: []Cause{}},
		deep: deep, root: &deltaNode{}, areas: map[string]*AreaDelta{}, folders: map[string]*FolderDelta{}}
	var err error
	if c.sumsA, err = a.Sums(); err != nil {
		return nil, fmt.Errorf("%s: %w", a.Manifest.Ref(), err)
	}
	if c.sumsB, err = b.Sums(); err != nil {
		return nil, fmt.Errorf("%s: %w", b.Manifest.Ref(), err)
	}
	report.Step("Compare files", progress.Amount{})
	c.files()
	if deep {
		report.Step("Compare settings", progress.Amount{})
		if err := c.settings(); err != nil {
			return nil, err
		}
	}
	report.Step("Compare rows", progress.Amount{})
	if err := c.tables(); err != nil {
		return nil, err
	}
	c.finish()
	return c.out, nil
}

type comparer struct {
	ctx          context.Context
	a, b         *archive.Archive
	k            *kind.Kind
	sumsA, sumsB map[string]string
	deep         bool
	out          *Comparison
	root         *deltaNode
	areas        map[string]*AreaDelta
	folders      map[string]*FolderDelta
}

func (c *comparer) files() {
	for _, f := range c.b.Entries() {
		p, in := strings.CutPrefix(f.Name, archive.FilesDir)
		if !in || f.Mode().IsDir() {
			continue
		}
		old := c.a.Entry(f.Name)
		switch {
		case old == nil:
			c.file(FileDelta{Path: p, Change: "added", After: int64(f.UncompressedSize64), Packed: int64(f.CompressedSize64)})
		case old.UncompressedSize64 != f.UncompressedSize64 || old.CRC32 != f.CRC32 || c.sumsA[f.Name] != c.sumsB[f.Name] ||
			old.Mode().Type() != f.Mode().Type():
			c.file(FileDelta{Path: p, Change: "changed", Before: int64(old.UncompressedSize64), After: int64(f.UncompressedSize64),
				Packed: int64(f.CompressedSize64) - int64(old.CompressedSize64)})
		}
	}
	for _, f := range c.a.Entries() {
		if p, in := strings.CutPrefix(f.Name, archive.FilesDir); in && !f.Mode().IsDir() && c.b.Entry(f.Name) == nil {
			c.file(FileDelta{Path: p, Change: "removed", Before: int64(f.UncompressedSize64), Packed: -int64(f.CompressedSize64)})
		}
	}
}

func (c *comparer) file(d FileDelta) {
	d.Area = c.k.AreaOf(d.Path)
	c.out.Files = append(c.out.Files, d)
	area := c.areas[d.Area]
	if area == nil {
		area = &AreaDelta{Area: d.Area}
		c.areas[d.Area] = area
	}
	area.add(d)
	for dir := path.Dir(d.Path); dir != "."; dir = path.Dir(dir) {
		if strings.Count(dir, "/") >= folderDepth {
			continue
		}
		f := c.folders[dir]
		if f == nil {
			f = &FolderDelta{Path: dir, AreaDelta: AreaDelta{Area: d.Area}}
			c.folders[dir] = f
		}
		f.add(d)
	}
	t := map[string]*Tally{"added": &c.out.Added, "removed": &c.out.Removed, "changed": &c.out.Changed}[d.Change]
	t.Files++
	t.Bytes += d.After
	if d.Change == "removed" {
		t.Bytes += d.Before
	}
	c.root.put(d.Path, d.Packed, d.Change)
}

func (a *AreaDelta) add(d FileDelta) {
	a.Bytes += d.After - d.Before
	a.Packed += d.Packed
	switch d.Change {
	case "added":
		a.Added++
	case "removed":
		a.Removed++
	default:
		a.Changed++
	}
}

func (c *comparer) finish() {
	magnitude := func(n int64) int64 { return max(n, -n) }
	for _, a := range c.areas {
		c.out.Areas = append(c.out.Areas, *a)
	}
	slices.SortFunc(c.out.Areas, func(a, b AreaDelta) int {
		return cmp.Or(cmp.Compare(magnitude(b.Packed), magnitude(a.Packed)), cmp.Compare(a.Area, b.Area))
	})
	for _, f := range c.folders {
		c.out.Folders = append(c.out.Folders, *f)
	}
	slices.SortFunc(c.out.Folders, func(a, b FolderDelta) int {
		return cmp.Or(cmp.Compare(magnitude(b.Packed), magnitude(a.Packed)), cmp.Compare(a.Path, b.Path))
	})
	c.out.Folders = c.out.Folders[:min(len(c.out.Folders), listedFolders)]
	slices.SortFunc(c.out.Files, func(a, b FileDelta) int {
		return cmp.Or(cmp.Compare(magnitude(b.Packed), magnitude(a.Packed)), cmp.Compare(a.Path, b.Path))
	})
	if n := len(c.out.Files); n > listedFiles {
		c.out.Files, c.out.More = c.out.Files[:listedFiles], n-listedFiles
	}
	slices.SortFunc(c.out.Tables, func(a, b TableDelta) int {
		return cmp.Or(cmp.Compare(magnitude(b.Packed), magnitude(a.Packed)), cmp.Compare(a.Table, b.Table))
	})
	c.out.Causes = c.root.causes(3)
}
