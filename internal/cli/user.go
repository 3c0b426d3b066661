package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"nestseed/internal/wire"
)

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
		}),
		verb("list", "", "list one's own tokens", nil, func(ctx context.Context, c *cli.Command, _ []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			tokens, err := svc.Tokens(ctx)
			if err != nil {
				return err
			}
			return a.print(c, tokens, func() {
				var rows [][]string
				for _, t := range tokens {
					used := "never"
					if t.UsedAt != nil {
						used = day(*t.UsedAt)
					}
					rows = append(rows, []string{t.Name, t.User, day(t.CreatedAt), used})
				}
				table(a.out, []string{"token", "of", "since", "used"}, rows)
			})
		}),
		a.remove("tokens", "token"))
}
