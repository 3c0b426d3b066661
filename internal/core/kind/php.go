package kind

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
)

// phpSettings is a PHP settings file with the files that it takes settings from: those that it includes, and the .env beside them.
// It is read as tokens and never run. Values can be looked up and replaced in place; everything else in the files stays as it
// is, byte for byte.
type phpSettings struct {
	src       []byte
	dir       string
	entries   []entry
	outer     *phpSettings   // the file that includes this one, as far as it was read
	requireAt int            // where the first require or include statement begins; variables are added before it
	topAt     int            // where the first statement begins
	depth     int            // of braces, while the file is read
	pairs     []entry        // 'NAME' => 'value' in arrays: what a loop defines
	dynamic   bool           // it defines constants whose names are computed, or includes files whose names are
	open      map[string]int // where the bodies of arrays and classes begin, by name
	class     string         // whose body is read
	body      int            // depth of braces in it

	tree *tree
}

// tree is what the files of one site's settings share.
type tree struct {
	load    Load
	files   map[string]*phpSettings // that are included, by absolute path
	env     map[string]*dotenv      // files of variables, by absolute path; nil where there is none
	missing map[string]bool         // that are not there
	Outside []string                // that are there, and not in the site
}

// entry is one define(), const or plain variable assignment, or a file that is included here.
type entry struct {
	name     string // constants as they are, variables with their $, elements as $name[key], properties as Class->name
	value    string
	why      string // not empty: the value is not readable, and this is why
	from, to int    // of the expression
	perhaps  bool   // it stands in a branch
	file     *phpSettings
}

// readPHP reads a PHP settings file that lies in the folder dir, and the files that it takes settings from.
func readPHP(src []byte, dir string, load Load) *phpSettings {
	return readSettings(src, dir, nil, &tree{load: load, files: map[string]*phpSettings{}, env: map[string]*dotenv{},
		missing: map[string]bool{}})
}

func readSettings(src []byte, dir string, outer *phpSettings, t *tree) *phpSettings {
	s := &phpSettings{src: src, dir: dir, requireAt: -1, topAt: -1, outer: outer, tree: t, open: map[string]int{}}
	s.parse()
	return s
}

func (s *phpSettings) Clone() Settings {
	c := *s
	c.again()
	return &c
}

func (s *phpSettings) Bytes() []byte { return s.src }

func (s *phpSettings) Files() map[string][]byte {
	out := map[string][]byte{}
	for name, f := range s.tree.files {
		out[name] = f.src
	}
	for name, e := range s.tree.env {
		if e != nil {
			out[name] = e.src
		}
	}
	return out
}

func (s *phpSettings) Reads(name string) bool {
	_, included := s.tree.files[name]
	return included || s.tree.env[name] != nil
}

func (s *phpSettings) Outside() []string { return s.tree.Outside }

func (s *phpSettings) Names() (names []string) {
	for e := range s.all() {
		names = append(names, e.name)
	}
	return names
}

// all goes through the entries of the file and of those it includes, in order.
func (s *phpSettings) all() func(yield func(entry) bool) {
	return func(yield func(entry) bool) { s.walk(false, yield) }
}

func (s *phpSettings) walk(perhaps bool, yield func(entry) bool) bool {
	for _, e := range s.entries {
		if e.file != nil {
			if !e.file.walk(perhaps || e.perhaps, yield) {
				return false
			}
			continue
		}
		e.perhaps = e.perhaps || perhaps
		if !yield(e) {
			return false
		}
	}
	return true
}

// Get returns what PHP would find: of a constant the first definition counts, of all else the last. One that stands in a branch may
// count or not: then all that may must say the same.
func (s *phpSettings) Get(name string) (string, error) {
	var counts []entry
	first := isConstant(name)
	for e := range s.all() {
		if e.name != name {
			continue
		}
		if !e.perhaps && !first {
			counts = counts[:0]
		}
		counts = append(counts, e)
		if !e.perhaps && first {
			break
		}
	}
	var values []string
	for _, e := range counts {
		if e.why != "" {
			return "", fmt.Errorf("%s %w: %s", name, ErrUnreadable, e.why)
		}
		if !slices.Contains(values, e.value) {
			values = append(values, e.value)
		}
	}
	switch len(values) {
	case 0:
		return "", nil
	case 1:
		return values[0], nil
	}
	if SecretName(name) {
		return "", fmt.Errorf("%s %w: it has %d values, in branches", name, ErrUnreadable, len(values))
	}
	return "", fmt.Errorf("%s %w: it is %s, in branches", name, ErrUnreadable, `"`+strings.Join(values, `" or "`)+`"`)
}

func (s *phpSettings) Has(name string) bool {
	for e := range s.all() {
		if e.name == name {
			return true
		}
	}
	return false
}

// Set gives a setting a string value: every definition of it is replaced, in whichever file,
// and a missing one is added before the file loads the rest of the site. A value of that name in a .env is replaced too.
func (s *phpSettings) Set(name, value string) {
	found := s.replace(name, value)
	for _, file := range slices.Sorted(maps.Keys(s.tree.files)) {
		found = s.tree.files[file].replace(name, value) || found
	}
	for _, e := range s.tree.env {
		if e != nil {
			e.set(name, value)
		}
	}
	if !found {
		s.add(name, value)
	}
	s.again()
}

func (s *phpSettings) Blank(secrets *Search) (n int) {
	for _, f := range append(slices.Collect(maps.Values(s.tree.files)), s) {
		var out []byte
		done := 0
		for _, t := range lex(f.src) {
			if t.sort != quoted && t.sort != templated {
				continue
			}
			if _, holds := secrets.In([]byte(stringValue(t))); holds {
				out = append(append(out, f.src[done:t.from]...), "''"...)
				done = t.to
				n++
			}
		}
		if done > 0 {
			f.src = append(out, f.src[done:]...)
		}
	}
	for _, e := range s.tree.env {
		if e == nil {
			continue
		}
		for name, v := range e.vars {
			if _, holds := secrets.In([]byte(v.value)); v.value != "" && (holds || SecretName(name)) {
				e.set(name, "")
				n++
			}
		}
	}
	s.again()
	return n
}

// again reads the file once more after a change, with what is known of the others.
func (s *phpSettings) again() {
	t := *s.tree
	kept := s.Files()
	t.load = func(name string) ([]byte, error) {
		if text, there := kept[name]; there {
			return text, nil
		}
		return nil, errGone
	}
	t.files, t.env = map[string]*phpSettings{}, map[string]*dotenv{}
	for name, e := range s.tree.env { // they belong to the site also when its settings do not need them any more
		if e != nil {
			t.env[name] = readDotenv(e.src)
		}
	}
	fresh := readSettings(s.src, s.dir, nil, &t)
	t.Outside = s.tree.Outside
	*s = *fresh
}

var errGone = errors.New("is not there")

// replace gives every definition of a name in this file another value.
func (s *phpSettings) replace(name, value string) (found bool) {
	var out []byte
	done := 0
	for _, e := range s.entries {
		if e.file == nil && e.name == name {
			out = append(append(out, s.src[done:e.from]...), phpString(value)...)
			done, found = e.to, true
		}
	}
	if found {
		s.src = append(out, s.src[done:]...)
	}
	return found
}

// add sets what the file does not set. Where constants may be defined in a way that cannot be read, it comes first: PHP keeps
// the first value of a constant.
func (s *phpSettings) add(name, value string) {
	at := s.requireAt
	line := fmt.Sprintf("define( %s, %s );\n", phpString(name), phpString(value))
	class, property, isProperty := strings.Cut(name, "->")
	switch {
	case isProperty:
		if open, there := s.open[class]; there {
			s.insert(open, fmt.Sprintf("\n\tpublic $%s = %s;", property, phpString(value)))
		}
		return
	case strings.HasSuffix(name, "]"):
		s.addElement(name, phpString(value))
		return
	case name[0] == '$':
		line = fmt.Sprintf("%s = %s;\n", name, phpString(value))
	case s.dynamic && s.topAt >= 0:
		at = s.topAt
	}
	if at < 0 {
		at, line = s.end(line)
	}
	s.insert(at, line)
}

// end returns where a last statement goes, and the statement.
func (s *phpSettings) end(line string) (int, string) {
	if i := bytes.LastIndex(s.src, []byte("?>")); i >= 0 && len(bytes.TrimSpace(s.src[i+2:])) == 0 {
		return i, line
	}
	if !bytes.HasSuffix(s.src, []byte("\n")) {
		line = "\n" + line
	}
	return len(s.src), line
}

// isConstant reports whether a setting is a constant, of which PHP keeps the first value.
func isConstant(name string) bool { return name != "" && !strings.ContainsAny(name, "$[>") }

func (s *phpSettings) insert(at int, text string) {
	s.src = slices.Concat(s.src[:at], []byte(text), s.src[at:])
}

// phpString returns a single-quoted PHP literal.
func phpString(v string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v) + "'"
}

func (s *phpSettings) parse() {
	toks := lex(s.src)
	defer s.definePairs()
	for i := 0; i < len(toks); i++ {
		t := toks[i]
		if s.topAt < 0 && t.sort != inlineHTML && t.sort != open && i > 0 && toks[i-1].sort == open &&
			strings.ToLower(string(t.text)) != "declare" {
			s.topAt = lineStart(s.src, t.from)
			if s.topAt <= toks[i-1].from {
				s.topAt = t.from
			}
		}
		switch name := strings.ToLower(strings.TrimPrefix(string(t.text), `\`)); {
		case t.is('{'):
			s.depth++
		case t.is('}'):
			if s.depth--; s.depth < s.body {
				s.class, s.body = "", 0
			}
		case t.sort == word && name == "class" && i+1 < len(toks) && toks[i+1].sort == word:
			i = s.classBody(toks, i)
		case t.sort == word && name == "return" && s.depth == 0 && i+1 < len(toks):
			i = s.expression(toks, i+1, "", s.perhaps(toks, i)) - 1
		case t.sort == variable && s.class != "" && s.depth == s.body && toks[i-1].sort == word && i+2 < len(toks) && toks[i+1].is('='):
			i = s.expression(toks, i+2, s.class+"->"+string(t.text[1:]), false)
		case t.sort == word && name == "define" && i+3 < len(toks) && toks[i+1].is('('):
			if n := toks[i+2]; (n.sort == quoted || n.sort == templated) && toks[i+3].is(',') {
				i = s.expression(toks, i+4, stringValue(n), s.perhaps(toks, i))
			} else {
				s.dynamic = true
			}
		case t.sort == word && name == "const":
			for i+2 < len(toks) && toks[i+1].sort == word && toks[i+2].is('=') {
				i = s.expression(toks, i+3, string(toks[i+1].text), s.perhaps(toks, i))
				if i >= len(toks) || !toks[i].is(',') {
					break
				}
			}
		case t.sort == variable && statementStart(toks, i):
			i = s.assignment(toks, i)
		case t.sort == quoted:
			s.pair(toks, i)
		case t.sort == word && (strings.HasPrefix(name, "require") || strings.HasPrefix(name, "include")):
			if s.requireAt < 0 && statementStart(toks, i) {
				s.requireAt = lineStart(s.src, t.from)
			}
			i = s.include(toks, i)
		}
	}
}

// pair notes 'NAME' => 'value'.
func (s *phpSettings) pair(toks []token, i int) {
	if len(s.pairs) < maxEntries && i+4 < len(toks) && toks[i+1].is('=') && toks[i+2].is('>') &&
		(toks[i+3].sort == quoted || toks[i+3].sort == templated) &&
		(toks[i+4].is(',') || toks[i+4].is(')') || toks[i+4].is(']')) && constantName.MatchString(stringValue(toks[i])) {
		s.pairs = append(s.pairs, entry{name: stringValue(toks[i]), value: stringValue(toks[i+3]), from: toks[i+3].from, to: toks[i+3].to})
	}
}

var constantName = regexp.MustCompile(`^[A-Z][A-Z0-9_]{2,60}$`)

// definePairs takes the pairs of arrays for constants, where the file defines some whose names are computed.
func (s *phpSettings) definePairs() {
	for _, p := range s.pairs {
		if s.dynamic && !s.Has(p.name) {
			s.entries = append(s.entries, p)
		}
	}
	slices.SortStableFunc(s.entries, func(a, b entry) int { return a.from - b.from })
}

// assignment reads $name = …;, $name['key'] = …; and $GLOBALS['name'] = …;.
func (s *phpSettings) assignment(toks []token, i int) int {
	name, at := string(toks[i].text), i+1
	for at+2 < len(toks) && toks[at].is('[') && toks[at+2].is(']') && (toks[at+1].sort == quoted || toks[at+1].sort == templated ||
		toks[at+1].sort == number) {
		key := string(toks[at+1].text)
		if toks[at+1].sort != number {
			key = stringValue(toks[at+1])
		}
		if name == "$GLOBALS" {
			name = "$" + key
		} else {
			name += "[" + key + "]"
		}
		at += 3
	}
	if at+1 < len(toks) && toks[at].is('=') && !toks[at+1].is('=') && !toks[at+1].is('>') {
		return s.expression(toks, at+1, name, s.perhaps(toks, i))
	}
	return i
}

// perhaps reports whether the statement that begins at toks[i] stands in a branch. What is defined unless it is defined does not.
func (s *phpSettings) perhaps(toks []token, i int) bool {
	return s.depth > 0 || i > 0 && (toks[i-1].is(')') || strings.EqualFold(string(toks[i-1].text), "else"))
}

// maxEntries bounds the settings of a file: each may depend on all before it.
const maxEntries = 4000

// maxFiles bounds the files that settings are taken from.
const maxFiles = 32

// include reads the file that is included at toks[i], where its name can be known, and returns the index of the statement's last
// token.
func (s *phpSettings) include(toks []token, i int) int {
	start := i + 1
	end := start
	for depth := 0; end < len(toks) && !toks[end].is(';') && (depth > 0 || !toks[end].is(')')); end++ {
		if toks[end].is('(') {
			depth++
		} else if toks[end].is(')') {
			depth--
		}
	}
	if s.tree.load == nil || start >= end {
		return end - 1
	}
	name, why := s.evaluate(toks[start:end])
	if why != "" || name == "" {
		s.dynamic = true
		return end - 1
	}
	if !path.IsAbs(name) {
		name = path.Join(s.dir, name)
	}
	if f := s.file(path.Clean(name)); f != nil {
		s.entries = append(s.entries, entry{file: f, perhaps: s.perhaps(toks, i), from: toks[i].from})
		s.dynamic = s.dynamic || f.dynamic
	}
	return end - 1
}

// file reads a file that settings are taken from; nil where there is none, or where it is read already.
func (s *phpSettings) file(name string) *phpSettings {
	t := s.tree
	if _, read := t.files[name]; read || t.missing[name] || len(t.files) >= maxFiles {
		return nil
	}
	src, err := t.load(name)
	if errors.Is(err, ErrOutside) && !slices.Contains(t.Outside, name) {
		t.Outside = append(t.Outside, name)
	}
	if err != nil {
		t.missing[name] = true
		return nil
	}
	t.files[name] = nil // it may include itself
	f := readSettings(slices.Clone(src), path.Dir(name), s, t)
	t.files[name] = f
	return f
}

func statementStart(toks []token, i int) bool {
	if i == 0 {
		return true
	}
	p := toks[i-1]
	return p.sort == open || p.is(';') || p.is('{') || p.is('}') || p.is(')') || p.is(':') || p.is('@') ||
		strings.EqualFold(string(p.text), "else")
}

func lineStart(src []byte, at int) int { return bytes.LastIndexByte(src[:at], '\n') + 1 }

// expression reads the expression that starts at toks[i], records it under name, and returns the index
// of the token that ends it.
func (s *phpSettings) expression(toks []token, i int, name string, perhaps bool) int {
	start, depth := i, 0
	for ; i < len(toks); i++ {
		t := toks[i]
		if depth == 0 && (t.is(';') || t.is(',') || t.is(')') || t.sort == mark && len(t.text) == 2) {
			break
		}
		if t.is('(') || t.is('[') {
			depth++
		}
		if t.is(')') || t.is(']') {
			depth--
		}
		if depth > 0 && t.sort == quoted {
			s.pair(toks, i)
		}
	}
	if i > start && len(s.entries) < maxEntries {
		value, why := s.evaluate(toks[start:i])
		if name != "" {
			s.entries = append(s.entries, entry{name: name, value: value, why: why, from: toks[start].from, to: toks[i-1].to, perhaps: perhaps})
		}
		if !isConstant(name) {
			s.elements(toks[start:i], name, perhaps, 0)
		}
	}
	return i
}
