// Package store is where archives, uploads and screenshots are kept: a folder, or a bucket of an S3 server. Where several
// copies of the service share a store, each finds there what another has written.
//
// An archive is written in a scratch folder and becomes visible by one rename, so a name in the store is always a whole
// archive: one file, or the parts of one that shares bytes with others. What a killed build left behind has a scratch name
// with its run's number and is swept away. With a bucket, drafts are written to a folder of this machine and copied into
// the bucket when they are whole; archives are then read by ranges.
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
	"time"
)

// Backend keeps whole files under names. A name is a file's own, or that of a group of files and a file's own: uploads/ID.
type Backend interface {
	// Open opens a file, which is read for as long as the context lasts. Errors: ErrNotFound.
	Open(ctx context.Context, name string) (File, int64, error)
	// Put makes the file at a path of this machine a file of the store, and may move it. Errors: ErrTaken.
	Put(ctx context.Context, path, name string) error
	// Remove removes a file, and returns how many bytes are free now. Errors: ErrNotFound.
	Remove(ctx context.Context, name string) (freed int64, err error)
	// List lists a group of files.
	List(ctx context.Context, group string) ([]Entry, error)
}

// Entry is a file of a group.
type Entry struct {
	Name      string // with the group's
	SizeBytes int64
	At        time.Time // when it was put there
}

// Store is a Backend, and a folder of this machine for what is not whole yet.
type Store struct {
	Backend
	dir string
}

// File is an open file. Reading is by ranges where it is far away.
type File interface {
	io.ReadSeeker
	io.ReaderAt
	io.Closer
}

// Errors that callers decide on.
var (
	ErrNotFound = errors.New("is not in the store")
	ErrTaken    = errors.New("there is something of that name in the store already")
)

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
	s.Backend = b
	return s, nil
}

func openFolder(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("folder of archives: %w", err)
	}
	return &Store{&folder{dir}, dir}, nil
}

// Incoming is the folder of this machine in which a group of files is written, before Publish. It is made.
func (s *Store) Incoming(group string) (string, error) {
	dir := filepath.Join(s.dir, group)
	return dir, os.MkdirAll(dir, 0o700)
}

// Publish gives a file in a group's incoming folder to whoever uses the store. In a folder it is there already.
func (s *Store) Publish(ctx context.Context, name string) error {
	if _, is := s.Backend.(*folder); is {
		return nil
	}
	return s.Put(ctx, filepath.Join(s.dir, name), name)
}

// RemoveAll removes files of a group, wherever they are; those that are gone are no error.
func (s *Store) RemoveAll(ctx context.Context, names ...string) error {
	var errs []error
	for _, name := range names {
		if _, err := s.Remove(ctx, name); err != nil && !errors.Is(err, ErrNotFound) {
			errs = append(errs, err)
		}
		if _, is := s.Backend.(*folder); !is {
			errs = append(errs, os.RemoveAll(filepath.Join(s.dir, name)))
		}
	}
	return errors.Join(errs...)
}

// List lists a group of files, also those that were not published.
func (s *Store) List(ctx context.Context, group string) ([]Entry, error) {
	all, err := s.Backend.List(ctx, group)
	if _, is := s.Backend.(*folder); is || err != nil {
		return all, err
	}
	here, err := (&folder{s.dir}).List(ctx, group)
	return append(all, here...), err
}

// Scratch makes the scratch folder of a run, for files that Put takes into the store. DropDraft removes it.
func (s *Store) Scratch(runID int64) (string, error) {
	dir := s.scratch(runID)
	return dir, errors.Join(os.RemoveAll(dir), os.Mkdir(dir, 0o700))
}

func (s *Store) scratch(runID int64) string {
	return filepath.Join(s.dir, scratchPrefix+strconv.FormatInt(runID, 10))
}

// Drafts returns the numbers of the runs whose drafts are in the scratch folder.
func (s *Store) Drafts() (runs []int64, err error) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if id, draft := strings.CutPrefix(e.Name(), scratchPrefix); draft {
			if run, err := strconv.ParseInt(id, 10, 64); err == nil {
				runs = append(runs, run)
			}
		}
	}
	return runs, nil
}

// DropDraft removes the draft of a run.
func (s *Store) DropDraft(runID int64) error { return os.RemoveAll(s.scratch(runID)) }
