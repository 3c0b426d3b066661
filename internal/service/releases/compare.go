package releases

import (
	"context"
	"fmt"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// CompareArgs ask how a release differs from another, or, with ToSource, how its source differs from it today.
type CompareArgs struct {
	From     string `json:"from"`
	To       string `json:"to,omitempty"`
	ToSource bool   `json:"to_source,omitempty"`
}

// Compare says how a release differs from another, or from its source today.
func (svc *Releases) Compare(ctx context.Context, run engine.Run, args CompareArgs,
	report progress.Reporter) (*contents.Comparison, error) {
	from, err := svc.DB.Release(ctx, args.From)
	if err != nil {
		return nil, err
	}
	a, f, err := svc.OpenArchive(ctx, from)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	k, err := svc.Kinds.Of(ctx, from.Manifest)
	if err != nil {
		return nil, err
	}
	b, size, done, err := svc.other(ctx, run, args, from, report)
	if err != nil {
		return nil, err
	}
	defer done()
	if b.Manifest.Kind != a.Manifest.Kind {
		return nil, fmt.Errorf("%s is a site of kind %s and %s of kind %s; only sites of one kind can be compared", a.Manifest.Ref(),
			a.Manifest.Kind, b.Manifest.Ref(), b.Manifest.Kind)
	}
	res, err := contents.Compare(ctx, a, b, k, report)
	if err != nil {
		return nil, err
	}
	if args.ToSource {
		res.To = "source " + from.Manifest.Source + " today"
	}
	res.Explain(from.ArchiveBytes, size)
	return res, nil
}

// other opens what a release is compared with. The source today is what a release of it would be: it is built
// from it, with what did not change copied, and thrown away.
func (svc *Releases) other(ctx context.Context, run engine.Run, args CompareArgs, from records.Release,
	report progress.Reporter) (*archive.Archive, int64, func(), error) {
	if !args.ToSource {
		to, err := svc.DB.Release(ctx, args.To)
		if err != nil {
			return nil, 0, nil, err
		}
		b, f, err := svc.OpenArchive(ctx, to)
		if err != nil {
			return nil, 0, nil, err
		}
		return b, to.ArchiveBytes, func() { f.Close() }, nil
	}
	d, err := svc.draft(ctx, run, BuildArgs{Starter: from.Starter}, report)
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
