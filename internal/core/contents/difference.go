package contents

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/pmezard/go-difflib/difflib"

	"nestseed/internal/core/archive"
)

// ErrNoText is a file that cannot be compared line by line.
var ErrNoText = errors.New("not compared line by line")

const (
	mostTextBytes = 256 << 10
	mostTextLines = 4_000 // the time grows with their square, for texts that are made for it
	linesAround   = 3
)

// TextDelta is how the text of a file differs: the places that differ, with the lines around them.
type TextDelta struct {
	Path    string  `json:"path"`
	Added   int     `json:"added"` // lines
	Removed int     `json:"removed"`
	Places  []Place `json:"places"`
}

// Place is one place in a text. Lines are counted from 1.
type Place struct {
	Before int         `json:"before"` // its first line there
	After  int         `json:"after"`
	Lines  []DeltaLine `json:"lines"`
}

// DeltaLine is a line of one text or of both, without its end.
type DeltaLine struct {
	Change string `json:"change" enum:"same,added,removed"`
	Text   string `json:"text"`
}

// CompareText says how a file of b differs from that of a, line by line. One that only one of them has is all new, or all gone. Errors:
// archive.ErrNoEntry when neither has it, ErrNoText.
func CompareText(a, b *archive.Archive, path string) (*TextDelta, error) {
	before, there, err := textOf(a, path)
	if err != nil {
		return nil, err
	}
	after, here, err := textOf(b, path)
	if err != nil {
		return nil, err
	}
	if !there && !here {
		return nil, fmt.Errorf("%s: %w", path, archive.ErrNoEntry)
	}
	out := &TextDelta{Path: path, Places: []Place{}}
	for _, group := range difflib.NewMatcher(before, after).GetGroupedOpCodes(linesAround) {
		p := Place{Before: group[0].I1 + 1, After: group[0].J1 + 1}
		for _, op := range group {
			if op.Tag == 'e' {
				p.add("same", before[op.I1:op.I2])
				continue
			}
			p.add("removed", before[op.I1:op.I2])
			p.add("added", after[op.J1:op.J2])
			out.Removed += op.I2 - op.I1
			out.Added += op.J2 - op.J1
		}
		if out.Added+out.Removed > 0 { // equal texts are one group of what is the same
			out.Places = append(out.Places, p)
		}
	}
	return out, nil
}

func (p *Place) add(change string, lines []string) {
	for _, l := range lines {
		p.Lines = append(p.Lines, DeltaLine{Change: change, Text: l})
	}
}

// textOf returns the lines of a file of an archive; false when it has none of that name.
func textOf(a *archive.Archive, path string) (lines []string, there bool, err error) {
	f := a.Entry(archive.FilesDir + path)
	if f == nil || f.Mode().IsDir() {
		return nil, false, nil
	}
	if f.UncompressedSize64 > mostTextBytes {
		return nil, true, fmt.Errorf("%w: %s has more than %d kB", ErrNoText, path, mostTextBytes>>10)
	}
	text, err := archive.ReadEntry(f, mostTextBytes)
	if err != nil {
		return nil, true, err
	}
	if bytes.IndexByte(text, 0) >= 0 || !utf8.Valid(text) {
		return nil, true, fmt.Errorf("%w: %s is no text", ErrNoText, path)
	}
	for l := range strings.Lines(string(text)) {
		lines = append(lines, strings.TrimRight(l, "\r\n"))
	}
	if len(lines) > mostTextLines {
		return nil, true, fmt.Errorf("%w: %s has more than %d lines", ErrNoText, path, mostTextLines)
	}
	return lines, true, nil
}
