// Package packing decides what goes into a release, from a list that a person can read and edit.
//
// A List is YAML: what is left out, emptied, kept or dropped by row, and blanked, which fields a starter
// asks for, and what people must still do on each new site. It is stored with the starter and goes into
// the manifest of each release. Compile turns it into a Matcher, which answers for every path and edits
// every row while they stream past.
//
//	list, err := packing.Parse(text)
//	m, err := list.Compile(kind, "lad_")
//	rule, out := m.LeavesOut("wp-content/cache/page.html", 1024)
//
// Paths are relative to the web root, patterns are globs with ** for any depth; table names are
// without the prefix. The package only decides: it reads no file and no database.
package packing

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"nestseed/internal/core/bounds"
	"nestseed/internal/core/glob"
	"nestseed/internal/core/kind"
)

// List is a packing list.
type List struct {
	Name     string      `yaml:"list" json:"list"`
	Only     string      `yaml:"only,omitempty" json:"only,omitempty" enum:"files,database"` // empty for both
	LeaveOut LeaveOut    `yaml:"leave-out,omitempty" json:"leave-out,omitzero"`
	Empty    []string    `yaml:"empty,omitempty" json:"empty,omitempty"`         // tables that go in without rows; patterns with *
	KeepRows []kind.Rows `yaml:"keep-rows,omitempty" json:"keep-rows,omitempty"` // of these tables only these rows go in
	// these do not; with either, rows that belong to one that is dropped go too
	DropRows []kind.Rows `yaml:"drop-rows,omitempty" json:"drop-rows,omitempty"`
	Blank    Blank       `yaml:"blank,omitempty" json:"blank,omitzero"`
	Fields   []Field     `yaml:"fields,omitempty" json:"fields,omitempty"`
	// extensions that new sites begin without, by folder; patterns with *
	SwitchOff   []string     `yaml:"switch-off,omitempty" json:"switch-off,omitempty"`
	LaunchTasks []LaunchTask `yaml:"launch-tasks,omitempty" json:"launch-tasks,omitempty"`
}

// LeaveOut names files and tables that do not go in at all.
type LeaveOut struct {
	Paths          []string `yaml:"paths,omitempty" json:"paths,omitempty"`
	Suffixes       []string `yaml:"suffixes,omitempty" json:"suffixes,omitempty"` // of file names, without the dot, in any case
	LargerThanByte int64    `yaml:"larger-than-bytes,omitempty" json:"larger-than-bytes,omitempty"`
	Tables         []string `yaml:"tables,omitempty" json:"tables,omitempty"` // patterns with *
}

// UnmarshalYAML implements yaml.InterfaceUnmarshaler.
func (l *LeaveOut) UnmarshalYAML(unmarshal func(any) error) error { return l.read(unmarshal) }

// UnmarshalJSON implements json.Unmarshaler.
func (l *LeaveOut) UnmarshalJSON(text []byte) error {
	return l.read(func(v any) error { return json.Unmarshal(text, v) })
}

// read knows suffixes by the name that they had before too: releases and lists that have it are read as ever.
func (l *LeaveOut) read(unmarshal func(any) error) error {
	var v struct {
		Paths          []string `yaml:"paths" json:"paths"`
		Suffixes       []string `yaml:"suffixes" json:"suffixes"`
		Endings        []string `yaml:"endings" json:"endings"`
		LargerThanByte int64    `yaml:"larger-than-bytes" json:"larger-than-bytes"`
		Tables         []string `yaml:"tables" json:"tables"`
	}
	err := unmarshal(&v)
	*l = LeaveOut{Paths: v.Paths, Suffixes: append(v.Suffixes, v.Endings...), LargerThanByte: v.LargerThanByte, Tables: v.Tables}
	return err
}

// Blank names values that are emptied while what holds them goes in.
type Blank struct {
	Settings []string `yaml:"settings,omitempty" json:"settings,omitempty"` // in the settings file
	Options  []string `yaml:"options,omitempty" json:"options,omitempty"`
	Values   []Inside `yaml:"values,omitempty" json:"values,omitempty"` // inside serialised or JSON options
	Columns  []Cell   `yaml:"columns,omitempty" json:"columns,omitempty"`
}

// Has reports whether the value of a place is emptied, alone or with others.
func (b Blank) Has(place kind.Value) bool {
	switch {
	case place.Setting != "":
		return slices.Contains(b.Settings, place.Setting)
	case place.Cell != nil:
		return slices.ContainsFunc(b.Columns, func(c Cell) bool { return c.Table == place.Cell.Table && c.Column == place.Cell.Column })
	}
	return slices.Contains(b.Options, place.Option) || slices.ContainsFunc(b.Values, func(v Inside) bool {
		return v.Option == place.Option && len(v.Path) <= len(place.Path) && slices.Equal(v.Path, place.Path[:len(v.Path)])
	})
}

// Inside points at one value inside an option.
type Inside struct {
	Option string   `yaml:"option" json:"option"`
	Path   []string `yaml:"path" json:"path"`
}

// String names the value for a person: loom_school › contact › email.
func (i Inside) String() string { return strings.Join(append([]string{i.Option}, i.Path...), " › ") }

// Cell sets a column to a value in every row where it is not that already; Also sets others in those rows.
type Cell struct {
	Table  string            `yaml:"table" json:"table"`
	Column string            `yaml:"column" json:"column"`
	To     string            `yaml:"to,omitempty" json:"to,omitempty"`
	Also   map[string]string `yaml:"also,omitempty" json:"also,omitempty"`
}

// Field is a value that a starter asks for, and where it goes.
type Field struct {
	Key      string   `yaml:"key" json:"key"`
	Label    string   `yaml:"label" json:"label"`
	Type     string   `yaml:"type,omitempty" json:"type,omitempty" enum:"text,long-text,email,number,choice,colour,image,file,page,menu-entry"`
	Pattern  string   `yaml:"pattern,omitempty" json:"pattern,omitempty"` // a regular expression the whole value must match
	Example  string   `yaml:"example,omitempty" json:"example,omitempty"`
	Choices  []string `yaml:"choices,omitempty" json:"choices,omitempty"`
	Default  string   `yaml:"default,omitempty" json:"default,omitempty"`
	Required bool     `yaml:"required,omitempty" json:"required,omitempty"`
	Secret   bool     `yaml:"secret,omitempty" json:"secret,omitempty"`
	To       []Target `yaml:"to" json:"to"`
}

// Target is a place for a field's value; exactly one of Option, Setting, Cell and Token is there.
type Target struct {
	Option  string   `yaml:"option,omitempty" json:"option,omitempty"`
	Path    []string `yaml:"path,omitempty" json:"path,omitempty"` // inside the option's serialised or JSON value
	Setting string   `yaml:"setting,omitempty" json:"setting,omitempty"`
	Cell    *Spot    `yaml:"cell,omitempty" json:"cell,omitempty"`
	Token   string   `yaml:"token,omitempty" json:"token,omitempty"` // text that the value takes the place of, in Files
	Files   []string `yaml:"files,omitempty" json:"files,omitempty"` // patterns
	// As says what of an image or a file is put there: the number that it has on the site (id), its address (url), or its path below the
	// site's folder (path). Without it, that is the number where the kind gives one and the target is in the database, else the address.
	As string `yaml:"as,omitempty" json:"as,omitempty" enum:"id,url,path"`
}

// Spot is a cell: a column in the rows in which another column has a value.
type Spot = kind.Spot

// Place returns where in the site the target is, which is nowhere for text tokens.
func (t Target) Place() kind.Value {
	return kind.Value{Option: t.Option, Path: t.Path, Setting: t.Setting, Cell: t.Cell}
}

// LaunchTask is something a person must still do on each new site.
type LaunchTask struct {
	Key    string `yaml:"key" json:"key"`
	Title  string `yaml:"title" json:"title"`
	Detail string `yaml:"detail,omitempty" json:"detail,omitempty"`
	Page   string `yaml:"page,omitempty" json:"page,omitempty"` // where on the site, relative to its address
}

// String names the target for a person: option blogname, loom_school › contact › email, setting WP_LANG.
func (t Target) String() string {
	if t.Token != "" {
		return "text " + t.Token + " in " + strings.Join(t.Files, ", ")
	}
	return t.Place().String()
}

// valid reports what is wrong with a target.
func (t Target) valid() error {
	kinds := 0
	for _, there := range []bool{t.Option != "", t.Setting != "", t.Cell != nil, t.Token != ""} {
		if there {
			kinds++
		}
	}
	switch {
	case kinds != 1:
		return errors.New("each place is an option or a setting, a cell or a token")
	case t.Cell != nil && (t.Cell.Table == "" || t.Cell.Column == "" || t.Cell.Where == "" || t.Cell.Is == ""):
		return errors.New("a cell needs table, column, where and is")
	case t.Token != "" && (len(t.Token) < 4 || len(t.Files) == 0):
		return fmt.Errorf("token %q needs at least four characters, and the files that it is in", t.Token)
	}
	for _, f := range t.Files {
		if err := validGlob(f); err != nil {
			return err
		}
	}
	return nil
}

func validGlob(p string) error {
	if err := glob.Validate(p); err != nil {
		return err
	}
	if strings.HasPrefix(p, "/") {
		return fmt.Errorf("%q is not a pattern relative to the web root, like wp-content/cache/**", p)
	}
	return nil
}

// Parse reads a list and says what is wrong with it.
func Parse(text []byte) (*List, error) {
	l := &List{}
	if err := bounds.YAML(text); err != nil {
		return nil, fmt.Errorf("packing list: %w", err)
	}
	if err := yaml.UnmarshalWithOptions(text, l, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("packing list: %w", err)
	}
	return l, l.Valid()
}

// Text returns the list as YAML.
func (l *List) Text() ([]byte, error) { return yaml.Marshal(l) }

// Valid reports the first thing that is wrong.
func (l *List) Valid() error {
	if l.Only != "" && l.Only != "files" && l.Only != "database" {
		return fmt.Errorf(`packing list: only: %q should be "files" or "database"`, l.Only)
	}
	for _, p := range l.LeaveOut.Paths {
		if err := validGlob(p); err != nil {
			return fmt.Errorf("packing list: leave-out: %w", err)
		}
	}
	if l.LeaveOut.LargerThanByte < 0 {
		return errors.New("packing list: leave-out: larger-than-bytes is below zero")
	}
	for _, rows := range slices.Concat(l.KeepRows, l.DropRows) {
		if rows.Table == "" || rows.Column == "" || len(rows.Values) == 0 {
			return fmt.Errorf("packing list: rows of table %q: table, column and values are needed", rows.Table)
		}
	}
	for _, v := range l.Blank.Values {
		if v.Option == "" || len(v.Path) == 0 {
			return fmt.Errorf("packing list: blank: value %q needs an option and a path", v)
		}
	}
	seen := map[string]bool{}
	for _, f := range l.Fields {
		if f.Key == "" || len(f.To) == 0 || seen[f.Key] {
			return fmt.Errorf("packing list: fields: %q needs a key of its own and at least one place in to", f.Key)
		}
		seen[f.Key] = true
		if _, err := regexp.Compile(f.Pattern); err != nil {
			return fmt.Errorf("packing list: field %s: pattern: %w", f.Key, err)
		}
		for _, t := range f.To {
			if err := t.valid(); err != nil {
				return fmt.Errorf("packing list: field %s: %w", f.Key, err)
			}
			if t.As != "" && !f.IsFile() {
				return fmt.Errorf("packing list: field %s: as is for fields of the types image and file", f.Key)
			}
		}
	}
	for _, p := range l.SwitchOff {
		if _, err := path.Match(p, ""); p == "" || strings.Contains(p, "/") || err != nil {
			return fmt.Errorf("packing list: switch-off: %q is not the name of an extension's folder, or a pattern of it", p)
		}
	}
	clear(seen)
	for _, t := range l.LaunchTasks {
		if t.Key == "" || t.Title == "" || seen[t.Key] {
			return fmt.Errorf("packing list: launch-tasks: %q needs a key of its own and a title", t.Key)
		}
		seen[t.Key] = true
	}
	return nil
}

var mail = regexp.MustCompile(`^[^@\s]+@[^@\s]+\.[^@\s]+$`)

// fieldTypes are the types that a field can have; none is text.
var fieldTypes = []string{"text", "long-text", "email", "number", "choice", "colour", "image", "file", "page", "menu-entry"}

// IsFile reports whether the field's values are files.
func (f *Field) IsFile() bool { return f.Type == "image" || f.Type == "file" }

var colour = regexp.MustCompile(`^#(?:[0-9a-fA-F]{3}|[0-9a-fA-F]{6})$`)

// FileOf is the value of a field that is a file which a client has: by the sum of its content, and under a name.
func FileOf(sum, name string) string { return fileMark + sum + "/" + name }

const fileMark = "file:"

var file = regexp.MustCompile(`^` + fileMark + `([0-9a-f]{64})/([A-Za-z0-9._-]+)$`)

// AsFile returns the sum and the name of a file that is a value of a client's; "" for any other value.
func AsFile(value string) (sum, name string) {
	if m := file.FindStringSubmatch(value); m != nil {
		return m[1], m[2]
	}
	return "", ""
}

// IsLink reports whether a value leads to a file by its address.
func IsLink(value string) bool {
	u, err := url.Parse(value)
	return err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != ""
}

// ErrMissing says that a required field has no value.
var ErrMissing = errors.New("is missing")

// Check says whether a value fits the field: nil, ErrMissing, or what is wrong with it.
func (f *Field) Check(value string) error {
	if value == "" {
		if f.Required {
			return ErrMissing
		}
		return nil
	}
	if strings.ContainsAny(value, "\x00") {
		return errors.New("has a NUL character")
	}
	switch f.Type {
	case "email":
		if !mail.MatchString(value) {
			return errors.New("is not a mail address")
		}
	case "number":
		if !regexp.MustCompile(`^-?\d+(\.\d+)?$`).MatchString(value) {
			return errors.New("is not a number")
		}
	case "colour":
		if !colour.MatchString(value) {
			return errors.New("is not a colour like #1c6b4f")
		}
	case "image", "file":
		if sum, _ := AsFile(value); sum == "" && !IsLink(value) {
			return errors.New("is neither a file of the client nor a link to one")
		}
		return nil
	case "choice":
		if !slices.Contains(f.Choices, value) {
			return fmt.Errorf("is not one of %s", strings.Join(f.Choices, ", "))
		}
	}
	if f.Pattern != "" && !regexp.MustCompile(`^(?:`+f.Pattern+`)$`).MatchString(value) {
		if f.Example != "" {
			return fmt.Errorf("does not look like %s", f.Example)
		}
		return fmt.Errorf("does not match %s", f.Pattern)
	}
	return nil
}
