// Package users is what the service does with users: their passwords, sessions and tokens.
//
// Passwords are kept as argon2id hashes (RFC 9106), sessions and tokens as SHA-256 of long random texts.
package users

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"

	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// SessionTime is how long a log-in lasts.
const SessionTime = 14 * 24 * time.Hour

const tokenPrefix = "nst_"

// ErrPassword says that a name or a password is wrong, and not which.
var ErrPassword = errors.New("name or password is wrong")

// ErrSlowDown says that passwords were tried too quickly; see SlowDownError.
var ErrSlowDown = errors.New("too many wrong passwords")

// SlowDownError says for whom passwords were tried too quickly, and how long the next try must wait.
type SlowDownError struct {
	Name string
	Wait time.Duration
}

func (e *SlowDownError) Error() string {
	return fmt.Sprintf("too many wrong passwords for %s; try again in %d seconds", e.Name, int(e.Wait.Seconds())+1)
}

func (e *SlowDownError) Unwrap() error { return ErrSlowDown }

// Users is the users of the records.
type Users struct {
	DB *records.DB

	slow      slowdown // by whom and from where
	addresses slowdown // by from where
}

// perAddress is how many passwords may be wrong from one address before it has to wait: people of one office are behind one.
const perAddress = 40

// NewSecret makes a token or session, and the hash of it that is kept.
func NewSecret() (secret string, hash []byte) {
	secret = tokenPrefix + rand.Text() + rand.Text()
	return secret, HashSecret(secret)
}

// HashSecret hashes a token or session. They are long and random, so one round is enough.
func HashSecret(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// HashPassword hashes a password with argon2id (RFC 9106).
func HashPassword(password string) (string, error) {
	return argon2id.CreateHash(password, &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32})
}

// burn is compared when there is no such user, so that both cases take as long.
var burn = sync.OnceValue(func() string { h, _ := HashPassword(rand.Text()); return h })

// Origin is where a log-in comes from.
type Origin struct {
	Address string // of the other side
	Browser string // the secret that a log-in before gave this browser; "" for none
}

// LoggedIn is a log-in that was right.
type LoggedIn struct {
	Session string
	Browser string // that the browser keeps for the next log-in
	User    records.User
}

// Login begins a session. Wrong passwords are counted by address and name, and by address: whoever tries those of somebody elsewhere does
// not keep them out, nor anybody from a browser in which they have logged in before. That the records do not answer is no wrong password,
// and does not count as one. Errors: ErrPassword, *SlowDownError.
func (svc *Users) Login(ctx context.Context, name, password string, from Origin) (in LoggedIn, err error) {
	u, err := svc.DB.User(ctx, name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return in, err
	}
	known := false
	if err == nil && from.Browser != "" {
		var lookErr error
		if known, lookErr = svc.DB.IsKnownBrowser(ctx, u.ID, HashSecret(from.Browser)); lookErr != nil {
			return in, lookErr
		}
	}
	key := from.Address + " " + name
	if known {
		key = "browser " + from.Browser + " " + name
	} else if wait := svc.addresses.begin(from.Address, perAddress); wait > 0 {
		return in, &SlowDownError{"many names", wait}
	}
	if wait := svc.slow.begin(key, freeTries); wait > 0 {
		return in, &SlowDownError{name, wait}
	}
	hash := u.PasswordHash
	if err != nil {
		hash = burn()
	}
	if !svc.slow.compare(ctx, password, hash) || err != nil {
		return in, ErrPassword
	}
	svc.slow.right(key)
	if !known {
		svc.addresses.right(from.Address)
		from.Browser, _ = NewSecret()
	}
	session, sum := NewSecret()
	err = errors.Join(svc.DB.AddSession(ctx, u.ID, sum, time.Now().Add(SessionTime)), svc.DB.KnowBrowser(ctx, u.ID, HashSecret(from.Browser)))
	return LoggedIn{session, from.Browser, u}, err
}

// Logout ends a session.
func (svc *Users) Logout(ctx context.Context, session string) error {
	return svc.DB.EndSession(ctx, HashSecret(session))
}

// OfToken returns whose token this is. Errors: records.ErrNotFound.
func (svc *Users) OfToken(ctx context.Context, token string) (records.User, error) {
	return svc.DB.UserOfToken(ctx, HashSecret(token))
}

// OfSession returns whose session this is. Errors: records.ErrNotFound.
func (svc *Users) OfSession(ctx context.Context, session string) (records.User, error) {
	return svc.DB.UserOfSession(ctx, HashSecret(session))
}

// Add adds a user. Errors: records.ErrTaken.
func (svc *Users) Add(ctx context.Context, who, name, role, password string) (records.User, error) {
	hash, err := HashPassword(password)
	if err != nil {
		return records.User{}, err
	}
	u, err := svc.DB.AddUser(ctx, name, role, hash)
	if err != nil {
		return u, err
	}
	return u, svc.DB.Audit(ctx, who, "added user "+u.Name+" as "+u.Role)
}

// Remove removes a user who is not the one who asks. Errors: input.ErrWrong, records.ErrNotFound.
func (svc *Users) Remove(ctx context.Context, who, name string) error {
	if name == who {
		return input.Wrongf("nobody can remove themselves; let another owner do it")
	}
	if err := svc.DB.RemoveUser(ctx, name); err != nil {
		return err
	}
	return svc.DB.Audit(ctx, who, "removed user "+name)
}

// SetPassword changes a password. Whoever changes their own gives the old one. Errors: input.ErrWrong,
// *SlowDownError, records.ErrNotFound.
func (svc *Users) SetPassword(ctx context.Context, who records.User, name, old, password string) error {
	if name == who.Name {
		if wait := svc.slow.begin("own "+name, freeTries); wait > 0 {
			return &SlowDownError{name, wait}
		}
		if !svc.slow.compare(ctx, old, who.PasswordHash) {
			return input.Wrongf("the old password is not the one you have now")
		}
		svc.slow.right("own " + name)
	}
	hash, err := HashPassword(password)
	if err != nil {
		return err
	}
	if err := svc.DB.SetPassword(ctx, name, hash); err != nil {
		return err
	}
	return svc.DB.Audit(ctx, who.Name, "changed the password of "+name)
}

// AddToken makes a token for a user, which works for so many days; with 0, for ever.
func (svc *Users) AddToken(ctx context.Context, who records.User, name string, days int) (token string, err error) {
	token, hash := NewSecret()
	var expires *time.Time
	if days > 0 {
		at := time.Now().Add(time.Duration(days) * 24 * time.Hour)
		expires = &at
	}
	if err := svc.DB.AddToken(ctx, who.ID, name, hash, expires); err != nil {
		return "", err
	}
	return token, svc.DB.Audit(ctx, who.Name, "made token "+name)
}

// RemoveToken removes a token of a user. Errors: records.ErrNotFound.
func (svc *Users) RemoveToken(ctx context.Context, who records.User, name string) error {
	if err := svc.DB.RemoveToken(ctx, who.ID, name); err != nil {
		return err
	}
	return svc.DB.Audit(ctx, who.Name, "removed token "+name)
}

// First makes the first owner, with a password and a token, unless there is a user. keep gets the token before the user is
// there, so that none is made whose token is lost. With nothing made, password is "".
func (svc *Users) First(ctx context.Context, keep func(token string) error) (password string, err error) {
	all, err := svc.DB.Users(ctx)
	if err != nil || len(all) > 0 {
		return "", err
	}
	password = firstPassword()
	hash, err := HashPassword(password)
	if err != nil {
		return "", err
	}
	token, sum := NewSecret()
	if err := keep(token); err != nil {
		return "", err
	}
	u, err := svc.DB.AddUser(ctx, "owner", "owner", hash)
	if err != nil {
		return "", err
	}
	return password, svc.DB.AddToken(ctx, u.ID, "owner-token", sum, nil)
}
