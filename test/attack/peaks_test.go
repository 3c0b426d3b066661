package attack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/png"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/confine"
	"nestseed/internal/core/foreign"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/media"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
)

// What a process that decodes may have in memory at most, in MiB: the service, and a confined one.
const (
	mostService  = 256
	mostConfined = confine.MemoryBytes >> 20
)

// zipOf makes a ZIP archive of entries that are compressed.
func zipOf(entries map[string]string) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, name := range slices.Sorted(maps.Keys(entries)) {
		w, _ := z.Create(name)
		io.WriteString(w, entries[name]) //nolint:errcheck // into memory
	}
	z.Close()
	return out.Bytes()
}

const headOfManifest = `{"format":1,"starter":"x","number":1,"made":"2026-01-01T00:00:00Z","kind":"wordpress"`

func openArchive(from *os.File, size int64) error {
	a, err := archive.Open(from, size)
	if err != nil {
		return err
	}
	if _, err := a.Definitions(); err != nil {
		return err
	}
	_, err = a.Sums()
	return err
}

func unpack(from *os.File, size int64) error {
	dir, err := os.MkdirTemp("", "peak")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	to, err := hostfs.Open(context.Background(), hostfs.Access{Address: "file://" + dir})
	if err != nil {
		return err
	}
	defer to.Close()
	_, err = foreign.Unpack(context.Background(), from, size, to, "x", foreign.DefaultLimits(8<<30), progress.Discard)
	return err
}

// manyEntries is a ZIP of empty files whose directory is as short as it can be.
func manyEntries(n int) []byte {
	var out bytes.Buffer
	local := make([]byte, 30)
	copy(local, "PK\x03\x04")
	out.Write(local)
	from := out.Len()
	head := make([]byte, 46+7)
	copy(head, "PK\x01\x02")
	binary.LittleEndian.PutUint16(head[28:], 7)
	for i := range n {
		copy(head[46:], fmt.Sprintf("%07x", i))
		out.Write(head)
	}
	end := make([]byte, 22)
	copy(end, "PK\x05\x06")
	binary.LittleEndian.PutUint16(end[8:], uint16(n))  //nolint:gosec // modulo 65536, as readers compare it
	binary.LittleEndian.PutUint16(end[10:], uint16(n)) //nolint:gosec // the same
	binary.LittleEndian.PutUint32(end[12:], uint32(out.Len()-from))
	binary.LittleEndian.PutUint32(end[16:], uint32(from))
	out.Write(end)
	return out.Bytes()
}

func gz(text []byte) []byte {
	var out bytes.Buffer
	z, _ := gzip.NewWriterLevel(&out, gzip.BestSpeed)
	z.Write(text) //nolint:errcheck // into memory
	z.Close()
	return out.Bytes()
}

// links is a tar of links whose targets are a megabyte long.
func links() []byte {
	var out bytes.Buffer
	t := tar.NewWriter(&out)
	for i := range 200 {
		t.WriteHeader(&tar.Header{Name: fmt.Sprint("l", i), Typeflag: tar.TypeSymlink, Linkname: "a" + strings.Repeat("/a", 500_000), Format: tar.FormatPAX}) //nolint:errcheck
	}
	t.Close()
	return gz(out.Bytes())
}

// dictionary is an xz stream that says of itself that its dictionary has 4 GiB (xz file format, 5.3.1).
func dictionary() []byte {
	var out bytes.Buffer
	w, _ := xz.WriterConfig{DictCap: 1 << 20}.NewWriter(&out)
	w.Write(bytes.Repeat([]byte("lessons "), 1<<20)) //nolint:errcheck // into memory
	w.Close()
	text := out.Bytes()
	// The header of the first block is behind the 12 bytes of the stream's: size, flags, filter 0x21, one byte of properties, the dictionary.
	size := (int(text[12]) + 1) * 4
	at := bytes.Index(text[12:12+size], []byte{0x21, 0x01}) + 12 + 2
	text[at] = 40
	binary.LittleEndian.PutUint32(text[12+size-4:], crc32.ChecksumIEEE(text[12:12+size-4]))
	return text
}

func window() []byte {
	var out bytes.Buffer
	w, _ := zstd.NewWriter(&out, zstd.WithWindowSize(zstd.MaxWindowSize))
	w.Write(bytes.Repeat([]byte("lessons "), 1<<20)) //nolint:errcheck // into memory
	w.Close()
	return out.Bytes()
}

func picture(img image.Image) []byte {
	var out bytes.Buffer
	(&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&out, img) //nolint:errcheck // into memory
	return out.Bytes()
}

// whole feeds what reads a text as a whole.
func whole(feed func([]byte) error) func(*os.File, int64) error {
	return func(from *os.File, _ int64) error {
		text, err := io.ReadAll(from)
		if err != nil {
			return err
		}
		return feed(text)
	}
}

func shrink(content []byte) error {
	f, err := media.Read("logo.png", content)
	if err != nil {
		return err
	}
	_, err = f.Sizes(context.Background(), []media.Size{{Name: "a", Width: 2560, Height: 2560}, {Name: "b", Width: 1536, Height: 1536},
		{Name: "c", Width: 300, Height: 300}})
	return err
}

// greet lets an FTP server speak that does not end.
func greet(text string) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer l.Close()
	go func() {
		if conn, err := l.Accept(); err == nil {
			for err == nil {
				_, err = io.WriteString(conn, text)
			}
			conn.Close()
		}
	}()
	_, err = hostfs.Open(context.Background(), hostfs.Access{Address: "ftp://loom@" + l.Addr().String() + "/www", Password: "x"})
	return err
}

// decoders are fed with the largest thing of the smallest size that was found for each. make makes it, and it is not counted.
var decoders = map[string]struct {
	make  func() []byte
	feed  func(from *os.File, size int64) error
	works bool // it is no more than what is meant to be read
}{
	"manifest of an archive, empty tables": {func() []byte {
		return zipOf(map[string]string{archive.ManifestName: headOfManifest + `,"tables":[` + strings.Repeat("{},", 5_000_000) + `{}]}`})
	}, openArchive, false},
	"manifest of an archive, brackets": {func() []byte {
		return zipOf(map[string]string{archive.ManifestName: headOfManifest + `,"x":` + strings.Repeat("[", 5_000_000)})
	}, openArchive, false},
	"schema of an archive, blanks": {func() []byte {
		return zipOf(map[string]string{archive.ManifestName: headOfManifest + "}", archive.SumsName: "", archive.SchemaName: strings.Repeat(" ", 255<<20)})
	}, openArchive, false},
	"schema of an archive, as large as one may be": {func() []byte {
		return zipOf(map[string]string{archive.ManifestName: headOfManifest + "}", archive.SumsName: "", archive.SchemaName: strings.Repeat(" ", 32<<20)})
	}, openArchive, true},
	"ZIP of 1,500,000 entries":                          {func() []byte { return manyEntries(1_500_000) }, unpack, false},
	"ZIP of as many entries as one may have":            {func() []byte { return manyEntries(499_999) }, openArchive, false},
	"tar.gz of links of 1 MB":                           {links, unpack, false},
	"tar.xz with a dictionary of 4 GiB":                 {dictionary, unpack, false},
	"tar.zst with the largest window":                   {window, unpack, false},
	"PNG of 16 bits":                                    {func() []byte { return picture(image.NewNRGBA64(image.Rect(0, 0, 5000, 5000))) }, whole(shrink), false},
	"PNG of 8 bits, as large as one may be":             {func() []byte { return picture(image.NewNRGBA(image.Rect(0, 0, 5000, 5000))) }, whole(shrink), true},
	"PNG of 16 bits, as large as one may be":            {func() []byte { return picture(image.NewNRGBA64(image.Rect(0, 0, 3600, 3600))) }, whole(shrink), true},
	"PNG, wide":                                         {func() []byte { return picture(image.NewGray(image.Rect(0, 0, 25_000_000, 1))) }, whole(shrink), false},
	"compressed value of a row":                         {func() []byte { return gzipped(1 << 30) }, whole(value), false},
	"compressed value of a row, as large as one may be": {func() []byte { return gzipped(16<<20 - 1) }, whole(value), true},
	"packing list, brackets":                            {func() []byte { return bytes.Repeat([]byte("["), 40_000) }, whole(list), false},
	"packing list, marks of lists":                      {func() []byte { return bytes.Repeat([]byte("- "), 20_000) }, whole(list), false},
	"packing list, indentation":                         {indented, whole(list), false},
	"packing list, references":                          {references, whole(list), false},
	"definition of a kind, brackets":                    {func() []byte { return bytes.Repeat([]byte("{"), 40_000) }, whole(definition), false},
	"FTP greeting without end, one line":                {func() []byte { return bytes.Repeat([]byte("x"), 64<<10) }, whole(func(b []byte) error { return greet(string(b)) }), false},
	"FTP greeting without end, lines":                   {func() []byte { return []byte("220-" + strings.Repeat("x", 60_000) + "\r\n") }, whole(func(b []byte) error { return greet(string(b)) }), false},
}

// value rewrites a value of a row.
func value(packed []byte) error {
	r, err := rewrite.New(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "http://alder-valley.example"}}})
	if err != nil {
		return err
	}
	w := r.Worker()
	if out := w.Value(nil, packed); w.Tally().Unopened > 0 || bytes.Equal(out, packed) {
		return errors.New("it is left as it is")
	}
	return nil
}

// gzipped is a text of that size, full of the address that is replaced.
func gzipped(size int) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	text := bytes.Repeat([]byte("see http://base.localhost/lessons "), 1<<15)
	for size > 0 {
		n, _ := w.Write(text[:min(size, len(text))])
		size -= n
	}
	w.Close()
	return out.Bytes()
}

func list(text []byte) error       { _, err := packing.Parse(text); return err }
func definition(text []byte) error { _, err := kind.Parse(text); return err }

func indented() []byte {
	var out bytes.Buffer
	for i := range 700 {
		fmt.Fprintf(&out, "%sa:\n", strings.Repeat(" ", i))
	}
	return out.Bytes()
}

func references() []byte {
	out := "a0: &a0 [x, x, x, x, x, x, x, x, x]\n"
	for i := range 60 {
		out += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i), 9), ", "))
	}
	return []byte(out)
}

// highest reads the highest memory of a process and of the processes that it has waited for, in MiB (proc(5), getrusage(2)).
var highest = regexp.MustCompile(`VmHWM:\s+(\d+) kB`)

// TestPeak decodes one thing, in a process of its own.
func TestPeak(t *testing.T) {
	name := os.Getenv("NESTSEED_PEAK")
	if name == "" {
		t.Skip("TestAttackTheMemory runs it")
	}
	info, err := os.Stdin.Stat()
	require.NoError(t, err)
	err = decoders[name].feed(os.Stdin, info.Size())
	status, readErr := os.ReadFile("/proc/self/status")
	require.NoError(t, readErr)
	peak, _ := strconv.Atoi(string(highest.FindSubmatch(status)[1]))
	fmt.Printf("PEAK %d %d\n", peak>>10, childrenPeak())
	fmt.Printf("SAID %v\n", err)
}

func TestAttackTheMemory(t *testing.T) {
	exe, err := os.Executable()
	require.NoError(t, err)
	for _, name := range slices.Sorted(maps.Keys(decoders)) {
		if os.Getenv("ATTACKS") != "all" && (strings.HasPrefix(name, "PNG") || strings.HasPrefix(name, "ZIP")) {
			continue // what takes long to make; make attack makes it
		}
		text := decoders[name].make()
		cmd := exec.Command(exe, "-test.run", "^TestPeak$", "-test.v")
		cmd.Env = append(os.Environ(), "NESTSEED_PEAK="+name, "GOMEMLIMIT=220MiB")
		file := filepath.Join(t.TempDir(), "input")
		require.NoError(t, os.WriteFile(file, text, 0o600))
		in, err := os.Open(file)
		require.NoError(t, err)
		cmd.Stdin = in
		out, err := cmd.CombinedOutput()
		in.Close()
		os.Remove(file)
		require.NoError(t, err, "%s: %s", name, out)
		var own, confined int
		_, line, _ := strings.Cut(string(out), "PEAK ")
		_, err = fmt.Sscan(line, &own, &confined)
		require.NoError(t, err, string(out))
		_, said, _ := strings.Cut(string(out), "SAID ")
		said, _, _ = strings.Cut(said, "\n")
		require.Equal(t, decoders[name].works, said == "<nil>", "%s: %s", name, said)
		require.LessOrEqual(t, own, mostService, "%s: %s", name, out)
		require.LessOrEqual(t, confined, mostConfined+64, "%s: %s", name, out) // with its program
		by := "read"
		if said != "<nil>" {
			by = said
		}
		if confined > 0 {
			by = fmt.Sprintf("%d MiB, confined %d MiB: %s", own, confined, by)
		} else {
			by = fmt.Sprintf("%d MiB: %s", own, by)
		}
		Stopped(t, "memory: "+name, fmt.Sprintf("%d kB", len(text)>>10), by)
	}
}
