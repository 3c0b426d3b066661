package survey

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/filelist"
	"nestseed/internal/core/glob"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
)

// finder collects findings.
type finder struct {
	mu    sync.Mutex
	found []Finding
}

func (f *finder) find(x Finding) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.found = append(f.found, x)
}

// leave leaves out a file, or, with /** behind it, a folder.
func leave(p string) *packing.Edit {
	folder, all := strings.CutSuffix(p, "/**")
	if p = glob.Quote(folder); all {
		p += "/**"
	}
	return &packing.Edit{LeaveOut: []string{p}}
}

var developerFolders = []string{".git", ".svn", ".hg", ".bzr", "node_modules", "bower_components", ".idea", ".vscode", ".sass-cache"}

func (t *taker) folder(p string) {
	if slices.Contains(developerFolders, path.Base(p)) {
		t.working = append(t.working, p)
	}
}

// findAll makes the findings that need the tree, or the database, as a whole.
func (t *taker) findAll(ctx context.Context) {
	t.findFolders()
	t.findFiles()
	t.findNames()
	t.findSettings()
	t.findLinks()
	t.findParts()
	t.findMedia()
	t.findVersions()
	t.findTables()
	t.findClutter()
	t.s.Findings = append(t.s.Findings, t.found...)
}

// findSettings looks for secrets among the settings that no stock packing list blanks.
func (t *taker) findSettings() {
	id := t.in.Identity
	if id.Settings == nil {
		return
	}
	known := append(id.Kind.Settings.Database.Names(), id.Kind.Settings.Salts...)
	if list, err := packing.Parse([]byte(id.Kind.Lists["starter"])); err == nil {
		known = append(known, list.Blank.Settings...)
	}
	for _, name := range id.Settings.Names() {
		v, err := id.Settings.Get(name)
		if err != nil || slices.Contains(known, name) || (len(v) < shortSetting || !kind.SecretName(name)) && !kind.SecretShape(v) {
			continue
		}
		known = append(known, name)
		t.find(Finding{Severity: warning, What: "what looks like a token or licence", Where: "setting " + name, Bytes: int64(len(v)), Count: 1,
			Why:    "it would be copied to every site made from a release",
			Remedy: &packing.Edit{BlankSettings: []string{name}},
			Advice: "or make it a secret field, so that each site gets its own"})
	}
}

func (t *taker) findFolders() {
	for _, p := range t.working {
		if slices.ContainsFunc(t.working, func(o string) bool { return o != p && strings.HasPrefix(p, o+"/") }) {
			continue // inside another
		}
		files, bytes := t.below(p)
		what, why := "version control", "it holds every earlier state of the files, and what was deleted since"
		if b := path.Base(p); b == "node_modules" || b == "bower_components" {
			what, why = "dependencies of developers", "they are needed to build the site's code, not to run the site"
		} else if b == ".idea" || b == ".vscode" || b == ".sass-cache" {
			what, why = "working folder of developers", "a site does not need it to run"
		}
		t.find(Finding{Severity: warning, What: what, Where: p, Bytes: bytes, Count: files, Why: why, Remedy: leave(p + "/**")})
	}
	for _, c := range t.kind.Caches {
		if files, bytes := t.below(c); files > 0 {
			t.find(Finding{Severity: note, What: "cache", Where: c, Bytes: bytes, Count: files, Why: "it is rebuilt on each site",
				Remedy: leave(c + "/**")})
		}
	}
	sign := t.kind.Detect[0]
	for _, f := range t.s.Files {
		root, nested := strings.CutSuffix(f.Path, "/"+sign)
		if !nested {
			continue
		}
		files, bytes := t.below(root)
		t.find(Finding{Severity: warning, What: "another site inside this one", Where: root, Bytes: bytes, Count: files,
			Why: "it has a database and an address of its own, which this source does not cover", Remedy: leave(root + "/**")})
	}
	for _, d := range t.kind.DropIns {
		if f, found := t.entry(d); found {
			t.find(Finding{Severity: warning, What: "drop-in that caches", Where: d, Bytes: f.Bytes,
				Why: "the CMS loads it by its name; on a new site it serves pages of the source, or nothing at all", Remedy: leave(d)})
		}
	}
}

func (t *taker) entry(p string) (filelist.Entry, bool) {
	i, found := slices.BinarySearchFunc(t.s.Files, p, func(e filelist.Entry, p string) int { return strings.Compare(e.Path, p) })
	if !found {
		return filelist.Entry{}, false
	}
	return t.s.Files[i], true
}

// bulk gathers many files of one sort into one finding.
type bulk struct {
	files, bytes int64
	examples     []string
	rules        map[string]bool
}

func (b *bulk) add(f filelist.Entry, rule string) {
	if b.rules == nil {
		b.rules = map[string]bool{}
	}
	b.files++
	b.bytes += f.Bytes
	if len(b.examples) < 5 {
		b.examples = append(b.examples, f.Path)
	}
	b.rules[rule] = true
}

func (b *bulk) finding(severity, what, why string) Finding {
	return Finding{Severity: severity, What: what, Where: b.examples[0], Bytes: b.bytes, Count: b.files, Examples: b.examples, Why: why,
		Remedy: &packing.Edit{LeaveOut: slices.Sorted(maps.Keys(b.rules))}}
}

var (
	logName  = regexp.MustCompile(`(?i)(\.log(\.\d+)?|^error_log|^debug\.log|^php_errorlog)$`)
	tempName = regexp.MustCompile(`(?i)(\.(tmp|temp|swp|swo|part|bak|old|orig)|~)$|^(\.DS_Store|Thumbs\.db|desktop\.ini|\._.*)$`)
)

// tempRule is a pattern for all files with a name like that of a temporary one.
func tempRule(base string) string {
	if strings.HasPrefix(base, "._") {
		return "**/._*"
	}
	if e := strings.LastIndexAny(base, ".~"); e > 0 {
		return "**/*" + glob.Quote(base[e:])
	}
	return "**/" + glob.Quote(base)
}

// shortened puts a pattern for a folder in the place of the paths of all files below it.
func (t *taker) shortened(paths []string) []string {
	in := map[string]int64{}
	for _, p := range paths {
		for d := path.Dir(p); d != "."; d = path.Dir(d) {
			in[d]++
		}
	}
	whole := map[string]bool{}
	for d, n := range in {
		files, _ := t.below(d)
		whole[d] = files == n
	}
	out := map[string]bool{}
	for _, p := range paths {
		rule := glob.Quote(p)
		for d := path.Dir(p); d != "."; d = path.Dir(d) {
			if whole[d] {
				rule = glob.Quote(d) + "/**"
			}
		}
		out[rule] = true
	}
	return slices.Sorted(maps.Keys(out))
}

func (t *taker) findFiles() {
	var logs, temps bulk
	large := int64(10 << 20)
	known := map[string]bool{}
	for _, f := range t.found {
		known[f.Where] = true
	}
	for _, f := range t.s.Files {
		base := path.Base(f.Path)
		switch {
		case known[f.Path]:
		case logName.MatchString(base):
			rule := "**/" + base
			if strings.HasSuffix(strings.ToLower(base), ".log") {
				rule = "**/*" + base[len(base)-4:]
			}
			logs.add(f, rule)
		case tempName.MatchString(base):
			temps.add(f, tempRule(base))
		case t.s.Totals.Files > 100 && f.Bytes > large && f.Bytes > t.s.Totals.Bytes/20:
			t.find(Finding{Severity: warning, What: "file much larger than the rest", Where: f.Path, Bytes: f.Bytes,
				Why: fmt.Sprintf("it alone is %d %% of all files, and every site made from a release gets it",
					f.Bytes*100/max(1, t.s.Totals.Bytes)), Remedy: leave(f.Path)})
		}
	}
	if logs.files > 0 {
		t.find(logs.finding(warning, "logs", "they tell of the source and its visitors, not of a new site"))
	}
	if temps.files > 0 {
		t.find(temps.finding(note, "temporary files", "editors and systems left them behind"))
	}
}

// refused are the characters and names that Windows does not take ("Naming Files, Paths, and Namespaces").
var (
	refusedChars = `<>:"|?*\`
	refusedNames = regexp.MustCompile(`(?i)^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\..*)?$`)
)

const longPath = 240 // bytes; below what Windows and some archive programs take, with room for a folder in front

func (t *taker) findNames() {
	sorts := map[string]*bulk{}
	note1 := func(what string, f filelist.Entry) {
		if sorts[what] == nil {
			sorts[what] = &bulk{}
		}
		sorts[what].add(f, f.Path)
	}
	folded := map[string]string{}
	for _, f := range t.s.Files {
		base := path.Base(f.Path)
		switch {
		case !utf8.ValidString(f.Path):
			note1("name that is not UTF-8", f)
			continue
		case !norm.NFC.IsNormalString(f.Path):
			note1("name that is not in Unicode's composed form (NFC)", f)
		case strings.ContainsAny(f.Path, refusedChars) || refusedNames.MatchString(base) || strings.HasSuffix(base, ".") ||
			strings.HasSuffix(base, " ") || strings.IndexFunc(base, func(r rune) bool { return r < ' ' }) >= 0:
			note1("name that other systems refuse", f)
		case len(f.Path) > longPath || len(base) > 200:
			note1("name that is too long for other systems", f)
		}
		low := strings.ToLower(f.Path)
		if other, taken := folded[low]; taken {
			note1("names that differ only in case", f)
			if b := sorts["names that differ only in case"]; len(b.examples) < 5 {
				b.examples = append(b.examples, other)
			}
		}
		folded[low] = f.Path
	}
	why := map[string]string{
		"name that is not UTF-8":                            "archives and other systems show it differently, and links to it break",
		"name that is not in Unicode's composed form (NFC)": "it looks the same as another spelling, and links to the other spelling break",
		"name that other systems refuse":                    "an archive with it does not unpack everywhere",
		"name that is too long for other systems":           "an archive with it does not unpack everywhere",
		"names that differ only in case":                    "on some systems one overwrites the other",
	}
	for what, b := range sorts {
		f := b.finding(note, what, why[what])
		f.Remedy.LeaveOut = t.shortened(f.Remedy.LeaveOut)
		if len(f.Remedy.LeaveOut) > maxListed {
			f.Remedy, f.Advice = nil, "rename them on the source; there are too many to leave out one by one"
		}
		t.find(f)
	}
}

// maxListed is how many single paths a remedy has at most.
const maxListed = 20

func (t *taker) findLinks() {
	for _, l := range t.links {
		l.Target = archive.RelativeLink(l.Path, l.Target, t.s.WebRoot)
		switch at := path.Join(path.Dir(l.Path), l.Target); {
		case l.Mode&fs.ModeSymlink == 0:
			t.find(Finding{Severity: note, What: "neither file, folder nor link", Where: l.Path, Why: "it cannot be packed and is left out",
				Remedy: leave(l.Path)})
		case path.IsAbs(l.Target) || at == ".." || strings.HasPrefix(at, "../"):
			t.find(Finding{Severity: warning, What: "link that leaves the site", Where: l.Path, Why: "it points at " + l.Target +
				", which is not part of the site and stays out of a release", Remedy: leave(l.Path)})
		default:
			if _, file := t.entry(at); !file {
				if n, _ := t.below(at); n == 0 {
					t.find(Finding{Severity: note, What: "link that leads nowhere", Where: l.Path, Why: "it points at " + l.Target + ", where nothing is",
						Remedy: leave(l.Path)})
				}
			}
		}
	}
}

// findParts looks for extensions and themes that are installed and not active.
func (t *taker) findParts() {
	for _, p := range t.kind.Extensions {
		active := map[string]bool{}
		for _, v := range t.parts[p.Folder] {
			name, _, _ := strings.Cut(v, "/")
			active[name] = true
		}
		if len(active) == 0 {
			continue // without the database nothing can be said
		}
		sizes := map[string]*Folder{}
		at, _ := slices.BinarySearchFunc(t.s.Files, p.Folder+"/", func(e filelist.Entry, s string) int { return strings.Compare(e.Path, s) })
		for _, f := range t.s.Files[at:] {
			rest, inside := strings.CutPrefix(f.Path, p.Folder+"/")
			if !inside {
				break
			}
			name, _, _ := strings.Cut(rest, "/")
			if active[name] || slices.Contains(p.Skip, name) {
				continue
			}
			if sizes[name] == nil {
				sizes[name] = &Folder{Path: path.Join(p.Folder, name)}
			}
			sizes[name].Files++
			sizes[name].Bytes += f.Bytes
		}
		for _, name := range slices.Sorted(maps.Keys(sizes)) {
			t.find(Finding{Severity: note, What: p.What + " that is not active", Where: sizes[name].Path, Bytes: sizes[name].Bytes,
				Count: sizes[name].Files,
				Why:   "it is packed and placed on every site, and nobody sees it", Remedy: leave(sizes[name].Path)})
		}
	}
}

// findMedia compares the rows about media with the files.
func (t *taker) findMedia() {
	m := t.kind.Media
	if !t.media.asked {
		return
	}
	var missing []string
	for name := range t.media.named {
		if _, found := t.entry(path.Join(m.Folder, name)); !found {
			missing = append(missing, name)
		}
	}
	if slices.Sort(missing); len(missing) > 0 {
		t.find(Finding{Severity: warning, What: "rows that point at files that are missing", Where: m.Table, Count: int64(len(missing)),
			Examples: firstFew(missing),
			Why: "pages that show them have holes, on every site made " +
				"from a release", Advice: "upload the files again or delete the entries on the source"})
	}
	var loose bulk
	at, _ := slices.BinarySearchFunc(t.s.Files, m.Folder+"/", func(e filelist.Entry, s string) int { return strings.Compare(e.Path, s) })
	known := map[string]bool{}
	for _, f := range t.found {
		known[f.Where] = true
	}
	for _, f := range t.s.Files[at:] {
		name, inside := strings.CutPrefix(f.Path, m.Folder+"/")
		if !inside {
			break
		}
		if !t.media.named[name] && !known[f.Path] && mediaEnding[strings.ToLower(path.Ext(name))] {
			loose.add(f, f.Path)
		}
	}
	if loose.files > 0 {
		f := loose.finding(note, "media files that no row points at",
			"nothing shows that a page uses them; a page may still name one by its address")
		f.Remedy.LeaveOut = t.shortened(f.Remedy.LeaveOut)
		if f.Where = m.Folder; len(f.Remedy.LeaveOut) > maxListed {
			f.Remedy, f.Advice = nil, "look through them on the source; there are too many to leave out one by one"
		}
		t.find(f)
	}
}

var mediaEnding = map[string]bool{".jpg": true, ".jpeg": true, ".png": true, ".gif": true, ".webp": true, ".avif": true, ".svg": true,
	".pdf": true, ".mp3": true, ".mp4": true, ".wav": true, ".mov": true, ".doc": true, ".docx": true, ".ogg": true}

var phpVersion = regexp.MustCompile(`PHP/(\d+(?:\.\d+)*)`)

// findVersions compares versions with the kind's table of ends.
func (t *taker) findVersions() {
	for _, v := range t.headers.Values("X-Powered-By") {
		if m := phpVersion.FindStringSubmatch(v); m != nil {
			t.s.Running = m[1]
		}
	}
	for _, have := range []struct{ of, version, where string }{
		{t.s.KindTitle, t.s.Version, "core"}, {t.kind.Runtime.Name, t.s.Running, "web server"}, {t.s.Database.Engine, t.s.Database.Number,
			"database server"},
	} {
		for _, e := range t.kind.Ends {
			if have.version == "" || e.Of != have.of || !e.Covers(have.version) {
				continue
			}
			on, err := time.Parse(time.DateOnly, e.On)
			if err != nil {
				continue
			}
			what := have.of + " " + have.version
			switch left := on.Sub(t.s.TakenAt); {
			case left <= 0:
				t.find(Finding{Severity: warning, What: what + " is past its end of life", Where: have.where,
					Why: "its makers stopped mending faults on " + e.On, Advice: "move the source to a newer version, then survey and build again"})
			case left < 120*24*time.Hour:
				t.find(Finding{Severity: note, What: what + " is near its end of life", Where: have.where, Why: "its makers mend faults until " + e.On,
					Advice: "plan to move the source to a newer version"})
			}
			break
		}
	}
}

func (t *taker) findTables() {
	charsets := map[string][]string{}
	unsafe := []string{}
	for _, tb := range t.s.Tables {
		bare, own := strings.CutPrefix(tb.Name, t.s.Prefix)
		if tb.View {
			continue
		}
		if !own {
			t.find(Finding{Severity: note, What: "table of another prefix", Where: tb.Name, Bytes: tb.DataBytes, Count: tb.Rows,
				Why: "it does not begin with " + t.s.Prefix +
					", so it belongs to something else; it stays out of releases", Advice: "nothing to do, unless it belongs to this site after all"})
			continue
		}
		set, _, _ := strings.Cut(tb.Collation, "_")
		charsets[set] = append(charsets[set], tb.Name)
		if !slices.Contains([]string{"InnoDB", "ROCKSDB", ""}, tb.Engine) {
			unsafe = append(unsafe, tb.Name+" ("+tb.Engine+")")
		}
		if tb.DataBytes > bigTable && tb.DataBytes > t.s.Totals.DatabaseBytes/bigShare {
			f := Finding{Severity: note, What: "table that dominates the database", Where: tb.Name, Bytes: tb.DataBytes, Count: tb.Rows,
				Why: fmt.Sprintf("it is %d %% of all rows' bytes",
					tb.DataBytes*100/max(1, t.s.Totals.DatabaseBytes)), Remedy: &packing.Edit{Empty: []string{bare}}}
			if slices.Contains(t.kind.Tables, bare) {
				f.Remedy, f.Advice = nil, "it holds the site's content; drop rows of it that a new site does not need"
			}
			t.find(f)
		}
	}
	if len(charsets) > 1 {
		var parts []string
		for _, set := range slices.Sorted(maps.Keys(charsets)) {
			parts = append(parts, fmt.Sprintf("%s in %d tables", set, len(charsets[set])))
		}
		t.find(Finding{Severity: note, What: "mixed character sets", Where: "database", Count: int64(len(charsets)), Examples: parts,
			Why: "comparing texts across such tables goes wrong or is slow; a release keeps " +
				"each as it is", Advice: "convert the tables on the source to utf8mb4"})
	}
	if len(unsafe) > 0 {
		t.find(Finding{Severity: warning, What: "tables whose engine has no snapshots", Where: "database", Count: int64(len(unsafe)),
			Examples: firstFew(unsafe),
			Why: "what is written while a release is built may be in one table and not " +
				"in another", Advice: "convert them to InnoDB, or build " +
				"while nobody works on the source"})
	}
}

func (t *taker) findClutter() {
	for _, c := range t.kind.Clutter {
		if c.Rows == nil {
			continue
		}
		if sum := t.s.Rows(*c.Rows); sum.Rows > 0 {
			t.find(Finding{Severity: note, What: c.What, Where: c.Rows.Table, Bytes: sum.Bytes, Count: sum.Rows, Why: c.Why,
				Remedy: &packing.Edit{DropRows: []kind.Rows{*c.Rows}}})
		}
	}
	for _, c := range t.kind.ByName {
		for _, tb := range t.s.Tables {
			bare, own := strings.CutPrefix(tb.Name, t.s.Prefix)
			if own && !tb.View && tb.Rows > 0 && !slices.Contains(t.kind.Tables, bare) &&
				slices.ContainsFunc(c.Tables, func(p string) bool { return packing.Wild(p, bare) }) {
				t.find(Finding{Severity: note, What: c.What, Where: tb.Name, Bytes: tb.DataBytes, Count: tb.Rows, Why: c.Why,
					Remedy: &packing.Edit{Empty: []string{bare}}})
			}
		}
	}
}
