package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
)

// askSecret asks for a secret on the terminal without showing it, or reads a line where there is none.
func (a *app) askSecret(prompt string) (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, prompt)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return strings.TrimSpace(string(b)), err
	}
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if line = strings.TrimSpace(line); line == "" {
		return "", usage("no secret was given on standard input: %v", err)
	}
	return line, nil
}

// databasePassword keeps passwords off the command line, where everyone on the machine can read them.
func databasePassword() cli.Flag {
	return &cli.StringFlag{Name: "database-password-file", Usage: "file with the database account's password; - asks for it", TakesFile: true}
}

func (a *app) passwordFrom(c *cli.Command) (string, error) {
	switch file := c.String("database-password-file"); file {
	case "":
		return os.Getenv("NESTSEED_DATABASE_PASSWORD"), nil
	case "-":
		return a.askSecret("password of the database account: ")
	default:
		b, err := os.ReadFile(file)
		return strings.TrimSpace(string(b)), err
	}
}

// newPasswordFrom is passwordFrom for a change: what the environment holds is meant only when a database is given.
func (a *app) newPasswordFrom(c *cli.Command) (string, error) {
	if !c.IsSet("database") && !c.IsSet("database-password-file") {
		return "", nil
	}
	return a.passwordFrom(c)
}
