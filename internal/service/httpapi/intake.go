package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/tus/tusd/v2/pkg/filelocker"
	"github.com/tus/tusd/v2/pkg/filestore"
	tus "github.com/tus/tusd/v2/pkg/handler"
	"golang.org/x/exp/slog"

	"nestseed/internal/core/fetch"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/store"
	"nestseed/internal/wire"
)

// quiet is for the upload handler: it logs every request, and the interface does so already.
var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

const uploadsPath = "/api/v1/uploads/"

// uploads mounts the tus protocol (resumable uploads, version 1.0). An upload belongs to who began it: others
// can neither go on with it nor bring it in.
func (a *api) uploads(g *gin.RouterGroup) {
	dir, err := a.Releases.Stored.Store.Incoming(releases.UploadsGroup)
	if err != nil {
		a.Log.Error("folder of uploads", "error", err)
		return
	}
	composer := tus.NewStoreComposer()
	store := filestore.New(dir)
	store.FileModePerm, store.DirModePerm = 0o600, 0o700
	store.UseIn(composer)
	filelocker.New(dir).UseIn(composer)
	handler, err := tus.NewUnroutedHandler(tus.Config{
		StoreComposer: composer, BasePath: uploadsPath, DisableDownload: true, DisableConcatenation: true,
		Cors: &tus.CorsConfig{Disable: true}, Logger: quiet,
		PreFinishResponseCallback: func(hook tus.HookEvent) (tus.HTTPResponse, error) {
			return tus.HTTPResponse{}, a.publish(hook.Upload.ID)
		},
		PreUploadCreateCallback: func(hook tus.HookEvent) (tus.HTTPResponse, tus.FileInfoChanges, error) {
			meta := tus.MetaData{"name": path.Base(path.Clean("/" + hook.Upload.MetaData["filename"])), "who": who(hook.Context).Name}
			return tus.HTTPResponse{}, tus.FileInfoChanges{MetaData: meta}, a.room(hook.Upload.Size)
		},
	})
	if err != nil {
		a.Log.Error("uploads", "error", err)
		return
	}
	on := func(do http.HandlerFunc) gin.HandlerFunc {
		return func(c *gin.Context) {
			if id := c.Param("id"); id != "" {
				if _, err := a.upload(c.Request.Context(), id); err != nil {
					refuseError(c, err)
					return
				}
			}
			// The handler takes what is behind its path for the upload.
			http.StripPrefix(strings.TrimSuffix(uploadsPath, "/"), handler.Middleware(do)).ServeHTTP(c.Writer, c.Request)
		}
	}
	g.POST("/uploads/", on(handler.PostFile))
	g.HEAD("/uploads/:id", on(handler.HeadFile))
	g.PATCH("/uploads/:id", on(handler.PatchFile))
	g.DELETE("/uploads/:id", on(handler.DelFile))
	g.OPTIONS("/uploads/", func(c *gin.Context) { handler.Middleware(http.NotFoundHandler()).ServeHTTP(c.Writer, c.Request) })
}

// publish gives an upload that is whole to whichever copy of the service takes it.
func (a *api) publish(id string) error {
	for _, name := range []string{id, id + ".info"} {
		if err := a.Releases.Stored.Store.Publish(releases.UploadsGroup + "/" + name); err != nil && !errors.Is(err, store.ErrTaken) {
			return err
		}
	}
	return nil
}

// room refuses an upload that does not fit on the disk.
func (a *api) room(bytes int64) error {
	most, err := a.Releases.MostUploadBytes()
	if err != nil {
		return err
	}
	if bytes > most {
		return tus.NewError("ERR_NO_ROOM", fmt.Sprintf("the file has %d MB and there is room for %d MB", bytes>>20, most>>20),
			http.StatusInsufficientStorage)
	}
	return nil
}

var uploadForm = regexp.MustCompile(`^[0-9a-f]{8,64}$`)

// upload returns what is known of an upload of who asks.
func (a *api) upload(ctx context.Context, id string) (tus.FileInfo, error) {
	none := fmt.Errorf("there is no upload %q of yours: %w; send the file again", id, records.ErrNotFound)
	if !uploadForm.MatchString(id) {
		return tus.FileInfo{}, none
	}
	info, err := a.uploadInfo(ctx, id)
	if err != nil || info.MetaData["who"] != who(ctx).Name {
		return tus.FileInfo{}, none
	}
	return info, nil
}

// uploadInfo reads what is known of an upload: of one that is being sent from this copy's folder, of one that is whole from
// the store.
func (a *api) uploadInfo(ctx context.Context, id string) (info tus.FileInfo, err error) {
	st := a.Releases.Stored.Store
	dir, err := st.Incoming(releases.UploadsGroup)
	if err != nil {
		return info, err
	}
	if u, err := filestore.New(dir).GetUpload(ctx, id); err == nil {
		return u.GetInfo(ctx)
	}
	text, _, err := st.Open(releases.UploadsGroup + "/" + id + ".info")
	if err != nil {
		return info, err
	}
	defer text.Close()
	if err := json.NewDecoder(text).Decode(&info); err != nil {
		return info, err
	}
	file, size, err := st.Open(releases.UploadsGroup + "/" + id)
	if err != nil {
		return info, err
	}
	info.Offset = size
	return info, file.Close()
}

// given turns what a request names into what a run takes.
func (a *api) given(ctx context.Context, g wire.GivenFile) (releases.Given, error) {
	switch {
	case (g.Upload == "") == (g.Link == ""):
		return releases.Given{}, input.Wrongf("each file is an upload or a link")
	case g.Link != "":
		// It is looked at before a run is started, with all that is in it.
		opts, err := a.Releases.FetchOptions(ctx)
		if err == nil {
			_, err = fetch.Look(ctx, g.Link, opts)
		}
		if err != nil {
			return releases.Given{}, err
		}
		return a.Releases.SealLink(g.Link)
	}
	info, err := a.upload(ctx, g.Upload)
	if err != nil {
		return releases.Given{}, err
	}
	if info.Offset != info.Size {
		return releases.Given{}, input.Wrong(fmt.Errorf("the upload %s has %d of %d bytes; go on with it first", info.MetaData["name"],
			info.Offset,
			info.Size))
	}
	return releases.Given{Upload: filepath.Base(g.Upload), Name: info.MetaData["name"]}, nil
}

func (a *api) importOperations(h huma.API) {
	operation(h, "POST", "/starters/{name}/imports", "import-release", "Start importing a release", func(ctx context.Context, in *struct {
		Name string `path:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"60"`
		Put[wire.NewImport]
	}) (*begun, error) {
		b := in.Body
		if b.Trust {
			if err := owner(ctx); err != nil {
				return nil, err
			}
		}
		args := releases.ImportArgs{Starter: in.Name, List: b.List, Note: b.Note, Trust: b.Trust}
		var names []string
		for _, f := range b.Files {
			g, err := a.given(ctx, f)
			if err != nil {
				return nil, err
			}
			args.Files = append(args.Files, g)
			names = append(names, nameOf(g))
		}
		if b.Database != nil {
			g, err := a.given(ctx, *b.Database)
			if err != nil {
				return nil, err
			}
			args.Database = &g
		}
		if err := a.Releases.SealKey(&args, b.Key); err != nil {
			return nil, err
		}
		title := "Import " + names[0]
		if len(names) > 1 {
			title += fmt.Sprintf(" and %d more", len(names)-1)
		}
		return a.start(ctx, records.Run{Job: "import", Title: title, Target: engine.Target("starter", in.Name)}, args)
	})
	operation(h, "POST", "/links/check", "check-link", "Say what a link leads to, without fetching it",
		func(ctx context.Context, in *Put[wire.LinkCheck]) (*body[*wire.LinkInfo], error) {
			opts, err := a.Releases.FetchOptions(ctx)
			if err != nil {
				return nil, err
			}
			info, err := fetch.Look(ctx, in.Body.Link, opts)
			return &body[*wire.LinkInfo]{as[*wire.LinkInfo](info)}, err
		})
}

func nameOf(g releases.Given) string {
	if g.Name != "" {
		return g.Name
	}
	link, _, _ := strings.Cut(g.Link, "?")
	return link
}
