package sidebyside

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/gobwas/ws"
	"github.com/gobwas/ws/wsutil"
	"github.com/stretchr/testify/require"

	"nestseed/test/attack"
)

func TestAttackTheBrowserOverLoopback(t *testing.T) {
	b, err := newBridge()
	require.NoError(t, err)
	served := make(chan struct{})
	go func() { defer close(served); b.serve() }()
	at := "http://" + b.listener.Addr().String()
	for _, path := range []string{"/json/version", "/json/list", "/devtools/browser/x", "/" + strings.Repeat("A", len(b.path)-1)} {
		res, err := http.Get(at + path)
		if err == nil {
			res.Body.Close()
			require.NotEqual(t, http.StatusOK, res.StatusCode, path)
		}
		_, _, _, err = ws.Dial(context.Background(), strings.Replace(at, "http", "ws", 1)+path)
		require.Error(t, err, path)
	}
	// The browser's end of the pipe, and the one that may drive it.
	go func() {
		text := make([]byte, 5)
		io.ReadFull(b.theirs[0], text)                    //nolint:errcheck // compared below
		b.theirs[1].Write(append([]byte("to "), text...)) //nolint:errcheck // read below
	}()
	conn, _, _, err := ws.Dial(context.Background(), b.address())
	require.NoError(t, err)
	require.NoError(t, wsutil.WriteClientText(conn, []byte("lead")))
	got, err := wsutil.ReadServerText(conn)
	require.NoError(t, err)
	require.Equal(t, "to lead", string(got))
	_, _, _, err = ws.Dial(context.Background(), b.address())
	require.Error(t, err, "there is one who drives")
	require.NoError(t, conn.Close())
	b.started()
	<-served
	attack.Stopped(t, "drive the browser", "its pages of debugging on loopback, a path that is guessed, a second connection",
		"a pipe; one connection at an address of 52 random characters")
}
