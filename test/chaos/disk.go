package main

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
)

// disk is a file system of its own, in memory, that can be filled.
type disk string

// diskBytes is more than the sites of a round, or the archives, need.
const diskBytes = "size=1500m"

// mount makes a folder a disk. Where that is not allowed, as in some sandboxes, no disk is filled.
func mount(folder string) (d disk, mounted bool) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", false
	}
	if err := syscall.Mount("tmpfs", folder, "tmpfs", syscall.MS_NOSUID|syscall.MS_NODEV, diskBytes+",mode=0755"); err != nil {
		return "", false
	}
	return disk(folder), true
}

func (d disk) unmount() error { return syscall.Unmount(string(d), syscall.MNT_DETACH) }

// filler is the file that fills a disk.
func (d disk) filler() string { return filepath.Join(string(d), ".filler") }

// fill takes all the room that is left.
func (d disk) fill() error {
	f, err := os.OpenFile(d.filler(), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	at := int64(0)
	for block := int64(64 << 20); block >= 4096; {
		err := syscall.Fallocate(int(f.Fd()), 0, at, block)
		switch {
		case err == nil:
			at += block
		case errors.Is(err, syscall.ENOSPC):
			block /= 2
		case !errors.Is(err, syscall.EINTR):
			return err
		}
	}
	return nil
}

func (d disk) free() error {
	err := os.Remove(d.filler())
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}
