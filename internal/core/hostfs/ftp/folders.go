package ftp

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/textproto"
	"path"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
)

// within lists a folder by name, unless that was just done.
func (t *transport) within(ctx context.Context, dir string) (map[string]hostfs.Entry, error) {
	t.mu.Lock()
	known, there := t.lists[dir]
	changes := t.changes[dir]
	t.mu.Unlock()
	if there && time.Since(known.at) < lease {
		return known.entries, nil
	}
	var text []byte
	facts := false
	err := t.do(ctx, true, func(c *control) error {
		if _, _, err := c.cmd(250, "CWD %s", dir); err != nil {
			return err
		}
		var err error
		if _, facts = c.features["MLST"]; facts {
			text, err = c.retrieve(ctx, 0, listBytes, "MLSD")
		} else {
			text, err = c.retrieve(ctx, 0, listBytes, "LIST -a")
		}
		return err
	})
	if err != nil {
		return nil, noFolder(err)
	}
	entries := map[string]hostfs.Entry{}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\r\n")
		read := parseFacts
		if !facts {
			read = func(line string) (hostfs.Entry, bool, error) { return parseLine(line, time.Now().UTC()) }
		}
		e, ok, err := read(line)
		if err != nil {
			return nil, err
		}
		if ok {
			if err := hostfs.CheckListed(e.Path); err != nil {
				return nil, err
			}
			entries[e.Path] = e
		}
	}
	t.mu.Lock()
	if t.changes[dir] == changes {
		t.lists[dir] = listing{entries, time.Now()}
	}
	t.mu.Unlock()
	return entries, nil
}

// noFolder says that what cannot be entered is not there.
func noFolder(err error) error {
	var told *textproto.Error
	if errors.As(err, &told) && told.Code == 550 {
		return fmt.Errorf("%w: %s", fs.ErrNotExist, told.Msg)
	}
	return err
}

func (t *transport) changed(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.lists, path.Dir(name))
	t.changes[path.Dir(name)]++
	t.changes[name]++
	for dir := range t.lists {
		if dir == name || strings.HasPrefix(dir, name+"/") {
			delete(t.lists, dir)
		}
	}
}

// note keeps in mind what this program has made of a file, so that its folder need not be listed anew.
func (t *transport) note(name string, what func(e *hostfs.Entry)) {
	dir, base := path.Dir(name), path.Base(name)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.changes[dir]++
	known, there := t.lists[dir]
	if !there {
		return
	}
	entries := maps.Clone(known.entries) // somebody may be reading the other
	e, there := entries[base]
	if !there {
		e = hostfs.Entry{Path: base, Mode: t.fresh}
	}
	what(&e)
	entries[base] = e
	t.lists[dir] = listing{entries, known.at}
}

// Real goes down from the folder of the host, and follows no link: the protocol does not tell where one leads in the end.
func (t *transport) Real(ctx context.Context, dir string) (string, error) {
	below := strings.TrimPrefix(strings.TrimPrefix(dir, t.root), "/")
	at := t.root
	if below == "" {
		return at, nil
	}
	for _, part := range strings.Split(below, "/") {
		list, err := t.within(ctx, at)
		if err != nil {
			return "", err
		}
		at = path.Join(at, part)
		e, there := list[part]
		switch {
		case !there:
			return "", fs.ErrNotExist
		case e.Mode&fs.ModeSymlink != 0:
			return "", fmt.Errorf("%s is a link to %s, and links are not followed over FTP; give the folder itself", at, e.Target)
		case !e.Mode.IsDir():
			return "", fmt.Errorf("%s is not a folder", at)
		}
	}
	return at, nil
}

func (t *transport) List(ctx context.Context, dir string) ([]hostfs.Entry, error) {
	t.changed(path.Join(dir, "x"))
	list, err := t.within(ctx, dir)
	if err != nil {
		return nil, err
	}
	out := make([]hostfs.Entry, 0, len(list))
	for _, e := range list {
		out = append(out, e)
	}
	return out, nil
}

func (t *transport) Lstat(ctx context.Context, name string) (hostfs.Entry, error) {
	if name == t.root {
		_, err := t.within(ctx, name)
		return hostfs.Entry{Path: path.Base(name), Mode: fs.ModeDir | 0o755}, err
	}
	list, err := t.within(ctx, path.Dir(name))
	if err != nil {
		return hostfs.Entry{}, err
	}
	e, there := list[path.Base(name)]
	if !there {
		return e, fs.ErrNotExist
	}
	return e, nil
}
