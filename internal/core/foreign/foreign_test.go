package foreign

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/progress"
)

var roomy = Limits{Bytes: 64 << 20, Entries: 10_000, Ratio: 400, RatioFrom: 16 << 20}

func scratch(t testing.TB) (hostfs.FS, string) {
	dir := t.TempDir()
	// Names of fuzzing's folders have characters that addresses give a meaning.
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: (&url.URL{Scheme: "file", Path: dir}).String()})
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	return fsys, dir
}

func unpack(t testing.TB, raw []byte, limits Limits) (string, *Unpacked, error) {
	fsys, dir := scratch(t)
	u, err := Unpack(context.Background(), bytes.NewReader(raw), int64(len(raw)), fsys, "in", limits, progress.Discard)
	return filepath.Join(dir, "in"), u, err
}

// tarOf makes a tar of headers; a header with a size has a body of that many letters.
func tarOf(t testing.TB, headers ...tar.Header) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		if h.Mode == 0 {
			h.Mode = 0o644
		}
		if h.Typeflag == 0 {
			h.Typeflag = tar.TypeReg
		}
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write(bytes.Repeat([]byte("m"), int(h.Size)))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

type zipped struct {
	name string
	mode fs.FileMode
	body string
	edit func(*zip.FileHeader)
}

func zipOf(t testing.TB, entries ...zipped) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		h.SetMode(e.mode | 0o644)
		if e.edit != nil {
			e.edit(h)
		}
		out, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = io.WriteString(out, e.body)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestArchivesOfEverySortAreUnpacked(t *testing.T) {
	plain := tarOf(t, tar.Header{Name: "./", Typeflag: tar.TypeDir}, tar.Header{Name: "./site/", Typeflag: tar.TypeDir},
		tar.Header{Name: "./site/a.php", Size: 5, Mode: 0o755, ModTime: time.Unix(1700000000, 0)},
		tar.Header{Name: "site/" + strings.Repeat("long-", 40) + "ü.txt", Size: 9}, tar.Header{Name: "site/again.php", Typeflag: tar.TypeLink,
			Linkname: "site/a.php"}, tar.Header{Name: "site/link", Typeflag: tar.TypeSymlink, Linkname: "a.php"})
	packed := map[string][]byte{"tar": plain}
	var b bytes.Buffer
	gz := gzip.NewWriter(&b)
	gz.Write(plain)
	require.NoError(t, gz.Close())
	packed["tar.gz"] = bytes.Clone(b.Bytes())
	b.Reset()
	zs, err := zstd.NewWriter(&b)
	require.NoError(t, err)
	zs.Write(plain)
	require.NoError(t, zs.Close())
	packed["tar.zst"] = bytes.Clone(b.Bytes())
	b.Reset()
	x, err := xz.NewWriter(&b)
	require.NoError(t, err)
	x.Write(plain)
	require.NoError(t, x.Close())
	packed["tar.xz"] = bytes.Clone(b.Bytes())
	bz := exec.Command("bzip2", "-c")
	bz.Stdin = bytes.NewReader(plain)
	if out, err := bz.Output(); err == nil {
		packed["tar.bz2"] = out
	}
	packed["zip"] = zipOf(t, zipped{name: "site/a.php", mode: 0o755, body: "mmmmm"}, zipped{name: "site/again.php", body: "mmmmm"},
		zipped{name: "site/" + strings.Repeat("long-", 40) + "ü.txt", body: "mmmmmmmmm"},
		zipped{name: "site/link", mode: fs.ModeSymlink, body: "a.php"})
	for name, raw := range packed {
		t.Run(name, func(t *testing.T) {
			dir, u, err := unpack(t, raw, roomy)
			require.NoError(t, err)
			require.Equal(t, Unpacked{Files: 3, Bytes: 19}, *u)
			text, err := os.ReadFile(filepath.Join(dir, "site/again.php"))
			require.NoError(t, err)
			require.Equal(t, "mmmmm", string(text))
			info, err := os.Stat(filepath.Join(dir, "site/a.php"))
			require.NoError(t, err)
			require.Equal(t, fs.FileMode(0o755), info.Mode().Perm())
			if name != "zip" {
				require.Equal(t, int64(1700000000), info.ModTime().Unix())
			}
			target, err := os.Readlink(filepath.Join(dir, "site/link"))
			require.NoError(t, err)
			require.Equal(t, "a.php", target)
		})
	}
}

// hostile is the corpus of what no honest archive has, with a word of the sentence that refuses it.
func hostile(t testing.TB) map[string]struct {
	raw  []byte
	word string
} {
	type bad = struct {
		raw  []byte
		word string
	}
	reg := func(name string) tar.Header { return tar.Header{Name: name, Size: 1} }
	bomb := zipOf(t, zipped{name: "a/b.txt", body: strings.Repeat("\x00", 40<<20)})
	short := zipOf(t, zipped{name: "a.txt", body: "hello hello hello"})
	lie := bytes.Clone(short)
	// The directory's CRC of the one entry is 16 bytes behind its signature.
	at := bytes.Index(lie, []byte("PK\x01\x02"))
	lie[at+16] ^= 0xff
	gzBomb := func() []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		w.Write(tarOf(t, tar.Header{Name: "zeros", Size: 40 << 20}))
		w.Close()
		return b.Bytes()
	}()
	return map[string]bad{
		"tar absolute":      {tarOf(t, reg("/etc/cron.d/x")), "absolute"},
		"tar up":            {tarOf(t, reg("a/../../x")), "elsewhere"},
		"tar link out":      {tarOf(t, tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "../../etc/passwd"}), "leads out"},
		"tar link absolute": {tarOf(t, tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}), "leads out"},
		"tar through a link": {tarOf(t, tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "d"},
			tar.Header{Name: "d/", Typeflag: tar.TypeDir}, reg("l/x")), "l"},
		"tar hard link out": {tarOf(t, tar.Header{Name: "h", Typeflag: tar.TypeLink, Linkname: "/etc/shadow"}), "not in the archive"},
		"tar hard link to link": {tarOf(t, tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "x"},
			tar.Header{Name: "h", Typeflag: tar.TypeLink, Linkname: "l"}), "no file"},
		"tar device":           {tarOf(t, tar.Header{Name: "dev", Typeflag: tar.TypeChar, Devmajor: 1, Devminor: 3}), "device"},
		"tar pipe":             {tarOf(t, tar.Header{Name: "p", Typeflag: tar.TypeFifo}), "device or pipe"},
		"tar twice":            {tarOf(t, reg("a"), reg("a")), "twice"},
		"tar case":             {tarOf(t, reg("Harp.jpg"), reg("harp.jpg")), "only in case"},
		"tar file below file":  {tarOf(t, reg("a"), reg("a/b")), "a/b"},
		"tar cut":              {tarOf(t, tar.Header{Name: "a", Size: 4000})[:2000], "damaged"},
		"tar.gz bomb":          {gzBomb, "times the size"},
		"zip absolute":         {zipOf(t, zipped{name: "/abs", body: "x"}), "absolute"},
		"zip drive":            {zipOf(t, zipped{name: "C:/x", body: "x"}), "absolute"},
		"zip up":               {zipOf(t, zipped{name: "a/../../b", body: "x"}), "elsewhere"},
		"zip backslash up":     {zipOf(t, zipped{name: `..\..\b`, body: "x"}), "elsewhere"},
		"zip link out":         {zipOf(t, zipped{name: "l", mode: fs.ModeSymlink, body: "../../../etc"}), "leads out"},
		"zip device":           {zipOf(t, zipped{name: "d", mode: fs.ModeDevice | fs.ModeCharDevice, body: "x"}), "device"},
		"zip encrypted":        {zipOf(t, zipped{name: "s", body: "x", edit: func(h *zip.FileHeader) { h.Flags |= 1 }}), "encrypted"},
		"zip twice":            {zipOf(t, zipped{name: "a", body: "x"}, zipped{name: "a", body: "y"}), "twice"},
		"zip case":             {zipOf(t, zipped{name: "A", body: "x"}, zipped{name: "a", body: "y"}), "only in case"},
		"zip bomb":             {bomb, "times the size"},
		"zip wrong sum":        {lie, "checksum"},
		"zip cut":              {short[:len(short)-30], "damaged"},
		"zip NUL":              {zipOf(t, zipped{name: "a\x00b", body: "x"}), "control character"},
		"zip long name":        {zipOf(t, zipped{name: strings.Repeat("x", 300), body: "x"}), "255"},
		"zip no name":          {zipOf(t, zipped{name: "", body: "x"}), "no name"},
		"neither":              {[]byte("GIF89a, a picture and no archive"), "neither"},
		"empty":                {nil, "neither"},
		"gzip of nothing much": {[]byte("\x1f\x8b\x08\x00garbage"), ""},
	}
}

func TestHostileArchivesAreRefusedWithTheEntryAndLeaveNothingOutside(t *testing.T) {
	limits := roomy
	for name, bad := range hostile(t) {
		t.Run(name, func(t *testing.T) {
			fsys, dir := scratch(t)
			_, err := Unpack(context.Background(), bytes.NewReader(bad.raw), int64(len(bad.raw)), fsys, "in", limits, progress.Discard)
			require.Error(t, err)
			require.Contains(t, err.Error(), bad.word)
			entries, err := os.ReadDir(dir)
			require.NoError(t, err)
			for _, e := range entries {
				require.Equal(t, "in", e.Name())
			}
		})
	}
}

func TestLimitsHoldWhateverAnArchiveDeclares(t *testing.T) {
	many := make([]tar.Header, 50)
	for i := range many {
		many[i] = tar.Header{Name: fmt.Sprint("f", i), Size: 1}
	}
	_, _, err := unpack(t, tarOf(t, many...), Limits{Bytes: 1 << 20, Entries: 20, Ratio: 400, RatioFrom: 1 << 20})
	require.ErrorIs(t, err, archive.ErrHostile)
	require.ErrorContains(t, err, "20 entries")
	_, _, err = unpack(t, tarOf(t, tar.Header{Name: "big", Size: 2 << 20}), Limits{Bytes: 1 << 20, Entries: 20, Ratio: 400,
		RatioFrom: 1 << 30})
	require.ErrorContains(t, err, "more than there is room for")
	_, _, err = unpack(t, zipOf(t, zipped{name: "big", body: strings.Repeat("x", 2<<20)}), Limits{Bytes: 1 << 20, Entries: 20, Ratio: 400,
		RatioFrom: 1 << 30})
	require.ErrorContains(t, err, "more than there is room for")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	fsys, _ := scratch(t)
	raw := tarOf(t, tar.Header{Name: "a", Size: 1 << 20})
	_, err = Unpack(ctx, bytes.NewReader(raw), int64(len(raw)), fsys, "in", roomy, progress.Discard)
	require.ErrorIs(t, err, context.Canceled)
}

func TestDumpsAreKnownAndReadThroughTheirCompression(t *testing.T) {
	const script = "-- MariaDB dump 10.19\nCREATE TABLE `a` (`b` int);\n"
	gz := func(s string) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		io.WriteString(w, s)
		w.Close()
		return b.Bytes()
	}
	for name, raw := range map[string][]byte{"plain": []byte(script), "gz": gz(script),
		"zip": zipOf(t, zipped{name: "x/site.sql", body: script}, zipped{name: "__MACOSX/._site.sql", body: "junk"})} {
		fsys, _ := scratch(t)
		r, size, done, err := Script(context.Background(), bytes.NewReader(raw), int64(len(raw)), fsys, "d.sql", roomy, progress.Discard)
		require.NoError(t, err, name)
		text := make([]byte, size)
		_, err = r.ReadAt(text, 0)
		require.NoError(t, err)
		require.Equal(t, script, string(text))
		done()
	}
	for name, raw := range map[string][]byte{"two": zipOf(t, zipped{name: "a.sql", body: script}, zipped{name: "b.sql", body: script}),
		"none": zipOf(t, zipped{name: "a.txt", body: script}), "other": []byte("\x89PNG")} {
		fsys, _ := scratch(t)
		_, _, _, err := Script(context.Background(), bytes.NewReader(raw), int64(len(raw)), fsys, "d.sql", roomy, progress.Discard)
		require.Error(t, err, name)
	}
	bomb := gz(script + strings.Repeat("-", 40<<20))
	fsys, _ := scratch(t)
	_, _, _, err := Script(context.Background(), bytes.NewReader(bomb), int64(len(bomb)), fsys, "d.sql", roomy, progress.Discard)
	require.ErrorIs(t, err, archive.ErrHostile)
}

func FuzzUnpack(f *testing.F) {
	for _, bad := range hostile(f) {
		if len(bad.raw) < 64<<10 {
			f.Add(bad.raw)
		}
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		fsys, dir := scratch(t)
		_, _ = Unpack(context.Background(), bytes.NewReader(raw), int64(len(raw)), fsys, "in", Limits{Bytes: 4 << 20, Entries: 200, Ratio: 100,
			RatioFrom: 1 << 20}, progress.Discard)
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range entries {
			require.Equal(t, "in", e.Name())
		}
	})
}
