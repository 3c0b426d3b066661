// Package httpapi is the service's HTTP interface: Gin routes, one file per noun, described by OpenAPI.
//
// Operations are declared once, with huma, as typed functions; the document at /api/openapi.json, the
// validation of what comes in and the problem documents (RFC 9457) follow from the types. Gin carries
// what is not JSON: downloads with ranges, events, the console, health.
package httpapi

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/fetch"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/media"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/agency"
	"nestseed/internal/service/clients"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/input"
	"nestseed/internal/service/installs"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/sites"
	"nestseed/internal/service/sources"
	"nestseed/internal/service/starters"
	"nestseed/internal/service/users"
	"nestseed/internal/service/vault"
	"nestseed/internal/wire"
)

// Config is what the interface serves from.
type Config struct {
	DB       *records.DB
	Vault    *vault.Vault
	Kinds    *kinds.Kinds
	Installs *installs.Installs
	Engine   *engine.Engine
	Clients  *clients.Clients
	Hosts    *hosts.Hosts
	Sources  *sources.Sources
	Starters *starters.Starters
	Releases *releases.Releases
	Sites    *sites.Sites
	Users    *users.Users
	Agency   *agency.Agency
	Log      *slog.Logger
	Console  fs.FS
	Version  string
	Metrics  bool   // /metrics answers, to whoever asks
	Sample   string // a file that describes what somebody may begin with who has nothing yet; "" for none
}

type api struct {
	Config
	db       *records.DB
	archives *recent[*archive.Archive] // their directories are read once
	contents *recent[*contents.Contents]
}

// New returns the handler of everything the service answers.
func New(cfg Config) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.UseRawPath = true // a name in a path may be an address, whose slashes are escaped
	router.HandleMethodNotAllowed = true
	a := &api{Config: cfg, db: cfg.DB}
	a.archives = &recent[*archive.Archive]{most: 2, read: func(ctx context.Context, r records.Release) (*archive.Archive, error) {
		all, _, err := cfg.Releases.OpenArchive(ctx, r)
		return all, err
	}}
	a.contents = &recent[*contents.Contents]{most: 8, read: cfg.Releases.Contents} // a few megabytes each, for the largest
	router.Use(gin.CustomRecovery(a.recovered), headers, a.observe)
	group := router.Group("/api/v1", a.authenticate)
	described := a.describe(router, group)
	a.operations(described)
	a.streams(group)
	a.uploads(group)
	router.GET("/livez", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	router.GET("/readyz", a.ready)
	if cfg.Metrics {
		router.GET("/metrics", gin.WrapH(promhttp.Handler()))
	}
	router.NoRoute(a.console)
	return compressed(router)
}

// Description returns the OpenAPI document without a service behind it.
func Description(version string) ([]byte, error) {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	a := &api{Config: Config{Version: version}}
	d := a.describe(router, router.Group("/api/v1"))
	a.operations(d)
	return d.OpenAPI().MarshalJSON()
}

func (a *api) describe(router *gin.Engine, group *gin.RouterGroup) huma.API {
	cfg := huma.DefaultConfig("Nest Seed", a.Version)
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "", "", ""
	huma.DefaultArrayNullable = false
	cfg.CreateHooks = nil // no $schema links in answers
	cfg.Servers = []*huma.Server{{URL: "/api/v1"}}
	cfg.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", huma.DefaultSchemaNamer)
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	cfg.Security = []map[string][]string{{"token": {}}}
	described := humagin.NewWithGroup(router, group, cfg)
	router.GET("/api/openapi.json", func(c *gin.Context) {
		doc, err := described.OpenAPI().MarshalJSON()
		if err != nil {
			c.AbortWithStatus(http.StatusInternalServerError)
			return
		}
		c.Data(http.StatusOK, "application/openapi+json", doc)
	})
	return described
}

// operations declares every operation, noun by noun.
func (a *api) operations(h huma.API) {
	a.userOperations(h)
	a.agencyOperations(h)
	a.hostOperations(h)
	a.sampleOperations(h)
	a.dnsOperations(h)
	a.sourceOperations(h)
	a.kindOperations(h)
	a.installOperations(h)
	a.starterOperations(h)
	a.releaseOperations(h)
	a.importOperations(h)
	a.clientOperations(h)
	a.siteOperations(h)
	a.runOperations(h)
	a.vaultOperations(h)
	a.streamOperations(h)
}

// body is an answer with a JSON body.
type body[T any] struct {
	Body T
}

// Put is a request with a JSON body.
type Put[T any] struct {
	Body T
}

// Named is a request for one thing by its name.
type Named struct {
	Name string `path:"name"`
}

type nothing struct{}

// begun is the answer of what starts a run: 202, as the work is still to be done (RFC 9110, 15.3.3).
type begun struct{ Body wire.Run }

// operation declares one: its method and path, what it is called, and the function that does it.
func operation[I, O any](h huma.API, method, path, id, summary string, do func(context.Context, *I) (*O, error),
	more ...func(*huma.Operation)) {
	status := 0
	if _, is := any((*O)(nil)).(*begun); is {
		status = http.StatusAccepted
	}
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, DefaultStatus: status}
	for _, m := range more {
		m(&op)
	}
	huma.Register(h, op,
		func(ctx context.Context, in *I) (*O, error) {
			out, err := do(ctx, in)
			if p := problem(err); p != nil {
				noteCause(ctx, p, err)
				return out, p
			}
			return out, nil
		})
}

func list[R, T any](rows []R, err error, convert func(R) T) (*body[[]T], error) {
	out := &body[[]T]{Body: make([]T, 0, len(rows))}
	for _, r := range rows {
		out.Body = append(out.Body, convert(r))
	}
	return out, err
}

func single[R, T any](row R, err error, convert func(R) T) (*body[T], error) {
	if err != nil {
		return nil, err
	}
	return &body[T]{convert(row)}, nil
}

// changed is the input of an operation that changes a thing by its name; what is empty stays as it is.
type changed[T any] struct {
	Named
	Put[T]
}

// orElse is what was given, or else what is there.
func orElse[T any](given *T, there T) T {
	if given == nil {
		return there
	}
	return *given
}

// problems give errors that callers decide on a status and a stable type.
var problems = []struct {
	err    error
	status int
	name   string
}{
	{records.ErrNotFound, http.StatusNotFound, "not-found"},
	{archive.ErrNoEntry, http.StatusNotFound, "not-found"},
	{contents.ErrNoText, http.StatusUnprocessableEntity, "no-text"},
	{releases.ErrDiscarded, http.StatusGone, "discarded"},
	{fetch.ErrRefused, http.StatusUnprocessableEntity, "link-refused"},
	{media.ErrRefused, http.StatusUnprocessableEntity, "file-refused"},
	{archive.ErrHostile, http.StatusUnprocessableEntity, "hostile"},
	{archive.ErrDamaged, http.StatusUnprocessableEntity, "damaged"},
	{records.ErrTaken, http.StatusConflict, "taken"},
	{records.ErrInUse, http.StatusConflict, "in-use"},
	{records.ErrChanged, http.StatusConflict, "changed-meanwhile"},
	{records.ErrCursor, http.StatusUnprocessableEntity, "wrong"},
	{engine.ErrBusy, http.StatusConflict, "busy"},
	{provision.ErrPlan, http.StatusConflict, "plan-does-not-fit"},
	{kind.ErrUnknown, http.StatusUnprocessableEntity, "unknown-kind"},
	{kind.ErrCannotRead, http.StatusUnprocessableEntity, "cannot-be-read"},
	{hostfs.ErrUnsupported, http.StatusUnprocessableEntity, "unsupported"},
	{sitedb.ErrUnsupported, http.StatusUnprocessableEntity, "unsupported"},
	{sitedb.ErrDenied, http.StatusUnprocessableEntity, "database-denied"},
	{vault.ErrKey, http.StatusConflict, "vault-key"},
	{vault.ErrForgotten, http.StatusConflict, "vault-key"},
	{errForbidden, http.StatusForbidden, "forbidden"},
	{clients.ErrKey, http.StatusUnprocessableEntity, "wrong"},
	{sites.ErrNoLink, http.StatusNotFound, "not-found"},
	{sites.ErrLinkClosed, http.StatusGone, "link-closed"},
	{users.ErrSlowDown, http.StatusTooManyRequests, "slow-down"},
	{users.ErrPassword, http.StatusUnauthorized, "wrong-password"},
	{input.ErrWrong, http.StatusUnprocessableEntity, "wrong"},
}

var errForbidden = errors.New("your role does not allow this; ask an owner")

type causeKey struct{}

// noteCause keeps why a request failed for the line in the log.
func noteCause(ctx context.Context, p, err error) {
	var m huma.StatusError
	if note, ok := ctx.Value(causeKey{}).(func(error)); ok && errors.As(p, &m) && m.GetStatus() >= http.StatusInternalServerError {
		note(err)
	}
}

const problemPrefix = "urn:nestseed:problem:"

// problem turns an error into a problem document.
func problem(err error) error {
	if err == nil {
		return nil
	}
	var already huma.StatusError
	if errors.As(err, &already) {
		return err
	}
	m := &huma.ErrorModel{Status: http.StatusInternalServerError, Type: problemPrefix + "failed", Detail: input.Sentence(err)}
	if records.Unreachable(err) {
		m.Status = http.StatusServiceUnavailable
	}
	for _, p := range problems {
		if errors.Is(err, p.err) {
			m.Status, m.Type = p.status, problemPrefix+p.name
			break
		}
	}
	m.Title = http.StatusText(m.Status)
	return m
}

// refuse answers with a problem outside huma.
func refuse(c *gin.Context, status int, name, detail string) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, huma.ErrorModel{Status: status, Type: problemPrefix + name, Title: http.StatusText(status), Detail: detail})
}

func refuseError(c *gin.Context, err error) {
	var m *huma.ErrorModel
	if errors.As(problem(err), &m) {
		if m.Status >= http.StatusInternalServerError {
			c.Error(err)
		}
		c.Header("Content-Type", "application/problem+json")
		c.AbortWithStatusJSON(m.Status, m)
	}
}

func (a *api) recovered(c *gin.Context, err any) {
	a.Log.Error("a request panicked", "path", c.Request.URL.Path, "panic", err)
	refuse(c, http.StatusInternalServerError, "failed", "a fault in Nest Seed itself; its log has more")
}

// headers keep the console to itself.
func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy",
		"default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; object-src 'none'; base-uri 'none'; form-action "+
			"'self'; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
}

// observe logs requests and counts them. Addresses are logged without their query.
func (a *api) observe(c *gin.Context) {
	start := time.Now()
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), causeKey{}, func(err error) { c.Error(err) }))
	c.Next()
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	requestSeconds.WithLabelValues(knownMethod(c.Request.Method), route, fmt.Sprint(c.Writer.Status())).Observe(time.Since(start).Seconds())
	if c.Writer.Status() >= 500 {
		a.Log.Warn("request failed", "method", knownMethod(c.Request.Method), "route", route, "status", c.Writer.Status(), "error",
			c.Errors.String())
	}
}

// knownMethod keeps what somebody makes up from becoming a label of its own.
func knownMethod(m string) string {
	switch m {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return m
	}
	return "other"
}

func (a *api) ready(c *gin.Context) {
	if err := a.Engine.Ready(); err != nil {
		c.String(http.StatusServiceUnavailable, "the records do not answer\n")
		return
	}
	c.String(http.StatusOK, "ok\n")
}

// console serves the built console; paths that are not files are its own routes.
func (a *api) console(c *gin.Context) {
	p := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if strings.HasPrefix(p, "api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		refuse(c, http.StatusNotFound, "not-found", "there is nothing at "+c.Request.URL.Path+"; the operations are listed in /api/openapi.json")
		return
	}
	if info, err := fs.Stat(a.Console, p); err == nil && !info.IsDir() {
		if strings.HasPrefix(p, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		c.FileFromFS(a.packed(c, p), http.FS(a.Console))
		return
	}
	page, err := fs.ReadFile(a.Console, "index.html")
	if err != nil {
		c.String(http.StatusNotFound, "This nestseed was built without its console; build it with: make build\n")
		return
	}
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
}
