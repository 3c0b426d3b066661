package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/wire"
)

func (a *app) vault() *cli.Command {
	return noun("vault", "where secrets are kept, encrypted",
		verb("list", "", "list secrets by name", nil, func(ctx context.Context, c *cli.Command, _ []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			secrets, err := svc.Vault(ctx)
			if err != nil {
				return err
			}
			return a.print(c, secrets, func() {
				var rows [][]string
				for _, s := range secrets {
					rows = append(rows, []string{s.Noun, s.Owner, s.Name, day(s.CreatedAt)})
				}
				table(a.out, []string{"of", "name", "secret", "kept since"}, rows)
			})
		}),
		verb("reveal", "NOUN NAME SECRET", "print a secret; this is recorded", nil, func(ctx context.Context, c *cli.Command, args []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			secret, err := svc.Reveal(ctx, wire.Reveal{Noun: args[0], Owner: args[1], Name: args[2]})
			if err != nil {
				return err
			}
			return a.print(c, wire.Revealed{Secret: secret}, func() { fmt.Fprintln(a.out, secret) })
		}))
}

func (a *app) kind() *cli.Command {
	return noun("kind", "what CMS families are known",
		verb("list", "", "list kinds", nil, func(ctx context.Context, c *cli.Command, _ []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			kinds, err := svc.Kinds(ctx)
			if err != nil {
				return err
			}
			return a.print(c, kinds, func() {
				var rows [][]string
				for _, k := range kinds {
					rows = append(rows, []string{k.Name, k.Title, strings.Join(k.Lists, ", ")})
				}
				table(a.out, []string{"kind", "title", "stock packing lists"}, rows)
			})
		}))
}

func (a *app) user() *cli.Command {
	return noun("user", "people who may use the service",
		verb("add", "NAME", "add a user; the password is asked for", []cli.Flag{&cli.StringFlag{Name: "role", Value: "builder", Usage: "owner, builder or viewer"}},
			func(ctx context.Context, c *cli.Command, args []string) error {
				svc, err := a.service(c)
				if err != nil {
					return err
				}
				password, err := a.askSecret("password for " + args[0] + ", at least 10 characters: ")
				if err != nil {
					return err
				}
				u, err := svc.AddUser(ctx, wire.NewUser{Name: args[0], Role: c.String("role"), Password: password})
				if err != nil {
					return err
				}
				return a.print(c, u, func() { fmt.Fprintf(a.out, "%s %s added\n", u.Role, u.Name) })
			}),
		verb("list", "", "list users", nil, func(ctx context.Context, c *cli.Command, _ []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			users, err := svc.Users(ctx)
			if err != nil {
				return err
			}
			return a.print(c, users, func() {
				var rows [][]string
				for _, u := range users {
					rows = append(rows, []string{u.Name, u.Role, day(u.CreatedAt)})
				}
				table(a.out, []string{"user", "role", "since"}, rows)
			})
		}),
		a.remove("users", "user"))
}

func (a *app) token() *cli.Command {
	return noun("token", "tokens for programs",
		verb("add", "NAME", "make a token for oneself; it is shown once", nil, func(ctx context.Context, c *cli.Command, args []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			t, err := svc.AddToken(ctx, args[0])
			if err != nil {
				return err
			}
			return a.print(c, t, func() { fmt.Fprintln(a.out, t.Token) })
		}))
}
