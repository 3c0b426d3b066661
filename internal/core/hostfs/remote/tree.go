package remote

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sync"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/parallel"
)

// ahead is a folder that is read, or will be.
type ahead struct {
	path    string // below the one that is walked
	at      string // on the other side
	entries []hostfs.Entry
	err     error
	below   []*ahead
	ready   chan struct{}
}

// lister reads the folders of a tree ahead of whoever visits them, the one that is needed next first.
type lister struct {
	ctx  context.Context
	t    Transport
	mu   sync.Mutex
	wake *sync.Cond
	todo []*ahead
	done bool

	budget hostfs.Budget
}

// List implements hostfs.FS.
func (f *FS) List(ctx context.Context, folder string) ([]hostfs.Entry, error) {
	name, err := clean("list", folder)
	if err != nil {
		return nil, err
	}
	real, err := f.folder(ctx, "list", name)
	if err != nil {
		return nil, err
	}
	if e, err := f.t.Lstat(ctx, real); err != nil || !e.Mode.IsDir() {
		return nil, errors.Join(&fs.PathError{Op: "list", Path: folder, Err: fs.ErrInvalid}, err)
	}
	entries, err := f.t.List(ctx, real)
	sortEntries(entries)
	return entries, err
}

// Walk lists several folders at a time and visits them in order.
func (f *FS) Walk(ctx context.Context, root string, visit func(hostfs.Entry) error, problem func(string, error)) error {
	name, err := clean("walk", root)
	if err != nil {
		return err
	}
	real, err := f.folder(ctx, "walk", name)
	if err != nil {
		return err
	}
	if e, err := f.t.Lstat(ctx, real); err != nil || !e.Mode.IsDir() {
		return errors.Join(&fs.PathError{Op: "walk", Path: root, Err: fs.ErrInvalid}, err)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	l := &lister{ctx: ctx, t: f.t}
	l.wake = sync.NewCond(&l.mu)
	var wg sync.WaitGroup
	for range min(64, f.t.Transfers()) {
		wg.Go(l.work)
	}
	defer wg.Wait()
	defer l.stop()
	top := &ahead{path: ".", at: real, ready: make(chan struct{})}
	l.add(top)
	return visitAhead(ctx, top, visit, problem)
}

func (l *lister) add(folders ...*ahead) {
	l.mu.Lock()
	for i := len(folders) - 1; i >= 0; i-- {
		l.todo = append(l.todo, folders[i])
	}
	l.mu.Unlock()
	l.wake.Broadcast()
}

func (l *lister) stop() {
	l.mu.Lock()
	l.done = true
	l.mu.Unlock()
	l.wake.Broadcast()
}

func (l *lister) work() {
	for {
		l.mu.Lock()
		for len(l.todo) == 0 && !l.done {
			l.wake.Wait()
		}
		if l.done {
			l.mu.Unlock()
			return
		}
		a := l.todo[len(l.todo)-1]
		l.todo = l.todo[:len(l.todo)-1]
		l.mu.Unlock()
		l.read(a)
		l.add(a.below...)
		close(a.ready)
	}
}

func (l *lister) read(a *ahead) {
	defer parallel.Recover(&a.err)
	if a.err = hostfs.TooDeep(a.path); a.err != nil {
		return
	}
	if a.entries, a.err = l.t.List(l.ctx, a.at); a.err == nil {
		a.err = l.budget.Add(len(a.entries))
	}
	if a.err != nil {
		a.entries = nil
		return
	}
	sortEntries(a.entries)
	for i, e := range a.entries {
		a.entries[i].Path = path.Join(a.path, e.Path)
		if e.Mode.IsDir() {
			a.below = append(a.below, &ahead{path: a.entries[i].Path, at: path.Join(a.at, e.Path), ready: make(chan struct{})})
		}
	}
}

func visitAhead(ctx context.Context, a *ahead, visit func(hostfs.Entry) error, problem func(string, error)) error {
	select {
	case <-a.ready:
	case <-ctx.Done():
		return ctx.Err()
	}
	if a.err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if errors.Is(a.err, hostfs.ErrTooMany) {
			return a.err
		}
		problem(a.path, a.err)
	}
	next := 0
	for _, e := range a.entries {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := visit(e); err != nil {
			return err
		}
		if e.Mode.IsDir() {
			if err := visitAhead(ctx, a.below[next], visit, problem); err != nil {
				return err
			}
			a.below[next] = nil
			next++
		}
	}
	return nil
}

// longestPath is how long a path can be on any host, in bytes.
const longestPath = 4096

// removeTree removes a file, a link, or a folder with all that is in it; what is not there is no error.
func removeTree(ctx context.Context, t Transport, at string) error {
	e, err := t.Lstat(ctx, at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	slots := make(chan struct{}, t.Transfers())
	return removeEntry(ctx, t, at, at, e.Mode.IsDir(), slots)
}

func removeEntry(ctx context.Context, t Transport, root, at string, isDir bool, slots chan struct{}) error {
	within := func(do func(context.Context, string) error) error {
		select {
		case slots <- struct{}{}:
			defer func() { <-slots }()
		case <-ctx.Done():
			return ctx.Err()
		}
		if err := do(ctx, at); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	if !isDir {
		return within(t.Remove)
	}
	if len(at)-len(root) > longestPath {
		return fmt.Errorf("remove %s: the host lists folders without end", root)
	}
	var list []hostfs.Entry
	if err := within(func(ctx context.Context, at string) (err error) {
		list, err = t.List(ctx, at)
		return err
	}); err != nil {
		return err
	}
	group, inner := parallel.WithContext(ctx)
	group.SetLimit(cap(slots))
	for _, e := range list {
		group.Go(func() error { return removeEntry(inner, t, root, path.Join(at, e.Path), e.Mode.IsDir(), slots) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return within(t.RemoveDir)
}
