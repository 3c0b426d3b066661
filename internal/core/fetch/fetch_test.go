package fetch

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/progress"
)

func content(n int) []byte {
	b := make([]byte, n)
	rand.New(rand.NewSource(1)).Read(b)
	return b
}

func serve(t *testing.T, h http.HandlerFunc) (string, Options) {
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	host := strings.TrimPrefix(s.URL, "http://")
	return s.URL, Options{Ours: func(hp string) bool { return hp == host }, MaxBytes: 8 << 20, Stall: time.Second}
}

func get(t *testing.T, link string, o Options) ([]byte, *progress.Tally, error) {
	f, err := os.CreateTemp(t.TempDir(), "")
	require.NoError(t, err)
	defer f.Close()
	var tally progress.Tally
	_, n, err := Get(context.Background(), link, f, o, &tally)
	if err != nil {
		return nil, &tally, err
	}
	b, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	require.Equal(t, n, int64(len(b)))
	return b, &tally, nil
}

func TestALinkIsLookedAtAndFetched(t *testing.T) {
	want := content(3 << 20)
	url, o := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Disposition", `attachment; filename="../evil/site.tar.bz2"`)
		w.Header().Set("ETag", `"one"`)
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(want))
	})
	info, err := Look(context.Background(), url+"/x", o)
	require.NoError(t, err)
	require.Equal(t, "site.tar.bz2", info.Name)
	require.Equal(t, int64(len(want)), info.Bytes)
	require.True(t, info.Resumable)
	got, tally, err := get(t, url+"/x", o)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got))
	require.Equal(t, int64(len(want)), tally.Done.Bytes)
}

// breaking answers some bytes and hangs up, so many times.
func breaking(want []byte, breaks int, ranges bool) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if ranges {
			w.Header().Set("ETag", `"one"`)
		} else {
			r.Header.Del("Range")
		}
		if r.Header.Get("Range") == "bytes=0-0" || breaks == 0 {
			http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(want))
			return
		}
		breaks--
		from := 0
		fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-", &from)
		w.Header().Set("Content-Length", fmt.Sprint(len(want)-from))
		if from > 0 {
			w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, len(want)-1, len(want)))
			w.WriteHeader(http.StatusPartialContent)
		}
		w.Write(want[from:min(len(want), from+300_000)])
		panic(http.ErrAbortHandler)
	}
}

func TestABrokenConnectionIsTakenUpAgain(t *testing.T) {
	want := content(2 << 20)
	for _, ranges := range []bool{true, false} {
		breaks := 5
		if !ranges {
			breaks = 2
		}
		url, o := serve(t, breaking(want, breaks, ranges))
		got, tally, err := get(t, url, o)
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got))
		require.Equal(t, int64(len(want)), tally.Done.Bytes, "what is fetched again is not counted twice")
	}
}

func TestAServerThatStallsIsLeft(t *testing.T) {
	url, o := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Length", "1000000")
		w.Write([]byte("some"))
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	})
	o.Stall, o.MaxTime = 100*time.Millisecond, 900*time.Millisecond
	_, _, err := get(t, url, o)
	require.ErrorContains(t, err, "longer than")
}

func TestLinksThatAreNotFetchedSayWhy(t *testing.T) {
	url, o := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/page":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
		case "/gone":
			w.WriteHeader(http.StatusGone)
		case "/large":
			w.Header().Set("Content-Length", fmt.Sprint(int64(9)<<30))
		case "/endless":
			for {
				if _, err := w.Write(make([]byte, 1<<20)); err != nil {
					return
				}
			}
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		case "/away":
			http.Redirect(w, r, "http://127.0.0.1:1/secret", http.StatusFound)
		case "/file":
			http.Redirect(w, r, "file:///etc/passwd", http.StatusFound)
		}
	})
	for p, word := range map[string]string{"/page": "to a page", "/gone": "410", "/large": "room for", "/endless": "more than 8 MB",
		"/round": "more than 5 times", "/away": "private network", "/file": "is not a link"} {
		_, _, err := get(t, url+p, o)
		require.ErrorIs(t, err, ErrRefused, p)
		require.ErrorContains(t, err, word, p)
	}
	for _, link := range []string{"ftp://x/y", "nothing", "http://", "file:///etc/passwd", "http://u:p@files.example/x", url,
		"http://169.254.169.254/latest", "http://[::1]:80/", "http://localhost/"} {
		_, err := Look(context.Background(), link, Options{Stall: time.Second})
		require.ErrorIs(t, err, ErrRefused, link)
	}
}

func TestOnlyPublicAddressesArePublic(t *testing.T) {
	for a, want := range map[string]bool{"93.184.215.14": true, "2606:2800:21f::1": true, "10.0.0.1": false, "127.0.0.1": false,
		"192.168.1.1": false, "172.16.0.1": false, "169.254.169.254": false,
		"::1": false, "fd00::1": false, "fe80::1": false, "::ffff:10.0.0.1": false, "0.0.0.0": false, "100.64.0.1": false, "224.0.0.1": false,
		"64:ff9b::a00:1": false, "255.255.255.255": false} {
		require.Equal(t, want, Public(netip.MustParseAddr(a)), a)
	}
}

func TestANameThatLeadsInsideIsRefused(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	_, err = Look(context.Background(), "http://localhost:"+port+"/x", Options{Stall: time.Second})
	require.ErrorContains(t, err, "private network")
}
