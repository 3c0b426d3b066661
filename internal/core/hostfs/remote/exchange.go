package remote

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"nestseed/internal/core/hostfs"
)

// ID reads the mark that lies in a folder, and puts one there the first time: the protocols tell of nothing that would stay with a
// folder when it is renamed. A file is known by its size and time.
func (f *FS) ID(ctx context.Context, name string) (string, error) {
	e, err := f.Stat(ctx, name)
	if err != nil {
		return "", err
	}
	if !e.Mode.IsDir() {
		return fmt.Sprintf("file.%d.%d", e.SizeBytes, e.ModTime.Unix()), nil
	}
	mark := path.Join(name, hostfs.Mark)
	for range 2 {
		text, err := hostfs.ReadFile(ctx, f, mark, 100)
		if id := strings.TrimSpace(string(text)); err == nil && len(id) == len(rand.Text()) {
			return id, nil
		} else if err == nil { // whoever wrote it was cut off
			err = errors.Join(f.RemoveAll(ctx, mark), fs.ErrNotExist)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		w, err := f.Create(ctx, mark, 0o644)
		if errors.Is(err, fs.ErrExist) {
			continue // somebody else was faster
		}
		if err != nil {
			return "", err
		}
		id := rand.Text()
		_, err = io.WriteString(w, id+"\n")
		if err := errors.Join(err, w.Close()); err != nil {
			return "", err
		}
		return id, nil
	}
	return "", fmt.Errorf("the mark %s cannot be read", mark)
}

// between is what one of two folders is called while they change places. It does not depend on which of them is named first.
func between(a, b string) string {
	first := min(path.Clean(a), path.Clean(b))
	return path.Join(path.Dir(first), "."+strings.TrimPrefix(path.Base(first), ".")+".nestseed-between")
}

// Exchange renames three times: there is a moment in which one of the names is missing, and Settle mends what was cut off in it.
func (f *FS) Exchange(ctx context.Context, a, b string) error {
	if err := f.Settle(ctx, a, b); err != nil {
		return err
	}
	first, second, aside := min(path.Clean(a), path.Clean(b)), max(path.Clean(a), path.Clean(b)), between(a, b)
	for _, name := range []string{first, second} {
		if _, err := f.Stat(ctx, name); err != nil {
			return err
		}
	}
	if err := f.Rename(ctx, first, aside); err != nil {
		return err
	}
	if err := f.Rename(ctx, second, first); err != nil {
		return errors.Join(err, f.Rename(ctx, aside, first))
	}
	return f.Rename(ctx, aside, second)
}

// Settle ends an exchange that was cut off, forwards or back, so that both names are there.
func (f *FS) Settle(ctx context.Context, a, b string) error {
	first, second, aside := min(path.Clean(a), path.Clean(b)), max(path.Clean(a), path.Clean(b)), between(a, b)
	if _, err := f.Stat(ctx, aside); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	for _, name := range []string{first, second} {
		if _, err := f.Stat(ctx, name); errors.Is(err, fs.ErrNotExist) {
			return f.Rename(ctx, aside, name)
		} else if err != nil {
			return err
		}
	}
	return fmt.Errorf("%s is there beside %s and %s; somebody has put one of the two back by hand: remove it", aside, first, second)
}
