package httpapi

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

const (
	sessionCookie = "nestseed_session"
	sessionTime   = 14 * 24 * time.Hour
	tokenPrefix   = "nst_"
)

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

type userKey struct{}

// who returns the user a request was made by.
func who(ctx context.Context) records.User {
	u, _ := ctx.Value(userKey{}).(records.User)
	return u
}

var crossOrigin = http.NewCrossOriginProtection()

// authenticate lets a request pass that has a token or a session whose role allows it.
func (a *api) authenticate(c *gin.Context) {
	if c.FullPath() == "/api/v1/login" || c.FullPath() == openHandoverPath {
		if err := crossOrigin.Check(c.Request); err != nil {
			refuse(c, http.StatusForbidden, "cross-origin", "this came from another site's page")
		}
		return
	}
	u, err := a.userOf(c)
	if errors.Is(err, records.ErrNotFound) {
		refuse(c, http.StatusUnauthorized, "not-logged-in", "log in first, or send a token: Authorization: Bearer …")
		return
	}
	if err != nil {
		refuseError(c, err)
		return
	}
	reading := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	own := strings.HasSuffix(c.FullPath(), "/logout") || strings.HasSuffix(c.FullPath(), "/users/:name/password")
	if u.Role == "viewer" && !reading && !own {
		refuse(c, http.StatusForbidden, "forbidden", errForbidden.Error())
		return
	}
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), userKey{}, u))
}

func (a *api) userOf(c *gin.Context) (records.User, error) {
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		return a.db.UserOfToken(c, HashSecret(token))
	}
	cookie, err := c.Cookie(sessionCookie)
	if err != nil || cookie == "" {
		return records.User{}, records.ErrNotFound
	}
	// A cookie is sent along by itself, so writes with it must come from our own pages.
	if err := crossOrigin.Check(c.Request); err != nil {
		return records.User{}, errForbidden
	}
	return a.db.UserOfSession(c, HashSecret(cookie))
}

// slowdown makes guessing passwords slow: after a few wrong ones, each further one must wait twice as long.
type slowdown struct {
	mu    sync.Mutex
	tries map[string]*tries
	hash  chan struct{} // a place for each password that is being hashed
}

type tries struct {
	wrong int
	until time.Time
}

const (
	freeTries = 4
	maxWait   = time.Minute
	maxTries  = 10_000 // names that are remembered
	hashers   = 2      // passwords that are hashed at a time: each takes 19 MiB
)

func newSlowdown() *slowdown {
	return &slowdown{tries: map[string]*tries{}, hash: make(chan struct{}, hashers)}
}

// begin counts a try before its outcome is known, so that many at once are not free, or returns how long the key must wait
// before its next.
func (s *slowdown) begin(key string) (wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.tries[key]; t != nil {
		if wait := time.Until(t.until); wait > 0 {
			return wait
		}
	}
	if len(s.tries) >= maxTries && s.tries[key] == nil {
		now := time.Now()
		maps.DeleteFunc(s.tries, func(_ string, t *tries) bool { return t.until.Before(now) })
		if len(s.tries) >= maxTries {
			return time.Second // bounded memory under a flood
		}
	}
	t := s.tries[key]
	if t == nil {
		t = &tries{}
		s.tries[key] = t
	}
	if t.wrong++; t.wrong > freeTries {
		t.until = time.Now().Add(min(maxWait, time.Second<<min(t.wrong-freeTries-1, 10)))
	}
	return 0
}

// right forgets the tries of a key whose password was right.
func (s *slowdown) right(key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.tries, key)
}

// compare reports whether a password is the one of a hash. Few are compared at a time.
func (s *slowdown) compare(ctx context.Context, password, hash string) bool {
	select {
	case s.hash <- struct{}{}:
	case <-ctx.Done():
		return false
	}
	defer func() { <-s.hash }()
	right, err := argon2id.ComparePasswordAndHash(password, hash)
	return right && err == nil
}

type sessionAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      wire.Me
}

func cookie(value string, age time.Duration) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: int(age.Seconds()), Secure: true, HttpOnly: true,
		SameSite: http.SameSiteStrictMode}
}

// burn is checked when there is no such user, so that both cases take as long.
var burn = sync.OnceValue(func() string { h, _ := HashPassword(rand.Text()); return h })

func (a *api) login(ctx context.Context, in *Put[wire.Credentials]) (*sessionAnswer, error) {
	key := in.Body.Name
	if left := a.slow.begin(key); left > 0 {
		return nil, &huma.ErrorModel{Status: http.StatusTooManyRequests, Type: problemPrefix + "slow-down", Title: "Too Many Requests",
			Detail: fmt.Sprintf("too many wrong passwords for %s; try again in %d seconds", key, int(left.Seconds())+1)}
	}
	u, err := a.db.User(ctx, key)
	hash := u.PasswordHash
	if err != nil {
		hash = burn()
	}
	if !a.slow.compare(ctx, in.Body.Password, hash) || err != nil {
		return nil, &huma.ErrorModel{Status: http.StatusUnauthorized, Type: problemPrefix + "wrong-password", Title: "Unauthorized",
			Detail: "name or password is wrong"}
	}
	a.slow.right(key)
	secret, sum := NewSecret()
	if err := a.db.AddSession(ctx, u.ID, sum, time.Now().Add(sessionTime)); err != nil {
		return nil, err
	}
	return &sessionAnswer{cookie(secret, sessionTime), wire.Me{Name: u.Name, Role: u.Role}}, nil
}

func (a *api) logout(ctx context.Context, in *struct {
	Session string `cookie:"nestseed_session"`
}) (*sessionAnswer, error) {
	u := who(ctx)
	return &sessionAnswer{cookie("", -time.Second), wire.Me{Name: u.Name, Role: u.Role}}, a.db.EndSession(ctx, HashSecret(in.Session))
}

func owner(ctx context.Context) error {
	if who(ctx).Role != "owner" {
		return errForbidden
	}
	return nil
}

func (a *api) userOperations(h huma.API) {
	operation(h, "POST", "/login", "login", "Log in", a.login)
	operation(h, "POST", "/logout", "logout", "Log out", a.logout)
	operation(h, "GET", "/me", "me", "Who is asking", func(ctx context.Context, _ *nothing) (*body[wire.Me], error) {
		u := who(ctx)
		return &body[wire.Me]{wire.Me{Name: u.Name, Role: u.Role}}, nil
	})
	operation(h, "GET", "/users", "list-users", "List users", func(ctx context.Context, _ *nothing) (*body[[]wire.User], error) {
		users, err := a.db.Users(ctx)
		return list(users, err, func(u records.User) wire.User { return wire.User{Name: u.Name, Role: u.Role, CreatedAt: u.CreatedAt} })
	})
	operation(h, "POST", "/users", "add-user", "Add a user", func(ctx context.Context, in *Put[wire.NewUser]) (*body[wire.User], error) {
		if err := owner(ctx); err != nil {
			return nil, err
		}
		hash, err := HashPassword(in.Body.Password)
		if err != nil {
			return nil, err
		}
		u, err := a.db.AddUser(ctx, in.Body.Name, in.Body.Role, hash)
		if err == nil {
			err = a.db.Audit(ctx, who(ctx).Name, "added user "+u.Name+" as "+u.Role)
		}
		return single(u, err, func(u records.User) wire.User { return wire.User{Name: u.Name, Role: u.Role, CreatedAt: u.CreatedAt} })
	})
	operation(h, "DELETE", "/users/{name}", "remove-user", "Remove a user", func(ctx context.Context, in *Named) (*nothing, error) {
		if err := owner(ctx); err != nil {
			return nil, err
		}
		if in.Name == who(ctx).Name {
			return nil, wrong(errors.New("nobody can remove themselves; let another owner do it"))
		}
		return nil, errors.Join(a.db.RemoveUser(ctx, in.Name), a.db.Audit(ctx, who(ctx).Name, "removed user "+in.Name))
	})
	operation(h, "GET", "/tokens", "list-tokens", "List one's own tokens",
		func(ctx context.Context, _ *nothing) (*body[[]wire.TokenName], error) {
			tokens, err := a.db.Tokens(ctx, who(ctx).ID)
			return list(tokens, err, func(t records.Token) wire.TokenName { return wire.TokenName(t) })
		})
	operation(h, "DELETE", "/tokens/{name}", "remove-token", "Remove a token of one's own",
		func(ctx context.Context, in *Named) (*nothing, error) {
			if err := a.db.RemoveToken(ctx, who(ctx).ID, in.Name); err != nil {
				return nil, err
			}
			return nil, a.db.Audit(ctx, who(ctx).Name, "removed token "+in.Name)
		})
	operation(h, "PUT", "/users/{name}/password", "set-password", "Change a password; who is logged in with the old one is logged out",
		a.setPassword)
	operation(h, "POST", "/tokens", "add-token", "Make a token for oneself",
		func(ctx context.Context, in *Put[wire.NewToken]) (*body[wire.Token], error) {
			secret, hash := NewSecret()
			var expires *time.Time
			if in.Body.Days > 0 {
				at := time.Now().Add(time.Duration(in.Body.Days) * 24 * time.Hour)
				expires = &at
			}
			err := errors.Join(a.db.AddToken(ctx, who(ctx).ID, in.Body.Name, hash, expires), a.db.Audit(ctx, who(ctx).Name, "made token "+
				in.Body.Name))
			return &body[wire.Token]{wire.Token{Token: secret}}, err
		})
}

// setPassword changes one's own password, which takes the old one, or as an owner somebody else's.
func (a *api) setPassword(ctx context.Context, in *struct {
	Named
	Put[wire.NewPassword]
}) (*nothing, error) {
	me := who(ctx)
	if in.Name != me.Name {
		if err := owner(ctx); err != nil {
			return nil, err
		}
	} else {
		if left := a.slow.begin(me.Name); left > 0 {
			return nil, wrong(fmt.Errorf("too many wrong passwords; try again in %d seconds", int(left.Seconds())+1))
		}
		if !a.slow.compare(ctx, in.Body.Old, me.PasswordHash) {
			return nil, wrong(errors.New("the old password is not the one you have now"))
		}
		a.slow.right(me.Name)
	}
	hash, err := HashPassword(in.Body.New)
	if err == nil {
		err = a.db.SetPassword(ctx, in.Name, hash)
	}
	if err == nil {
		err = a.db.Audit(ctx, me.Name, "changed the password of "+in.Name)
	}
	return nil, err
}
