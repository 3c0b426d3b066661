package sftp_test

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"

	"nestseed/test/attack"
)

// endless is a server whose folders have files without end.
type endless struct{ n int }

func (e *endless) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method == "List" {
		return e, nil
	}
	return one{}, nil
}

func (e *endless) ListAt(out []os.FileInfo, _ int64) (int, error) {
	for i := range out {
		e.n++
		out[i] = entry{fmt.Sprintf("file-%060d", e.n), 0o644}
	}
	return len(out), nil
}

type one struct{}

func (one) ListAt(out []os.FileInfo, at int64) (int, error) {
	if at > 0 {
		return 0, io.EOF
	}
	out[0] = entry{"www", fs.ModeDir | 0o755}
	return 1, io.EOF
}

type entry struct {
	name string
	mode fs.FileMode
}

func (e entry) Name() string       { return e.name }
func (e entry) Size() int64        { return 1 }
func (e entry) Mode() fs.FileMode  { return e.mode }
func (e entry) ModTime() time.Time { return time.Unix(1_700_000_000, 0) }
func (e entry) IsDir() bool        { return e.mode.IsDir() }
func (e entry) Sys() any           { return nil }

func TestAttackAListingWithoutEnd(t *testing.T) {
	s := startPasswordServer(t, func(ch io.ReadWriteCloser) {
		server := sftp.NewRequestServer(ch, sftp.Handlers{FileList: &endless{}})
		server.Serve() //nolint:errcheck // the line ends
		server.Close()
	})
	fsys, err := s.open(t, "/www", "seven scales")
	require.NoError(t, err)
	began := time.Now()
	_, err = fsys.List(t.Context(), ".")
	require.ErrorContains(t, err, "without end")
	require.Less(t, time.Since(began), time.Minute)
	var now runtime.MemStats
	runtime.ReadMemStats(&now)
	require.Less(t, now.HeapSys, uint64(512<<20), "with the server, which is in this process")
	require.NoError(t, fsys.Close())
	attack.Stopped(t, "SFTP listing without end", "a folder that lists one file after another", "48 MiB of names for one folder")
}
