package provision

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"io/fs"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sqltext"
)

const shownSamples = 8

// CountPlaces counts the places in a release that name the address and folder it came from, by table and by
// folder, and shows some. They are the same for every site that is made from it.
func CountPlaces(ctx context.Context, a *archive.Archive) ([]Count, []Sample, error) {
	p := &Plan{Address: "http://new.invalid", Folder: "/new/invalid"}
	r, err := rewrite.New(rulesFor(&a.Manifest, p))
	if err != nil {
		return nil, nil, err
	}
	c := &placeCounter{r: r, counts: map[string]int64{}}
	group, ctx := parallel.WithContext(ctx)
	group.SetLimit(max(2, runtime.GOMAXPROCS(0)))
	for _, t := range a.Manifest.Tables {
		for _, entry := range a.Rows(t) {
			group.Go(func() error { return c.rows(ctx, a, t.Name, entry) })
		}
	}
	err = a.Regular(func(f *zip.File, p string) error {
		if f.Mode()&fs.ModeSymlink != 0 || f.UncompressedSize64 == 0 {
			return nil
		}
		group.Go(func() error { return c.file(ctx, f, p) })
		return ctx.Err()
	})
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	if err != nil {
		return nil, nil, err
	}
	var out []Count
	for where, n := range c.counts {
		out = append(out, Count{where, n})
	}
	slices.SortFunc(out, func(a, b Count) int {
		if a.Places != b.Places {
			return int(max(-1, min(1, b.Places-a.Places)))
		}
		return strings.Compare(a.Where, b.Where)
	})
	slices.SortFunc(c.samples, func(a, b Sample) int { return strings.Compare(a.Where, b.Where) })
	return out, c.samples[:min(len(c.samples), shownSamples)], nil
}

type placeCounter struct {
	r       *rewrite.Rewriter
	mu      sync.Mutex
	counts  map[string]int64
	samples []Sample
}

func (c *placeCounter) add(where string, n int, first string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.counts[where] == 0 {
		c.samples = append(c.samples, Sample{where, first})
	}
	c.counts[where] += int64(n)
}

func (c *placeCounter) rows(ctx context.Context, a *archive.Archive, table, entry string) error {
	r, err := a.File(entry)
	if err != nil {
		return err
	}
	defer r.Close()
	if a.Dialect() != sqltext.MySQL { // bytes are written in figures there
		return archive.EachRow(a.Dialect(), r, func(_ *sqltext.Insert, row []sqltext.Literal) error {
			for _, lit := range row {
				if body, quoted := lit.Quoted(); quoted {
					if n, first := c.r.Leftovers(sqltext.AppendUnescaped(nil, body)); n > 0 {
						c.add("table "+table, n, first)
					}
				}
			}
			return ctx.Err()
		})
	}
	sc := sqltext.NewScanner(r, archive.MaxStatementBytes)
	for sc.Scan() && ctx.Err() == nil {
		if n, first := c.r.LeftoversInSQL(sc.Statement()); n > 0 {
			c.add("table "+table, n, first)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return sc.Err()
}

func (c *placeCounter) file(ctx context.Context, f *zip.File, p string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	head := make([]byte, min(8<<10, f.UncompressedSize64))
	if _, err := io.ReadFull(r, head); err != nil {
		return err
	}
	if !rewrite.IsText(head) {
		return nil
	}
	if f.UncompressedSize64 > textBytes && phpval.Looks(head) {
		return nil
	}
	return c.r.Chunks(io.MultiReader(bytes.NewReader(head), r), func(chunk []byte) error {
		if n, first := c.r.Leftovers(chunk); n > 0 {
			parts := strings.Split(path.Dir(p), "/")
			c.add("files in "+strings.Join(parts[:min(3, len(parts))], "/"), n, first)
		}
		return ctx.Err()
	})
}
