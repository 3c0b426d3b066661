package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"regexp"
	"strings"
	"syscall"

	"github.com/gin-gonic/gin"
	"github.com/tus/tusd/v2/pkg/filelocker"
	"github.com/tus/tusd/v2/pkg/filestore"
	tus "github.com/tus/tusd/v2/pkg/handler"
	"golang.org/x/exp/slog"
	"golang.org/x/sys/unix"

	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/store"
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
	files := filestore.New(dir)
	files.FileModePerm, files.DirModePerm = 0o600, 0o700
	composer.UseCore(incoming{files})
	composer.UseTerminater(incoming{files})
	composer.UseLocker(incomingLocks{filelocker.New(dir)}) // other copies of the service may use the folder too
	handler, err := tus.NewUnroutedHandler(tus.Config{
		StoreComposer: composer, BasePath: uploadsPath, DisableDownload: true, DisableConcatenation: true,
		Cors: &tus.CorsConfig{Disable: true}, Logger: quiet,
		PreFinishResponseCallback: func(hook tus.HookEvent) (tus.HTTPResponse, error) {
			return tus.HTTPResponse{}, full(a.publish(hook.Context, hook.Upload.ID))
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

// incoming keeps uploads as files, and says so when the disk is full. Their sizes are told before they are sent, as room looks for space.
type incoming struct{ filestore.FileStore }

type incomingFile struct{ tus.Upload }

func (in incoming) NewUpload(ctx context.Context, info tus.FileInfo) (tus.Upload, error) {
	u, err := in.FileStore.NewUpload(ctx, info)
	if err == nil {
		err = reserve(ctx, u, info.Size)
	}
	return incomingFile{u}, full(err)
}

// reserve takes the room that an upload will need, so that several at once do not count on the same. Its file stays empty. A file system
// that cannot do so is left to say when it is full.
func reserve(ctx context.Context, u tus.Upload, size int64) error {
	info, err := u.GetInfo(ctx)
	if err != nil || size <= 0 {
		return err
	}
	f, err := os.OpenFile(info.Storage["Path"], os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	err = unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_KEEP_SIZE, 0, size)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOSYS) {
		return nil
	}
	return err
}

func (in incoming) GetUpload(ctx context.Context, id string) (tus.Upload, error) {
	u, err := in.FileStore.GetUpload(ctx, id)
	return incomingFile{u}, err
}

func (in incoming) AsTerminatableUpload(u tus.Upload) tus.TerminatableUpload {
	return in.FileStore.AsTerminatableUpload(u.(incomingFile).Upload)
}

func (f incomingFile) WriteChunk(ctx context.Context, offset int64, src io.Reader) (int64, error) {
	n, err := f.Upload.WriteChunk(ctx, offset, src)
	return n, full(err)
}

// incomingLocks are files beside those that arrive, and so need room too.
type incomingLocks struct{ tus.Locker }

type incomingLock struct{ of tus.Lock }

func (l incomingLocks) NewLock(id string) (tus.Lock, error) {
	lock, err := l.Locker.NewLock(id)
	return incomingLock{lock}, err
}

func (l incomingLock) Lock(ctx context.Context, requestUnlock func()) error {
	return full(l.of.Lock(ctx, requestUnlock))
}

func (l incomingLock) Unlock() error { return l.of.Unlock() }

// full makes of a full disk what a client is told.
func full(err error) error {
	if errors.Is(err, syscall.ENOSPC) {
		return tus.NewError("ERR_NO_ROOM", "the disk of the service is full; what has arrived is kept, so make room and send the file again",
			http.StatusInsufficientStorage)
	}
	return err
}

// publish gives an upload that is whole to whichever copy of the service takes it.
func (a *api) publish(ctx context.Context, id string) error {
	for _, name := range []string{id, id + ".info"} {
		if err := a.Releases.Stored.Store.Publish(ctx, releases.UploadsGroup+"/"+name); err != nil && !errors.Is(err, store.ErrTaken) {
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
	text, _, err := st.Open(ctx, releases.UploadsGroup+"/"+id+".info")
	if err != nil {
		return info, err
	}
	defer text.Close()
	if err := json.NewDecoder(text).Decode(&info); err != nil {
		return info, err
	}
	file, size, err := st.Open(ctx, releases.UploadsGroup+"/"+id)
	if err != nil {
		return info, err
	}
	info.Offset = size
	return info, file.Close()
}
