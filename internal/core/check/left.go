package check

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
)

// leftover is a file that should not be in a site that people visit, and why.
type leftover struct{ path, why string }

const askedLeft = 40

// plain are the endings of what sites are made of: these files are not looked into.
var plain = strings.Fields(`.css .js .mjs .map .html .htm .svg .png .jpg .jpeg .gif .webp .avif .ico .bmp .woff .woff2 .ttf .otf .eot .mo .po .pot .json
	.xml .xsl .md .pdf .mp3 .mp4 .m4a .ogg .ogv .wav .webm .mov .vtt .srt .scss .less .ts .tsx .yml .yaml .ini .lock .twig .phtml .inc
	.module .theme .install .vcf .ics .csv .doc .docx .xls .xlsx .ppt .pptx .odt .ods .odp .epub .rtf`)

// smallProgram is how large a program is at most that does one thing alone.
const smallProgram = 400

// odd reports whether a file is looked into for what it is: programs in the site's own folder, small ones anywhere, and what has no
// ending of those that sites are made of.
func odd(e hostfs.Entry) bool {
	ending := strings.ToLower(path.Ext(e.Path))
	if ending == ".php" {
		return !strings.Contains(e.Path, "/") || e.SizeBytes < smallProgram
	}
	return !slices.Contains(plain, ending)
}

var (
	installer = regexp.MustCompile(`(?i)(install|restore|setup|unpack|migrat)[^/]*\.php$`)
	// dumpLine is how a dump of a database begins: a comment that says so, or statements that make or fill tables.
	dumpLine = regexp.MustCompile("(?im)^(-- .*(sql|database|maria).*dump|/\\*!\\d{5} set |insert into [`\"\\w]|create table (if not exists )?[`\"\\w]|copy [\"\\w.]+ \\(.*\\) from stdin;|set names |drop table )")
	archives = map[string]string{"PK\x03\x04": "ZIP", "\x1f\x8b": "gzip", "BZh": "bzip2", "\xfd7zXZ\x00": "xz", "7z\xbc\xaf\x27\x1c": "7-Zip",
		"\x28\xb5\x2f\xfd": "Zstandard", "Rar!": "RAR"} // the first bytes of each format
)

// leftBehind says why a file that begins so should not be there, or "". Installers are known by their names, everything else by what it is:
// archives only in the site's own folder, as people offer others for download.
func leftBehind(name string, head []byte) string {
	top := !strings.Contains(name, "/")
	if strings.EqualFold(path.Ext(name), ".php") {
		switch {
		case top && installer.MatchString(name):
			return "an installer that was left"
		case bytes.Contains(head, []byte("phpinfo(")):
			return "tells everything about the server"
		case bytes.Contains(bytes.ToUpper(head), []byte("SHOW DATABASES")):
			return "opens the database"
		}
		return ""
	}
	switch {
	case bytes.HasPrefix(head, []byte("SQLite format 3\x00")):
		return "a whole database"
	case bytes.HasPrefix(head, []byte("PGDMP")) || looksLikeText(head) && dumpLine.Match(head):
		return "a database dump"
	case strings.Contains(strings.ToLower(path.Base(name)), ".sql."):
		return "a database dump, packed"
	}
	for magic, format := range archives {
		if top && bytes.HasPrefix(head, []byte(magic)) {
			return fmt.Sprintf("an archive (%s), perhaps of the whole site", format)
		}
	}
	if top && len(head) > 262 && string(head[257:262]) == "ustar" { // POSIX.1-2017, pax, ustar interchange format
		return "an archive (tar), perhaps of the whole site"
	}
	return ""
}

// checkLeft asks for what was left in the site's folder: it matters when the web server hands it out.
func (r *runner) checkLeft(ctx context.Context, left []leftover) {
	slices.SortFunc(left, func(a, b leftover) int {
		return cmp.Or(strings.Count(a.path, "/")-strings.Count(b.path, "/"), strings.Compare(a.path, b.path))
	})
	var served []finding
	for _, l := range left[:min(len(left), askedLeft)] {
		u := *r.base
		u.Path = path.Join("/", u.Path, l.path)
		req, err := http.NewRequestWithContext(ctx, http.MethodHead, u.String(), nil)
		if err != nil {
			continue
		}
		if res, _, err := r.send(req); err == nil && res.StatusCode == http.StatusOK {
			served = append(served, finding{l.path, fmt.Sprintf("%s: %s", u.String(), l.why)})
		}
	}
	r.result("left behind", "no dump, archive or installer can be fetched", "anyone can fetch what was left behind",
		"remove these files, and change the passwords that a dump holds", served)
}
