// Package packing decides what goes into a release, from a list that a person can read and edit.
//
// A List is YAML: what is left out, emptied, dropped and blanked, and which fields a starter asks for.
// It is stored with the starter and goes into the manifest of each release. Compile turns it into a
// Matcher, which answers for every path and edits every row while they stream past.
//
//	list, err := packing.Parse(text)
//	m, err := list.Compile(kind, "lad_")
//	rule, out := m.LeavesOut("wp-content/cache/page.html", 1024)
//
// Paths are relative to the web root, patterns are globs with ** for any depth; table names are
// without the prefix. The package only decides: it reads no file and no database.
package packing

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml"

	"nestseed/internal/core/kind"
)

// List is a packing list.
type List struct {
	Name     string      `yaml:"list" json:"list"`
	Only     string      `yaml:"only,omitempty" json:"only,omitempty" enum:"files,database"` // empty for both
	LeaveOut LeaveOut    `yaml:"leave-out,omitempty" json:"leave-out,omitzero"`
	Empty    []string    `yaml:"empty,omitempty" json:"empty,omitempty"`
	DropRows []kind.Rows `yaml:"drop-rows,omitempty" json:"drop-rows,omitempty"`
	Blank    Blank       `yaml:"blank,omitempty" json:"blank,omitzero"`
	Fields   []Field     `yaml:"fields,omitempty" json:"fields,omitempty"`
}

// LeaveOut names files and tables that do not go in at all.
type LeaveOut struct {
	Paths          []string `yaml:"paths,omitempty" json:"paths,omitempty"`
	LargerThanByte int64    `yaml:"larger-than-bytes,omitempty" json:"larger-than-bytes,omitempty"`
	Tables         []string `yaml:"tables,omitempty" json:"tables,omitempty"`
}

// Blank names values that are emptied while what holds them goes in.
type Blank struct {
	Settings []string `yaml:"settings,omitempty" json:"settings,omitempty"` // in the settings file
	Options  []string `yaml:"options,omitempty" json:"options,omitempty"`
	Columns  []Cell   `yaml:"columns,omitempty" json:"columns,omitempty"`
}

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
	Type     string   `yaml:"type,omitempty" json:"type,omitempty" enum:"text,email,number,choice"`
	Pattern  string   `yaml:"pattern,omitempty" json:"pattern,omitempty"` // a regular expression the whole value must match
	Example  string   `yaml:"example,omitempty" json:"example,omitempty"`
	Choices  []string `yaml:"choices,omitempty" json:"choices,omitempty"`
	Default  string   `yaml:"default,omitempty" json:"default,omitempty"`
	Required bool     `yaml:"required,omitempty" json:"required,omitempty"`
	Secret   bool     `yaml:"secret,omitempty" json:"secret,omitempty"`
	To       []Target `yaml:"to" json:"to"`
}

// Target is a place for a field's value: an option, perhaps a path inside its serialised value, or a
// setting of the settings file.
type Target struct {
	Option  string   `yaml:"option,omitempty" json:"option,omitempty"`
	Path    []string `yaml:"path,omitempty" json:"path,omitempty"`
	Setting string   `yaml:"setting,omitempty" json:"setting,omitempty"`
}

// String names the target for a person: option blogname, loom_school › contact › email, setting WP_LANG.
func (t Target) String() string {
	if t.Setting != "" {
		return "setting " + t.Setting
	}
	return "option " + strings.Join(append([]string{t.Option}, t.Path...), " › ")
}

// Parse reads a list and says what is wrong with it.
func Parse(text []byte) (*List, error) {
	l := &List{}
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
		if !doublestar.ValidatePattern(p) || strings.HasPrefix(p, "/") {
			return fmt.Errorf("packing list: leave-out: %q is not a pattern relative to the web root, like wp-content/cache/**", p)
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
			if (t.Option == "") == (t.Setting == "") {
				return fmt.Errorf("packing list: field %s: each place is an option or a setting", f.Key)
			}
		}
	}
	return nil
}

var mail = regexp.MustCompile(`^[^@\s]+@[^@\s]+\.[^@\s]+$`)

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

// Leave adds patterns to what is left out; those already there are not added twice.
func (l *List) Leave(patterns ...string) {
	for _, p := range patterns {
		if !slices.Contains(l.LeaveOut.Paths, p) {
			l.LeaveOut.Paths = append(l.LeaveOut.Paths, p)
		}
	}
}

// PutBack removes patterns, and returns those that were not there.
func (l *List) PutBack(patterns ...string) (unknown []string) {
	for _, p := range patterns {
		i := slices.Index(l.LeaveOut.Paths, p)
		if i < 0 {
			unknown = append(unknown, p)
			continue
		}
		l.LeaveOut.Paths = slices.Delete(l.LeaveOut.Paths, i, i+1)
	}
	return unknown
}

// EmptyTables adds tables whose rows do not go in.
func (l *List) EmptyTables(tables ...string) {
	for _, t := range tables {
		if !slices.Contains(l.Empty, t) {
			l.Empty = append(l.Empty, t)
		}
	}
}
