// Package glob judges patterns of paths that come from people, archives and definitions.
//
// A pattern is what doublestar reads: *, ?, **, […] and {a,b}. Matching tries every way through the alternatives of braces, so
// that a few bytes can ask for more work than any machine does: patterns are bounded before they are used.
package glob

import (
	"errors"
	"fmt"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Bounds of a pattern: far above what lists need.
const (
	MaxBytes        = 1024
	MaxAlternatives = 64 // ways through all braces
	MaxWild         = 16 // of * and **
)

// ErrPattern says that a text is not a pattern that is used.
var ErrPattern = errors.New("is not a pattern")

// Validate reports why a text is not a pattern, or asks for too much work. Errors: ErrPattern.
func Validate(p string) error {
	if p == "" || len(p) > MaxBytes || !doublestar.ValidatePattern(p) {
		return fmt.Errorf("%q %w; write something like uploads/** or *.{jpg,png}", shown(p), ErrPattern)
	}
	ways, here, wild := 1, 0, 0
	var open []int // alternatives of the braces that are open
	for i := 0; i < len(p); i++ {
		switch p[i] {
		case '\\':
			i++
		case '*':
			if i == 0 || p[i-1] != '*' {
				wild++
			}
		case '{':
			open = append(open, here)
			here = 1
		case ',':
			if len(open) > 0 {
				here++
			}
		case '}':
			if len(open) > 0 {
				ways *= here
				here, open = open[len(open)-1], open[:len(open)-1]
			}
		}
		if ways > MaxAlternatives || wild > MaxWild {
			return fmt.Errorf("%q %w that is used: it has too many alternatives; write several instead", shown(p), ErrPattern)
		}
	}
	return nil
}

func shown(p string) string { return p[:min(len(p), 80)] }

// Words reports whether a text that is looked for is no pattern, but a part of a path.
func Words(text string) bool { return !strings.ContainsAny(text, `*?[{\`) }

var special = strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "]", `\]`, "{", `\{`, "}", `\}`)

// Quote returns a pattern that matches just the path.
func Quote(p string) string { return special.Replace(p) }

// Match reports whether a path matches a pattern that Validate has passed.
func Match(pattern, p string) bool { return doublestar.MatchUnvalidated(pattern, p) }
