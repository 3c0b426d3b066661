package check

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"strings"
)

// numbers in a sentence, such as times, are not what was found.
var numbers = regexp.MustCompile(`[0-9]+`)

// Mark tells what a check found on one site from anything else that it may find there, wherever the site is: what was found, or, where
// that has no name, the sentence without numbers.
func (c *Check) Mark() string {
	if len(c.Found) == 0 || len(c.Found) == 1 && c.Found[0] == c.Name {
		return c.EarlierMark()
	}
	return c.digest(c.Found...)
}

// EarlierMark is the mark that was kept of reports without names of what was found: by their evidence.
func (c *Check) EarlierMark() string {
	if len(c.Evidence) == 0 {
		return c.digest(numbers.ReplaceAllString(c.Sentence, "#"))
	}
	return c.digest(c.Evidence...)
}

// MarkEverywhere is the same for what a check finds on many sites of one origin, whose evidence names rows and tables of each: its
// sentence.
func (c *Check) MarkEverywhere() string { return c.digest(c.Sentence) }

func (c *Check) digest(found ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(append([]string{c.Name, string(c.Result)}, found...), "\x00")))
	return hex.EncodeToString(sum[:12])
}
