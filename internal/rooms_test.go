// Package internal holds one test: that each package keeps to itself what only it may know.
package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind"
)

// sources calls visit with every Go file here that is no test, and its package's folder.
func sources(t *testing.T, visit func(dir string, file *ast.File, at func(token.Pos) string)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
		if err == nil {
			visit(filepath.ToSlash(filepath.Dir(path)), file, func(p token.Pos) string { return set.Position(p).String() })
		}
		return err
	}))
}

// A room is a folder with what lies below it.
func in(dir, room string) bool { return dir == room || strings.HasPrefix(dir, room+"/") }

func TestTheCoreKnowsNothingAboveIt(t *testing.T) {
	nouns := []string{"sources", "starters", "releases", "sites", "hosts", "clients", "users", "jobs"}
	sources(t, func(dir string, file *ast.File, at func(token.Pos) string) {
		for _, i := range file.Imports {
			path, err := strconv.Unquote(i.Path.Value)
			require.NoError(t, err)
			ours, is := strings.CutPrefix(path, "nestseed/internal/")
			if in(dir, "core") {
				require.False(t, is && !in(ours, "core"), "%s: the core imports %s", at(i.Pos()), path)
				for driver, room := range map[string]string{"sql-driver": "mysql", "pgx": "postgres", "go-sqlite3": "sqlite"} {
					require.False(t, strings.Contains(path, driver) && !in(dir, "core/sitedb/"+room), "%s: %s has a driver of databases",
						at(i.Pos()), dir)
				}
				for _, framework := range []string{"gin-gonic", "huma", "urfave", "riverqueue"} {
					require.NotContains(t, path, framework, at(i.Pos()))
				}
			}
			if in(dir, "service/engine") || in(dir, "service/records") || in(dir, "service/vault") || in(dir, "service/store") {
				for _, noun := range nouns {
					require.NotEqual(t, "service/"+noun, ours, "%s: %s knows a noun", at(i.Pos()), dir)
				}
			}
			require.False(t, is && in(dir, "wire"), "%s: what travels imports %s", at(i.Pos()), path)
			require.False(t, in(dir, "client") && in(ours, "service"), "%s: the client imports %s", at(i.Pos()), path)
			require.False(t, in(dir, "service") && (ours == "cli" || ours == "client"), "%s: the service imports %s", at(i.Pos()), path)
		}
	})
}

// What the service and the core say is read in the console, by programs and at the command line: it names no commands and none of their
// options.
func TestSentencesSpeakOfNoCommands(t *testing.T) {
	commands := regexp.MustCompile(`nestseed (host|source|packing|starter|release|client|site|install|run|vault|kind|user|token) |\s\(?--[a-z]`)
	others := []string{"core/hostfs/sftp", "core/sitedb", "core/sidebyside", "core/kinddraft", "service/cluster"} // commands of other programs
	sources(t, func(dir string, file *ast.File, at func(token.Pos) string) {
		if !in(dir, "core") && !in(dir, "service") {
			return
		}
		for _, room := range others {
			if in(dir, room) {
				return
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if l, is := n.(*ast.BasicLit); is && l.Kind == token.STRING {
				require.False(t, commands.MatchString(" "+strings.Trim(l.Value, "`\"")), "%s: %s", at(l.Pos()), l.Value)
			}
			return true
		})
	})
}

// A noun is changed by its package alone: the HTTP interface reads records, and writes none but the audit log.
func TestTheInterfaceChangesNoRecords(t *testing.T) {
	changes := regexp.MustCompile(`^(Add|Set|Remove|Change|Put|Tick|Withdraw|Not|End|Discard|Keep|Move|Accept)([A-Z]|$)`)
	sources(t, func(dir string, file *ast.File, at func(token.Pos) string) {
		if !in(dir, "service/httpapi") {
			return
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, is := n.(*ast.SelectorExpr)
			if !is {
				return true
			}
			owner := ""
			switch x := call.X.(type) {
			case *ast.SelectorExpr:
				owner = x.Sel.Name
			case *ast.Ident:
				owner = x.Name
			}
			require.False(t, (owner == "db" || owner == "DB") && changes.MatchString(call.Sel.Name) || owner == "Vault" && call.Sel.Name == "Put",
				"%s: %s changes records", at(call.Pos()), call.Sel.Name)
			return true
		})
	})
}

// What a CMS, an engine of databases or a protocol for files is called is known to one package. Sentences may name one as an
// example for a person; values that a program decides on may not.
func TestNamesOfSystemsAreInTheirPackage(t *testing.T) {
	kinds, err := kind.Stock()
	require.NoError(t, err)
	var cms []string
	for _, k := range kinds {
		cms = append(cms, regexp.QuoteMeta(k.Name), regexp.QuoteMeta(strings.ToLower(k.Title)))
	}
	rules := []struct {
		words *regexp.Regexp
		rooms []string
	}{
		{regexp.MustCompile(`(?i)^\W*(` + strings.Join(cms, "|") + `|wp-|wp_)`), []string{"core/kind"}},
		{regexp.MustCompile(`^(mysql|mariadb|postgres|postgresql|sqlite)(:|$)`), []string{"core/sitedb", "core/sqltext", "service/records", "service/cluster"}},
		{regexp.MustCompile(`^(file|sftp|ftps?)://`), []string{"core/hostfs"}},
	}
	sources(t, func(dir string, file *ast.File, at func(token.Pos) string) {
		tags := map[*ast.BasicLit]bool{}
		ast.Inspect(file, func(n ast.Node) bool {
			if f, is := n.(*ast.Field); is && f.Tag != nil {
				tags[f.Tag] = true
			}
			lit, is := n.(*ast.BasicLit)
			if !is || lit.Kind != token.STRING || tags[lit] {
				return true
			}
			text, err := strconv.Unquote(lit.Value)
			require.NoError(t, err)
			for _, r := range rules {
				if strings.Contains(text, " ") || !r.words.MatchString(text) {
					continue
				}
				allowed := false
				for _, room := range r.rooms {
					allowed = allowed || in(dir, room) || strings.HasSuffix(dir, "test")
				}
				if !allowed {
					t.Errorf("%s: %q is known only to %s", at(lit.Pos()), text, strings.Join(r.rooms, ", "))
				}
			}
			return true
		})
	})
}

// What no screen shows at once is not read. Tables of tests and texts of other languages may be wider.
func TestFunctionsAndLinesAreShort(t *testing.T) {
	sources(t, func(_ string, file *ast.File, at func(token.Pos) string) {
		for _, d := range file.Decls {
			f, is := d.(*ast.FuncDecl)
			if !is || f.Body == nil {
				continue
			}
			first, last := at(f.Pos()), at(f.End())
			if n := line(t, last) - line(t, first) + 1; n > 80 {
				t.Errorf("%s: %s has %d lines", first, f.Name.Name, n)
			}
		}
	})
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.HasSuffix(filepath.Dir(path), "test") {
			return err
		}
		text, err := os.ReadFile(path)
		for n, l := range strings.Split(string(text), "\n") {
			if utf8.RuneCountInString(l) > 140 && !strings.Contains(l, "`") && !strings.Contains(l, "animation:none") {
				t.Errorf("%s:%d has %d characters", path, n+1, utf8.RuneCountInString(l))
			}
		}
		return err
	}))
}

func line(t *testing.T, at string) int {
	t.Helper()
	parts := strings.Split(at, ":")
	n, err := strconv.Atoi(parts[len(parts)-2])
	require.NoError(t, err)
	return n
}
