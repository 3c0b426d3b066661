package hostfs

import (
	"context"
	"path"
	"slices"
)

// Without is an FS whose walks and lists pass over what hides says, by names relative to it. It closes with the one it is made of.
func Without(fsys FS, hides func(name string) bool) FS {
	return hiding(fsys, ".", hides)
}

func hiding(fsys FS, at string, hides func(name string) bool) FS {
	h := without{fsys, at, hides}
	if t, told := fsys.(transferrer); told {
		return farWithout{h, t}
	}
	return h
}

type without struct {
	FS
	at    string // what it is called in the one that names are hidden of
	hides func(name string) bool
}

type farWithout struct {
	without
	transferrer
}

// Walk implements FS.
func (w without) Walk(ctx context.Context, root string, visit func(Entry) error, problem func(path string, err error)) error {
	return w.FS.Walk(ctx, root, func(e Entry) error {
		if w.hides(path.Join(w.at, root, e.Path)) {
			return nil
		}
		return visit(e)
	}, problem)
}

// List implements FS.
func (w without) List(ctx context.Context, folder string) ([]Entry, error) {
	entries, err := w.FS.List(ctx, folder)
	return slices.DeleteFunc(entries, func(e Entry) bool { return w.hides(path.Join(w.at, folder, e.Path)) }), err
}

// Sub implements FS.
func (w without) Sub(ctx context.Context, folder string) (FS, error) {
	sub, err := w.FS.Sub(ctx, folder)
	if err != nil {
		return nil, err
	}
	return hiding(sub, path.Join(w.at, folder), w.hides), nil
}
