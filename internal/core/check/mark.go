package check

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"strings"
)

// numbers in a sentence, such as times, are not what was found.
var numbers = regexp.MustCompile(`[0-9]+`)

// Mark tells what a check found on one site from anything else that it may find there: its evidence, or, where it has none, its sentence
// without numbers.
func (c *Check) Mark() string {
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
