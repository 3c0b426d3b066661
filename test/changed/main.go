// Changed names the packages that have changed since a check last passed on them, and notes that it has passed.
//
//	go run ./test/changed test/passed/race.txt ./internal/core/archive ./internal/service/engine    prints those to check
//	go run ./test/changed -passed test/passed/race.txt ./internal/core/archive ./internal/service/engine
//
// A package has changed when one of the files in its folder has, tests and their data among them, or a module that the house depends on, or the
// version of Go. What only a package that it uses has changed is checked there. The file has one line for each package and is committed with the
// change: a machine that has never run a check then knows what has passed it.
package main

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
)

func main() {
	args := os.Args[1:]
	passed := len(args) > 0 && args[0] == "-passed"
	if passed {
		args = args[1:]
	}
	if len(args) == 0 {
		fmt.Fprintln(os.Stderr, "usage: changed [-passed] FILE PACKAGE...")
		os.Exit(2)
	}
	if err := run(passed, args[0], args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(passed bool, file string, packages []string) error {
	known := map[string]string{}
	text, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	for line := range strings.Lines(string(text)) {
		if sum, name, ok := strings.Cut(strings.TrimSpace(line), "  "); ok {
			known[name] = sum
		}
	}
	now := map[string]string{}
	for _, p := range packages {
		name := cmp.Or(strings.TrimPrefix(strings.TrimPrefix(p, "nestseed"), "./"), ".")
		name = strings.TrimPrefix(name, "/")
		if now[name], err = sum(name); err != nil {
			return err
		}
		if !passed && known[name] != now[name] {
			fmt.Println("./" + name)
		}
	}
	if !passed {
		return nil
	}
	var lines []string
	for name, sum := range now {
		lines = append(lines, sum+"  "+name+"\n")
	}
	slices.SortFunc(lines, func(a, b string) int { return strings.Compare(a[66:], b[66:]) })
	return os.WriteFile(file, []byte(strings.Join(lines, "")), 0o644)
}

// sum is the SHA-256 of what a package is made of: its folder without those of other packages, go.sum and the version of Go.
func sum(dir string) (string, error) {
	h := sha256.New()
	fmt.Fprintln(h, runtime.Version())
	add := func(name string) error {
		content, err := os.ReadFile(name)
		if err == nil {
			fmt.Fprintln(h, name, sha256.Sum256(content))
		}
		return err
	}
	if err := add("go.sum"); err != nil {
		return "", err
	}
	err := filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case !e.IsDir():
			return add(name)
		case name == dir || e.Name() == "testdata" || strings.Contains(name, "/testdata/"):
			return nil
		}
		if e.Name() == "node_modules" || e.Name() == "dist" {
			return filepath.SkipDir
		}
		if source, err := filepath.Glob(filepath.Join(name, "*.go")); err != nil || len(source) > 0 {
			return filepath.SkipDir
		}
		return nil
	})
	return fmt.Sprintf("%x", h.Sum(nil)), err
}
