package hosts

import (
	"context"
	"errors"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/parallel"
	"nestseed/internal/service/records"
)

const (
	roomWithin = 30 * time.Second // a host that takes longer is not reached
	roomAtOnce = 4
)

// LookAtRooms asks every host how much room it has left, and keeps what it says.
func (s *Hosts) LookAtRooms(ctx context.Context) error {
	all, err := s.DB.Hosts(ctx)
	if err != nil {
		return err
	}
	group, ctx := parallel.WithContext(ctx)
	group.SetLimit(roomAtOnce)
	for _, h := range all {
		group.Go(func() error { return s.lookAtRoom(ctx, h) })
	}
	return group.Wait()
}

func (s *Hosts) lookAtRoom(ctx context.Context, h records.Host) error {
	room := records.Room{At: time.Now().UTC()}
	free, err := s.freeOn(ctx, h)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err == nil:
		room.FreeBytes = &free
	case !errors.Is(err, hostfs.ErrSpaceUnknown):
		room.Trouble = err.Error()
	}
	err = s.DB.SetRoom(ctx, h.ID, room)
	if errors.Is(err, records.ErrNotFound) {
		return nil // it was removed meanwhile
	}
	return err
}

func (s *Hosts) freeOn(ctx context.Context, h records.Host) (int64, error) {
	ctx, cancel := context.WithTimeout(ctx, roomWithin)
	defer cancel()
	fsys, err := s.Files(ctx, h)
	if err != nil {
		return 0, err
	}
	defer fsys.Close()
	return hostfs.FreeBytes(ctx, fsys)
}
