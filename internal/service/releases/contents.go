package releases

import (
	"context"

	"nestseed/internal/core/contents"
	"nestseed/internal/service/records"
)

// Contents returns a release's contents: from the index that was kept with its record, which is there when the archive was
// discarded, too; else from the archive. Errors: ErrDiscarded.
func (svc *Releases) Contents(ctx context.Context, r records.Release) (*contents.Contents, error) {
	index, err := svc.DB.Contents(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	if index != nil {
		return contents.New(index, r.Manifest), nil
	}
	k, err := svc.Kinds.Of(ctx, r.Manifest)
	if err != nil {
		return nil, err
	}
	ar, f, err := svc.OpenArchive(ctx, r)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if index, err = contents.Index(ar, k); err != nil {
		return nil, err
	}
	return contents.New(index, r.Manifest), svc.DB.SetContents(ctx, r.ID, index)
}
