// Package clients is what the service does with clients: who they are, and the settings that their sites have.
package clients

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/media"
	"nestseed/internal/core/packing"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/vault"
)

// ErrKey says that something is no name of a setting.
var ErrKey = errors.New("is not a name of a setting; use small letters, digits, _ and -")

var settingKey = regexp.MustCompile(`^[a-z0-9][a-z0-9_.-]*$`)

// IsKey reports whether something is a name of a setting.
func IsKey(key string) bool { return settingKey.MatchString(key) }

// Clients is the clients of the records.
type Clients struct {
	DB     *records.DB
	Vault  *vault.Vault
	Engine *engine.Engine
}

// Add adds a client with settings. Errors: ErrKey, records.ErrTaken.
func (svc *Clients) Add(ctx context.Context, name string, settings map[string]string) error {
	if err := checkKeys(settings); err != nil {
		return err
	}
	return svc.DB.Tx(ctx, func(ctx context.Context) error {
		if _, err := svc.DB.AddClient(ctx, name); err != nil {
			return err
		}
		return svc.set(ctx, name, settings, nil)
	})
}

func checkKeys(settings map[string]string) error {
	for key := range settings {
		if !IsKey(key) {
			return fmt.Errorf("%q %w", key, ErrKey)
		}
	}
	return nil
}

// Set sets settings of a client; one that is "" is removed. Those that are secret, by their names or because it is said, go
// into the vault. Errors: ErrKey, before anything is changed; engine.ErrBusy.
func (svc *Clients) Set(ctx context.Context, name string, settings map[string]string, secret []string) error {
	if err := checkKeys(settings); err != nil {
		return err
	}
	return svc.Engine.WithLock(ctx, engine.Target("client", name), func(ctx context.Context) error {
		return svc.DB.Tx(ctx, func(ctx context.Context) error { return svc.set(ctx, name, settings, secret) })
	})
}

// set is Set for whoever has the lock, in a transaction.
func (svc *Clients) set(ctx context.Context, name string, settings map[string]string, secret []string) error {
	plain := map[string]records.Setting{}
	var gone []string
	for key, v := range settings {
		switch {
		case v == "":
			gone = append(gone, key)
		case slices.Contains(secret, key) || kind.SecretName(key):
			if err := svc.Vault.Put(ctx, "client", name, key, v); err != nil {
				return err
			}
			plain[key] = records.Setting{Secret: true}
		default:
			plain[key] = records.Setting{Value: v}
		}
	}
	if len(gone) > 0 {
		if err := svc.DB.RemoveSecrets(ctx, "client", name, gone...); err != nil {
			return err
		}
	}
	return svc.DB.SetSettings(ctx, name, plain, append(gone, ""))
}

// Remove removes a client without sites, and its secrets. Errors: records.ErrInUse, records.ErrNotFound, engine.ErrBusy.
func (svc *Clients) Remove(ctx context.Context, name string) error {
	return svc.Engine.WithLock(ctx, engine.Target("client", name), func(ctx context.Context) error {
		return svc.DB.Tx(ctx, func(ctx context.Context) error {
			if err := svc.DB.RemoveClient(ctx, name); err != nil {
				return err
			}
			return svc.DB.RemoveSecrets(ctx, "client", name)
		})
	})
}

// AddFile keeps a picture or a file for a client, and returns what a setting names it by (see packing.FileOf). Errors: media.ErrRefused,
// records.ErrNotFound, engine.ErrBusy.
func (svc *Clients) AddFile(ctx context.Context, client, name string, content []byte) (value string, f *media.File, err error) {
	if f, err = media.Read(name, content); err != nil {
		return "", nil, err
	}
	sum := sha256.Sum256(content)
	file := records.ClientFile{SHA256: hex.EncodeToString(sum[:]), Name: f.Name, Content: content}
	err = svc.Engine.WithLock(ctx, engine.Target("client", client), func(ctx context.Context) error {
		return svc.DB.AddClientFile(ctx, client, file)
	})
	return packing.FileOf(file.SHA256, f.Name), f, err
}
