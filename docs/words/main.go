// Command words gathers what the service says, from the strings of its source, into a file that translators work on (PO, as gettext has
// it). The console puts another language in their place: docs/words tells it what a sentence may look like, with {0}, {1} where a value
// stands (ICU MessageFormat).
//
//	go run ./docs/words          # writes web/src/words/service/en.po
//	go run ./docs/words --check  # fails when that file is not as the source has it
package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

const file = "web/src/words/service/en.po"

// rooms are where sentences come from that people read in the console.
var rooms = []string{"internal/core", "internal/service"}

const head = `msgid ""
msgstr ""
"Content-Type: text/plain; charset=utf-8\n"
"Language: en\n"
`

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "words:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	said, err := Gather(rooms...)
	if err != nil {
		return err
	}
	text := catalogue(said)
	before, err := os.ReadFile(file)
	switch {
	case err == nil && bytes.Equal(before, text):
		return nil
	case slices.Contains(args, "--check"):
		return fmt.Errorf("%s is not as the source has it; run make words, and commit it with your change", file)
	}
	return errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, text, 0o644))
}

// catalogue writes sentences as gettext does, each with the packages that say it.
func catalogue(said map[string][]string) []byte {
	quote := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`)
	out := bytes.NewBufferString(head)
	sentences := make([]string, 0, len(said))
	for s := range said {
		sentences = append(sentences, s)
	}
	slices.Sort(sentences)
	for _, s := range sentences {
		fmt.Fprintf(out, "\n#. %s\nmsgid \"%[2]s\"\nmsgstr \"%[2]s\"\n", strings.Join(said[s], ", "), quote.Replace(s))
	}
	return out.Bytes()
}
