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
	free, err := s.freeOn(ctx, h)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	err = s.DB.SetRoom(ctx, h.ID, roomOf(free, err))
	if errors.Is(err, records.ErrNotFound) {
		return nil // it was removed meanwhile
	}
	return err
}

// firstLooked looks at the room of a host that has just been reached. It is looked at again by and by, so that a fault is none here.
func (s *Hosts) firstLooked(ctx context.Context, h records.Host, fsys hostfs.FS) *records.Room {
	room := roomOf(hostfs.FreeBytes(ctx, fsys))
	if err := s.DB.SetRoom(ctx, h.ID, room); err != nil {
		return nil
	}
	return &room
}

func roomOf(free int64, err error) records.Room {
	room := records.Room{At: time.Now().UTC()}
	switch {
	case err == nil:
		room.FreeBytes = &free
	case !errors.Is(err, hostfs.ErrSpaceUnknown):
		room.Trouble = err.Error()
	}
	return room
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
