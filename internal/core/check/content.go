package check

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/hostfs/ahead"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/core/sqltext"
)

// readers is how many tables, and how many files, are read at a time.
const readers = 2

// inRows is what was found in rows.
type inRows struct {
	mu     sync.Mutex
	old    tally
	broken []finding
	large  []finding
	rows   atomic.Int64
}

// closed keeps a value that is too large to be opened.
func (w *inRows) closed(where string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.large) < mostKept {
		w.large = append(w.large, finding{where, where})
	}
}

func (w *inRows) found(where string, f found) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.old.add(where, f)
}

// rows looks at every value of the site's tables, the largest tables first and some at a time: traces of the origin, and serialised
// values that PHP would refuse.
func (r *runner) rows(ctx context.Context) error {
	if r.site.DB == nil {
		return nil
	}
	all, err := r.site.DB.Tables(ctx)
	if err != nil || len(all) == 0 && r.site.Kind.Settings.Database.None() {
		return err
	}
	tables := slices.DeleteFunc(slices.Clone(all), func(t sitedb.Table) bool {
		return t.View || !strings.HasPrefix(t.Name, r.site.Prefix)
	})
	slices.SortStableFunc(tables, func(a, b sitedb.Table) int { return int(b.DataBytes/1024 - a.DataBytes/1024) })
	w := &inRows{}
	var next atomic.Int64
	group, within := parallel.WithContext(ctx)
	for n := range min(readers, max(1, len(tables))) {
		group.Go(func() (err error) {
			snap, err := r.site.DB.Snapshot(within)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, snap.Close()) }()
			if n == 0 {
				if err := r.programs(within, snap, all, w); err != nil {
					return err
				}
			}
			for {
				i := int(next.Add(1)) - 1
				if i >= len(tables) {
					return nil
				}
				if err := r.table(within, snap, &tables[i], w); err != nil {
					return err
				}
			}
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	w.old.record(r, "old address in rows", fmt.Sprintf("none of %d rows names the address the site came from", w.rows.Load()),
		"rows name the old address", "these values were broken before, or were added since; correct them by hand")
	r.judge(Check{Name: "serialised values", Sentence: "every serialised value can be read",
		Remedy: "correct them in the source, or have them mended when the site is made"}, Warn,
		"values that look like serialised PHP cannot be read", w.broken)
	if len(w.large) > 0 {
		r.judge(Check{Name: packedValues, Remedy: "look into them by hand, or leave their rows out of the packing list"}, Warn,
			fmt.Sprintf("compressed values have more than %d MB inside and were not searched", mostOpened>>20), w.large)
	}
	return nil
}

// table looks at one table: its rows, and the comments and defaults of its definition.
func (r *runner) table(ctx context.Context, snap sitedb.Snapshot, t *sitedb.Table, w *inRows) error {
	name, columns := strings.TrimPrefix(t.Name, r.site.Prefix), t.Stored()
	var rows int64
	err := snap.Rows(ctx, t, func(row [][]byte) error {
		rows++
		for j, v := range row {
			each := func(f found) { w.found(fmt.Sprintf("%s.%s of row %s", t.Name, columns[j], row[0]), f) }
			r.traces.in(v, each)
			if len(r.traces.list) > 0 && open(v, 0, func(inside []byte) { r.traces.in(inside, each) }) {
				w.closed(fmt.Sprintf("%s.%s of row %s", name, columns[j], row[0]))
			}
			if looksSerialised(v) && !canUnserialise(v) {
				where := fmt.Sprintf("%s.%s of row %s", name, columns[j], row[0])
				w.mu.Lock()
				if len(w.broken) < mostKept {
					w.broken = append(w.broken, finding{where, fmt.Sprintf("%s%s: %.60s", r.site.Prefix, where, v)})
				}
				w.mu.Unlock()
			}
		}
		return ctx.Err()
	})
	w.rows.Add(rows)
	r.progress.Add(progress.Amount{Rows: rows})
	if err != nil || len(r.traces.list) == 0 {
		return err
	}
	d, err := snap.Definition(ctx, t)
	if errors.Is(err, sqltext.ErrSyntax) {
		return nil // it is somebody else's, since
	}
	if err == nil {
		r.traces.in([]byte(d.Text(nil)), func(f found) { w.found("definition of "+t.Name, f) })
	}
	return err
}

// programs looks at views, triggers and routines.
func (r *runner) programs(ctx context.Context, snap sitedb.Snapshot, tables []sitedb.Table, w *inRows) error {
	if len(r.traces.list) == 0 {
		return nil
	}
	programs, _, err := snap.Programs(ctx, tables)
	for _, g := range programs {
		r.traces.in([]byte(g.Text(func(name string) string { return name })), func(f found) { w.found(g.String(), f) })
	}
	return err
}

// maxTextBytes is the largest text that is held as a whole.
const maxTextBytes = 8 << 20

// inFiles is what was found in the site's folder.
type inFiles struct {
	rules []hostfs.Entry
	left  []leftover
	pages []string // of ours, that somebody was killed over
	known *known

	mu   sync.Mutex
	old  tally
	read int64
}

// files looks for traces of the origin in the site's text files, some at a time.
func (r *runner) files(ctx context.Context) (*inFiles, error) {
	if r.folder == nil {
		return nil, nil
	}
	w := &inFiles{}
	var err error
	if w.known, err = r.knownFiles(ctx); err != nil {
		return nil, fmt.Errorf("search the files of the release: %w", err)
	}
	list := func(ctx context.Context, each func(hostfs.Entry) error) error { return r.walk(ctx, w, each) }
	folder := r.folder
	if hostfs.Far(r.folder) {
		var entries []hostfs.Entry // the others are read many at a time, once it is known which there are
		if err := r.walk(ctx, w, func(e hostfs.Entry) error { entries = append(entries, e); return nil }); err != nil {
			return nil, fmt.Errorf("list the site's files: %w", err)
		}
		var stop func()
		folder, stop = ahead.Open(ctx, r.folder, entries)
		defer stop()
		list = func(_ context.Context, each func(hostfs.Entry) error) error {
			for _, e := range entries {
				if err := each(e); err != nil {
					return err
				}
			}
			return nil
		}
	}
	if err := r.readFiles(ctx, w, folder, list); err != nil {
		return nil, fmt.Errorf("read the site's files: %w", err)
	}
	if !r.site.AsItIs {
		r.report.Searched, r.report.SearchedAll = w.known.fresh, w.known.passed == 0
	}
	good := fmt.Sprintf("none of %d text files names the address or folder the site came from", w.read)
	switch {
	case w.known.passed > 0 && w.read == 0:
		good = fmt.Sprintf("%d files are as they were when none of them named the address or folder the site came from", w.known.passed)
	case w.known.passed > 0:
		good += fmt.Sprintf("; %d files are as they were when they were searched before", w.known.passed)
	}
	w.old.record(r, "old address in files", good,
		"text files name the old address", "correct it in these files")
	return w, nil
}

// walk calls each for the files that are looked into.
func (r *runner) walk(ctx context.Context, w *inFiles, each func(hostfs.Entry) error) error {
	return r.folder.Walk(ctx, ".", func(e hostfs.Entry) error {
		switch {
		case !e.Mode.IsRegular() || e.Mode&fs.ModeSymlink != 0:
			return nil
		case !strings.Contains(e.Path, "/") && sitepage.Old(e):
			w.pages = append(w.pages, e.Path)
			return nil
		case isRules(e):
			w.rules = append(w.rules, e)
		}
		if len(r.traces.list) == 0 && !odd(e) {
			return nil
		}
		if w.known.passes(e) {
			return nil
		}
		return each(e)
	}, func(string, error) {})
}

// readFiles looks into the files that list gives, some at a time.
func (r *runner) readFiles(ctx context.Context, w *inFiles, folder hostfs.FS,
	list func(ctx context.Context, each func(hostfs.Entry) error) error) error {
	group, ctx := parallel.WithContext(ctx)
	line := make(chan hostfs.Entry, 4*readers)
	for range readers {
		group.Go(func() error {
			buf := make([]byte, 0, 1<<20)
			for e := range line {
				if err := w.in(ctx, r, folder, e, buf); err != nil {
					return err
				}
			}
			return nil
		})
	}
	group.Go(func() error {
		defer close(line)
		return list(ctx, func(e hostfs.Entry) error {
			select {
			case line <- e:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	})
	return group.Wait()
}

// in looks into one file: whether it is something that was left behind, and, if it looks like text, for traces. Of a large one, a piece
// is looked at at a time.
func (w *inFiles) in(ctx context.Context, r *runner, folder hostfs.FS, e hostfs.Entry, buf []byte) error {
	clean := true
	each := func(f found) {
		clean = false
		w.mu.Lock()
		defer w.mu.Unlock()
		w.old.add(e.Path, f)
	}
	f, err := folder.Open(ctx, e.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // the site is live, and has removed it
	}
	if err != nil {
		return err
	}
	defer f.Close()
	head := buf[:8<<10]
	got, err := io.ReadFull(f, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return err
	}
	head = head[:got]
	why := ""
	if odd(e) {
		why = leftBehind(e.Path, head)
	}
	isText := looksLikeText(head)
	w.mu.Lock()
	if why != "" {
		w.left = append(w.left, leftover{e.Path, why})
	}
	if isText {
		w.read++
	}
	w.mu.Unlock()
	if isText && len(r.traces.list) > 0 {
		err = r.inText(e, head, f, buf, each)
	} else {
		err = nil
	}
	if err == nil && clean && why == "" {
		w.known.clean(e)
	}
	return err
}

// inText calls each for the traces in a file that begins with head and goes on with rest.
func (r *runner) inText(e hostfs.Entry, head []byte, rest io.Reader, buf []byte, each func(found)) error {
	if e.SizeBytes > maxTextBytes {
		return inPieces(io.MultiReader(bytes.NewReader(bytes.Clone(head)), rest), buf[:cap(buf)], func(piece []byte) {
			r.traces.in(piece, each)
		})
	}
	text := bytes.NewBuffer(head)
	if _, err := text.ReadFrom(rest); err != nil {
		return err
	}
	r.traces.in(text.Bytes(), each)
	return nil
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
