package httpapi

import (
	"net/http"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nestseed/internal/wire"
)

// streams are what is not JSON.
func (a *api) streams(g *gin.RouterGroup) {
	// A viewer looks at what is in an archive, and takes none away: it holds all content of a client's site.
	builds := func(c *gin.Context) {
		if err := builder(c.Request.Context()); err != nil {
			refuseError(c, err)
			c.Abort()
		}
	}
	g.GET("/releases/:ref/archive", builds, a.download)
	g.HEAD("/releases/:ref/archive", builds, a.download)
	g.GET("/releases/:ref/file", a.oneFile)
	g.POST("/releases/:ref/sealed", builds, a.sealed)
	g.GET("/releases/:ref/volumes/:file", builds, a.volume)
	g.GET("/clients/:name/files/:sha256", a.clientFile)
	g.GET("/sites/:name/side-by-side/:file", a.picture)
	g.GET("/runs/:id/events", a.runEvents)
	g.GET("/events", a.allEvents)
}

// streamOperations describes them; uploads follow the tus protocol and are described by it.
func (a *api) streamOperations(h huma.API) {
	binary := func(kinds ...string) map[string]*huma.MediaType {
		out := map[string]*huma.MediaType{}
		for _, k := range kinds {
			out[k] = &huma.MediaType{Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}}
		}
		return out
	}
	add := func(method, path, id, summary string, content map[string]*huma.MediaType, query ...*huma.Param) *huma.Operation {
		op := &huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Parameters: query,
			Responses: map[string]*huma.Response{
				"200": {Description: "OK", Content: content},
				"default": {Description: "Error", Content: map[string]*huma.MediaType{"application/problem+json": {
					Schema: &huma.Schema{Ref: "#/components/schemas/ErrorModel"}}}},
			}}
		for _, part := range strings.Split(path, "/") {
			if name, is := strings.CutPrefix(part, "{"); is {
				op.Parameters = append(op.Parameters, &huma.Param{Name: strings.TrimSuffix(name, "}"), In: "path", Required: true,
					Schema: &huma.Schema{Type: huma.TypeString}})
			}
		}
		h.OpenAPI().AddOperation(op)
		return op
	}
	schemas := h.OpenAPI().Components.Schemas
	events := map[string]*huma.MediaType{"text/event-stream": {Schema: schemas.Schema(reflect.TypeFor[wire.Run](), true, "")}}
	add(http.MethodGet, "/releases/{ref}/archive", "download-archive", "An archive, whole or by ranges", binary("application/zip"))
	add(http.MethodGet, "/releases/{ref}/file", "download-file", "One file from within an archive: text, a picture, or a download",
		binary("text/plain", "image/png", "image/jpeg", "image/gif", "image/webp", "application/octet-stream"),
		&huma.Param{Name: "path", In: "query", Required: true, Schema: &huma.Schema{Type: huma.TypeString}})
	add(http.MethodGet, "/releases/{ref}/volumes/{file}", "download-volume",
		"One of the pieces that an archive is cut into, or their sums",
		binary("application/octet-stream"))
	add(http.MethodGet, "/clients/{name}/files/{sha256}", "download-client-file", "A picture or a file that a client has",
		binary("image/png", "image/jpeg", "image/gif", "image/webp", "text/plain", "application/octet-stream"))
	add(http.MethodGet, "/sites/{name}/side-by-side/{file}", "download-picture", "A screenshot of a site or its source, or what differs",
		binary("image/png", "image/jpeg"), &huma.Param{Name: "at", In: "query", Schema: &huma.Schema{Type: huma.TypeString}})
	add(http.MethodGet, "/events", "watch-runs", "All runs as they change, as server-sent events", events)
	add(http.MethodGet, "/runs/{id}/events", "watch-run", "A run as it goes on, to its end, as server-sent events", events)
	seal := add(http.MethodPost, "/releases/{ref}/sealed", "download-sealed", "An archive sealed for people, or with a passphrase (age)",
		binary("application/octet-stream"))
	seal.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {
		Schema: schemas.Schema(reflect.TypeFor[wire.Seal](), true, "")}}}
}
