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
	if c.String("database-password-file") == "" {
		return os.Getenv("NESTSEED_DATABASE_PASSWORD"), nil
	}
	return a.secretFrom(c, "database-password-file", "password of the database account: ")
}

// secretFrom reads a secret from the file that a flag names, or asks for it; "" without the flag.
func (a *app) secretFrom(c *cli.Command, flag, question string) (string, error) {
	switch file := c.String(flag); file {
	case "":
		return "", nil
	case "-":
		return a.askSecret(question)
	default:
		b, err := os.ReadFile(file)
		return strings.TrimSpace(string(b)), err
	}
}

func filesPassword() cli.Flag {
	return &cli.StringFlag{Name: "files-password-file", TakesFile: true,
		Usage: "file with the password of the account that reaches the files, or the passphrase of its key; - asks for it"}
}

func filesKey() cli.Flag {
	return &cli.StringFlag{Name: "files-key-file", TakesFile: true, Usage: "file with the private key of the account that reaches the files"}
}

// filesSecrets reads what the files of a host are reached with.
func (a *app) filesSecrets(c *cli.Command) (password, key string, err error) {
	if password, err = a.secretFrom(c, "files-password-file",
		"password of the account for the files, or passphrase of its key: "); err != nil {
		return "", "", err
	}
	if file := c.String("files-key-file"); file != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return "", "", err
		}
		key = string(b)
	}
	return password, key, nil
}

// newPasswordFrom is passwordFrom for a change: what the environment holds is meant only when a database is given.
func (a *app) newPasswordFrom(c *cli.Command) (string, error) {
	if !c.IsSet("database") && !c.IsSet("database-password-file") {
		return "", nil
	}
	return a.passwordFrom(c)
}
