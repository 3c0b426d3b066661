package cli

import (
	"context"
	"fmt"

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
