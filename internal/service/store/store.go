// Package store is where archives are kept: a folder, or a bucket of an S3 server.
//
// An archive is written in a scratch folder and becomes visible by one rename, so a name in the store is
// always a whole archive: one file, or the parts of one that shares bytes with others. What a killed build left behind has a scratch name with its run's number and
// is swept away. With a bucket, drafts are written to the folder and copied into the bucket when they are
// whole; archives are then read by ranges.
package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
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
	s.bucket = b
	return s, nil
}

func openFolder(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("folder of archives: %w", err)
	}
	return &Store{dir: dir}, nil
}

func (s *Store) scratch(runID int64) string {
	return filepath.Join(s.dir, scratchPrefix+strconv.FormatInt(runID, 10))
}

func (s *Store) path(name string) string { return filepath.Join(s.dir, filepath.Base(name)) }

// Open opens an archive to read.
func (s *Store) Open(name string) (File, int64, error) {
	if s.bucket != nil {
		return s.bucket.open(name)
	}
	f, err := os.Open(s.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		p, err := openShared(s.path(name) + sharedSuffix)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, 0, fmt.Errorf("archive %s %w", name, ErrNotFound)
		}
		if err != nil {
			return nil, 0, fmt.Errorf("open archive %s: %w", name, err)
		}
		return p, p.size, nil
	}
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

// Remove removes an archive, and returns how many bytes of the store are free now: what it shares with other archives stays.
func (s *Store) Remove(name string) (freed int64, err error) {
	if s.bucket != nil {
		return s.bucket.remove(name)
	}
	freed, err = onlyHere(s.path(name))
	if err == nil {
		return freed, os.Remove(s.path(name))
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	dir := s.path(name) + sharedSuffix
	files, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, fmt.Errorf("archive %s %w", name, ErrNotFound)
	}
	if err != nil {
		return 0, err
	}
	freed = 0
	for _, f := range files {
		n, err := onlyHere(filepath.Join(dir, f.Name()))
		if err != nil {
			return 0, err
		}
		freed += n
	}
	// Without its list it is none any more, should the rest be interrupted.
	if err := os.Remove(filepath.Join(dir, listName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	return freed, os.RemoveAll(dir)
}

// onlyHere returns the size of a file, or 0 when it has other names.
func onlyHere(name string) (int64, error) {
	info, err := os.Lstat(name)
	if err != nil {
		return 0, err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && st.Nlink > 1 {
		return 0, nil
	}
	return info.Size(), nil
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
