package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// folder is a folder of archives. The files of a group are in a folder of its own.
type folder struct{ dir string }

// path is where a file of the store lies; no name leads out of the folder.
func (f *folder) path(name string) string {
	group, file, grouped := strings.Cut(name, "/")
	if !grouped {
		return filepath.Join(f.dir, filepath.Base(name))
	}
	return filepath.Join(f.dir, filepath.Base(group), filepath.Base(file))
}

func (f *folder) Open(_ context.Context, name string) (File, int64, error) {
	file, err := os.Open(f.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		p, err := openShared(f.path(name) + sharedSuffix)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, 0, fmt.Errorf("%s %w", name, ErrNotFound)
		}
		if err != nil {
			return nil, 0, fmt.Errorf("open archive %s: %w", name, err)
		}
		return p, p.size, nil
	}
	if err != nil {
		return nil, 0, fmt.Errorf("open %s: %w", name, err)
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, 0, err
	}
	return file, info.Size(), nil
}

func (f *folder) Put(_ context.Context, path, name string) error {
	if err := os.MkdirAll(filepath.Dir(f.path(name)), 0o700); err != nil {
		return err
	}
	return f.enter(path, name, name)
}

// enter gives a file or folder its name in the store, unless something has it: nothing there is ever replaced. Errors:
// ErrTaken.
func (f *folder) enter(from, name, as string) error {
	if _, err := os.Lstat(f.path(name)); err == nil {
		return fmt.Errorf("%s: %w", name, ErrTaken)
	}
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, f.path(as), unix.RENAME_NOREPLACE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) {
		err = os.Rename(from, f.path(as)) // the file system cannot do both at once; the name is one that nobody else has
	}
	if errors.Is(err, unix.EEXIST) {
		return fmt.Errorf("%s: %w", name, ErrTaken)
	}
	if err != nil {
		return fmt.Errorf("keep %s: %w", name, err)
	}
	return nil
}

// Remove removes a file. What an archive shares with others stays.
func (f *folder) Remove(_ context.Context, name string) (freed int64, err error) {
	freed, err = onlyHere(f.path(name))
	if err == nil {
		return freed, os.Remove(f.path(name))
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	dir := f.path(name) + sharedSuffix
	files, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, fmt.Errorf("%s %w", name, ErrNotFound)
	}
	if err != nil {
		return 0, err
	}
	freed = 0
	for _, file := range files {
		n, err := onlyHere(filepath.Join(dir, file.Name()))
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

func (f *folder) List(_ context.Context, group string) (out []Entry, err error) {
	entries, err := os.ReadDir(f.path(group))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			out = append(out, Entry{group + "/" + e.Name(), info.Size(), info.ModTime()})
		}
	}
	return out, err
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
