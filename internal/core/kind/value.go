package kind

import (
	"errors"
	"strings"

	"github.com/goccy/go-yaml"
)

// Value is where a value of a site is kept: an option, or one value inside it; a setting; a cell of a table, or one value inside
// that. In a definition, a plain text is the name of an option.
type Value struct {
	Option  string   `yaml:"option,omitempty" json:"option,omitempty"`
	Path    []string `yaml:"path,omitempty" json:"path,omitempty"` // inside a serialised or JSON value
	Setting string   `yaml:"setting,omitempty" json:"setting,omitempty"`
	Cell    *Spot    `yaml:"cell,omitempty" json:"cell,omitempty"`
}

// Spot is a column in the rows in which another column has a value.
type Spot struct {
	Table  string `yaml:"table" json:"table"`
	Column string `yaml:"column" json:"column"`
	Where  string `yaml:"where" json:"where"`
	Is     string `yaml:"is" json:"is"`
}

// IsZero reports whether it names no place.
func (v Value) IsZero() bool { return v.Option == "" && v.Setting == "" && v.Cell == nil }

// InDatabase reports whether it is kept in the database.
func (v Value) InDatabase() bool { return v.Option != "" || v.Cell != nil }

// String names the place for a person: option blogname, loom_school › contact › email, setting WP_LANG.
func (v Value) String() string {
	inside := ""
	if len(v.Path) > 0 {
		inside = " › " + strings.Join(v.Path, " › ")
	}
	switch {
	case v.Setting != "":
		return "setting " + v.Setting
	case v.Cell != nil:
		return v.Cell.Table + "." + v.Cell.Column + " where " + v.Cell.Where + " is " + v.Cell.Is + inside
	}
	return "option " + v.Option + inside
}

// UnmarshalYAML reads a plain text as the name of an option.
func (v *Value) UnmarshalYAML(text []byte) error {
	var option string
	if err := yaml.Unmarshal(text, &option); err == nil {
		v.Option = option
		return nil
	}
	type plain Value
	return yaml.UnmarshalWithOptions(text, (*plain)(v), yaml.Strict())
}

func (v Value) valid() error {
	places := 0
	for _, there := range []bool{v.Option != "", v.Setting != "", v.Cell != nil} {
		if there {
			places++
		}
	}
	if places != 1 || v.Setting != "" && len(v.Path) > 0 {
		return errors.New("a place is an option, a setting or a cell")
	}
	return nil
}
