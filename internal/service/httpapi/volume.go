package httpapi

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"nestseed/internal/core/archive"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func zipName(r records.Release) string { return fmt.Sprintf("%s-%d.zip", r.Starter, r.Number) }

// volumesOf lists the pieces of an archive that is cut every so many bytes, and the file of their sums.
func volumesOf(r records.Release, size int64) []wire.Volume {
	out := []wire.Volume{}
	add := func(name string, n int64) {
		out = append(out, wire.Volume{Name: name, Bytes: n, Path: fmt.Sprintf("/releases/%s/volumes/%s?size=%d", url.PathEscape(r.Ref()),
			url.PathEscape(name), size)})
	}
	for n, from := 1, int64(0); from < r.ArchiveBytes; n, from = n+1, from+size {
		add(archive.VolumeName(zipName(r), n), min(size, r.ArchiveBytes-from))
	}
	add(archive.VolumeSums(zipName(r)), int64(len(out))*int64(sha256.Size*2+3+len(archive.VolumeName(zipName(r), 1))))
	return out
}

// volume serves one piece of an archive, by ranges too, or the sums of all.
func (a *api) volume(c *gin.Context) {
	r, err := a.db.Release(c, c.Param("ref"))
	if err != nil {
		refuseError(c, err)
		return
	}
	size, err := strconv.ParseInt(c.Query("size"), 10, 64)
	if err != nil || size < archive.MinVolumeBytes {
		refuse(c, http.StatusUnprocessableEntity, "wrong", fmt.Sprintf("say how large volumes are: ?size=BYTES, at least %d",
			archive.MinVolumeBytes))
		return
	}
	of, n, is := archive.IsVolume(c.Param("file"))
	if !is || of != zipName(r) || int64(n-1)*size >= r.ArchiveBytes {
		refuse(c, http.StatusNotFound, "not-found", "there is no such volume; see /releases/"+r.Ref()+"/volumes")
		return
	}
	f, whole, ok := a.openStored(c, r)
	if !ok {
		return
	}
	defer f.Close()
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", c.Param("file")))
	if n == 0 {
		c.Header("Content-Type", "text/plain; charset=utf-8")
		for i := int64(0); i*size < whole; i++ {
			h := sha256.New()
			if _, err := io.Copy(h, io.NewSectionReader(f, i*size, size)); err != nil {
				a.Log.Warn("sums of volumes", "release", r.Ref(), "error", err)
				return
			}
			fmt.Fprintf(c.Writer, "%s  %s\n", hex.EncodeToString(h.Sum(nil)), archive.VolumeName(of, int(i)+1))
		}
		return
	}
	c.Header("Content-Type", "application/octet-stream")
	c.Header("ETag", fmt.Sprintf(`"%s-%d-%d"`, r.SumsSha256, size, n))
	from := int64(n-1) * size
	http.ServeContent(c.Writer, c.Request, "", time.Time{}, io.NewSectionReader(f, from, min(size, whole-from)))
}

// sealed serves an archive encrypted for recipients or with a passphrase, while it is encrypted. What it is sealed
// with comes in the body, as addresses are logged.
func (a *api) sealed(c *gin.Context) {
	r, err := a.db.Release(c, c.Param("ref"))
	if err != nil {
		refuseError(c, err)
		return
	}
	var in wire.Seal
	if err := json.NewDecoder(io.LimitReader(c.Request.Body, 1<<20)).Decode(&in); err != nil {
		refuse(c, http.StatusUnprocessableEntity, "wrong", `send {"recipients": ["age1…"]} or {"passphrase": "…"}`)
		return
	}
	// A first try without an archive tells what is wrong before the answer has begun.
	if _, err := archive.Seal(io.Discard, in.Recipients, in.Passphrase); err != nil {
		refuse(c, http.StatusUnprocessableEntity, "wrong", err.Error())
		return
	}
	f, size, ok := a.openStored(c, r)
	if !ok {
		return
	}
	defer f.Close()
	if err := a.db.Audit(c, who(c.Request.Context()).Name, "downloaded "+r.Ref()+" sealed"); err != nil {
		refuseError(c, err)
		return
	}
	c.Header("Content-Type", "application/octet-stream")
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", zipName(r)+".age"))
	w, err := archive.Seal(c.Writer, in.Recipients, in.Passphrase)
	if err == nil {
		if _, err = io.Copy(w, io.NewSectionReader(f, 0, size)); err == nil {
			err = w.Close()
		}
	}
	if err != nil {
		// The answer has begun; ending it early is the only way to say so, and a sealed file that is cut is noticed.
		a.Log.Warn("sealed download", "release", r.Ref(), "error", err)
		panic(http.ErrAbortHandler)
	}
}
