package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sqltext"
)

// Existing is a site that stands where a new one goes, and that is kept as a safety copy: its folder beside the
// new one, its database and user as they are.
type Existing struct {
	Database string
	User     string
	Prefix   string
	Admin    string
	Keep     []string // parts of it that the new site takes over, by the kind's names
}

// keepParts returns the kind's parts that are to be kept. Errors: ErrPlan.
func keepParts(k *kind.Kind, names []string) (out []kind.Keep, err error) {
	for _, n := range names {
		i := slices.IndexFunc(k.Keep, func(p kind.Keep) bool { return p.What == n })
		if i < 0 {
			var known []string
			for _, p := range k.Keep {
				known = append(known, p.What)
			}
			return nil, fmt.Errorf("%w: %s sites have no part %q to keep; they have %s", ErrPlan, k.Title, n, strings.Join(known, ", "))
		}
		out = append(out, k.Keep[i])
	}
	return out, nil
}

// freeName returns a name for a database or user that is not taken: the name itself, or with a number.
func freeName(ctx context.Context, name string, most int, taken func(context.Context, string) (bool, error)) (string, error) {
	for i := 1; i < 100; i++ {
		try := name
		if i > 1 {
			suffix := fmt.Sprintf("_%d", i)
			try = name[:min(len(name), most-len(suffix))] + suffix
		}
		exists, err := taken(ctx, try)
		if err != nil {
			return "", err
		}
		if !exists {
			return try, nil
		}
	}
	return "", fmt.Errorf("%w: there are a hundred databases named like %s; retire some", ErrPlan, name)
}

// replacing plans for a site that stands there already.
func (p *Plan) replacing(ctx context.Context, req Request) error {
	old := req.Replace
	parts, err := keepParts(req.Kind, old.Keep)
	if err != nil {
		return err
	}
	for _, part := range parts {
		p.Keeps = append(p.Keeps, part.Title)
	}
	var files, bytes int64
	err = req.FS.Walk(ctx, req.Folder, func(e hostfs.Entry) error {
		if e.Mode.IsRegular() {
			files++
			bytes += e.SizeBytes
		}
		return nil
	}, func(string, error) {})
	if err != nil {
		p.Problems = append(p.Problems, fmt.Sprintf("%s, which is to be replaced, cannot be read: %v", p.Folder, err))
	}
	p.Replaces = fmt.Sprintf("%d files, %s, and database %s", files, archive.SizeText(bytes), old.Database)
	return nil
}

// marker is a file in a prepared site by which it is known from the one it replaces.
func marker(runID string) string { return ".nestseed-run-" + runID }

// exchangeName is the journal's entry for a site that takes the place of another.
func (mk *maker) exchangeName() string {
	return strings.Join([]string{url.QueryEscape(mk.req.Folder), url.QueryEscape(mk.staging), marker(mk.req.RunID)}, " ")
}

// exchange makes the prepared site and the one it replaces change places at one moment.
func (mk *maker) exchange(ctx context.Context) error {
	w, err := mk.req.FS.Create(path.Join(mk.staging, marker(mk.req.RunID)), 0o600)
	if err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	if err := mk.making(ctx, "exchange", mk.exchangeName()); err != nil {
		return err
	}
	if err := mk.req.FS.Exchange(mk.staging, mk.req.Folder); err != nil {
		return err
	}
	mk.result.CopyFolder = mk.staging
	if mk.req.Refresh != nil {
		return mk.resume(mk.staging) // the safety copy is the site as it was
	}
	return nil
}

// undoExchange puts the old site back, if the new one took its place.
func undoExchange(fsys hostfs.FS, name string) error {
	parts := strings.Split(name, " ")
	if len(parts) != 3 {
		return fmt.Errorf("the journal's entry %q cannot be read", name)
	}
	folder, err := url.QueryUnescape(parts[0])
	if err != nil {
		return err
	}
	staging, err := url.QueryUnescape(parts[1])
	if err != nil {
		return err
	}
	_, err = fsys.Stat(path.Join(folder, parts[2]))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // the old one stands there
	}
	if err != nil {
		return err
	}
	return fsys.Exchange(folder, staging)
}

// Settle removes the mark of a site that is kept, when nothing is taken back any more.
func Settle(fsys hostfs.FS, folder, runID string) error {
	err := fsys.RemoveAll(path.Join(folder, marker(runID)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// keepOld takes parts of the old site over into the prepared one.
func (mk *maker) keepOld(ctx context.Context) error {
	if mk.req.Replace == nil {
		return nil
	}
	parts, err := keepParts(mk.req.Kind, mk.req.Replace.Keep)
	if err != nil {
		return err
	}
	for _, part := range parts {
		if err := mk.keepTables(ctx, part); err != nil {
			return fmt.Errorf("keep %s: %w", part.What, err)
		}
		for _, folder := range part.Folders {
			if err := mk.keepFolder(ctx, folder); err != nil {
				return fmt.Errorf("keep %s: %w", part.What, err)
			}
		}
	}
	return nil
}

func (mk *maker) keepTables(ctx context.Context, part kind.Keep) error {
	old, err := mk.req.Server.Open(ctx, mk.req.Replace.Database)
	if err != nil {
		return err
	}
	defer old.Close()
	tables, err := old.Tables(ctx)
	if err != nil {
		return err
	}
	for i := range tables {
		bare, own := strings.CutPrefix(tables[i].Name, mk.req.Replace.Prefix)
		if !own || tables[i].View || !slices.ContainsFunc(part.Tables, func(p string) bool { return p == bare || packing.Wild(p, bare) }) {
			continue
		}
		if !mk.hasTable(bare) {
			if err := mk.makeLike(ctx, tables[i].Name, bare); err != nil {
				return err
			}
		}
		n, err := mk.req.Server.CopyTable(ctx, mk.req.Replace.Database, tables[i].Name, mk.plan.Database, mk.table(bare))
		if err != nil {
			return err
		}
		mk.mu.Lock()
		if mk.result.Kept == nil {
			mk.result.Kept = map[string]int64{}
		}
		mk.result.Kept[part.What] += n
		mk.mu.Unlock()
	}
	return nil
}

// makeLike makes a table that only the old site has.
func (mk *maker) makeLike(ctx context.Context, table, bare string) error {
	_, err := mk.db.Exec(ctx, fmt.Sprintf("CREATE TABLE %s LIKE %s.%s", sqltext.Quote(mk.table(bare)), sqltext.Quote(mk.req.Replace.Database), sqltext.Quote(table)))
	return err
}

func (mk *maker) keepFolder(ctx context.Context, folder string) error {
	from, to := path.Join(mk.req.Folder, folder), path.Join(mk.staging, folder)
	if _, err := mk.req.FS.Stat(from); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err := mk.req.FS.RemoveAll(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return hostfs.CopyTree(ctx, mk.req.FS, from, to, nil)
}

// recount sets numbers that follow from rows that were kept.
func (mk *maker) recount(ctx context.Context) error {
	if mk.req.Replace == nil || len(mk.req.Replace.Keep) == 0 {
		return nil
	}
	for _, r := range mk.req.Kind.Recount {
		if !mk.hasTable(r.Table) || !mk.hasTable(r.Of) {
			continue
		}
		_, err := mk.db.Exec(ctx, fmt.Sprintf("UPDATE %[1]s p SET p.%[2]s = (SELECT COUNT(*) FROM %[3]s c WHERE c.%[4]s = p.%[5]s AND c.%[6]s = ?)", sqltext.Quote(mk.table(r.Table)), sqltext.Quote(r.Column),
			sqltext.Quote(mk.table(r.Of)), sqltext.Quote(r.By), sqltext.Quote(r.Key), sqltext.Quote(r.Where)), r.Is)
		if err != nil {
			return err
		}
	}
	return nil
}

// keepsAccounts reports whether the accounts of the old site are taken over.
func (mk *maker) keepsAccounts() bool {
	if mk.req.Replace == nil {
		return false
	}
	for _, n := range mk.req.Replace.Keep {
		i := slices.IndexFunc(mk.req.Kind.Keep, func(p kind.Keep) bool { return p.What == n })
		if i >= 0 && slices.Contains(mk.req.Kind.Keep[i].Tables, mk.req.Kind.Admin.Rows[0].Table) {
			return true
		}
	}
	return false
}
