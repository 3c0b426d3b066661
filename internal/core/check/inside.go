package check

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
)

// visibility compares what pages tell search engines with what was asked.
func (r *runner) visibility(ctx context.Context) {
	home := r.base.String() + "/"
	hidden := false
	if len(r.pages) > 0 {
		hidden = strings.Contains(r.pages[0].robots, "noindex")
	}
	if res, body, err := r.get(ctx, home+"robots.txt"); err == nil && res.StatusCode == 200 {
		for line := range strings.SplitSeq(string(body), "\n") {
			if strings.TrimSpace(strings.ToLower(line)) == "disallow: /" {
				hidden = true
			}
		}
	}
	state := map[bool]string{true: "kept out", false: "let in"}
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
		Remedy: "set the option " + r.site.Kind.Visibility.Option + " in the site's reading settings"})
}

// private asks for files that must not be readable over the web.
func (r *runner) private(ctx context.Context) {
	var open []string
	for _, p := range r.site.Kind.Private {
		res, body, err := r.get(ctx, r.base.String()+"/"+p)
		if err == nil && res.StatusCode == 200 && (bytes.Contains(body, []byte("<?php")) || bytes.Contains(body, []byte("DB_PASSWORD")) ||
			strings.HasSuffix(p, "config") && bytes.Contains(body, []byte("[core]"))) {
			open = append(open, r.base.String()+"/"+p)
		}
	}
	r.result("private files", "settings and working files are not readable over the web", "anyone can read private files",
		"deny these paths in the web server and change the passwords in them", open)
}

// rows looks at every value of the site's tables: traces of the origin, and serialised values that PHP would refuse.
func (r *runner) rows(ctx context.Context) error {
	tables, err := r.site.DB.Tables(ctx)
	if err != nil {
		return err
	}
	snap, err := r.site.DB.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	var leftovers, broken []string
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
				if n, first := r.origin.Leftovers(v); n > 0 {
					leftovers = append(leftovers, fmt.Sprintf("%s.%s of row %s: …%s…", t.Name, columns[j], row[0], first))
				}
				if phpval.Looks(v) && !phpval.Valid(v) {
					broken = append(broken, fmt.Sprintf("%s.%s of row %s: %.60s", t.Name, columns[j], row[0], v))
				}
			}
			return ctx.Err()
		})
		if err != nil {
			return err
		}
	}
	r.progress.Add(progress.Amount{Rows: rows})
	r.result("old address in rows", fmt.Sprintf("none of %d rows names the address the site came from", rows), "rows name the old address",
		"these values were broken before, or were added since; correct them by hand", leftovers)
	if len(broken) > 0 {
		r.record(Check{Name: "serialised values", Result: Warn,
			Sentence: fmt.Sprintf("%d of the values that look like serialised PHP cannot be read", len(broken)), Evidence: broken,
			Remedy: "they were broken in the source too; correct them there"})
		return nil
	}
	r.record(Check{Name: "serialised values", Result: Pass, Sentence: "every serialised value can be read"})
	return nil
}

// maxTextBytes is the largest text that is held as a whole.
const maxTextBytes = 8 << 20

// files looks for traces of the origin in the site's text files.
func (r *runner) files(ctx context.Context) error {
	var found []string
	var left []hostfs.Entry
	var read int64
	buf := make([]byte, 0, 1<<20)
	err := r.folder.Walk(ctx, ".", func(e hostfs.Entry) error {
		if e.Mode.IsRegular() && remains(e.Path) != "" {
			left = append(left, e)
		}
		if !e.Mode.IsRegular() || e.Mode&fs.ModeSymlink != 0 {
			return nil
		}
		n, first, isText, err := r.inText(ctx, e.Path, e.SizeBytes, buf)
		if err != nil || !isText {
			return err
		}
		if read++; n > 0 {
			found = append(found, fmt.Sprintf("%s: %d times, …%s…", e.Path, n, first))
		}
		return nil
	}, func(string, error) {})
	if err != nil {
		return fmt.Errorf("read the site's files: %w", err)
	}
	r.result("old address in files", fmt.Sprintf("none of %d text files names the address or folder the site came from", read),
		"text files name the old address", "correct it in these files", found)
	r.checkRemains(ctx, left)
	return nil
}

// inText counts the traces of the origin in a file and shows the first, if the file looks like text.
func (r *runner) inText(ctx context.Context, name string, size int64, buf []byte) (n int, first string, isText bool, err error) {
	f, err := r.folder.Open(ctx, name)
	if err != nil {
		return 0, "", false, err
	}
	defer f.Close()
	head := buf[:8<<10]
	got, err := io.ReadFull(f, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return 0, "", false, err
	}
	if head = head[:got]; !rewrite.IsText(head) {
		return 0, "", false, nil
	}
	if size > maxTextBytes {
		err = r.origin.Chunks(io.MultiReader(bytes.NewReader(head), f), func(chunk []byte) error {
			m, there := r.origin.Leftovers(chunk)
			if n += m; first == "" {
				first = there
			}
			return nil
		})
		return n, first, true, err
	}
	text := bytes.NewBuffer(head)
	if _, err := text.ReadFrom(f); err != nil {
		return 0, "", false, err
	}
	n, first = r.origin.Leftovers(text.Bytes())
	return n, first, true, nil
}
