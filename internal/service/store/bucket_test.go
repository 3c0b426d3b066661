package store

import (
	"context"
	"fmt"
	"io"
	"math/rand"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"testing/iotest"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"

	"nestseed/demo/stack"
)

const gateway = "github.com/versity/versitygw/cmd/versitygw@v1.8.0"

// s3 runs an S3 server on loopback over a folder. Its program is built once and kept in the user's cache.
func s3(t *testing.T) (address string) {
	t.Helper()
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	bin := filepath.Join(cache, "nestseed", "versitygw")
	if _, err := os.Stat(bin); err != nil {
		if os.Getenv("S3") != "real" {
			t.Skip("the S3 server is not built yet, which takes two minutes; make test-all builds it")
		}
		build := exec.Command("go", "install", gateway)
		build.Dir = t.TempDir() // outside this module, which does not need it
		build.Env = append(os.Environ(), "GOBIN="+filepath.Dir(bin))
		out, err := build.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	address = fmt.Sprintf("127.0.0.1:%d", stack.FreePort())
	t.Setenv("AWS_ACCESS_KEY_ID", "loom")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "ladder-secret")
	cmd := exec.Command(bin, "--access", "loom", "--secret", "ladder-secret", "--port", address, "posix", "--nometa", t.TempDir())
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 30*time.Millisecond)
	return address
}

func TestArchivesLiveInABucketAndAreReadByRanges(t *testing.T) {
	ctx := context.Background()
	address := s3(t)
	place := fmt.Sprintf("s3://%s/archives?tls=off", address)
	drafts := t.TempDir()
	_, err := Open(ctx, place, drafts)
	require.ErrorContains(t, err, `no bucket "archives"; make it`)
	b, err := openBucketForTest(address)
	require.NoError(t, err)
	require.NoError(t, b.MakeBucket(ctx, "archives", minio.MakeBucketOptions{}))

	s, err := Open(ctx, place, drafts)
	require.NoError(t, err)
	whole := make([]byte, 3<<20+5)
	rand.New(rand.NewSource(1)).Read(whole)
	d, err := s.Create(1)
	require.NoError(t, err)
	_, err = d.WriteAt(whole, 0)
	require.NoError(t, err)
	size, err := d.Keep(ctx, "music-base-1.zip")
	require.NoError(t, err)
	require.Equal(t, int64(len(whole)), size)
	require.Empty(t, names(t, drafts), "nothing of the draft stays behind")
	another, err := Open(ctx, place, t.TempDir())
	require.NoError(t, err)
	groups(t, s, another)

	f, size, err := s.Open(ctx, "music-base-1.zip")
	require.NoError(t, err)
	require.Equal(t, int64(len(whole)), size)
	require.NoError(t, iotest.TestReader(f, whole))
	p := make([]byte, 100)
	_, err = f.ReadAt(p, 2<<20)
	require.NoError(t, err)
	require.Equal(t, whole[2<<20:2<<20+100], p)
	_, err = f.ReadAt(p, size-50)
	require.ErrorIs(t, err, io.EOF)

	again, err := s.Create(2)
	require.NoError(t, err)
	defer again.Drop()
	_, err = again.WriteAt([]byte("another"), 0)
	require.NoError(t, err)
	_, err = again.Keep(ctx, "music-base-1.zip")
	require.ErrorIs(t, err, ErrTaken, "nothing in a store is replaced")
	freed, err := s.Remove(ctx, "music-base-1.zip")
	require.NoError(t, err)
	require.Equal(t, int64(len(whole)), freed)
	_, err = s.Remove(ctx, "music-base-1.zip")
	require.ErrorIs(t, err, ErrNotFound)
}

func openBucketForTest(address string) (*minio.Client, error) {
	return minio.New(address, &minio.Options{Creds: credentials.NewEnvAWS()})
}

func TestStoresThatCannotWorkSayWhatToDo(t *testing.T) {
	for place, says := range map[string]string{
		"s3://":                         "s3://host:port/bucket",
		"s3://key:secret@host/bucket":   "AWS_ACCESS_KEY_ID",
		"ftp://host/x":                  "a folder, or s3://",
		"s3://127.0.0.1:1/b?tls=off":    "does not answer",
		"/proc/nestseed/cannot-be-made": "folder of archives",
	} {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		_, err := Open(ctx, place, t.TempDir())
		cancel()
		require.ErrorContains(t, err, says, place)
		require.NotContains(t, err.Error(), "secret@")
	}
}
