package httpapi

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"
)

func TestTheConsoleIsSentAsItWasPackedWhenItWasBuilt(t *testing.T) {
	gin.SetMode(gin.ReleaseMode)
	a := &api{Config: Config{Console: fstest.MapFS{"assets/a.js": {Data: []byte("plain")}, "assets/a.js.br": {Data: []byte("br")},
		"assets/a.js.gz": {Data: []byte("gz")}, "assets/b.woff2": {Data: []byte("font")}, "index.html": {Data: []byte("page")}}}}
	router := gin.New()
	router.NoRoute(a.console)
	for _, c := range []struct{ path, takes, body, coding string }{
		{"/assets/a.js", "gzip, deflate, br", "br", "br"}, {"/assets/a.js", "gzip;q=0.8", "gz", "gzip"}, {"/assets/a.js", "", "plain", ""},
		{"/assets/a.js", "br;q=0, gzip; q=0.000", "plain", ""}, {"/assets/b.woff2", "br", "font", ""}, {"/sites", "br", "page", ""},
	} {
		req := httptest.NewRequest(http.MethodGet, c.path, nil)
		req.Header.Set("Accept-Encoding", c.takes)
		res := httptest.NewRecorder()
		router.ServeHTTP(res, req)
		require.Equal(t, []any{200, c.body, c.coding}, []any{res.Code, res.Body.String(), res.Header().Get("Content-Encoding")}, "%+v", c)
		if strings.HasSuffix(c.path, ".js") {
			require.Equal(t, "Accept-Encoding", res.Header().Get("Vary"))
			require.Contains(t, res.Header().Get("Content-Type"), "javascript")
		}
	}
}

func TestAnswersArePackedAndStreamsAreNot(t *testing.T) {
	large := strings.Repeat("a", 5000)
	h := compressed(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", strings.TrimPrefix(r.URL.Path, "/"))
		w.Write([]byte(large[:len(large)-len(r.URL.RawQuery)*1000]))
	}))
	for path, want := range map[string]string{"/application/json": "gzip", "/application/problem+json": "gzip", "/text/event-stream": "",
		"/application/zip": "", "/text/plain": "", "/application/json?aaaa": ""} {
		req := httptest.NewRequest(http.MethodGet, path, nil)
		req.Header.Set("Accept-Encoding", "gzip")
		res := httptest.NewRecorder()
		h.ServeHTTP(res, req)
		require.Equal(t, want, res.Header().Get("Content-Encoding"), path)
	}
}
