package check

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/ahead"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/core/sqltext"
)

// visibility compares what pages tell search engines with what was asked.
func (r *runner) visibility(ctx context.Context) {
	hidden := false
	if len(r.pages) > 0 {
		hidden = strings.Contains(r.pages[0].robots, "noindex")
	}
	hidden = hidden || r.robotsRefused(ctx)
	state := map[bool]string{true: "kept out", false: "let in"}
	if r.site.Kind.Visibility.Place().IsZero() && !r.site.AsItIs {
		r.record(Check{Name: "search engines", Result: Pass, Sentence: fmt.Sprintf("search engines are %s; %s has no setting that says so",
			state[hidden], r.site.Kind.Title)})
		return
	}
	if r.site.AsItIs {
		r.record(Check{Name: "search engines", Result: Pass, Sentence: "search engines are " + state[hidden]})
		return
	}
	if hidden == !r.site.Visible {
		r.record(Check{Name: "search engines", Result: Pass, Sentence: "search engines are " + state[hidden] + ", as asked"})
		return
	}
	r.record(Check{Name: "search engines", Result: Fail, Sentence: fmt.Sprintf("search engines are %s, and should be %s", state[hidden],
		state[!hidden]),
		Remedy: "set the " + r.site.Kind.Visibility.Place().String() + " of the site"})
}

// robotsRefused says whether the site's robots.txt keeps everybody out (RFC 9309 section 2.2).
func (r *runner) robotsRefused(ctx context.Context) bool {
	res, body, err := r.get(ctx, r.base.String()+"/robots.txt")
	if err != nil || res.StatusCode != http.StatusOK {
		return false
	}
	for line := range strings.SplitSeq(string(body), "\n") {
		if strings.TrimSpace(strings.ToLower(line)) == "disallow: /" {
			return true
		}
	}
	return false
}

// private asks for files that must not be readable over the web, and compares what comes with what stands in them.
func (r *runner) private(ctx context.Context) {
	var open []string
	for _, p := range r.site.Kind.Private {
		if r.folder == nil {
			break
		}
		if r.site.Like != nil && r.runs != "" && path.Ext(p) == r.runs {
			continue // shown to be run a moment ago, by a page that lay beside it
		}
		text, err := hostfs.ReadFile(ctx, r.folder, p, maxTextBytes)
		if err != nil || len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		text = bytes.TrimSpace(text)
		res, body, err := r.get(ctx, r.base.String()+"/"+p)
		if err == nil && res.StatusCode == 200 && bytes.Contains(body, text[:min(len(text), 512)]) {
			open = append(open, r.base.String()+"/"+p)
		}
	}
	r.result("private files", "settings and working files are not readable over the web", "anyone can read private files",
		"deny these paths in the web server and change the passwords in them", open)
}

// rows looks at every value of the site's tables: traces of the origin, and serialised values that PHP would refuse.
func (r *runner) rows(ctx context.Context) error {
	tables, err := r.site.DB.Tables(ctx)
	if err != nil || len(tables) == 0 && r.site.Kind.Settings.Database.None() {
		return err
	}
	snap, err := r.site.DB.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	var broken []string
	var old tally
	var rows int64
	for i := range tables {
		t := &tables[i]
		if t.View || !strings.HasPrefix(t.Name, r.site.Prefix) {
			continue
		}
		columns := t.Stored()
		err := snap.Rows(ctx, t, func(row [][]byte) error {
			rows++
			for j, v := range row {
				r.traces.in(v, func(f found) { old.add(fmt.Sprintf("%s.%s of row %s", t.Name, columns[j], row[0]), f) })
				if looksSerialised(v) && !canUnserialise(v) {
					broken = append(broken, fmt.Sprintf("%s.%s of row %s: %.60s", t.Name, columns[j], row[0], v))
				}
			}
			return ctx.Err()
		})
		if err == nil {
			err = r.definition(ctx, snap, t, &old)
		}
		if err != nil {
			return err
		}
	}
	if err := r.programs(ctx, snap, tables, &old); err != nil {
		return err
	}
	r.progress.Add(progress.Amount{Rows: rows})
	old.record(r, "old address in rows", fmt.Sprintf("none of %d rows names the address the site came from", rows),
		"rows name the old address",
		"these values were broken before, or were added since; correct them by hand")
	if len(broken) > 0 {
		r.record(Check{Name: "serialised values", Result: Warn,
			Sentence: fmt.Sprintf("%d of the values that look like serialised PHP cannot be read", len(broken)), Evidence: broken,
			Remedy: "they were broken in the source too; correct them there, or have them mended when the site is made"})
		return nil
	}
	r.record(Check{Name: "serialised values", Result: Pass, Sentence: "every serialised value can be read"})
	return nil
}

// definition looks at a table's comments and defaults.
func (r *runner) definition(ctx context.Context, snap sitedb.Snapshot, t *sitedb.Table, old *tally) error {
	d, err := snap.Definition(ctx, t)
	if errors.Is(err, sqltext.ErrSyntax) {
		return nil // it is somebody else's, since
	}
	if err == nil {
		r.traces.in([]byte(d.Text(nil)), func(f found) { old.add("definition of "+t.Name, f) })
	}
	return err
}

// programs looks at views, triggers and routines.
func (r *runner) programs(ctx context.Context, snap sitedb.Snapshot, tables []sitedb.Table, old *tally) error {
	programs, _, err := snap.Programs(ctx, tables)
	for _, g := range programs {
		r.traces.in([]byte(g.Text(func(name string) string { return name })), func(f found) { old.add(g.String(), f) })
	}
	return err
}

// maxTextBytes is the largest text that is held as a whole.
const maxTextBytes = 8 << 20

// files looks for traces of the origin in the site's text files.
func (r *runner) files(ctx context.Context) error {
	texts := &texts{buf: make([]byte, 0, 1<<20)}
	var left, rules, files []hostfs.Entry
	far := hostfs.Far(r.folder)
	err := r.folder.Walk(ctx, ".", func(e hostfs.Entry) error {
		if e.Mode.IsRegular() && remains(e.Path) != "" {
			left = append(left, e)
		}
		if isRules(e) {
			rules = append(rules, e)
		}
		if !e.Mode.IsRegular() || e.Mode&fs.ModeSymlink != 0 {
			return nil
		}
		if !strings.Contains(e.Path, "/") && sitepage.Old(e) {
			r.oldAsks = append(r.oldAsks, e.Path)
			return nil
		}
		if far {
			files = append(files, e) // they are read many at a time, once it is known which there are
			return nil
		}
		return texts.in(ctx, r, r.folder, e)
	}, func(string, error) {})
	if err == nil {
		err = texts.inAll(ctx, r, files)
	}
	if err != nil {
		return fmt.Errorf("read the site's files: %w", err)
	}
	texts.old.record(r, "old address in files", fmt.Sprintf("none of %d text files names the address or folder the site came from",
		texts.read),
		"text files name the old address", "correct it in these files")
	r.serverRules(ctx, rules)
	r.checkRemains(ctx, left)
	return nil
}

// texts counts the text files that were looked into, and what was found in them.
type texts struct {
	old  tally
	read int64
	buf  []byte
}

// in looks into one file.
func (t *texts) in(ctx context.Context, r *runner, folder hostfs.FS, e hostfs.Entry) error {
	isText, err := r.inText(ctx, folder, e, t.buf, func(f found) { t.old.add(e.Path, f) })
	if isText {
		t.read++
	}
	return err
}

// inAll looks into files of a host that is far.
func (t *texts) inAll(ctx context.Context, r *runner, files []hostfs.Entry) error {
	folder, stop := ahead.Open(ctx, r.folder, files)
	defer stop()
	for _, e := range files {
		if err := t.in(ctx, r, folder, e); err != nil {
			return err
		}
	}
	return nil
}

// inText gives every trace in a file, if the file looks like text. Of a large one, a piece is looked at at a time.
func (r *runner) inText(ctx context.Context, folder hostfs.FS, e hostfs.Entry, buf []byte, each func(found)) (isText bool, err error) {
	f, err := folder.Open(ctx, e.Path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	head := buf[:8<<10]
	got, err := io.ReadFull(f, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return false, err
	}
	if head = head[:got]; !looksLikeText(head) {
		return false, nil
	}
	if e.SizeBytes > maxTextBytes {
		return true, inPieces(io.MultiReader(bytes.NewReader(bytes.Clone(head)), f), buf[:cap(buf)],
			func(piece []byte) { r.traces.in(piece, each) })
	}
	text := bytes.NewBuffer(head)
	if _, err := text.ReadFrom(f); err != nil {
		return false, err
	}
	r.traces.in(text.Bytes(), each)
	return true, nil
}

// looksLikeText reports whether a file that begins so is text: without zero bytes, or in UTF-16 with its mark (RFC 2781).
func looksLikeText(head []byte) bool {
	return bytes.IndexByte(head, 0) < 0 || bytes.HasPrefix(head, []byte("\xff\xfe")) || bytes.HasPrefix(head, []byte("\xfe\xff"))
}

// inPieces calls each with pieces of a text that overlap, so that what crosses an end is whole in one of them.
func inPieces(text io.Reader, buf []byte, each func(piece []byte)) error {
	kept := 0
	for {
		n, err := io.ReadFull(text, buf[kept:])
		each(buf[:kept+n])
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return nil
		}
		if err != nil {
			return err
		}
		kept = copy(buf, buf[kept+n-2*around:kept+n])
	}
}
