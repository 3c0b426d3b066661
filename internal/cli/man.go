package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// man writes the manual page of all commands (man-pages(7), with the macros of man(7)).
func (a *app) man() *cli.Command {
	return verb("man", "", "write the manual page, for man -l - or /usr/local/share/man/man1/nestseed.1", nil,
		func(_ context.Context, c *cli.Command, _ []string) error {
			root := c.Root()
			fmt.Fprintf(a.out, ".TH NESTSEED 1 \"\" \"nestseed %s\"\n.SH NAME\nnestseed \\- %s\n", roff(a.version), roff(root.Usage))
			fmt.Fprint(a.out, ".SH SYNOPSIS\n.B nestseed\n[\\fIoptions\\fR] \\fInoun\\fR \\fIverb\\fR [\\fIwords\\fR]\n", ".SH OPTIONS\n")
			manOptions(a.out, root)
			fmt.Fprint(a.out, ".SH COMMANDS\n")
			manCommands(a.out, root, "nestseed")
			fmt.Fprint(a.out, ".SH EXIT STATUS\n")
			for code, what := range exitMeanings {
				fmt.Fprintf(a.out, ".TP\n.B %d\n%s\n", code, roff(what))
			}
			_, err := fmt.Fprint(a.out, ".SH ENVIRONMENT\n.TP\n.B NESTSEED_SERVER\naddress of the service\n",
				".TP\n.B NESTSEED_TOKEN\ntoken for the service\n")
			return err
		})
}

// exitMeanings are what exit codes say, by their numbers.
var exitMeanings = [...]string{exitDone: "done", exitFailed: "failed", exitUsage: "wrong usage", exitNotFound: "not found",
	exitRefused: "refused", exitFaults: "done, and checks found faults"}

// manCommands writes the commands below one.
func manCommands(w io.Writer, c *cli.Command, path string) {
	for _, sub := range ownCommands(c) {
		full := path + " " + sub.Name
		if len(ownCommands(sub)) > 0 {
			fmt.Fprintf(w, ".SS %s\n%s\n", roff(full), roff(sub.Usage))
			manCommands(w, sub, full)
			continue
		}
		fmt.Fprintf(w, ".PP\n.B %s\n%s\n.RS\n%s.\n", roff(full), roff(sub.ArgsUsage), roff(sub.Usage))
		manOptions(w, sub)
		if sub.Description != "" {
			_, example, _ := strings.Cut(sub.Description, "\n")
			fmt.Fprintf(w, ".PP\n.EX\n%s\n.EE\n", roff(example))
		}
		fmt.Fprint(w, ".RE\n")
	}
}

// ownCommands are the commands below one but for the help that each has.
func ownCommands(c *cli.Command) []*cli.Command {
	return slices.DeleteFunc(slices.Clone(c.Commands), func(sub *cli.Command) bool { return sub.Hidden || sub.Name == "help" })
}

func manOptions(w io.Writer, c *cli.Command) {
	for _, f := range c.VisibleFlags() {
		doc, ok := f.(cli.DocGenerationFlag)
		if !ok || f.Names()[0] == "help" {
			continue
		}
		value := ""
		if doc.TakesValue() {
			value = " \\fIVALUE\\fR"
		}
		fmt.Fprintf(w, ".TP\n.BR \\-\\-%s%s\n%s\n", roff(f.Names()[0]), value, roff(strings.ReplaceAll(doc.GetUsage(), "`", "")))
	}
}

// roff writes a text so that nothing in it is a request or an escape (groff(7), "Escape sequences").
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`, "\n", " ").Replace(s)
	if strings.HasPrefix(s, ".") || strings.HasPrefix(s, "'") {
		s = `\&` + s
	}
	return s
}
