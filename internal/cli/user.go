package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
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
		listing(a, "list users", (*client.Client).Users, []string{"user", "role", "since"}, func(u wire.User) []string {
			return []string{u.Name, u.Role, day(u.CreatedAt)}
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
		listing(a, "list one's own tokens", (*client.Client).Tokens, []string{"token", "of", "since", "used"}, func(t wire.TokenName) []string {
			used := "never"
			if t.UsedAt != nil {
				used = day(*t.UsedAt)
			}
			return []string{t.Name, t.User, day(t.CreatedAt), used}
		}),
		a.remove("tokens", "token"))
}
