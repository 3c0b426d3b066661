package kind

import (
	"errors"
	"fmt"
)

// ErrUnreadable says that a setting is computed when the program runs, so that its value cannot be
// known from the file.
var ErrUnreadable = errors.New("cannot be read without running the site")

// Settings is a settings file, with the files that it takes settings from. It is read and never run. Values can be looked up and
// replaced in place; everything else in the files stays as it is, byte for byte.
//
// How settings are named depends on the syntax. PHP: NAME of a constant, $name of a variable, $name[key][key] of an element,
// [key] of an element of the array that the file returns, Class->name of a property. Dotenv: NAME. INI: section.key, or
// key before the first section. JSON and YAML: keys joined by dots.
type Settings interface {
	// Get returns a value. A missing one is "" and no error; one that is computed, or that differs by branch, is ErrUnreadable.
	Get(name string) (string, error)
	// Has reports whether a setting is defined at all.
	Has(name string) bool
	// Set gives a setting a text as its value: in place where it is defined, else at a place where it counts.
	Set(name, value string)
	// Names returns the names of all settings in the order in which they are set.
	Names() []string
	// Bytes returns the file.
	Bytes() []byte
	// Files returns the other files that settings are taken from, by absolute path.
	Files() map[string][]byte
	// Reads reports whether settings are taken from a file, by its absolute path.
	Reads(name string) bool
	// Outside returns the files that settings are taken from and that lie outside the site's folder.
	Outside() []string
	// Blank empties every value that holds one of the secrets, in all files, and returns how many.
	Blank(secrets *Search) int
	// Clone returns a copy that can be changed by itself.
	Clone() Settings
}

// Load reads a file that settings are taken from, by absolute path. With ErrOutside it is there, outside the site's folder.
type Load func(name string) ([]byte, error)

// ErrOutside says that a file lies outside the site's folder.
var ErrOutside = errors.New("lies outside the site's folder")

// syntaxes are the sorts of settings files, by the name that definitions have for them.
var syntaxes = map[string]func(src []byte, dir string, load Load) Settings{
	"":       func(src []byte, dir string, load Load) Settings { return readPHP(src, dir, load) },
	"php":    func(src []byte, dir string, load Load) Settings { return readPHP(src, dir, load) },
	"dotenv": func(src []byte, _ string, _ Load) Settings { return readFlat(src, dotenvSyntax{}) },
	"ini":    func(src []byte, _ string, _ Load) Settings { return readFlat(src, iniSyntax{}) },
	"json":   func(src []byte, _ string, _ Load) Settings { return readFlat(src, jsonSyntax{}) },
	"yaml":   func(src []byte, _ string, _ Load) Settings { return readFlat(src, yamlSyntax{}) },
}

// ReadSettings reads a settings file that lies in the folder dir, and, where load is not nil, the files that it takes settings
// from. Errors: a syntax that is not known; ErrCannotRead, for a text that is not of it.
func ReadSettings(syntax string, src []byte, dir string, load Load) (Settings, error) {
	read, known := syntaxes[syntax]
	if !known {
		return nil, fmt.Errorf("settings files of the syntax %q are not read; it is php, dotenv, ini, json or yaml", syntax)
	}
	if err := readable(syntax, src); err != nil {
		return nil, err
	}
	return read(src, dir, load), nil
}
