package kind

import (
	"bytes"
	"context"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/sqltext"
)

// Variant is how sites of a kind differ that keep their database otherwise: on another engine, by a file that is there.
type Variant struct {
	Sign     Sign     `yaml:"sign"`
	Database Database `yaml:"database"` // with its engine; in the place of settings.database
	Needs    []string `yaml:"needs"`    // in the place of runtime.needs
	Private  []string `yaml:"private"`  // besides those of the kind
}

// Sign is a file that is there, and holds a text in any case of its letters.
type Sign struct {
	File  string `yaml:"file"`
	Holds string `yaml:"holds"`
}

// in reports whether the sign is in a site's folder.
func (s Sign) in(ctx context.Context, site hostfs.FS) bool {
	text, err := hostfs.ReadFile(ctx, site, s.File, maxSettingsBytes)
	return err == nil && bytes.Contains(bytes.ToLower(text), []byte(strings.ToLower(s.Holds)))
}

// variantIn returns the kind as it is for the site in a folder.
func (k *Kind) variantIn(ctx context.Context, site hostfs.FS) *Kind {
	for _, v := range k.Variants {
		if v.Sign.in(ctx, site) {
			return k.varied(v)
		}
	}
	return k
}

// On returns the kind as it is for sites whose database is of an engine, by its scheme or title.
func (k *Kind) On(engine string) *Kind {
	for _, v := range k.Variants {
		if sqltext.DialectOf(v.Database.Engine) == sqltext.DialectOf(engine) {
			return k.varied(v)
		}
	}
	return k
}

func (k *Kind) varied(v Variant) *Kind {
	of := *k
	of.Settings.Database = v.Database
	of.Runtime.Needs = v.Needs
	of.Private = slices.Concat(k.Private, v.Private)
	of.DropIns = slices.DeleteFunc(slices.Clone(k.DropIns), func(file string) bool { return file == v.Sign.File })
	return &of
}
