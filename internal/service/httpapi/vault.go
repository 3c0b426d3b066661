package httpapi

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/vault"
	"nestseed/internal/wire"
)

func (a *api) vaultOperations(h huma.API) {
	operation(h, "GET", "/vault", "list-vault", "List secrets by name", func(ctx context.Context, _ *nothing) (*body[[]wire.Secret], error) {
		secrets, err := a.db.Secrets(ctx)
		return list(secrets, err, func(s records.Secret) wire.Secret {
			return wire.Secret{Noun: s.Noun, Owner: s.Owner, Name: s.Name, CreatedAt: s.CreatedAt}
		})
	})
	operation(h, "POST", "/vault/reveal", "reveal", "Reveal a secret; this is recorded",
		func(ctx context.Context, in *Put[wire.Reveal]) (*body[wire.Revealed], error) {
			// The account of a host can do anything to every site on it.
			if in.Body.Noun == "host" {
				if err := owner(ctx); err != nil {
					return nil, err
				}
			}
			secret, err := a.Vault.Reveal(ctx, who(ctx).Name, in.Body.Noun, in.Body.Owner, in.Body.Name)
			return &body[wire.Revealed]{wire.Revealed{Secret: secret}}, err
		})
	operation(h, "POST", "/vault/rotate-key", "rotate-key", "Seal every secret with a new key",
		func(ctx context.Context, _ *nothing) (*body[wire.Resealed], error) {
			if err := owner(ctx); err != nil {
				return nil, err
			}
			c, err := a.db.Counts(ctx)
			if err != nil {
				return nil, err
			}
			if err := a.db.Audit(ctx, who(ctx).Name, "rotated the key of the vault"); err != nil {
				return nil, err
			}
			// Runs that wait may have values sealed with the old key.
			n, err := a.Vault.RotateKey(ctx, c.Working > 0)
			if errors.Is(err, vault.ErrNotHere) {
				err = input.Wrong(err)
			}
			return &body[wire.Resealed]{wire.Resealed{Secrets: n, OldKeyKept: c.Working > 0}}, err
		})
	operation(h, "GET", "/audit", "audit-log", "Who did what", func(ctx context.Context, _ *nothing) (*body[[]wire.AuditEntry], error) {
		entries, err := a.db.AuditLog(ctx, 200)
		return list(entries, err, func(e records.AuditEntry) wire.AuditEntry { return wire.AuditEntry(e) })
	})
}
