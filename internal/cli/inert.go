package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"
)

// inert is a writer of lines in which nothing is left that a terminal would obey: names, titles and errors come from sites and archives.
type inert struct{ io.Writer }

func (w inert) Write(p []byte) (int, error) {
	if _, err := w.Writer.Write(bytes.Map(harmless, p)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// harmless replaces control characters (ECMA-48, 5.2 and 5.3), and those that turn the direction of text (UAX #9, 2.1 to 2.4).
func harmless(r rune) rune {
	switch {
	case r == '\n' || r == '\t':
		return r
	case unicode.IsControl(r), '\u202a' <= r && r <= '\u202e', '\u2066' <= r && r <= '\u2069':
		return unicode.ReplacementChar
	}
	return r
}

// escaped is JSON in which what harmless replaces stands as \u and its number (RFC 8259, section 7): it is the same value.
func escaped(text []byte) []byte {
	out := make([]byte, 0, len(text))
	for _, r := range string(text) {
		if harmless(r) == r {
			out = utf8.AppendRune(out, r)
		} else {
			out = fmt.Appendf(out, "\\u%04x", r)
		}
	}
	return out
}

// document prints a text that is read again when it is kept in a file: there it is as it is, and inert on a terminal.
func (a *app) document(text string) {
	out := a.out
	if _, is := terminal(out); !is {
		if in, is := out.(inert); is {
			out = in.Writer
		}
	}
	fmt.Fprint(out, text)
}

// terminal returns the terminal that a writer leads to, if it does.
func terminal(w io.Writer) (*os.File, bool) {
	if in, is := w.(inert); is {
		w = in.Writer
	}
	f, is := w.(*os.File)
	return f, is && term.IsTerminal(int(f.Fd()))
}
