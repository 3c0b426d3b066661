package httpapi

import (
	"context"
	"errors"
	"regexp"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/kind"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func clientOut(c records.Client) wire.Client {
	return wire.Client{Name: c.Name, Settings: as[map[string]wire.Setting](c.Settings), Sites: c.Sites, CreatedAt: c.CreatedAt}
}

var settingKey = regexp.MustCompile(`^[a-z0-9][a-z0-9_.-]*$`)

func (a *api) setSettings(ctx context.Context, name string, in wire.Settings) error {
	plain := map[string]records.Setting{}
	var gone []string
	for key, v := range in.Settings {
		if !settingKey.MatchString(key) {
			return wrong(errors.New(`"` + key + `" is not a name of a setting; use small letters, digits, _ and -`))
		}
		secret := slices.Contains(in.Secret, key) || kind.SecretName(key)
		switch {
		case v == "":
			gone = append(gone, key)
		case secret:
			if err := a.Vault.Put(ctx, "client", name, key, v); err != nil {
				return err
			}
			plain[key] = records.Setting{Secret: true}
		default:
			plain[key] = records.Setting{Value: v}
		}
	}
	if len(gone) > 0 {
		if err := a.db.RemoveSecrets(ctx, "client", name, gone...); err != nil {
			return err
		}
	}
	return a.db.SetSettings(ctx, name, plain, append(gone, ""))
}

func (a *api) clientOperations(h huma.API) {
	show := func(ctx context.Context, in *Named) (*body[wire.Client], error) {
		c, err := a.db.Client(ctx, in.Name)
		return single(c, err, clientOut)
	}
	operation(h, "GET", "/clients", "list-clients", "List clients", func(ctx context.Context, _ *nothing) (*body[[]wire.Client], error) {
		clients, err := a.db.Clients(ctx)
		return list(clients, err, clientOut)
	})
	operation(h, "GET", "/clients/{name}", "show-client", "Show a client; secrets are not shown", show)
	operation(h, "POST", "/clients", "add-client", "Add a client",
		func(ctx context.Context, in *Put[wire.NewClient]) (*body[wire.Client], error) {
			if _, err := a.db.AddClient(ctx, in.Body.Name); err != nil {
				return nil, err
			}
			if err := a.setSettings(ctx, in.Body.Name, wire.Settings{Settings: in.Body.Settings}); err != nil {
				return nil, errors.Join(err, a.db.RemoveClient(ctx, in.Body.Name), a.db.RemoveSecrets(ctx, "client", in.Body.Name))
			}
			return show(ctx, &Named{in.Body.Name})
		})
	operation(h, "PATCH", "/clients/{name}/settings", "set-client", "Set settings of a client", func(ctx context.Context, in *struct {
		Named
		Put[wire.Settings]
	}) (*body[wire.Client], error) {
		if _, err := a.db.Client(ctx, in.Name); err != nil {
			return nil, err
		}
		if err := a.setSettings(ctx, in.Name, in.Body); err != nil {
			return nil, err
		}
		return show(ctx, &in.Named)
	})
	operation(h, "DELETE", "/clients/{name}", "remove-client", "Remove a client without sites",
		func(ctx context.Context, in *Named) (*nothing, error) {
			if err := a.db.RemoveClient(ctx, in.Name); err != nil {
				return nil, err
			}
			return nil, a.db.RemoveSecrets(ctx, "client", in.Name)
		})
}
