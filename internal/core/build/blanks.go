package build

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
)

// blankSettings empties the values in the settings file, and in those that it takes settings from, that the list blanks.
func (b *builder) blankSettings() error {
	b.settings = map[string][]byte{}
	if b.in.Identity.Settings == nil || b.m.Settings == "" {
		return nil
	}
	s := b.in.Identity.Settings.Clone()
	blank := append(slices.Clone(b.in.List.Blank.Settings), b.in.List.SecretSettings()...)
	if err := b.in.Identity.Has(blank...); err != nil {
		return err
	}
	for _, name := range blank {
		if v, err := s.Get(name); s.Has(name) && (err != nil || v != "") {
			s.Set(name, "")
			b.blank("setting "+name, 1)
		}
	}
	// Whatever way they are set, these must not be in what is packed.
	secrets := kind.NewSearch(slices.DeleteFunc(b.in.Identity.Secrets(), func(x kind.Secret) bool {
		return x.Name != kind.GivenPassword && !slices.Contains(blank, x.Name)
	}))
	if n := s.Blank(secrets); n > 0 {
		b.blank("secrets in the settings that are computed, or stand there a second time", int64(n))
	}
	b.settings[b.m.Settings] = s.Bytes()
	root := path.Join(b.in.FS.Root(), b.in.Root) + "/"
	for name, text := range s.Files() {
		if rel, inside := strings.CutPrefix(name, root); inside {
			b.settings[rel] = text
		}
	}
	if err := b.areBlank(s.Bytes(), blank); err != nil {
		return err
	}
	for name, text := range b.settings {
		if left, found := secrets.In(text); found {
			return fmt.Errorf("the settings file %s holds the value of %s outside its definition; remove it there and build again", name, left)
		}
	}
	return nil
}

// areBlank reads the settings file as it is packed and sees that the values are empty.
func (b *builder) areBlank(text []byte, blank []string) error {
	dir := path.Join(b.in.FS.Root(), b.in.Root, path.Dir(b.m.Settings))
	s, err := kind.ReadSettings(b.in.Identity.Kind.Settings.Syntax, text, dir, nil)
	if err != nil {
		return err
	}
	for _, name := range blank {
		if v, err := s.Get(name); err == nil && v != "" {
			return fmt.Errorf("the setting %s could not be emptied in %s; remove its value there and build again", name, b.m.Settings)
		}
	}
	return nil
}

// settingsFile adds a settings file with the values that the list blanks emptied.
func (b *builder) settingsFile(e hostfs.Entry, text []byte) error {
	b.count(e.Path, int64(len(text)))
	return b.w.Files.Small(archive.Header(archive.FilesDir+e.Path, e.Mode, e.ModTime), int64(len(text)), func(buf []byte) ([]byte, error) {
		return append(buf[:0], text...), nil
	})
}

// mostWithout is how many programs that are left out a manifest names: room for it is reserved before they are known.
const mostWithout = 50

// placeholder returns a manifest at least as long as the finished one will be: counts at their widest,
// and room for notes that are still to come.
func (b *builder) placeholder(files []hostfs.Entry) ([]byte, error) {
	b.finishManifest()
	m, err := b.m.Encode()
	blanks := b.in.List.Blank
	lines := len(b.tables) + len(blanks.Settings) + len(blanks.Options) + len(blanks.Columns) + len(b.in.List.DropRows) + len(b.in.List.Empty)
	room := 32<<10 + 220*lines + 120*len(b.in.Identity.Kind.Areas)
	return append(m, bytes.Repeat([]byte(" "), room)...), err
}
