package cli

import (
	_ "embed"
	"strings"

	"github.com/urfave/cli/v3"
)

// Each line is a command without its first word, a bar, and an example of it.
//
//go:embed examples.txt
var examplesText string

// examples are the examples of commands by what these are called, as in "site plan".
func examples() map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(examplesText) {
		name, example, _ := strings.Cut(strings.TrimSpace(line), " | ")
		out[name] = example
	}
	return out
}

// exemplify puts an example into the help of every command below one.
func exemplify(c *cli.Command, above string, all map[string]string) {
	for _, sub := range c.Commands {
		name := strings.TrimSpace(above + " " + sub.Name)
		if example := all[name]; example != "" && len(sub.Commands) == 0 {
			sub.Description = "For example:\n" + example
		}
		exemplify(sub, name, all)
	}
}
