package archive

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"
)

// ErrKey says that a sealed archive does not open with the key or passphrase that was given.
var ErrKey = errors.New("the archive is sealed")

// MinPassphrase is the least length of a passphrase.
const MinPassphrase = 10

// Seal returns a writer that encrypts what is written, in the format of age (age-encryption.org/v1), for
// recipients (age1…) or for a passphrase. It must be closed.
func Seal(w io.Writer, recipients []string, passphrase string) (io.WriteCloser, error) {
	if passphrase != "" {
		if len(recipients) > 0 {
			return nil, errors.New("seal an archive for recipients or with a passphrase, not both; the format has either")
		}
		if len(passphrase) < MinPassphrase {
			return nil, fmt.Errorf("the passphrase is shorter than %d characters", MinPassphrase)
		}
		r, err := age.NewScryptRecipient(passphrase)
		if err != nil {
			return nil, err
		}
		return age.Encrypt(w, r)
	}
	if len(recipients) == 0 {
		return nil, errors.New("name a recipient (age1…) or a passphrase to seal the archive with")
	}
	to, err := age.ParseRecipients(strings.NewReader(strings.Join(recipients, "\n")))
	if err != nil {
		return nil, fmt.Errorf("recipients: %w; a recipient is written like age1…", err)
	}
	return age.Encrypt(w, to...)
}

// Unseal opens a sealed archive with an identity (AGE-SECRET-KEY-…) or a passphrase. What it returns is read by
// ranges, and only what is read is decrypted. Errors: ErrKey.
func Unseal(p Piece, key string) (Piece, error) {
	if key == "" {
		return Piece{}, fmt.Errorf("%w; give the key (AGE-SECRET-KEY-…) or the passphrase it was sealed with", ErrKey)
	}
	var identities []age.Identity
	if strings.Contains(key, "AGE-SECRET-KEY-") {
		var err error
		if identities, err = age.ParseIdentities(strings.NewReader(key)); err != nil {
			return Piece{}, fmt.Errorf("%w and the key cannot be read", ErrKey)
		}
	} else {
		id, err := age.NewScryptIdentity(strings.TrimRight(key, "\r\n"))
		if err != nil {
			return Piece{}, err
		}
		id.SetMaxWorkFactor(20)
		identities = []age.Identity{id}
	}
	r, size, err := age.DecryptReaderAt(p.R, p.SizeBytes, identities...)
	if errors.Is(err, age.ErrIncorrectIdentity) {
		return Piece{}, fmt.Errorf("%w and the key or passphrase is not the one it was sealed with", ErrKey)
	}
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return Piece{}, fmt.Errorf("%w and the key or passphrase is not the one it was sealed with", ErrKey)
	}
	if err != nil {
		return Piece{}, fmt.Errorf("%w: sealed archive: %v", ErrDamaged, err)
	}
	return Piece{strings.TrimSuffix(p.Name, ".age"), r, size}, nil
}

// OpenPieces opens an archive of a release from what was given: one file or its volumes, sealed or not. What is
// not ours is returned as it is, joined and unsealed, with ErrNotOurs.
func OpenPieces(pieces []Piece, key string) (*Archive, Piece, error) {
	if len(pieces) == 0 {
		return nil, Piece{}, fmt.Errorf("%w: nothing was given", ErrNotOurs)
	}
	one := pieces[0]
	if _, _, is := IsVolume(one.Name); is || len(pieces) > 1 {
		var err error
		if one, err = Join(pieces); err != nil {
			return nil, Piece{}, err
		}
	}
	if IsSealed(one.R) {
		var err error
		if one, err = Unseal(one, key); err != nil {
			return nil, one, err
		}
	}
	if !IsZip(one.R) {
		return nil, one, fmt.Errorf("%s: %w", one.Name, ErrNotOurs)
	}
	a, err := Open(one.R, one.SizeBytes)
	return a, one, err
}

// IsSealed reports whether a file begins like one that age has encrypted (age-encryption.org/v1).
func IsSealed(r io.ReaderAt) bool { return begins(r, "age-encryption.org/v1") }

// IsZip reports whether a file begins like a ZIP archive (APPNOTE 4.3.7, and 4.3.16 for an empty one).
func IsZip(r io.ReaderAt) bool { return begins(r, "PK\x03\x04") || begins(r, "PK\x05\x06") }

func begins(r io.ReaderAt, with string) bool {
	head := make([]byte, len(with))
	_, err := r.ReadAt(head, 0)
	return (err == nil || errors.Is(err, io.EOF)) && string(head) == with
}
