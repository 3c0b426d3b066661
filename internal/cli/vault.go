package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func (a *app) vault() *cli.Command {
	return noun("vault", "where secrets are kept, encrypted",
		listing(a, "list secrets by name", (*client.Client).Vault, []string{"of", "name", "secret", "kept since"}, func(s wire.Secret) []string {
			return []string{s.Noun, s.Owner, s.Name, day(s.CreatedAt)}
		}),
		asking(a, "reveal", "NOUN NAME SECRET", "print a secret; this is recorded", nil, func(ctx context.Context, _ *cli.Command, svc *client.Client, args []string) (wire.Revealed, error) {
			secret, err := svc.Reveal(ctx, wire.Reveal{Noun: args[0], Owner: args[1], Name: args[2]})
			return wire.Revealed{Secret: secret}, err
		}, func(r wire.Revealed) { fmt.Fprintln(a.out, r.Secret) }))
}
