package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/sitevalue"
)

// adjust removes what the CMS rebuilds and what would tie the site to where it came from: compiled rewrite rules,
// caches and transients, drop-ins that cache, jobs that were due long ago, mail that must not go out.
func (mk *maker) adjust(ctx context.Context) error {
	if err := mk.forget(ctx); err != nil {
		return err
	}
	if err := mk.recount(ctx); err != nil {
		return err
	}
	for _, c := range mk.req.Kind.Caches {
		if err := mk.discard(ctx, c); err != nil {
			return err
		}
	}
	folders := mk.req.Kind.Folders
	for _, p := range mk.req.Kind.Settings.Folders {
		folders = append(folders[:len(folders):len(folders)], p.Folder)
	}
	for _, f := range folders {
		if err := mk.folder(ctx, f); err != nil {
			return err
		}
	}
	if elsewhere := mk.plan.Address != mk.req.Archive.Manifest.Origin.Address; mk.req.Refresh == nil && elsewhere {
		if err := mk.switchOffCaching(ctx); err != nil {
			return err
		}
		err := mk.eachSub(func(site sitevalue.Site, _ string) error {
			if err := mk.renewFingerprints(ctx, site); err != nil || mk.req.Admin != "" { // this very site at another address
				return err
			}
			return errors.Join(mk.switchOffExtensions(ctx, site), mk.jobs(ctx, site))
		})
		if err != nil {
			return err
		}
	}
	return mk.mail(ctx)
}

// folder makes a folder of the site that its settings name, with those above it, unless it is there.
func (mk *maker) folder(ctx context.Context, name string) error {
	if _, err := mk.stage.Stat(ctx, name); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if above := path.Dir(name); above != "." {
		if err := mk.folder(ctx, above); err != nil {
			return err
		}
	}
	return mk.stage.Mkdir(ctx, name, 0o755)
}

func (mk *maker) discard(ctx context.Context, name string) error {
	err := mk.stage.RemoveAll(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func (mk *maker) did(format string, args ...any) {
	mk.mu.Lock()
	defer mk.mu.Unlock()
	mk.result.Adjustments = append(mk.result.Adjustments, fmt.Sprintf(format, args...))
}

// switchOffCaching removes the drop-ins of the kind: they name the place they were made for, or share a cache with
// the site they came from, and the extension that brought them rebuilds them.
func (mk *maker) switchOffCaching(ctx context.Context) error {
	for _, name := range mk.req.Kind.DropIns {
		if _, err := mk.stage.Stat(ctx, name); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err := mk.discard(ctx, name); err != nil {
			return err
		}
		mk.did("%s was left out: it caches for the place it came from; switch caching on again in the extension it belongs to", name)
	}
	return nil
}

// jobs moves scheduled jobs that were due while the release lay in the store: those that recur begin again shortly,
// one after the other, and those that were to run once are the source's and are dropped.
func (mk *maker) jobs(ctx context.Context, site sitevalue.Site) error {
	j := mk.req.Kind.Jobs
	if j.Option == "" {
		return nil
	}
	raw, found, err := site.Option(ctx, j.Option)
	if err != nil || !found {
		return err
	}
	fresh, moved, dropped, err := laterJobs([]byte(raw), j.Recurs, time.Now())
	if err != nil {
		mk.did("scheduled jobs were left as they are: the option %s cannot be read", j.Option)
		return nil
	}
	if moved+dropped == 0 {
		return nil
	}
	mk.did("of the scheduled jobs that were due, %d run again in the next minutes, and %d, which were to run once on the source, "+
		"were dropped", moved, dropped)
	return site.Set(ctx, mk.db, kind.Value{Option: j.Option}, string(fresh))
}

// laterJobs rewrites a schedule: an array whose keys are times in seconds. A job recurs when there is a number
// named recurs in it.
func laterJobs(raw []byte, recurs string, now time.Time) (fresh []byte, moved, dropped int, err error) {
	members, err := phpval.Members(raw)
	if err != nil {
		return nil, 0, 0, err
	}
	taken := map[string]bool{}
	for _, m := range members {
		taken[m.Key] = true
	}
	at := now.Unix() + 120
	var out []phpval.Member
	for _, m := range members {
		due, err := strconv.ParseInt(m.Key, 10, 64)
		if err != nil || !m.Int || due > now.Unix() {
			out = append(out, m)
			continue
		}
		again := false
		phpval.Each(m.Value, func(path []string, _ string) { again = again || slices.Contains(path, recurs) })
		if !again {
			dropped++
			continue
		}
		for ; taken[strconv.FormatInt(at, 10)]; at += 15 {
		}
		m.Key = strconv.FormatInt(at, 10)
		taken[m.Key] = true
		out = append(out, m)
		moved++
	}
	// The CMS expects the times in order, and what is not a time behind them.
	slices.SortStableFunc(out, func(a, b phpval.Member) int {
		switch {
		case a.Int != b.Int:
			return map[bool]int{true: -1, false: 1}[a.Int]
		case !a.Int:
			return 0
		}
		x, _ := strconv.ParseInt(a.Key, 10, 64)
		y, _ := strconv.ParseInt(b.Key, 10, 64)
		return int(min(max(x-y, -1), 1))
	})
	return phpval.AppendArray(nil, out), moved, dropped, nil
}

// mail writes the file that keeps mail from going out, or sees that none came with the release.
func (mk *maker) mail(ctx context.Context) error {
	m := mk.req.Kind.Mail
	if m.File == "" {
		return nil
	}
	file, err := mk.req.Kind.PlaceIn(ctx, mk.stage, mk.plan.Folder, m.File)
	if err != nil && !mk.req.Quiet {
		return nil // none of ours can be there
	}
	if err != nil {
		return err
	}
	if err := mk.discard(ctx, file); err != nil || !mk.req.Quiet {
		return err
	}
	mk.result.Quiet = true
	return hostfs.WriteFile(ctx, mk.stage, file, []byte(m.Text), 0o644)
}
