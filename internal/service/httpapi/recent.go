package httpapi

import (
	"context"
	"strconv"
	"sync"

	"golang.org/x/sync/singleflight"

	"nestseed/internal/service/records"
)

// recent keeps what was read of the releases that were looked at last. Each is read once at a time, however many ask for it, and no one
// waits for the release of another: one that is in a store that does not answer keeps nobody else from browsing.
type recent[T any] struct {
	most int
	// read is given a context that does not end with the request, as others use the result.
	read func(ctx context.Context, r records.Release) (T, error)

	reading singleflight.Group
	mu      sync.Mutex
	kept    []read[T] // the one that was read last is the last
}

type read[T any] struct {
	id  int64
	all T
}

func (c *recent[T]) get(ctx context.Context, r records.Release) (all T, err error) {
	if all, is := c.find(r.ID); is {
		return all, nil
	}
	result := c.reading.DoChan(strconv.FormatInt(r.ID, 10), func() (any, error) {
		all, err := c.read(context.WithoutCancel(ctx), r)
		if err == nil {
			c.keep(r.ID, all)
		}
		return all, err
	})
	select {
	case done := <-result:
		return done.Val.(T), done.Err
	case <-ctx.Done():
		return all, context.Cause(ctx)
	}
}

func (c *recent[T]) find(id int64) (all T, is bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, k := range c.kept {
		if k.id == id {
			return k.all, true
		}
	}
	return all, false
}

// keep keeps one more. One that is pushed out is used on by whoever has it; its file is closed with the last of them.
func (c *recent[T]) keep(id int64, all T) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.kept) == c.most {
		c.kept = c.kept[1:]
	}
	c.kept = append(c.kept, read[T]{id, all})
}
