package runs

import (
	"context"
	"encoding/json"
	"fmt"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
)

// CompareArgs ask how a release differs from another, or, with ToSource, how its source differs from it today.
type CompareArgs struct {
	From     string `json:"from"`
	To       string `json:"to,omitempty"`
	ToSource bool   `json:"to_source,omitempty"`
}

func (w *Works) compare(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args CompareArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	from, err := w.DB.Release(ctx, args.From)
	if err != nil {
		return nil, err
	}
	a, f, err := w.OpenArchive(from)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	k, err := kind.Named(w.Kinds, from.Manifest.Kind)
	if err != nil {
		return nil, err
	}
	b, size, done, err := w.other(ctx, run, args, from, report)
	if err != nil {
		return nil, err
	}
	defer done()
	if b.Manifest.Kind != a.Manifest.Kind {
		return nil, fmt.Errorf("%s is a site of kind %s and %s of kind %s; only sites of one kind can be compared", a.Manifest.Ref(), a.Manifest.Kind, b.Manifest.Ref(), b.Manifest.Kind)
	}
	c, err := archive.Compare(ctx, a, b, k, report)
	if err != nil {
		return nil, err
	}
	if args.ToSource {
		c.To = "source " + from.Manifest.Source + " today"
	}
	c.Tell(from.ArchiveBytes, size)
	return c, nil
}

// other opens what a release is compared with. The source today is what a release of it would be: it is built
// from it, with what did not change copied, and thrown away.
func (w *Works) other(ctx context.Context, run records.Run, args CompareArgs, from records.Release, report progress.Reporter) (*archive.Archive, int64, func(), error) {
	if !args.ToSource {
		to, err := w.DB.Release(ctx, args.To)
		if err != nil {
			return nil, 0, nil, err
		}
		b, f, err := w.OpenArchive(to)
		if err != nil {
			return nil, 0, nil, err
		}
		return b, to.ArchiveBytes, func() { f.Close() }, nil
	}
	d, err := w.draft(ctx, run, BuildArgs{Starter: from.Starter}, report)
	if err != nil {
		return nil, 0, nil, err
	}
	size, err := d.file.Size()
	if err == nil {
		var b *archive.Archive
		if b, err = archive.Open(d.file, size); err == nil {
			return b, size, d.file.Drop, nil
		}
	}
	d.file.Drop()
	return nil, 0, nil, err
}
