package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func (a *app) kind() *cli.Command {
	return noun("kind", "supported kinds of applications",
		listing(a, "list kinds", (*client.Client).Kinds, []string{"kind", "title", "stock packing lists"}, func(k wire.Kind) []string {
			return []string{k.Name, k.Title, strings.Join(k.Lists, ", ")}
		}),
		showing(a, "print the definition of a kind", (*client.Client).Kind, func(k wire.Kind) { a.document(k.Definition) }),
		verb("check", "FILE", "say whether a definition of a kind can be read", nil, a.kindFile((*client.Client).CheckKind, "can be read")),
		verb("add", "FILE", "add a kind, or give one that was added another definition; the guide says how one is written", nil,
			a.kindFile((*client.Client).AddKind, "added")),
		verb("draft", "NAME", "propose the definition of a kind, from what is in a folder of a host and in a database; it is printed", []cli.Flag{
			&cli.StringFlag{Name: "host", Required: true, Usage: "host that the folder is on"},
			&cli.StringFlag{Name: "path", Required: true, Usage: "folder, relative to the host's files"},
			&cli.StringFlag{Name: "address", Usage: "where the site is, so that its address is found in it"},
			&cli.StringFlag{Name: "database", Usage: "address of its database, where its settings do not tell it"},
			databasePassword(),
		}, a.draftKind),
		a.remove("kinds", "kind"))
}

func (a *app) draftKind(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	d := wire.NewDraft{Name: args[0], Host: c.String("host"), Path: c.String("path"), Address: c.String("address"),
		Database: c.String("database")}
	if d.Database != "" {
		if d.Password, err = a.passwordFrom(c); err != nil {
			return err
		}
	}
	draft, err := svc.DraftKind(ctx, d)
	if err != nil {
		return err
	}
	return a.print(c, draft, func() { a.document(draft.Definition) })
}

// kindFile does something with a file that holds the definition of a kind.
func (a *app) kindFile(do func(*client.Client, context.Context, wire.NewKind) (wire.Kind, error), said string) func(context.Context,
	*cli.Command,
	[]string) error {
	return func(ctx context.Context, c *cli.Command, args []string) error {
		text, err := a.readFile(args[0])
		if err != nil {
			return err
		}
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		k, err := do(svc, ctx, wire.NewKind{Definition: string(text)})
		if err != nil {
			return err
		}
		return a.print(c, k, func() {
			fmt.Fprintf(a.out, "%s (%s) %s\n", k.Name, k.Title, said)
			if len(k.AlsoFits) > 0 {
				fmt.Fprintf(a.out, "its signs also fit the sources %s, which stay of their kinds\n", strings.Join(k.AlsoFits, ", "))
			}
		})
	}
}
