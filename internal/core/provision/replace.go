package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"slices"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
)

// Existing is a site that stands where a new one goes, and that is kept as a safety copy: its folder beside the
// new one, its database and user as they are.
type Existing struct {
	Engine   string // of Database, "" where that is not known
	Database string
	User     string
	Password string // of User
	Prefix   string
	Admin    string
	Shared   *Shared  // code that it shares with others
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
			return name, err
		}
		if !exists {
			return try, nil
		}
	}
	return name, fmt.Errorf("%w: there are a hundred databases named like %s; retire some", ErrPlan, name)
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
	site, err := req.FS.Sub(ctx, req.Folder)
	if err == nil {
		defer site.Close()
		err = site.Walk(ctx, ".", func(e hostfs.Entry) error {
			if e.Mode.IsRegular() {
				files++
				bytes += e.SizeBytes
			}
			return nil
		}, func(string, error) {})
	}
	if err != nil {
		p.Problems = append(p.Problems, fmt.Sprintf("%s, which is to be replaced, cannot be read: %v", p.Folder, err))
	}
	if old.Engine != "" && old.Engine != p.Engine {
		p.Problems = append(p.Problems,
			fmt.Sprintf("the site that stands there has its database on %s, and %s brings one for %s; make a new site "+
				"beside it", old.Engine, p.Release, p.Engine))
	}
	p.Replaces = fmt.Sprintf("%d files, %s, and database %s", files, progress.SizeText(bytes), old.Database)
	return nil
}

// exchangeName is the journal's entry for a site that takes the place of another: the two folders, and which of what lies
// there is the new site, told by the file system and not by anything that stands in it.
func (mk *maker) exchangeName(ctx context.Context) (string, error) {
	id, err := mk.req.FS.ID(ctx, mk.staging)
	return strings.Join([]string{url.QueryEscape(mk.req.Folder), url.QueryEscape(mk.staging), id}, " "), err
}

// exchange makes the prepared site and the one it replaces change places at one moment.
func (mk *maker) exchange(ctx context.Context) error {
	name, err := mk.exchangeName(ctx)
	if err != nil {
		return err
	}
	if err := mk.making(ctx, "exchange", name, ""); err != nil {
		return err
	}
	if err := hostfs.Exchange(ctx, mk.req.FS, mk.staging, mk.req.Folder); err != nil {
		return err
	}
	mk.result.CopyFolder = mk.staging
	if err := errors.Join(reopen(ctx, mk.req.FS, &mk.stage, mk.req.Folder), reopen(ctx, mk.req.FS, &mk.old, mk.staging)); err != nil {
		return err
	}
	if mk.req.Refresh != nil || len(mk.req.Replace.Keep) > 0 {
		return mk.resume(ctx, mk.old) // the safety copy is the site as it was
	}
	return nil
}

// exchanged reads the journal's entry for a site that takes the place of another.
func exchanged(name string) (folder, staging, id string, err error) {
	parts := strings.Split(name, " ")
	if len(parts) != 3 {
		return "", "", "", fmt.Errorf("the journal's entry %q cannot be read", name)
	}
	if folder, err = url.QueryUnescape(parts[0]); err == nil {
		staging, err = url.QueryUnescape(parts[1])
	}
	return folder, staging, parts[2], err
}

// undoExchange puts the old site back, if the new one took its place. The prepared folder has been sealed: whoever was overtaken finds it
// under no name that it knows, so that nothing changes places beside this.
func undoExchange(ctx context.Context, fsys hostfs.FS, name string, still func(context.Context) error) error {
	folder, staging, new, err := exchanged(name)
	if err != nil {
		return err
	}
	staging = sealed(staging)
	if err := hostfs.Settle(ctx, fsys, folder, staging); err != nil {
		return err
	}
	id, err := fsys.ID(ctx, folder)
	if err == nil && id == new {
		if err := still(ctx); err != nil {
			return err
		}
		return hostfs.Exchange(ctx, fsys, folder, staging)
	}
	switch there, err := fsys.ID(ctx, staging); {
	case errors.Is(err, fs.ErrNotExist), err == nil && there == new:
		return nil // the old one is in its folder
	case err != nil:
		return err
	}
	return fmt.Errorf("neither %s nor %s is the site that was made; somebody has put something else there", folder, staging)
}

// openOld opens the database of the site that is replaced, with that site's own account.
func (req *Request) openOld(ctx context.Context) (sitedb.DB, error) {
	db, err := req.Server.OpenAs(ctx, req.Replace.Database, req.Replace.User, req.Replace.Password)
	if err != nil {
		return nil, err
	}
	return sitedb.Guard(db), nil
}

func (mk *maker) keepFolder(ctx context.Context, folder string) error {
	from, err := mk.old.Sub(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer from.Close()
	if err := mk.stage.RemoveAll(ctx, folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	to, err := mk.stage.MakeSub(ctx, folder)
	if err != nil {
		return err
	}
	defer to.Close()
	return hostfs.CopyTree(ctx, from, to, nil)
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
		err := mk.db.Recount(ctx, sitedb.Recount{Table: mk.table(r.Table), Column: r.Column, Key: r.Key, Of: mk.table(r.Of), By: r.By,
			Where: r.Where, Is: r.Is})
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
		if table, _, _, _, ok := mk.req.Kind.Admin.Account(); i >= 0 && ok && slices.Contains(mk.req.Kind.Keep[i].Tables, table) {
			return true
		}
	}
	return false
}
