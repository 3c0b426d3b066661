package kind

import (
	"bytes"
	"cmp"
	"iter"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
)

// envName is the file of variables that applications read beside their settings.
const envName = ".env"

// dotenv is a file of variables, one NAME=value a line: quoted or not, after export or not, with comments after #.
type dotenv struct {
	src  []byte
	vars map[string]envEntry
}

type envEntry struct {
	value    string
	from, to int // of what stands behind =
}

var envLine = regexp.MustCompile(`(?m)^[ \t]*(?:export[ \t]+)?([A-Za-z_][A-Za-z0-9_.]*)[ \t]*=[ \t]*("(?:\\.|[^"\\\n])*"|'[^'\n]*'|[^\s#'"][^\n#]*|)`)

func readDotenv(src []byte) *dotenv {
	e := &dotenv{src: src, vars: map[string]envEntry{}}
	for _, m := range envLine.FindAllSubmatchIndex(src, -1) {
		text := strings.TrimRight(string(src[m[4]:m[5]]), " \t\r")
		from, to := m[4], m[4]+len(text)
		if n := len(text); n >= 2 && (text[0] == '"' || text[0] == '\'') {
			quote := text[0]
			if text = text[1 : n-1]; quote == '"' {
				text = strings.NewReplacer(`\"`, `"`, `\\`, `\`, `\n`, "\n", `\$`, "$").Replace(text)
			}
		}
		e.vars[string(src[m[2]:m[3]])] = envEntry{text, from, to} // the last counts
	}
	return e
}

// set gives a variable that is there another value.
func (e *dotenv) set(name, value string) {
	v, there := e.vars[name]
	if !there {
		return
	}
	*e = *readDotenv(bytes.Join([][]byte{e.src[:v.from], []byte(quoteEnv(value)), e.src[v.to:]}, nil))
}

// quoteEnv returns a value as it stands behind =.
func quoteEnv(value string) string {
	if value == "" {
		return ""
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "\n", `\n`).Replace(value) + `"`
}

// inOrder returns the variables in the order in which they stand in the file.
func (e *dotenv) inOrder() iter.Seq2[string, envEntry] {
	return func(yield func(string, envEntry) bool) {
		names := slices.SortedFunc(maps.Keys(e.vars), func(a, b string) int { return cmp.Compare(e.vars[a].from, e.vars[b].from) })
		for _, name := range names {
			if !yield(name, e.vars[name]) {
				return
			}
		}
	}
}

// env returns the value of a variable from the .env in the file's folder, or in the nearest one above it.
func (s *phpSettings) env(name string) (string, bool) {
	t := s.tree
	if t.load == nil {
		return "", false
	}
	for dir := s.dir; ; dir = path.Dir(dir) {
		file := path.Join(dir, envName)
		e, read := t.env[file]
		if !read {
			if src, err := t.load(file); err == nil {
				e = readDotenv(bytes.Clone(src))
			}
			t.env[file] = e
		}
		if e != nil {
			v, there := e.vars[name]
			return v.value, there
		}
		if dir == path.Dir(dir) {
			return "", false
		}
	}
}
