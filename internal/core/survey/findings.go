package survey

import (
	"bytes"
	"io"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
)

// minArchiveBytes is the size from which a file is worth a look inside: smaller ones cost nothing.
const minArchiveBytes = 1 << 20

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
}

var dumpWords = [][]byte{[]byte("CREATE TABLE"), []byte("INSERT INTO"), []byte("-- MariaDB dump"), []byte("-- MySQL dump")}

func (t *taker) folder(p string) {
	switch name := path.Base(p); name {
	case ".git", ".svn", ".hg", "node_modules":
		t.find(Finding{Severity: "warning", What: "working folder of developers", Where: p,
			Why: "a site does not need it to run, and it may hold what nobody else should see", Remedy: leave(p)})
	}
}

func leave(p string) *Remedy { return &Remedy{LeaveOut: []string{p + "/**"}} }

// judgeFile looks at how a large file begins: archives and dumps in a tree are mostly forgotten copies of it.
func (t *taker) judgeFile(e hostfs.Entry) {
	f, err := t.in.FS.Open(path.Join(t.in.Root, e.Path))
	if err != nil {
		t.find(Finding{Severity: "fault", What: "cannot be read", Where: e.Path, Bytes: e.SizeBytes, Why: err.Error() + "; it would be missing from a release"})
		return
	}
	defer f.Close()
	head := make([]byte, 4096)
	n, _ := io.ReadFull(f, head)
	head = head[:n]
	what := ""
	for _, s := range signatures {
		if len(head) > s.offset && bytes.HasPrefix(head[s.offset:], s.magic) {
			what = s.what
		}
	}
	if what == "" && slices.ContainsFunc(dumpWords, func(w []byte) bool { return bytes.Contains(head, w) }) {
		what = "database dump"
	}
	if what != "" {
		t.find(Finding{Severity: "warning", What: what, Where: e.Path, Bytes: e.SizeBytes,
			Why: "archives and dumps in a site are mostly forgotten copies of it; packed along they make every site larger", Remedy: &Remedy{LeaveOut: []string{e.Path}}})
	}
}

// judgeTree looks at the tree as a whole: caches, other sites inside, and files far larger than the rest.
func (t *taker) judgeTree() {
	for _, c := range t.in.Identity.Kind.Caches {
		if f := t.folders[c]; f != nil && f.Bytes > 0 {
			t.find(Finding{Severity: "note", What: "cache", Where: c, Bytes: f.Bytes, Why: "it is made anew on each site", Remedy: leave(c)})
		}
	}
	sign := t.in.Identity.Kind.Detect[0]
	for _, f := range t.s.Files {
		root, nested := strings.CutSuffix(f.Path, "/"+sign)
		if !nested {
			continue
		}
		var bytes int64
		for _, g := range t.s.Files {
			if strings.HasPrefix(g.Path, root+"/") {
				bytes += g.Bytes
			}
		}
		t.find(Finding{Severity: "warning", What: "another site inside this one", Where: root, Bytes: bytes,
			Why: "it has a database and an address of its own, which this source does not cover", Remedy: leave(root)})
	}
	for _, f := range t.s.Files {
		if t.s.Totals.Files > 100 && f.Bytes > 10<<20 && f.Bytes > t.s.Totals.Bytes/10 && !slices.ContainsFunc(t.s.Findings, func(x Finding) bool { return x.Where == f.Path }) {
			t.find(Finding{Severity: "warning", What: "file much larger than the rest", Where: f.Path, Bytes: f.Bytes,
				Why: "it alone is more than a tenth of all files", Remedy: &Remedy{LeaveOut: []string{f.Path}}})
		}
	}
}
