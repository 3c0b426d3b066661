// Package cli is the command line: nestseed NOUN VERB, one file per noun.
//
// Commands talk to a service through its client; only serve, migrate and doctor look at this machine.
// Each prints what a person wants to read, or with --json what a program does: the same documents the
// HTTP interface returns. Errors are one sentence on stderr, and the exit code says of which sort.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/service"
)

// Exit codes.
const (
	exitDone     = 0
	exitFailed   = 1
	exitUsage    = 2
	exitNotFound = 3
	exitRefused  = 4
	exitFaults   = 5
)

// errUsage marks wrong usage; errFaults says that checks found faults, which were printed already.
var (
	errUsage  = errors.New("wrong usage")
	errFaults = errors.New("checks found faults")
)

func usage(format string, args ...any) error {
	return fmt.Errorf("%w: %s", errUsage, fmt.Sprintf(format, args...))
}

// app is what commands share: where they print, and the service they talk to.
type app struct {
	version string
	in      io.Reader
	out     io.Writer
	err     io.Writer
}

// Run runs one command and returns its exit code.
func Run(ctx context.Context, version string, args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{version: version, in: in, out: inert{out}, err: inert{errOut}}
	root := a.root()
	err := root.Run(ctx, args)
	if err == nil {
		return exitDone
	}
	code := exitCode(err)
	if code != exitFaults {
		sentence := strings.TrimPrefix(err.Error(), errUsage.Error()+": ")
		if of := unknown.FindStringSubmatch(sentence); of != nil && code == exitNotFound {
			sentence += fmt.Sprintf("; see nestseed %s list", of[1])
		}
		fmt.Fprintln(a.err, "nestseed:", sentence)
	}
	return code
}

// unknown is what the service says of a name that it does not know.
var unknown = regexp.MustCompile(`^there is no (host|source|starter|release|client|site|install|run|kind|user|token) "[^"]*": not found$`)

func exitCode(err error) int {
	var p *client.Problem
	switch {
	case errors.Is(err, errFaults):
		return exitFaults
	case errors.Is(err, errUsage):
		return exitUsage
	case errors.As(err, &p):
		switch p.Status {
		case 404, 410:
			return exitNotFound
		case 400, 422:
			return exitUsage
		case 401, 403, 409, 429:
			return exitRefused
		}
	}
	return exitFailed
}

func (a *app) root() *cli.Command {
	root := &cli.Command{
		Name:      "nestseed",
		Usage:     "build starter packages from configured sites, and make client sites from them",
		Version:   a.version,
		Writer:    a.out,
		ErrWriter: a.err,
		Reader:    a.in,
		// nestseed completion bash, zsh, fish or pwsh writes a script for that shell.
		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden = false
			c.Usage = "write the script by which a shell completes commands: bash, zsh, fish or pwsh"
		},
		// Errors are printed by Run, once.
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError: func(_ context.Context, c *cli.Command, err error, _ bool) error {
			return usage("%v; see %s --help", err, c.FullName())
		},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "server", Usage: "address of the service", Sources: cli.EnvVars("NESTSEED_SERVER")},
			&cli.StringFlag{Name: "token", Usage: "token for the service", Sources: cli.EnvVars("NESTSEED_TOKEN")},
			&cli.BoolFlag{Name: "json", Usage: "print the answer as JSON"},
		},
		Commands: []*cli.Command{
			a.serve(), a.migrate(), a.doctor(), a.login(), a.versionCommand(), a.openapi(), a.man(),
			a.host(), a.source(), a.packing(), a.starter(), a.release(), a.client(), a.site(), a.install(),
			a.run(), a.vault(), a.kind(), a.agency(), a.user(), a.token(),
		},
	}
	exemplify(root, "", examples())
	for _, name := range []string{"run list", "run show", "site list", "site show", "source show", "install show", "host show"} {
		noun, verb, _ := strings.Cut(name, " ")
		a.refreshed(root.Command(noun).Command(verb))
	}
	root.Action = func(_ context.Context, c *cli.Command) error {
		if c.Args().Present() {
			return usage("there is no command %q; see nestseed --help", c.Args().First())
		}
		return cli.ShowRootCommandHelp(c)
	}
	return root
}

// wrongUsage is what the parser of flags found, as one sentence.
func wrongUsage(_ context.Context, c *cli.Command, err error, _ bool) error {
	return usage("%s%s; see %s --help", strings.ToLower(err.Error()[:1]), err.Error()[1:], c.FullName())
}

// noun is a command that only has verbs.
func noun(name, about string, verbs ...*cli.Command) *cli.Command {
	return &cli.Command{Name: name, Usage: about, Commands: verbs, OnUsageError: wrongUsage,
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usage("there is no nestseed %s %s; see nestseed %s --help", name, c.Args().First(), name)
			}
			return cli.ShowSubcommandHelp(c)
		}}
}

// verb is a command with a fixed number of arguments; words names them, a last one with … takes any number.
func verb(name, words, about string, flags []cli.Flag, do func(ctx context.Context, c *cli.Command, args []string) error) *cli.Command {
	return &cli.Command{Name: name, Usage: about, ArgsUsage: words, Flags: flags, OnUsageError: wrongUsage,
		Action: func(ctx context.Context, c *cli.Command) error {
			args, want := c.Args().Slice(), strings.Fields(words)
			least, most := 0, len(want)
			for _, w := range want {
				if !strings.HasPrefix(w, "[") {
					least++
				}
				if strings.HasSuffix(strings.Trim(w, "[]"), "…") {
					most = 1 << 20
				}
			}
			if len(args) < least || len(args) > most {
				return usage("%s takes %s; it got %d", c.FullName(), orNothing(words), len(args))
			}
			return do(ctx, c, args)
		}}
}

// asking is a verb that asks the service one thing and prints the answer; fetch asks, human prints.
func asking[T any](a *app, name, words, about string, flags []cli.Flag, fetch func(ctx context.Context, c *cli.Command, svc *client.Client,
	args []string) (T, error), human func(T)) *cli.Command {
	return verb(name, words, about, flags, func(ctx context.Context, c *cli.Command, args []string) error {
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		v, err := fetch(ctx, c, svc, args)
		if err != nil {
			return err
		}
		return a.print(c, v, func() { human(v) })
	})
}

// listing is a verb that lists: its answer as rows of a table.
func listing[T any](a *app, about string, list func(svc *client.Client, ctx context.Context) ([]T, error), headings []string,
	row func(T) []string) *cli.Command {
	return asking(a, "list", "", about, nil, func(ctx context.Context, _ *cli.Command, svc *client.Client, _ []string) ([]T, error) {
		return list(svc, ctx)
	}, func(all []T) {
		var rows [][]string
		for _, v := range all {
			rows = append(rows, row(v))
		}
		table(a.out, slices.Clone(headings), rows)
	})
}

// showing is a verb that shows one thing by its name.
func showing[T any](a *app, about string, show func(svc *client.Client, ctx context.Context, name string) (T, error),
	human func(T)) *cli.Command {
	return asking(a, "show", "NAME", about, nil, func(ctx context.Context, _ *cli.Command, svc *client.Client, args []string) (T, error) {
		return show(svc, ctx, args[0])
	}, human)
}

func orNothing(words string) string {
	if words == "" {
		return "no words"
	}
	return words
}

// at returns args[i], or "".
func at(args []string, i int) string {
	if i < len(args) {
		return args[i]
	}
	return ""
}

// access is what login keeps: the server and token commands use by default.
type access struct {
	Server string `yaml:"server"`
	Token  string `yaml:"token"`
}

func accessFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("no folder for settings: %w; give --server and --token", err)
	}
	return filepath.Join(dir, "nestseed", "access.yaml"), nil
}

const defaultServer = "http://127.0.0.1:8470"

// service returns a client of the service: from flags or environment, else from login, else the one whose
// owner token lies in ./.nestseed.
func (a *app) service(c *cli.Command) (*client.Client, error) {
	server, token := c.String("server"), c.String("token")
	if file, err := accessFile(); err == nil && (server == "" || token == "") {
		var kept access
		if text, err := os.ReadFile(file); err == nil && yaml.Unmarshal(text, &kept) == nil && (server == "" || server == kept.Server) {
			server = kept.Server
			if token == "" {
				token = kept.Token
			}
		}
	}
	if server == "" {
		server = defaultServer
	}
	if err := overTLS(server); err != nil {
		return nil, err
	}
	if token == "" {
		data := os.Getenv("NESTSEED_DATA")
		if data == "" {
			data = defaultData
		}
		if b, err := os.ReadFile(filepath.Join(data, "owner-token")); err == nil && madeFor(data, server) {
			token = strings.TrimSpace(string(b))
		}
	}
	return client.New(server, token), nil
}

// overTLS refuses a service on another machine that is reached without encryption: a token would be sent to it with each request.
func overTLS(server string) error {
	u, err := url.Parse(server)
	if err != nil || u.Host == "" {
		return usage("%q is not the address of a service; write it like https://seed.example", server)
	}
	ip := net.ParseIP(u.Hostname())
	if u.Scheme != "https" && u.Hostname() != "localhost" && !strings.HasSuffix(u.Hostname(),
		".localhost") && (ip == nil || !ip.IsLoopback()) {
		return usage("%s is on another machine, and your token would travel there without encryption; use its https address, or a tunnel "+
			"that ends here",
			server)
	}
	return nil
}

// madeFor reports whether the token in a service's folder was made for the service at an address: an owner's token is sent
// to no other.
func madeFor(data, server string) bool {
	own, err := os.ReadFile(filepath.Join(data, service.AddressFile))
	return err == nil && strings.TrimSpace(string(own)) == strings.TrimRight(server, "/")
}

// print writes v as JSON when asked to, else lets human write it.
func (a *app) print(c *cli.Command, v any, human func()) error {
	if !c.Bool("json") {
		human()
		return nil
	}
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := a.out.Write(escaped(text.Bytes()))
	return err
}

// pairs reads K=V words.
func pairs(words []string) (map[string]string, error) {
	out := map[string]string{}
	for _, w := range words {
		k, v, ok := strings.Cut(w, "=")
		if !ok || k == "" {
			return nil, usage("%q should be KEY=VALUE", w)
		}
		out[k] = v
	}
	return out, nil
}
