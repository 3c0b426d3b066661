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
		verb("add", "NAME", "add a user; the password is asked for",
			[]cli.Flag{&cli.StringFlag{Name: "role", Value: "builder", Usage: "owner, builder or viewer"}},
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
		verb("password", "NAME", "change a password; the new one is asked for, and one's own old one", nil, a.changePassword),
		listing(a, "list users", (*client.Client).Users, []string{"user", "role", "since"}, func(u wire.User) []string {
			return []string{u.Name, u.Role, day(u.CreatedAt)}
		}),
		a.remove("users", "user"))
}

func (a *app) token() *cli.Command {
	return noun("token", "tokens for programs",
		verb("add", "NAME", "make a token for oneself; it is shown once",
			[]cli.Flag{&cli.IntFlag{Name: "days", Usage: "days after which it is of no use; 0 for never"}}, func(ctx context.Context,
				c *cli.Command, args []string) error {
				svc, err := a.service(c)
				if err != nil {
					return err
				}
				t, err := svc.AddToken(ctx, wire.NewToken{Name: args[0], Days: int(c.Int("days"))})
				if err != nil {
					return err
				}
				return a.print(c, t, func() { fmt.Fprintln(a.out, t.Token) })
			}),
		listing(a, "list one's own tokens", (*client.Client).Tokens, []string{"token", "of", "since", "used", "until"},
			func(t wire.TokenName) []string {
				used := "never"
				if t.UsedAt != nil {
					used = day(*t.UsedAt)
				}
				until := "for ever"
				if t.ExpiresAt != nil {
					until = day(*t.ExpiresAt)
				}
				return []string{t.Name, t.User, day(t.CreatedAt), used, until}
			}),
		a.remove("tokens", "token"))
}

func (a *app) changePassword(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	me, err := svc.Me(ctx)
	if err != nil {
		return err
	}
	var p wire.NewPassword
	if me.Name == args[0] {
		if p.Old, err = a.askSecret("your password as it is now: "); err != nil {
			return err
		}
	}
	if p.New, err = a.askSecret("new password for " + args[0] + ", at least 10 characters: "); err != nil {
		return err
	}
	if err := svc.SetPassword(ctx, args[0], p); err != nil {
		return err
	}
	return a.print(c, map[string]string{"user": args[0]},
		func() { fmt.Fprintf(a.out, "%s has a new password; sessions with the old one have ended\n", args[0]) })
}
