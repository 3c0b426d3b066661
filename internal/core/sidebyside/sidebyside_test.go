package sidebyside

import (
	"context"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/progress"
)

func sheet(width, height int, spots ...image.Rectangle) *image.RGBA {
	m := image.NewRGBA(image.Rect(0, 0, width, height))
	draw.Draw(m, m.Bounds(), image.White, image.Point{}, draw.Src)
	for _, s := range spots {
		draw.Draw(m, s, image.NewUniform(color.RGBA{0, 80, 40, 255}), image.Point{}, draw.Src)
	}
	return m
}

func TestDifferencesAreFramedPlaceByPlace(t *testing.T) {
	a := sheet(320, 160)
	frames, share := Differ(a, a)
	require.Empty(t, frames)
	require.Zero(t, share)

	// Two words of one line are one place; a picture far below is another.
	b := sheet(320, 160, image.Rect(16, 16, 30, 26), image.Rect(50, 16, 62, 26), image.Rect(200, 120, 240, 150))
	frames, share = Differ(a, b)
	require.Equal(t, []image.Rectangle{image.Rect(16, 16, 64, 32), image.Rect(192, 112, 240, 160)}, frames)
	require.InDelta(t, (2.0+9)/200, share, 0.0001)

	frames, share = Differ(a, sheet(320, 320))
	require.Equal(t, []image.Rectangle{image.Rect(0, 160, 320, 320)}, frames, "what only one of them has")
	require.InDelta(t, 0.5, share, 0.001)

	faint := sheet(320, 160)
	draw.Draw(faint, image.Rect(0, 0, 100, 100), image.NewUniform(color.RGBA{240, 240, 240, 255}), image.Point{}, draw.Src)
	frames, _ = Differ(a, faint)
	require.Empty(t, frames, "a shade is no difference")

	marked := Mark(a, []image.Rectangle{image.Rect(16, 16, 64, 32)})
	require.Equal(t, mark, marked.RGBAAt(14, 14))
	require.Equal(t, color.RGBA{255, 255, 255, 255}, marked.RGBAAt(30, 24), "what is within a frame stays to be seen")
	require.Equal(t, color.RGBA{255, 255, 255, 255}, a.RGBAAt(14, 14), "the picture itself is not drawn on")
}

func TestPagesOfTwoSitesAreLookedAt(t *testing.T) {
	browser, err := Find("")
	require.NoError(t, err)
	site := func(title string, wait string) *httptest.Server {
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if wait != "" {
				if c, err := r.Cookie("nestseed_preview"); err != nil || c.Value != wait {
					w.WriteHeader(http.StatusServiceUnavailable)
					return
				}
			}
			fmt.Fprintf(w, `<!doctype html><body style="margin:0;background:#fff"><h1 style="height:80px">%s</h1><p style="height:900px">The same on both, at %s</p>`, title, r.URL.Path)
		}))
		t.Cleanup(srv.Close)
		return srv
	}
	base, school := site("Loom & Ladder base", ""), site("Alder Valley", "key")
	dir := t.TempDir()
	// The address of the first is known to no DNS; the browser is told where it is.
	left := Site{Address: "http://base.example", Connect: base.Listener.Addr().String()}
	right := Site{Address: school.URL, Cookie: "nestseed_preview=key"}
	pages, err := Take(context.Background(), browser, left, right, []string{"", "lessons/"}, dir, progress.Discard)
	require.NoError(t, err)
	require.Len(t, pages, 2)
	for _, p := range pages {
		require.Empty(t, p.Problem)
		require.Equal(t, 1, p.Places, "only the title differs")
		require.Less(t, p.Share, 0.2)
		for _, name := range []string{p.Left, p.Right} {
			f, err := os.Open(filepath.Join(dir, name))
			require.NoError(t, err)
			cfg, err := png.DecodeConfig(f)
			f.Close()
			require.NoError(t, err)
			require.Equal(t, Width, cfg.Width)
			require.Greater(t, cfg.Height, 900)
		}
	}
	left.Connect = "127.0.0.1:1"
	pages, err = Take(context.Background(), browser, left, right, []string{""}, dir, progress.Discard)
	require.NoError(t, err)
	require.Contains(t, pages[0].Problem, "base.example")
	left2, err := filepath.Glob(filepath.Join(dir, ".browser-*"))
	require.NoError(t, err)
	require.Empty(t, left2)
	_, err = Find("no-such-browser")
	require.NoError(t, err, "another is taken")
}
