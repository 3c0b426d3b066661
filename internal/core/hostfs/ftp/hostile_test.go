package ftp

import (
	"bufio"
	"fmt"
	"io/fs"
	"net"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	"nestseed/test/attack"
)

// liar is an FTP server on loopback that lists what it likes. It returns its address, and what it was told to delete.
func liar(t *testing.T, greeting func(net.Conn), list func(dir string) string) (address string, deleted func() []string) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var mu sync.Mutex
	var gone []string
	var sessions sync.WaitGroup
	t.Cleanup(func() { listener.Close(); sessions.Wait() })
	serve := func(conn net.Conn) {
		defer conn.Close()
		if greeting != nil {
			greeting(conn)
			return
		}
		fmt.Fprint(conn, "220 welcome\r\n")
		dir := "/"
		var data net.Listener
		for lines := bufio.NewScanner(conn); lines.Scan(); {
			command, rest, _ := strings.Cut(lines.Text(), " ")
			switch command {
			case "USER":
				fmt.Fprint(conn, "331 password\r\n")
			case "PASS":
				fmt.Fprint(conn, "230 in\r\n")
			case "FEAT":
				fmt.Fprint(conn, "211-Features\r\n MLST type*;size*;\r\n211 End\r\n")
			case "CWD":
				dir = rest
				fmt.Fprint(conn, "250 there\r\n")
			case "PWD":
				fmt.Fprintf(conn, "257 %q\r\n", dir)
			case "EPSV":
				data, _ = net.Listen("tcp", "127.0.0.1:0")
				fmt.Fprintf(conn, "229 (|||%d|)\r\n", data.Addr().(*net.TCPAddr).Port)
			case "MLSD":
				fmt.Fprint(conn, "150 here\r\n")
				if to, err := data.Accept(); err == nil {
					fmt.Fprint(to, list(dir))
					to.Close()
				}
				data.Close()
				fmt.Fprint(conn, "226 done\r\n")
			case "DELE", "RMD":
				mu.Lock()
				gone = append(gone, rest)
				mu.Unlock()
				fmt.Fprint(conn, "250 gone\r\n")
			case "QUIT":
				fmt.Fprint(conn, "221 bye\r\n")
				return
			default:
				fmt.Fprint(conn, "200 yes\r\n")
			}
		}
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			sessions.Go(func() { serve(conn) })
		}
	}()
	return "ftp://loom@" + listener.Addr().String() + "/srv/www", func() []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string(nil), gone...)
	}
}

func TestAttackAServerThatListsNamesThatLeadElsewhere(t *testing.T) {
	for _, name := range []string{"..", ".", "", "../neighbour", "a\x00b", strings.Repeat("x", 300)} {
		address, deleted := liar(t, nil, func(dir string) string {
			if dir == "/srv/www" {
				return "type=dir; site\r\ntype=dir; neighbour\r\n"
			}
			return "type=file;size=1; index.php\r\ntype=dir; " + name + "\r\n"
		})
		fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: address, Password: "x"})
		require.NoError(t, err)
		require.ErrorContains(t, fsys.RemoveAll(t.Context(), "site"), "which no file can have", "%q", name)
		require.Empty(t, deleted(), "%q", name)
		n, problems := 0, 0
		err = fsys.Walk(t.Context(), ".", func(hostfs.Entry) error { n++; return nil }, func(string, error) { problems++ })
		require.NoError(t, err)
		require.Less(t, n, 5, "%q", name)
		require.Positive(t, problems)
		require.NoError(t, fsys.Close())
	}
	attack.Stopped(t, "FTP server that lies", `lists folders called "..", ".", "" and names with "/", NUL or 300 letters; a site is removed and walked`,
		"names that no file can have end the listing, for all protocols; nothing was deleted")
}

func TestAttackAServerWhoseFoldersNeverEnd(t *testing.T) {
	asked := 0
	var mu sync.Mutex
	address, deleted := liar(t, nil, func(string) string {
		mu.Lock()
		defer mu.Unlock()
		asked++
		return "type=dir; a\r\n"
	})
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: address, Password: "x"})
	require.NoError(t, err)
	var told error
	require.NoError(t, fsys.Walk(t.Context(), ".", func(e hostfs.Entry) error {
		require.True(t, e.Mode&fs.ModeDir != 0)
		return nil
	}, func(_ string, err error) { told = err }))
	require.ErrorIs(t, told, hostfs.ErrTooDeep)
	require.Less(t, asked, 2*hostfs.MaxDepth)
	require.ErrorContains(t, fsys.RemoveAll(t.Context(), "a"), "without end")
	require.Empty(t, deleted())
	require.NoError(t, fsys.Close())
	attack.Stopped(t, "FTP server without end", "each folder lists another", fmt.Sprintf("%d levels, then the folder is passed over", hostfs.MaxDepth))
}

func TestAttackAGreetingWithoutEnd(t *testing.T) {
	for what, say := range map[string]string{"line": strings.Repeat("x", 4096), "lines": "220-" + strings.Repeat("x", 200) + "\r\n"} {
		address, _ := liar(t, func(conn net.Conn) {
			for {
				if _, err := fmt.Fprint(conn, say); err != nil {
					return
				}
			}
		}, nil)
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		began := time.Now()
		_, err := hostfs.Open(t.Context(), hostfs.Access{Address: address, Password: "x"})
		require.ErrorContains(t, err, "without end", what)
		runtime.ReadMemStats(&after)
		require.Less(t, time.Since(began), 20*time.Second)
		require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(4<<20), what)
	}
	attack.Stopped(t, "FTP greeting without end", "one line, and many, before TLS and before anybody has logged in", "64 KiB for each answer")
}
