package remote

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"time"

	"golang.org/x/sync/semaphore"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/parallel"
)

// held is how many bytes of files that are on their way are held.
const held = 32 << 20

// bulk moves many files at a time, one by one each.
type bulk struct {
	ctx   context.Context
	f     *FS
	group *parallel.Group
	slots chan struct{}
	bytes *semaphore.Weighted // that are held
}

// Bulk takes files that are small enough to be held.
func (f *FS) Bulk(ctx context.Context) (hostfs.Bulk, error) {
	group, ctx := parallel.WithContext(ctx)
	return &bulk{ctx: ctx, f: f, group: group, slots: make(chan struct{}, f.Transfers()), bytes: semaphore.NewWeighted(held)}, nil
}

func (b *bulk) Put(name string, mode fs.FileMode, modified time.Time, content []byte) error {
	takes := min(int64(len(content)), held)
	if err := b.bytes.Acquire(b.ctx, takes); err != nil {
		return err
	}
	select {
	case b.slots <- struct{}{}:
	case <-b.ctx.Done():
		return b.ctx.Err()
	}
	b.group.Go(func() error {
		defer func() {
			<-b.slots
			b.bytes.Release(takes)
		}()
		return b.f.put(b.ctx, name, mode, modified, content)
	})
	return nil
}

func (f *FS) put(ctx context.Context, name string, mode fs.FileMode, modified time.Time, content []byte) error {
	if err := f.parents(ctx, path.Dir(name)); err != nil {
		return err
	}
	at, err := f.at(ctx, "create", name)
	if err != nil {
		return err
	}
	out, err := f.t.Create(ctx, at, mode.Perm())
	if err != nil {
		return &fs.PathError{Op: "create", Path: name, Err: err}
	}
	if _, err := out.Write(content); err != nil {
		out.Close()
		return fmt.Errorf("write %s: %w", name, err)
	}
	if both, can := out.(closerAt); can {
		err = both.CloseAt(modified)
	} else if err = out.Close(); err == nil {
		err = f.t.Chtimes(ctx, at, modified)
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", name, err)
	}
	return nil
}

// closerAt is a file that is closed and given its time at once.
type closerAt interface {
	CloseAt(modified time.Time) error
}

func (b *bulk) Close() error { return b.group.Wait() }
