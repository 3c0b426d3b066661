// Package vault keeps secrets: sealed with one key, tied to the record they belong to, opened on request.
//
// The key comes from NESTSEED_VAULT_KEY or from a file that only the service can read. What is stored is
// AES-256-GCM (NIST SP 800-38D) made by Tink, with the record's noun, name and the secret's name as
// associated data: a sealed value moved to another record does not open.
//
//	err := v.Put(ctx, "site", "alder-valley", "administrator", password)
//	password, err := v.Get(ctx, "site", "alder-valley", "administrator")
//
// Get is for the service's own work. Reveal is for people, and writes to the audit log first.
package vault

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"

	"nestseed/internal/service/records"
)

// Vault seals and opens secrets.
type Vault struct {
	db   *records.DB
	file string // where the key is; "" when it came from the environment

	mu     sync.RWMutex // held for writing while the key changes
	key    tink.AEAD
	handle *keyset.Handle
	rotate sync.Mutex
}

// ErrKey says that the key does not open what is in the vault.
var ErrKey = errors.New("the vault's key does not open this secret; was the key file or NESTSEED_VAULT_KEY changed?")

// ErrForgotten says so of what was sealed outside of the vault, like the values that a run was begun with.
var ErrForgotten = errors.New("what was given then was sealed with a key that the vault has no more; begin it anew, and give it again")

// Open reads the key: from text (base64 of a Tink keyset) unless that is empty, else from the file,
// which is made the first time.
func Open(db *records.DB, text, file string) (*Vault, error) {
	raw := []byte(nil)
	if text != "" {
		b, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return nil, errors.New("NESTSEED_VAULT_KEY is not base64 of a key; copy the content of a vault-key file, encoded with base64 -w0")
		}
		raw, file = b, ""
	} else {
		b, err := os.ReadFile(file)
		if errors.Is(err, os.ErrNotExist) {
			b, err = newKey(file)
		}
		if err != nil {
			return nil, fmt.Errorf("key of the vault: %w", err)
		}
		raw = b
	}
	handle, err := insecurecleartextkeyset.Read(keyset.NewJSONReader(bytes.NewReader(raw)))
	if err != nil {
		return nil, fmt.Errorf("key of the vault: %w", err)
	}
	key, err := aead.New(handle)
	if err != nil {
		return nil, err
	}
	return &Vault{db: db, file: file, key: key, handle: handle}, nil
}

func newKey(file string) ([]byte, error) {
	handle, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
	if err != nil {
		return nil, err
	}
	return writeKey(handle, file)
}

// writeKey puts a key in the place of the one in the file: whole, or not at all.
func writeKey(handle *keyset.Handle, file string) ([]byte, error) {
	var out bytes.Buffer
	if err := insecurecleartextkeyset.Write(handle, keyset.NewJSONWriter(&out)); err != nil {
		return nil, err
	}
	fresh, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".new-*") // made with mode 0600
	if err != nil {
		return nil, err
	}
	defer os.Remove(fresh.Name())
	_, err = fresh.Write(out.Bytes())
	if err = errors.Join(err, fresh.Sync(), fresh.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), os.Rename(fresh.Name(), file)
}

// ErrNotHere says that the key is not the service's to change.
var ErrNotHere = errors.New("the vault's key comes from NESTSEED_VAULT_KEY; put it into the file vault-key and unset the variable to " +
	"have it rotated")

// RotateKey makes a new key and seals every secret with it; the old one is then forgotten, unless keepOld says that
// texts sealed with it are still to be opened (see Seal). Interrupted at any moment, every secret still opens, and
// calling it again completes the work. It returns how many secrets were sealed again. Errors: ErrNotHere, ErrKey.
func (v *Vault) RotateKey(ctx context.Context, keepOld bool) (n int, err error) {
	v.rotate.Lock()
	defer v.rotate.Unlock()
	if v.file == "" {
		return 0, ErrNotHere
	}
	manager := keyset.NewManagerFromHandle(v.handle)
	id, err := manager.Add(aead.AES256GCMKeyTemplate())
	if err == nil {
		err = manager.SetPrimary(id)
	}
	if err != nil {
		return 0, err
	}
	// The file knows both keys before anything is sealed with the new one.
	if err := v.use(manager); err != nil {
		return 0, err
	}
	secrets, err := v.db.Secrets(ctx)
	if err != nil {
		return 0, err
	}
	for _, s := range secrets {
		tied := tie(s.Noun, s.Owner, s.Name)
		plain, err := v.key.Decrypt(s.Sealed, tied)
		if err != nil {
			return n, fmt.Errorf("%s of %s %s: %w", s.Name, s.Noun, s.Owner, ErrKey)
		}
		sealed, err := v.key.Encrypt(plain, tied)
		if err != nil {
			return n, err
		}
		if err := v.db.ResealSecret(ctx, s, sealed); err != nil {
			return n, err
		}
		n++
	}
	if keepOld {
		return n, nil
	}
	for _, k := range v.handle.KeysetInfo().GetKeyInfo() {
		if k.GetKeyId() != id {
			if err := manager.Delete(k.GetKeyId()); err != nil {
				return n, err
			}
		}
	}
	return n, v.use(manager)
}

// use writes a key and works with it from then on.
func (v *Vault) use(manager *keyset.Manager) error {
	handle, err := manager.Handle()
	if err != nil {
		return err
	}
	key, err := aead.New(handle)
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if _, err := writeKey(handle, v.file); err != nil {
		return err
	}
	v.key, v.handle = key, handle
	return nil
}

func tie(noun, owner, name string) []byte { return []byte(noun + "\x00" + owner + "\x00" + name) }

// Put seals a secret.
func (v *Vault) Put(ctx context.Context, noun, owner, name, secret string) error {
	v.mu.RLock()
	defer v.mu.RUnlock()
	sealed, err := v.key.Encrypt([]byte(secret), tie(noun, owner, name))
	if err != nil {
		return err
	}
	return v.db.PutSecret(ctx, noun, owner, name, sealed)
}

// Get opens a secret, or returns the one that is tried in this context. Errors: records.ErrNotFound, ErrKey.
func (v *Vault) Get(ctx context.Context, noun, owner, name string) (string, error) {
	if tried, is := ctx.Value(tryKey{noun, owner, name}).(string); is {
		return tried, nil
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	s, err := v.db.Secret(ctx, noun, owner, name)
	if err != nil {
		return "", err
	}
	plain, err := v.key.Decrypt(s.Sealed, tie(noun, owner, name))
	if err != nil {
		return "", ErrKey
	}
	return string(plain), nil
}

type tryKey struct{ noun, owner, name string }

// Trying returns a context in which a secret is one that is tried, for whoever asks in it and for nobody else: the one that works stays
// in its place until Keep. "" tries the one that is there.
func Trying(ctx context.Context, noun, owner, name, secret string) context.Context {
	if secret == "" {
		return ctx
	}
	return context.WithValue(ctx, tryKey{noun, owner, name}, secret)
}

// Keep seals several secrets of a record; those that are "" stay as they are.
func (v *Vault) Keep(ctx context.Context, noun, owner string, secrets map[string]string) error {
	for name, secret := range secrets {
		if secret == "" {
			continue
		}
		if err := v.Put(ctx, noun, owner, name, secret); err != nil {
			return err
		}
	}
	return nil
}

// Reveal opens a secret for a person, and records that first.
func (v *Vault) Reveal(ctx context.Context, who, noun, owner, name string) (string, error) {
	if _, err := v.db.Secret(ctx, noun, owner, name); err != nil {
		return "", err
	}
	if err := v.db.Audit(ctx, who, fmt.Sprintf("revealed %s of %s %s", name, noun, owner)); err != nil {
		return "", err
	}
	return v.Get(ctx, noun, owner, name)
}

// Seal seals a text that is kept outside the vault, tied to a purpose.
func (v *Vault) Seal(purpose, text string) (string, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	sealed, err := v.key.Encrypt([]byte(text), []byte(purpose))
	return base64.StdEncoding.EncodeToString(sealed), err
}

// Unseal opens what Seal sealed for the same purpose. Errors: ErrForgotten.
func (v *Vault) Unseal(purpose, sealed string) (string, error) {
	raw, err := base64.StdEncoding.DecodeString(sealed)
	if err != nil {
		return "", ErrForgotten
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	plain, err := v.key.Decrypt(raw, []byte(purpose))
	if err != nil {
		return "", ErrForgotten
	}
	return string(plain), nil
}
