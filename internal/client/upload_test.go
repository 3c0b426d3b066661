package client

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"math/rand"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/wire"
)

// uploads is a service that takes uploads as tus says it (resumable uploads 1.0), and that can be made to fail.
type uploads struct {
	mu      sync.Mutex
	files   map[string]*bytes.Buffer
	names   map[string]string
	created int
	patches int
	// breaks says at which request with content the connection is lost, after so many bytes of it.
	breaks map[int]int64
	status map[int]int // or which status answers it
}

func (u *uploads) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	u.mu.Lock()
	defer u.mu.Unlock()
	id := path.Base(r.URL.Path)
	if r.Header.Get("Tus-Resumable") != "1.0.0" {
		http.Error(w, "not tus", http.StatusPreconditionFailed)
		return
	}
	if r.Method == http.MethodPost {
		u.created++
		id := fmt.Sprintf("upload-%d", u.created)
		name, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(r.Header.Get("Upload-Metadata"), "filename "))
		u.files[id], u.names[id] = &bytes.Buffer{}, string(name)
		w.Header().Set("Location", "/api/v1/uploads/"+id)
		w.WriteHeader(http.StatusCreated)
		return
	}
	file := u.files[id]
	if file == nil {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	if r.Method == http.MethodPatch {
		u.patches++
		if status := u.status[u.patches]; status != 0 {
			w.WriteHeader(status)
			return
		}
		if at, _ := strconv.Atoi(r.Header.Get("Upload-Offset")); at != file.Len() {
			w.WriteHeader(http.StatusConflict)
			return
		}
		if n, broken := u.breaks[u.patches]; broken {
			io.CopyN(file, r.Body, n)
			panic(http.ErrAbortHandler)
		}
		io.Copy(file, r.Body)
	}
	w.Header().Set("Upload-Offset", strconv.Itoa(file.Len()))
	w.WriteHeader(http.StatusNoContent)
}

func newUploads(t *testing.T) (*uploads, *Client, string) {
	t.Helper()
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	u := &uploads{files: map[string]*bytes.Buffer{}, names: map[string]string{}, breaks: map[int]int64{}, status: map[int]int{}}
	srv := httptest.NewServer(u)
	t.Cleanup(srv.Close)
	file := filepath.Join(t.TempDir(), "Harbour Müsic.tar.bz2")
	noise := make([]byte, 3<<20+17)
	rand.New(rand.NewSource(1)).Read(noise)
	require.NoError(t, os.WriteFile(file, noise, 0o600))
	return u, New(srv.URL, "nst_x"), file
}

func (u *uploads) holds(t *testing.T, id, file string) {
	t.Helper()
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, u.files[id].Bytes()), "%d of %d bytes", u.files[id].Len(), len(want))
}

func TestAnUploadSaysItsNameAndHowFarItIs(t *testing.T) {
	u, c, file := newUploads(t)
	var told []int64
	id, err := c.Upload(context.Background(), file, func(sent, of int64) {
		require.Equal(t, int64(3<<20+17), of)
		told = append(told, sent)
	})
	require.NoError(t, err)
	u.holds(t, id, file)
	require.Equal(t, "Harbour Müsic.tar.bz2", u.names[id])
	require.Equal(t, []int64{0, 3<<20 + 17}, told)
	again, err := c.Upload(context.Background(), file, nil)
	require.NoError(t, err)
	require.NotEqual(t, id, again, "one that is whole was used, and is not taken up again")
}

func TestAnUploadThatBreaksIsTakenUpWhereItEnded(t *testing.T) {
	u, c, file := newUploads(t)
	u.breaks[1], u.breaks[2] = 1<<20, 5
	u.status[3] = http.StatusServiceUnavailable
	id, err := c.Upload(context.Background(), file, nil)
	require.NoError(t, err)
	require.Equal(t, "upload-1", id)
	require.Equal(t, 1, u.created)
	u.holds(t, id, file)
}

func TestAnUploadIsTakenUpByALaterCommandForTheSameFile(t *testing.T) {
	u, c, file := newUploads(t)
	ctx, cancel := context.WithCancel(context.Background())
	u.breaks[1] = 2 << 20
	sends := 0
	_, err := c.Upload(ctx, file, func(sent, _ int64) {
		if sends++; sends == 1 {
			time.AfterFunc(200*time.Millisecond, cancel)
			for n := 2; n < 50; n++ {
				u.breaks[n] = 0
			}
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	u.mu.Lock()
	u.breaks = map[int]int64{}
	sent := u.files["upload-1"].Len()
	u.mu.Unlock()
	require.GreaterOrEqual(t, sent, 1<<20)

	first := int64(-1)
	id, err := c.Upload(context.Background(), file, func(sent, _ int64) {
		if first < 0 {
			first = sent
		}
	})
	require.NoError(t, err)
	require.Equal(t, "upload-1", id)
	require.Equal(t, int64(sent), first, "nothing is sent twice")
	u.holds(t, id, file)

	// A file that has changed since, or an upload that was swept away, begins from the start.
	u.breaks = map[int]int64{}
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(-time.Hour)))
	id, err = c.Upload(context.Background(), file, nil)
	require.NoError(t, err)
	require.Equal(t, "upload-2", id)
}

func TestAnUploadThatWasSweptAwayBeginsAnew(t *testing.T) {
	u, c, file := newUploads(t)
	info, err := os.Stat(file)
	require.NoError(t, err)
	c.begun(file, info).set("upload-of-last-week")
	id, err := c.Upload(context.Background(), file, nil)
	require.NoError(t, err)
	require.Equal(t, "upload-1", id)
	u.holds(t, id, file)
}

func TestAnUploadThatIsRefusedIsNotTriedAgain(t *testing.T) {
	u, c, file := newUploads(t)
	u.status[1] = http.StatusRequestEntityTooLarge
	_, err := c.Upload(context.Background(), file, nil)
	var p *Problem
	require.ErrorAs(t, err, &p)
	require.Equal(t, http.StatusRequestEntityTooLarge, p.Status)
	require.Equal(t, 1, u.patches)
	_, err = c.Upload(context.Background(), filepath.Dir(file), nil)
	require.ErrorContains(t, err, "is not a file")
	_, err = c.Upload(context.Background(), file+".gone", nil)
	require.ErrorIs(t, err, os.ErrNotExist)
}

// kept serves one archive by ranges, as the service does, and counts what is fetched.
type kept struct {
	content []byte
	etag    string
	fetched int64
}

func (k *kept) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("ETag", k.etag)
	counted := &counting{w, &k.fetched}
	http.ServeContent(counted, r, "archive.zip", time.Time{}, bytes.NewReader(k.content))
}

type counting struct {
	http.ResponseWriter
	n *int64
}

func (c *counting) Write(p []byte) (int, error) {
	*c.n += int64(len(p))
	return c.ResponseWriter.Write(p)
}

// someArchive is the least that opens as a release's archive, and large.
func someArchive(t *testing.T) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	manifest, err := json.Marshal(wire.Manifest{Format: archive.Format, Starter: "music-base", Number: 3})
	require.NoError(t, err)
	noise := make([]byte, 4<<20)
	rand.New(rand.NewSource(2)).Read(noise)
	for name, content := range map[string][]byte{archive.ManifestName: manifest, "files/choir.jpg": noise,
		"files/index.php": []byte("<?php // hello")} {
		f, err := w.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
		require.NoError(t, err)
		_, err = f.Write(content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestOfAnArchiveOnlyWhatIsReadIsFetched(t *testing.T) {
	k := &kept{content: someArchive(t), etag: `"one"`}
	srv := httptest.NewServer(k)
	defer srv.Close()
	a, err := New(srv.URL, "").OpenArchive(context.Background(), "music-base@3")
	require.NoError(t, err)
	require.Equal(t, "music-base@3", a.Manifest.Ref())
	r, err := a.File("files/index.php")
	require.NoError(t, err)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	require.Equal(t, "<?php // hello", string(text))
	require.Less(t, k.fetched, int64(len(k.content)/2))

	k.etag = `"another"`
	r, err = a.File("files/choir.jpg")
	if err == nil {
		_, err = io.ReadAll(r)
	}
	require.ErrorContains(t, err, "the archive changed while it was read")
}

func TestADownloadGoesOnFromWhereItEnded(t *testing.T) {
	k := &kept{content: someArchive(t), etag: `"one"`}
	srv := httptest.NewServer(k)
	defer srv.Close()
	c := New(srv.URL, "")
	var out bytes.Buffer
	half := int64(len(k.content) / 2)
	size, etag, err := c.Download(context.Background(), "music-base@3", half, &out)
	require.NoError(t, err)
	require.Equal(t, `"one"`, etag)
	require.Equal(t, int64(len(k.content)), size)
	require.True(t, bytes.Equal(k.content[half:], out.Bytes()))
	require.Equal(t, int64(len(k.content))-half, k.fetched)
}

func TestASealedCopyIsAskedForWithItsRecipients(t *testing.T) {
	var asked wire.Seal
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "/api/v1/releases/m@1/sealed", r.URL.Path)
		require.NoError(t, json.NewDecoder(r.Body).Decode(&asked))
		io.WriteString(w, "age-encryption.org/v1")
	})
	var out bytes.Buffer
	n, err := c.Sealed(context.Background(), "m@1", wire.Seal{Recipients: []string{"age1x"}}, &out)
	require.NoError(t, err)
	require.Equal(t, int64(out.Len()), n)
	require.Equal(t, []string{"age1x"}, asked.Recipients)
}
