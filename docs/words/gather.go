package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Gather returns the sentences in the Go source below some folders, each with the packages that have it.
func Gather(folders ...string) (map[string][]string, error) {
	g := &gatherer{said: map[string][]string{}}
	for _, folder := range folders {
		err := filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
			if err == nil && strings.HasSuffix(name, ".yaml") {
				return g.definition(name)
			}
			if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || aside(name) {
				return err
			}
			source, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
			if err == nil {
				g.at = filepath.Base(filepath.Dir(name))
				ast.Inspect(source, g.visit)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return g.said, nil
}

// said finds what the definition of a kind says to people.
var said = regexp.MustCompile(`\b(?:why|what|title): (?:"([^"]+)"|([^",}\n]+))`)

func (g *gatherer) definition(name string) error {
	text, err := os.ReadFile(name)
	g.at = "kind " + strings.TrimSuffix(filepath.Base(name), ".yaml")
	for _, m := range said.FindAllStringSubmatch(string(text), -1) {
		g.sentence(m[1] + m[2])
	}
	return err
}

// aside is what nobody reads in the console: what tests share, and the interface's own description.
func aside(name string) bool {
	return strings.HasSuffix(filepath.Dir(name), "test") || slices.Contains([]string{"pages.go", "describe.go"}, filepath.Base(name))
}

type gatherer struct {
	said map[string][]string
	at   string // the package at hand
}

// silent are calls whose strings nobody reads in the console: logs, faults of ours, what goes to databases, and patterns.
var silent = regexp.MustCompile(`^(Warn|Info|Debug|panic|MustCompile|Compile|Exec|ExecContext|Query|QueryContext|QueryRow|QueryRowContext|` +
	`Prepare|many|one|column|Getenv|Header|Get|Set|Add|NewReplacer|operation|words|sum)$`)

// names are calls that are given the name of a check or a step first, which may be one word.
var names = regexp.MustCompile(`^(result|judge|record|Step|step)$`)

// prose are fields that are shown as they are, and may be one word.
var prose = regexp.MustCompile(`^(Sentence|Remedy|Advice|Why)$`)

func (g *gatherer) visit(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.ImportSpec, *ast.StructType:
		return false
	case *ast.CallExpr:
		name := calledName(n)
		if silent.MatchString(name) {
			for _, a := range n.Args {
				if f, is := a.(*ast.FuncLit); is { // what an operation of the interface does
					ast.Inspect(f.Body, g.visit)
				}
			}
			return false
		}
		if names.MatchString(name) {
			for i, a := range n.Args {
				if text, ok := literal(a); ok && letters.MatchString(text) {
					g.add(text)
					if (name == "result" || name == "judge") && i == 2 { // a fault, with how often it was found
						g.add(text + " (%d)")
						g.add(text + " (%d); %d more are the same in the source")
						g.add("nothing new: " + text + " (%d), the same in the source")
					}
				}
			}
		}
	case *ast.KeyValueExpr:
		g.field(n)
		if key, ok := n.Key.(*ast.Ident); ok && slices.Contains([]string{"Summary", "Description", "OperationID"}, key.Name) {
			return false // of the interface's description
		}
	case *ast.BinaryExpr:
		if text, ok := literal(n); ok {
			g.sentence(text)
			return false
		}
		if text, ok := joined(n); ok {
			g.sentence(text)
			g.values(n)
			return false
		}
	case *ast.BasicLit:
		if text, ok := literal(n); ok {
			if strings.HasSuffix(text, " ") {
				text += "%v" // what is put behind it
			}
			g.sentence(text)
		}
	}
	return true
}

// field takes what a field of prose has, and the names of checks.
func (g *gatherer) field(n *ast.KeyValueExpr) {
	key, ok := n.Key.(*ast.Ident)
	if text, is := literal(n.Value); ok && is && prose.MatchString(key.Name) && letters.MatchString(text) {
		g.add(text)
	}
}

func calledName(n *ast.CallExpr) string {
	switch f := n.Fun.(type) {
	case *ast.Ident:
		return f.Name
	case *ast.SelectorExpr:
		return f.Sel.Name
	}
	return ""
}

// literal is the text of a string, or of several that are put together.
func literal(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		if e.Kind != token.STRING {
			return "", false
		}
		text, err := strconv.Unquote(e.Value)
		return text, err == nil
	case *ast.ParenExpr:
		return literal(e.X)
	case *ast.BinaryExpr:
		left, ok := literal(e.X)
		right, also := literal(e.Y)
		return left + right, ok && also && e.Op == token.ADD
	}
	return "", false
}

// joined is a text that is put together from strings and values: %v stands for each value.
func joined(e ast.Expr) (string, bool) {
	if b, ok := e.(*ast.BinaryExpr); ok && b.Op == token.ADD {
		left, is := joined(b.X)
		right, also := joined(b.Y)
		return left + right, is || also
	}
	if text, ok := literal(e); ok {
		return text, true
	}
	return "%v", false
}

// values looks into what a text is put together with.
func (g *gatherer) values(e ast.Expr) {
	if b, ok := e.(*ast.BinaryExpr); ok && b.Op == token.ADD {
		g.values(b.X)
		g.values(b.Y)
	} else if _, is := literal(e); !is {
		ast.Inspect(e, g.visit)
	}
}

var (
	letters = regexp.MustCompile(`\p{L}{2}`)
	words   = regexp.MustCompile(`\p{L}{2,}[,;:.)]?['"”]? [({'"“]?(\p{L}|%)|%[a-z\[\]\d]+[,;:]? \p{L}{2,}`)
	// statements are those of databases, and what else is no prose.
	statements = regexp.MustCompile(`^\s*(SELECT|INSERT|UPDATE|DELETE|WITH|CREATE|ALTER|DROP|GRANT|REVOKE|SET|SHOW|LISTEN|UNLISTEN|FROM|WHERE|ORDER|` +
		`JOIN|LEFT|AND|OR|UNION|VALUES|BEGIN|COMMIT|START|LOCK|UNLOCK|FLUSH|COPY|RETURNING|ON|LIMIT|GROUP|PRAGMA|ATTACH|RENAME|TRUNCATE|ANALYZE|CHECK|` +
		`REFERENCES|PRIMARY|FOREIGN|CONSTRAINT|COMMENT|CALL|DECLARE|EXECUTE|LOAD|IDENTIFIED|NOT NULL|DEFAULT|GENERATED|COLLATE|CHARACTER|NULL|AS|IN|IS|` +
		`NOT|CASE|WHEN|ELSE|END|USE|REPLACE|REQUIRE|OPTIMIZE|DO|SAVEPOINT|RELEASE|ROLLBACK|KILL|EXPLAIN|RESET|INTO|FOR|USING|TO|PARTITION|INDEX|UNIQUE|KEY)\b`)
	small   = regexp.MustCompile(`(^|[^\p{L}_%$.-])\p{Lu}?\p{Ll}{2,}([^\p{L}_$]|$)`)
	control = regexp.MustCompile(`[\x00-\x08\x0b-\x1f\x7f]`)
	program = regexp.MustCompile(`^\s*(<\?|<!|#!|/\*|--|\{|<[a-z])|\n.*\n|\$_[A-Z]|\);|[a-z]\(\$|::\w+\(| = \$\d|COALESCE|count\(\*\)`)
)

// sentence takes a text that somebody reads.
func (g *gatherer) sentence(text string) {
	if words.MatchString(text) && small.MatchString(text) && !control.MatchString(text) && !statements.MatchString(text) && !program.MatchString(text) {
		g.add(text)
	}
}

// add notes a text, but for what joins it to others: sentences are put together of parts.
func (g *gatherer) add(text string) {
	said := Message(strings.TrimSpace(strings.TrimLeft(text, ";,: ")))
	if !slices.Contains(g.said[said], g.at) {
		g.said[said] = append(g.said[said], g.at)
		slices.Sort(g.said[said])
	}
}

var verb = regexp.MustCompile(`%(\[(\d+)\])?[-+#0]*\d*(\.\d+)?([a-zA-Z%])`)

// Message writes a format of fmt as ICU MessageFormat, in which values are {0}, {1} and so on.
func Message(format string) string {
	format = strings.NewReplacer("'", "''", "{", "'{'", "}", "'}'").Replace(format)
	n := 0
	return verb.ReplaceAllStringFunc(format, func(v string) string {
		m := verb.FindStringSubmatch(v)
		if m[4] == "%" {
			return "%"
		}
		if at, err := strconv.Atoi(m[2]); err == nil {
			n = at - 1
		}
		n++
		return "{" + strconv.Itoa(n-1) + "}"
	})
}
