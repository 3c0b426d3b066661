package httpapi

import (
	"bytes"
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nestseed/internal/core/media"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func clientOut(c records.Client) wire.Client {
	return wire.Client{Name: c.Name, Settings: as[map[string]wire.Setting](c.Settings), Sites: c.Sites, CreatedAt: c.CreatedAt}
}

func (a *api) clientOperations(h huma.API) {
	show := func(ctx context.Context, in *Named) (*body[wire.Client], error) {
		c, err := a.db.Client(ctx, in.Name)
		return single(c, err, clientOut)
	}
	operation(h, "GET", "/clients", "list-clients", "List clients, by name", func(ctx context.Context, in *struct {
		Find   string   `query:"find" maxLength:"200" doc:"a part of name, title or mail address"`
		Keys   []string `query:"keys" maxItems:"60" doc:"settings whose values are wanted, separated by commas"`
		Cursor string   `query:"cursor" maxLength:"1000" doc:"next of the page before"`
		Limit  int      `query:"limit" default:"100" minimum:"1" maximum:"1000"`
	}) (*body[wire.ClientPage], error) {
		rows, total, next, err := a.db.ClientRows(ctx, records.ClientFilter{Find: in.Find, Keys: in.Keys, Cursor: in.Cursor, Limit: in.Limit})
		out := wire.ClientPage{Clients: make([]wire.ClientRow, len(rows)), Next: next, Total: total}
		for i, c := range rows {
			out.Clients[i] = as[wire.ClientRow](c)
		}
		return &body[wire.ClientPage]{out}, err
	})
	operation(h, "GET", "/clients/{name}", "show-client", "Show a client; secrets are not shown", show)
	operation(h, "POST", "/clients", "add-client", "Add a client",
		func(ctx context.Context, in *Put[wire.NewClient]) (*body[wire.Client], error) {
			if err := a.Clients.Add(ctx, in.Body.Name, in.Body.Settings); err != nil {
				return nil, err
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
		if err := a.Clients.Set(ctx, in.Name, in.Body.Settings, in.Body.Secret); err != nil {
			return nil, err
		}
		return show(ctx, &in.Named)
	})
	operation(h, "POST", "/clients/{name}/files", "add-client-file", "Give a client a picture or a file, for settings of that type",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.NewClientFile]
		}) (*body[wire.ClientFile], error) {
			value, f, err := a.Clients.AddFile(ctx, in.Name, in.Body.Name, in.Body.Content)
			if err != nil {
				return nil, err
			}
			return &body[wire.ClientFile]{wire.ClientFile{Value: value, Name: f.Name, Type: f.Type, Bytes: int64(len(f.Content)), Width: f.Width,
				Height: f.Height}}, nil
		}, func(o *huma.Operation) { o.MaxBodyBytes = media.MostBytes*4/3 + 4096 }) // in base 64
	operation(h, "DELETE", "/clients/{name}", "remove-client", "Remove a client without sites",
		func(ctx context.Context, in *Named) (*nothing, error) {
			return nil, a.Clients.Remove(ctx, in.Name)
		})
}

// clientFile serves a picture or a file that a client has, by the sum of its content.
func (a *api) clientFile(c *gin.Context) {
	f, err := a.db.ClientFile(c, c.Param("name"), c.Param("sha256"))
	if err != nil {
		refuseError(c, err)
		return
	}
	serveInert(c, bytes.NewReader(f.Content), f.Name)
}
