package ftp

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"nestseed/demo/stack"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/hostfstest"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func start(t *testing.T) *stack.FTP {
	t.Helper()
	s, err := stack.ForTest(t).StartFTP(t.Context())
	if errors.Is(err, stack.ErrRoot) {
		t.Skip(err)
	}
	require.NoError(t, err)
	return s
}

// folder makes an empty folder that the account of the server may write to.
func folder(t *testing.T) string {
	t.Helper()
	top, err := os.MkdirTemp("", "host")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(top) })
	require.NoError(t, os.Chmod(top, 0o755))
	dir := filepath.Join(top, "www")
	require.NoError(t, os.Mkdir(dir, 0o755))
	stack.Give("www-data", dir)
	return dir
}

func TestARealServerDoesWhatEveryHostDoes(t *testing.T) {
	s := start(t)
	hostfstest.Run(t, func(t *testing.T) hostfstest.Host {
		dir := folder(t)
		fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: s.Files(dir), Password: s.Password, Shown: func(string) {}})
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, fsys.Close()) })
		return hostfstest.Host{FS: fsys, Dir: dir, NoLinks: true, Lag: lease}
	})
}

func TestAHostThatShowsAnotherCertificateIsRefused(t *testing.T) {
	s := start(t)
	a := hostfs.Access{Address: s.Files(folder(t)), Password: s.Password}
	a.Shown = func(key string) { a.HostKey = key }
	fsys, err := hostfs.Open(t.Context(), a)
	require.NoError(t, err)
	require.NoError(t, fsys.Close())
	require.Contains(t, hostfs.Fingerprint(a.HostKey), "SHA256:")
	a.Shown = nil
	fsys, err = hostfs.Open(t.Context(), a)
	require.NoError(t, err)
	require.NoError(t, fsys.Close())
	_, err = hostfs.Open(t.Context(), hostfs.Access{Address: a.Address, Password: a.Password})
	require.ErrorIs(t, err, hostfs.ErrHostKey, "a certificate that nobody vouches for is not taken unasked")
	other := start(t)
	a.Address = other.Files(folder(t))
	_, err = hostfs.Open(t.Context(), a)
	require.ErrorIs(t, err, hostfs.ErrHostKey)
}

func TestWhoIsNotLetInIsTold(t *testing.T) {
	s := start(t)
	dir := folder(t)
	for want, a := range map[string]hostfs.Access{
		"does not let stranger in":           {Address: strings.Replace(s.Files(dir), s.User, "stranger", 1), Password: "six scales"},
		"end of a line":                      {Address: strings.Replace(s.Files(dir), s.User, "studio%0d%0aDELE%20x", 1), Password: "x"},
		"give its password":                  {Address: s.Files(dir)},
		"does not answer":                    {Address: "ftps://studio@127.0.0.1:1" + dir, Password: "x"},
		"send the password in the clear":     {Address: "ftp://studio@files.example" + dir, Password: "x"},
		`the option "owner"`:                 {Address: s.Files(dir) + "?owner=x", Password: "x"},
		"folder /no/such/folder of the host": {Address: s.Files("/no/such/folder"), Password: s.Password},
	} {
		a.Shown = func(string) {}
		_, err := hostfs.Open(t.Context(), a)
		require.ErrorContains(t, err, want)
		require.NotContains(t, err.Error(), "six scales")
	}
}

func TestABrokenLineIsMended(t *testing.T) {
	s := start(t)
	line, err := stack.NewLine(s.Port)
	require.NoError(t, err)
	defer line.Close()
	s.Port = line.Port()
	dir := folder(t)
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: s.Files(dir), Password: s.Password, Shown: func(string) {}})
	require.NoError(t, err)
	defer fsys.Close()
	content := strings.Repeat("seven notes of a scale. ", 9<<20/24)
	w, err := fsys.Create(t.Context(), "site/file", 0o644)
	require.NoError(t, err)
	for i := 0; i < len(content); i += 1 << 20 {
		if i == 3<<20 || i == 7<<20 {
			line.Cut(false)
		}
		_, err := w.Write([]byte(content[i:min(len(content), i+1<<20)]))
		require.NoError(t, err)
	}
	line.Cut(false)
	require.NoError(t, w.Close())
	there, err := os.ReadFile(filepath.Join(dir, "site/file"))
	require.NoError(t, err)
	require.True(t, content == string(there), "every byte is there, once")
	line.Cut(false)
	text, err := hostfs.ReadFile(t.Context(), fsys, "site/file", 10<<20)
	require.NoError(t, err)
	require.True(t, content == string(text))
}

func TestListsOfServersAreRead(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for line, want := range map[string]hostfs.Entry{
		"-rw-r-----    1 33       33           1234 Feb 28 09:05 a b.txt":      {Path: "a b.txt", SizeBytes: 1234, Mode: 0o640, ModTime: time.Date(2026, 2, 28, 9, 5, 0, 0, time.UTC)},
		"-rw-r--r-- 1 u g 7 Nov 28 22:05  begins":                              {Path: " begins", SizeBytes: 7, Mode: 0o644, ModTime: time.Date(2025, 11, 28, 22, 5, 0, 0, time.UTC)},
		"drwx------    2 33       33           4096 Nov 28  2024 wp-content":   {Path: "wp-content", Mode: fs.ModeDir | 0o700, ModTime: time.Date(2024, 11, 28, 0, 0, 0, 0, time.UTC)},
		"lrwxrwxrwx    1 0        0              10 Feb 28 09:05 now -> rel/5": {Path: "now", Target: "rel/5", Mode: fs.ModeSymlink | 0o777, ModTime: time.Date(2026, 2, 28, 9, 5, 0, 0, time.UTC)},
		"prw-r--r--    1 0        0               0 Feb 28 09:05 pipe":         {Path: "pipe", Mode: fs.ModeIrregular | 0o644, ModTime: time.Date(2026, 2, 28, 9, 5, 0, 0, time.UTC)},
	} {
		e, ok, err := parseLine(line, now)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, want, e)
	}
	for line, want := range map[string]hostfs.Entry{
		"type=file;size=1234;modify=20260228090501.123;UNIX.mode=0640; a b.txt": {Path: "a b.txt", SizeBytes: 1234, Mode: 0o640, ModTime: time.Date(2026, 2, 28, 9, 5, 1, 0, time.UTC)},
		"Type=dir;Modify=20260228090501;UNIX.mode=0700; wp-content":             {Path: "wp-content", Mode: fs.ModeDir | 0o700, ModTime: time.Date(2026, 2, 28, 9, 5, 1, 0, time.UTC)},
		"type=OS.unix=slink:rel/5;size=5;modify=20260228090501; now":            {Path: "now", Target: "rel/5", Mode: fs.ModeSymlink | 0o777, ModTime: time.Date(2026, 2, 28, 9, 5, 1, 0, time.UTC)},
	} {
		e, ok, err := parseFacts(line)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, want, e)
	}
	for _, line := range []string{"", "total 7", "drwxr-xr-x 2 u g 4096 Feb 28 09:05 ..", "drwxr-xr-x 2 u g 4096 Feb 28 09:05 ."} {
		_, ok, err := parseLine(line, now)
		require.NoError(t, err)
		require.False(t, ok)
	}
	for _, line := range []string{"11-28-26  09:05AM  <DIR>  wp-content", "nonsense", "-rw-r--r-- 1 u g many Feb 28 09:05 x", "-rw- 1 u g 7 Feb 28 09:05 x"} {
		_, _, err := parseLine(line, now)
		require.ErrorContains(t, err, fmt.Sprintf("%q", line))
	}
	_, ok, err := parseFacts("type=cdir;modify=20260228090501; .")
	require.NoError(t, err)
	require.False(t, ok)
	_, _, err = parseFacts("type=file;size=much; x")
	require.Error(t, err)
	require.Equal(t, `/a "b"/c`, quoted(`"/a ""b""/c" is the current directory`))
}

func FuzzLists(f *testing.F) {
	f.Add("-rw-r-----    1 33       33           1234 Feb 28 09:05 a b.txt")
	f.Add("type=OS.unix=slink:rel/5;size=5;modify=20260228090501; now")
	f.Fuzz(func(t *testing.T, line string) {
		parseLine(line, time.Now()) //nolint:errcheck // it must not panic
		parseFacts(line)            //nolint:errcheck // it must not panic
	})
}
