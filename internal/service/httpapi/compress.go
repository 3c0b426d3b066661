package httpapi

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"
)

// worthPacking are bytes below which an answer fits into one packet as it is. Secrets are told in answers that are smaller, so that
// nothing about them can be learned from how well they are packed.
const worthPacking = 1400

// compressed packs answers in JSON for whoever takes gzip (RFC 9110, 8.4). Streams, archives and files of sites go as they are: their
// ranges and lengths count.
func compressed(h http.Handler) http.Handler {
	pack, err := gzhttp.NewWrapper(gzhttp.MinSize(worthPacking), gzhttp.ContentTypeFilter(func(media string) bool {
		kind, _, err := mime.ParseMediaType(media)
		return err == nil && (kind == "application/json" || strings.HasSuffix(kind, "+json"))
	}))
	if err != nil {
		panic(err) // constants
	}
	return pack(h)
}

// packings are what the console's files were packed with when they were built, the smallest first.
var packings = []struct{ coding, ending string }{{"br", ".br"}, {"gzip", ".gz"}}

// packed returns the name of a file of the console as it is sent to whoever asks, and says how it is packed.
func (a *api) packed(c *gin.Context, p string) string {
	for _, by := range packings {
		if _, err := fs.Stat(a.Console, p+by.ending); err != nil {
			continue
		}
		c.Header("Vary", "Accept-Encoding")
		if !accepts(c.GetHeader("Accept-Encoding"), by.coding) {
			continue
		}
		c.Header("Content-Encoding", by.coding)
		c.Header("Content-Type", mime.TypeByExtension(path.Ext(p)))
		return p + by.ending
	}
	return p
}

// accepts reports whether a list of codings has one that is not refused (RFC 9110, 12.5.3).
func accepts(list, coding string) bool {
	for _, item := range strings.Split(list, ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(item), ";")
		if strings.EqualFold(strings.TrimSpace(name), coding) {
			w := strings.ReplaceAll(weight, " ", "")
			return w != "q=0" && !strings.HasPrefix(w, "q=0.000")
		}
	}
	return false
}
