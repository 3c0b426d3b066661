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
		asking(a, "reveal", "NOUN NAME SECRET", "print a secret; this is recorded", nil, func(ctx context.Context, _ *cli.Command,
			svc *client.Client, args []string) (wire.Revealed, error) {
			secret, err := svc.Reveal(ctx, wire.Reveal{Noun: args[0], Owner: args[1], Name: args[2]})
			return wire.Revealed{Secret: secret}, err
		}, func(r wire.Revealed) { fmt.Fprintln(a.out, r.Secret) }),
		asking(a, "rotate-key", "", "seal every secret with a new key; keep a copy of the new key file", nil,
			func(ctx context.Context, _ *cli.Command, svc *client.Client, _ []string) (wire.Resealed, error) {
				return svc.RotateKey(ctx)
			}, func(r wire.Resealed) {
				fmt.Fprintf(a.out, "%d secrets are sealed with a new key; copies of the old vault-key file open nothing any more\n", r.Secrets)
				if r.OldKeyKept {
					fmt.Fprintln(a.out, "runs are under way, so the old key is still known; run this again when they are over")
				}
			}))
}
