package httpapi

import (
	"context"
	"errors"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nestseed/internal/service/records"
	"nestseed/internal/service/users"
	"nestseed/internal/wire"
)

const sessionCookie = "nestseed_session"

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
		c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), addressKey{}, addressOf(c.Request)))
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
		return a.Users.OfToken(c, token)
	}
	cookie, err := c.Cookie(sessionCookie)
	if err != nil || cookie == "" {
		return records.User{}, records.ErrNotFound
	}
	// A cookie is sent along by itself, so writes with it must come from our own pages.
	if err := crossOrigin.Check(c.Request); err != nil {
		return records.User{}, errForbidden
	}
	return a.Users.OfSession(c, cookie)
}

type sessionAnswer struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      wire.Me
}

func cookie(value string, age time.Duration) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: int(age.Seconds()), Secure: true, HttpOnly: true,
		SameSite: http.SameSiteStrictMode}
}

// browserCookie tells a browser in which somebody has logged in before. It is sent to the log-in alone, and lets nobody in.
const browserCookie = "nestseed_browser"

func (a *api) login(ctx context.Context, in *struct {
	Put[wire.Credentials]
	Browser string `cookie:"nestseed_browser"`
}) (*sessionAnswer, error) {
	from, _ := ctx.Value(addressKey{}).(string)
	got, err := a.Users.Login(ctx, in.Body.Name, in.Body.Password, users.Origin{Address: from, Browser: in.Browser})
	if err != nil {
		return nil, err
	}
	known := cookie(got.Browser, 180*24*time.Hour)
	known.Name, known.Path = browserCookie, "/api/v1/login"
	return &sessionAnswer{[]http.Cookie{cookie(got.Session, users.SessionTime), known}, wire.Me{Name: got.User.Name, Role: got.User.Role}}, nil
}

type addressKey struct{}

// addressOf is where a request comes from. What a proxy on this machine says of it is believed (X-Forwarded-For, its last entry).
func addressOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() {
		told := r.Header.Get("X-Forwarded-For")
		if last := strings.TrimSpace(told[strings.LastIndex(told, ",")+1:]); net.ParseIP(last) != nil {
			host = last
		}
	}
	if ip := net.ParseIP(host); ip != nil && ip.To4() == nil { // whoever has one has all of its network
		host = ip.Mask(net.CIDRMask(64, 128)).String()
	}
	return host
}

func (a *api) logout(ctx context.Context, in *struct {
	Session string `cookie:"nestseed_session"`
}) (*sessionAnswer, error) {
	u := who(ctx)
	return &sessionAnswer{[]http.Cookie{cookie("", -time.Second)}, wire.Me{Name: u.Name, Role: u.Role}}, a.Users.Logout(ctx, in.Session)
}

func owner(ctx context.Context) error {
	if who(ctx).Role != "owner" {
		return errForbidden
	}
	return nil
}

// builder refuses whoever may only look: it looks into what a host has, which is work for that and may be private.
func builder(ctx context.Context) error {
	if who(ctx).Role == "viewer" {
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
		u, err := a.Users.Add(ctx, who(ctx).Name, in.Body.Name, in.Body.Role, in.Body.Password)
		return single(u, err, func(u records.User) wire.User { return wire.User{Name: u.Name, Role: u.Role, CreatedAt: u.CreatedAt} })
	})
	operation(h, "DELETE", "/users/{name}", "remove-user", "Remove a user", func(ctx context.Context, in *Named) (*nothing, error) {
		if err := owner(ctx); err != nil {
			return nil, err
		}
		return nil, a.Users.Remove(ctx, who(ctx).Name, in.Name)
	})
	operation(h, "GET", "/tokens", "list-tokens", "List one's own tokens",
		func(ctx context.Context, _ *nothing) (*body[[]wire.TokenName], error) {
			tokens, err := a.db.Tokens(ctx, who(ctx).ID)
			return list(tokens, err, func(t records.Token) wire.TokenName { return wire.TokenName(t) })
		})
	operation(h, "DELETE", "/tokens/{name}", "remove-token", "Remove a token of one's own",
		func(ctx context.Context, in *Named) (*nothing, error) {
			return nil, a.Users.RemoveToken(ctx, who(ctx), in.Name)
		})
	operation(h, "PUT", "/users/{name}/password", "set-password", "Change a password; who is logged in with the old one is logged out",
		a.setPassword)
	operation(h, "POST", "/tokens", "add-token", "Make a token for oneself",
		func(ctx context.Context, in *Put[wire.NewToken]) (*body[wire.Token], error) {
			token, err := a.Users.AddToken(ctx, who(ctx), in.Body.Name, in.Body.Days)
			return &body[wire.Token]{wire.Token{Token: token}}, err
		})
}

// setPassword changes one's own password, which takes the old one, or as an owner somebody else's.
func (a *api) setPassword(ctx context.Context, in *struct {
	Named
	Put[wire.NewPassword]
}) (*nothing, error) {
	if in.Name != who(ctx).Name {
		if err := owner(ctx); err != nil {
			return nil, err
		}
	}
	return nil, a.Users.SetPassword(ctx, who(ctx), in.Name, in.Body.Old, in.Body.New)
}
