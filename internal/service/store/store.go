// Package store is where archives are kept: a folder, or a bucket of an S3 server.
//
// An archive is written to a scratch name and becomes visible by one rename, so a name in the store is
// always a whole archive. What a killed build left behind has a scratch name with its run's number and
// is swept away. With a bucket, drafts are written to the folder and copied into the bucket when they are
// whole; archives are then read by ranges.
package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Store is a folder of archives, or a bucket with a folder for drafts.
type Store struct {
	dir    string
	bucket *bucket // nil for a folder
}

// File is an open archive. Reading is by ranges where it is far away.
type File interface {
	io.ReadSeeker
	io.ReaderAt
	io.Closer
}

const scratchPrefix = ".scratch-"

// Open opens the store at a place: a folder, which is made, or s3://HOST[:PORT]/BUCKET (see openBucket), for
// which drafts is the folder that drafts are written to.
func Open(ctx context.Context, place, drafts string) (*Store, error) {
	if !strings.Contains(place, "://") {
		return openFolder(place)
	}
	b, err := openBucket(ctx, place)
	if err != nil {
		return nil, err
	}
	s, err := openFolder(drafts)
	if err != nil {
		return nil, err
	}
	s.bucket = b
	return s, nil
}

func openFolder(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("folder of archives: %w", err)
	}
	return &Store{dir: dir}, nil
}

// Draft is an archive that is being written.
type Draft struct {
	*os.File
	store *Store
	sent  int64 // up to where the system was asked to begin writing to disk
}

// sendBytes is how much is written before the system is asked to bring it to disk, so that little is left at the end.
const sendBytes = 32 << 20

// WriteAt implements io.WriterAt.
func (d *Draft) WriteAt(p []byte, at int64) (int, error) {
	n, err := d.File.WriteAt(p, at)
	if end := at + int64(n); end-d.sent >= sendBytes {
		// A hint: what comes of it is seen by Sync.
		unix.SyncFileRange(int(d.Fd()), d.sent, end-d.sent, unix.SYNC_FILE_RANGE_WRITE)
		d.sent = end
	}
	return n, err
}

// Create begins an archive for a run.
func (s *Store) Create(runID int64) (*Draft, error) {
	f, err := os.OpenFile(s.scratch(runID), os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, fmt.Errorf("begin an archive: %w", err)
	}
	return &Draft{File: f, store: s}, nil
}

func (s *Store) scratch(runID int64) string {
	return filepath.Join(s.dir, scratchPrefix+strconv.FormatInt(runID, 10))
}

// Keep makes the draft an archive of the store, on disk for good, and returns its size.
func (d *Draft) Keep(name string) (sizeBytes int64, err error) {
	if b := d.store.bucket; b != nil {
		return d.keepIn(b, name)
	}
	info, err := d.Stat()
	if err != nil {
		return 0, err
	}
	if err := errors.Join(d.Sync(), d.Close()); err != nil {
		return 0, err
	}
	if err := os.Rename(d.Name(), d.store.path(name)); err != nil {
		return 0, err
	}
	return info.Size(), d.store.sync()
}

// Drop throws the draft away. After Keep it does nothing.
func (d *Draft) Drop() {
	d.Close()
	os.Remove(d.Name())
}

// sync makes a rename last through a loss of power.
func (s *Store) sync() error {
	dir, err := os.Open(s.dir)
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}

func (s *Store) path(name string) string { return filepath.Join(s.dir, filepath.Base(name)) }

// Open opens an archive to read.
func (s *Store) Open(name string) (File, int64, error) {
	if s.bucket != nil {
		return s.bucket.open(name)
	}
	f, err := os.Open(s.path(name))
	if err != nil {
		return nil, 0, fmt.Errorf("open archive %s: %w", name, err)
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, info.Size(), nil
}

// Remove removes an archive.
func (s *Store) Remove(name string) error {
	if s.bucket != nil {
		return s.bucket.remove(name)
	}
	return os.Remove(s.path(name))
}

// Sweep removes drafts of runs that no longer work, and archives that no record names.
func (s *Store) Sweep(works func(runID int64) bool, known map[string]bool) error {
	if s.bucket != nil {
		if err := s.bucket.sweep(known); err != nil {
			return fmt.Errorf("look through the store: %w", err)
		}
	}
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		id, draft := strings.CutPrefix(e.Name(), scratchPrefix)
		run, _ := strconv.ParseInt(id, 10, 64)
		if draft && !works(run) || s.bucket == nil && !draft && strings.HasSuffix(e.Name(), ".zip") && !known[e.Name()] {
			if err := os.Remove(s.path(e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}
