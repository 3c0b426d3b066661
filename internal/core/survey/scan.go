package survey

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
)

// What is looked into: text files outside the CMS's own code are read whole; of others that are not small,
// or whose name says archive or dump, the beginning.
const (
	textBytes = 8 << 20 // the largest text file that is looked through; of longer ones, the beginning is
	headBytes = 4 << 10
	headFrom  = 64 << 10 // size from which a file's beginning is looked at, whatever it is called
)

// binary are extensions of files that are certainly not text; they are not opened to look for addresses.
var binary = extensions("jpg jpeg png gif webp avif ico bmp tif tiff mp3 mp4 m4a m4v mov avi webm ogg wav flac pdf woff woff2 ttf otf " +
	"eot mo doc docx xls xlsx ppt pptx odt zip gz bz2 xz zst tgz tar 7z rar phar wasm exe dll so class jar sqlite db")

// packed are extensions that archives and dumps have; such files are looked at whatever their size.
var packed = extensions("zip gz bz2 xz zst tgz tbz tar 7z rar sql dump bak old bkp")

func extensions(list string) map[string]bool {
	m := map[string]bool{}
	for e := range strings.FieldsSeq(list) {
		m["."+e] = true
	}
	return m
}

// signature is how a sort of file begins.
type signature struct {
	offset int
	magic  []byte
	what   string
}

var signatures = []signature{
	{0, []byte("PK\x03\x04"), "ZIP archive"},
	{0, []byte("\x1f\x8b"), "gzip archive"},
	{0, []byte("BZh"), "bzip2 archive"},
	{0, []byte("\xfd7zXZ"), "xz archive"},
	{0, []byte("\x28\xb5\x2f\xfd"), "zstd archive"},
	{0, []byte("7z\xbc\xaf"), "7z archive"},
	{0, []byte("Rar!"), "RAR archive"},
	{257, []byte("ustar"), "tar archive"},
	{0, []byte("age-encryption.org/"), "sealed archive"},
}

// ours is what an archive of a release has as its first name, behind the fixed part of the local header.
var ours = []byte("nestseed.json")

var dumpWords = [][]byte{[]byte("CREATE TABLE"), []byte("INSERT INTO"), []byte("-- MariaDB dump"), []byte("-- MySQL dump"),
	[]byte("PostgreSQL database dump")}

// sortOf tells archives and dumps by how they begin.
func sortOf(head []byte) string {
	if len(head) > 43 && bytes.HasPrefix(head, []byte("PK\x03\x04")) && bytes.HasPrefix(head[30:], ours) {
		return "earlier package"
	}
	for _, s := range signatures {
		if len(head) > s.offset && bytes.HasPrefix(head[s.offset:], s.magic) {
			return s.what
		}
	}
	// PHP and JavaScript that speak SQL begin as programs do; a dump begins with comments or statements.
	trimmed := bytes.TrimLeft(head, "\ufeff \r\n\t")
	if len(trimmed) > 1 && (bytes.HasPrefix(trimmed, []byte("--")) || bytes.HasPrefix(trimmed, []byte("/*")) ||
		bytes.HasPrefix(trimmed, []byte("SET ")) || bytes.HasPrefix(trimmed, []byte("DROP ")) || bytes.HasPrefix(trimmed, []byte("CREATE ")) ||
		bytes.HasPrefix(trimmed, []byte("INSERT "))) &&
		slices.ContainsFunc(dumpWords, func(w []byte) bool { return bytes.Contains(head, w) }) {
		return "database dump"
	}
	return ""
}

var (
	secretFile = regexp.MustCompile(`(?i)^(\.env(\..+)?|id_(rsa|dsa|ecdsa|ed25519)|.+\.(p12|pfx|ppk|jks)|\.htpasswd|\.npmrc|\.netrc|auth\.json|\.pgpass|\.my\.cnf)$`)
	privateKey = []byte("PRIVATE KEY-----")
)

// scan reads what is worth it, on all cores.
func (t *taker) scan(ctx context.Context) error {
	l := &scanner{t: t, secrets: kind.NewSearch(t.in.Identity.Secrets()), addresses: map[string]*bulk{}}
	if t.s.Address != "" {
		var err error
		// Only finding matters here; what would be put in its place does not.
		if l.address, err = rewrite.New(rewrite.Rules{Addresses: t.pairs()}); err != nil {
			return err
		}
	}
	var work []filelist.Entry
	var expected progress.Amount
	for _, f := range t.s.Files {
		if n := l.worth(f); n > 0 {
			work = append(work, f)
			expected = expected.Plus(progress.Amount{Files: 1, Bytes: n})
		}
	}
	t.report.Step("Look into files", expected)
	files := make(chan filelist.Entry, 64)
	group, ctx := parallel.WithContext(ctx)
	for range max(2*runtime.GOMAXPROCS(0), hostfs.Transfers(t.site)) {
		group.Go(func() error {
			buf := make([]byte, 256<<10)
			for f := range files {
				buf = l.file(ctx, f, buf)
			}
			return nil
		})
	}
	group.Go(func() error {
		defer close(files)
		for _, f := range work {
			select {
			case files <- f:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	if err := group.Wait(); err != nil {
		return err
	}
	l.tell()
	return nil
}

// scanner looks into files.
type scanner struct {
	t       *taker
	address *rewrite.Rewriter
	secrets *kind.Search

	mu        sync.Mutex
	addresses map[string]*bulk // files with the old address, by folder
	places    int64
	tooLarge  bulk
}

// worth returns how many bytes of a file are worth reading; 0 for none.
func (l *scanner) worth(f filelist.Entry) int64 {
	ext := strings.ToLower(path.Ext(f.Path))
	switch {
	case f.Bytes == 0:
		return 0
	case f.Area != "core" && !binary[ext] && f.Bytes <= textBytes, secretFile.MatchString(path.Base(f.Path)):
		return min(f.Bytes, textBytes)
	case f.Bytes >= headFrom && f.Area != "core", packed[ext], f.Bytes >= 1<<20:
		return min(f.Bytes, headBytes)
	}
	return 0
}

// file looks into one file and returns the buffer, grown where it had to.
func (l *scanner) file(ctx context.Context, f filelist.Entry, buf []byte) []byte {
	want := l.worth(f)
	defer l.t.report.Add(progress.Amount{Files: 1, Bytes: want})
	r, err := l.t.site.Open(ctx, f.Path)
	if err != nil {
		l.t.find(Finding{Severity: fault, What: "cannot be read", Where: f.Path, Bytes: f.Bytes, Why: err.Error() +
			"; it would be missing from a release", Advice: "let the service read it, or leave it out", Remedy: leave(f.Path)})
		return buf
	}
	defer r.Close()
	if int64(len(buf)) < want {
		buf = make([]byte, want)
	}
	n, _ := io.ReadFull(r, buf[:min(want, headBytes)])
	head := buf[:n]
	if what := sortOf(head); what != "" {
		l.forgotten(f, what)
		return buf
	}
	if secretFile.MatchString(path.Base(f.Path)) {
		l.secret(f, "files of that name hold passwords or keys")
		return buf
	}
	if !rewrite.IsText(head) {
		return buf
	}
	if f.Bytes > textBytes {
		switch {
		case !phpval.Looks(head):
			l.text(f, head)
		case l.address != nil && l.address.Has(head):
			l.mu.Lock()
			l.tooLarge.add(f, f.Path)
			l.mu.Unlock()
		}
		return buf
	}
	if want > headBytes {
		m, _ := io.ReadFull(r, buf[n:want])
		n += m
	}
	l.text(f, buf[:n])
	return buf
}

func (l *scanner) forgotten(f filelist.Entry, what string) {
	why := "archives and dumps in a site are mostly forgotten copies of it; packed along they make every site larger"
	switch what {
	case "database dump":
		why = "a dump holds everything the database had, accounts and passwords too, and anyone who guesses its name can fetch it"
	case "earlier package":
		why = "it is a release that was left in the tree; packed along, every release holds the ones before it"
	}
	l.t.find(Finding{Severity: warning, What: what, Where: f.Path, Bytes: f.Bytes, Why: why, Remedy: leave(f.Path)})
}

func (l *scanner) secret(f filelist.Entry, why string) {
	if l.isSettings(f.Path) {
		l.t.find(Finding{Severity: fault, What: "secret outside the settings file", Where: f.Path, Bytes: f.Bytes,
			Why:    "the site's settings are read from it; a release has it without its secrets",
			Advice: "see that it cannot be fetched over the web"})
		return
	}
	l.t.find(Finding{Severity: fault, What: "secret outside the settings file", Where: f.Path, Bytes: f.Bytes, Why: why, Remedy: leave(f.Path),
		Advice: "if it can be fetched over the web, change that secret"})
}

// isSettings reports whether a file is the settings file, or one that it takes settings from: what they hold is blanked.
func (l *scanner) isSettings(name string) bool {
	id := l.t.in.Identity
	if path.Join(l.t.in.Root, name) == path.Clean(id.SettingsPath) {
		return true
	}
	return id.Settings != nil && id.Settings.Reads(path.Join(l.t.in.FS.Root(), l.t.in.Root, name))
}

func (l *scanner) text(f filelist.Entry, text []byte) {
	isSettings := l.isSettings(f.Path)
	if !isSettings {
		if name, holds := l.secrets.In(text); holds {
			l.secret(f, "it holds the source's "+name)
			return
		}
		if bytes.Contains(text, privateKey) && bytes.Contains(text, []byte("-----BEGIN")) {
			l.secret(f, "it holds a private key")
			return
		}
	}
	if l.address == nil || isSettings {
		return
	}
	if n, _ := l.address.Leftovers(text); n > 0 {
		l.mu.Lock()
		defer l.mu.Unlock()
		dir := firstFolders(f.Path, 3)
		if l.addresses[dir] == nil {
			l.addresses[dir] = &bulk{}
		}
		l.addresses[dir].add(f, f.Path)
		l.places += int64(n)
	}
}

// firstFolders returns the folder of a path, down to so many levels.
func firstFolders(p string, levels int) string {
	parts := strings.Split(path.Dir(p), "/")
	return strings.Join(parts[:min(len(parts), levels)], "/")
}

// tell makes findings of what was counted.
func (l *scanner) tell() {
	if len(l.addresses) > 0 {
		var files, bytes int64
		var examples []string
		for _, dir := range slices.Sorted(maps.Keys(l.addresses)) {
			b := l.addresses[dir]
			files += b.files
			bytes += b.bytes
			if len(examples) < 5 {
				examples = append(examples, fmt.Sprintf("%s (%d)", dir, b.files))
			}
		}
		l.t.find(Finding{Severity: note, What: "the source's address in text files", Where: slices.Sorted(maps.Keys(l.addresses))[0],
			Bytes: bytes, Count: files, Examples: examples,
			Why: fmt.Sprintf("%s is written there, %s; each new site gets its own address instead",
				l.t.s.Address, times(l.places)), Advice: "nothing to do; written as a path it would need no replacing"})
	}
	if l.tooLarge.files > 0 {
		f := l.tooLarge.finding(warning, "the source's address in a very large serialised file",
			fmt.Sprintf("serialised values of over %d MB are placed as they are, so the old address stays in them", textBytes>>20))
		f.Remedy = &packing.Edit{LeaveOut: f.Remedy.LeaveOut}
		l.t.find(f)
	}
}

// pairs are the source's addresses with one that no site has.
func (t *taker) pairs() (pairs []rewrite.Pair) {
	for _, a := range append([]string{t.s.Address}, t.s.Also...) {
		pairs = append(pairs, rewrite.Pair{Old: a, New: "http://new.invalid"})
	}
	return pairs
}

// times says how often something was found.
func times(n int64) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
