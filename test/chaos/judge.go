package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"nestseed/demo/stack"
	"nestseed/internal/wire"
)

// standing is a sum over every file and row of a site; "" for one that does not stand. Passwords are part of it: a run that
// was taken back leaves those that were.
func (w *world) standing(ctx context.Context, s *wire.Site) (string, error) {
	if !stands(s) {
		return "", nil
	}
	out, err := exec.CommandContext(ctx, "sh", "-c",
		fmt.Sprintf(`cd '%s' && { find . -printf '%%p %%y %%m %%l\n' | sort; find . -type f -print0 | sort -z | xargs -0 sha256sum; MYSQL_PWD='%s' mariadb-dump --skip-dump-date --skip-comments -h127.0.0.1 -P%d -u%s %s; } | sha256sum`,
			s.Folder, w.stack.AdminPassword, w.stack.DatabasePort, w.stack.AdminUser, s.Database)).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("look at the site: %w\n%s", err, out)
	}
	return s.Database + " " + string(out), nil
}

// judge looks whether everything is before or after, and nothing in between.
func (w *world) judge(ctx context.Context, a action, was *wire.Site, before string, run wire.Run) error {
	now, err := w.site(ctx)
	if err != nil {
		return err
	}
	var faults []error
	if a.site && run.Status != "done" {
		after, err := w.standing(ctx, now)
		if err == nil && after != before {
			err = fmt.Errorf("%s %s, and the site is not as it was: %.60s before, %.60s after", a.name, run.Status, before, after)
		}
		faults = append(faults, err)
	}
	if stands(now) {
		faults = append(faults, w.answers(ctx, now))
	}
	conn, err := w.records(ctx)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	faults = append(faults, w.onServer(ctx, conn), w.onDisk(ctx, conn), w.inStore(ctx, conn), w.releases(ctx), w.doctor(ctx))
	return errors.Join(faults...)
}

// answers asks the site for its first page, and for one that its database has.
func (w *world) answers(ctx context.Context, s *wire.Site) error {
	for _, page := range []string{"/", "/wp-login.php"} {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Address+page, nil)
		if err != nil {
			return err
		}
		res, err := stack.Client().Do(req)
		if err != nil {
			return err
		}
		res.Body.Close()
		if res.StatusCode != http.StatusOK {
			return fmt.Errorf("%s%s answers %s", s.Address, page, res.Status)
		}
	}
	return nil
}

// texts returns the first column of a query's rows.
func texts(ctx context.Context, conn *pgx.Conn, query string) ([]string, error) {
	rows, err := conn.Query(ctx, query)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// onServer compares databases and users on the server with those that a record names.
func (w *world) onServer(ctx context.Context, conn *pgx.Conn) error {
	for _, c := range []struct{ what, there, named string }{
		{"database", "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE 'ns\\_%'", "database"},
		{"user", "SELECT DISTINCT User FROM mysql.user WHERE User LIKE 'ns\\_%'", "db_user"},
	} {
		there, err := column(w.admin, c.there)
		if err != nil {
			return err
		}
		named, err := texts(ctx, conn,
			fmt.Sprintf("SELECT %[1]s FROM sites WHERE retired_at IS NULL UNION SELECT %[1]s FROM site_copies WHERE folder <> ''", c.named))
		if err != nil {
			return err
		}
		if err := same(c.what, there, named); err != nil {
			return err
		}
	}
	return nil
}

func column(db *sql.DB, query string) (out []string, err error) {
	rows, err := db.Query(query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var v string
		if err := rows.Scan(&v); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

// onDisk compares the folders of the host with those that a record names.
func (w *world) onDisk(ctx context.Context, conn *pgx.Conn) error {
	entries, err := os.ReadDir(w.stack.Sites())
	if err != nil {
		return err
	}
	var there []string
	for _, e := range entries {
		if e.Name() != "base" {
			there = append(there, e.Name())
		}
	}
	named, err := texts(ctx, conn, "SELECT folder FROM sites WHERE retired_at IS NULL UNION SELECT folder FROM site_copies WHERE folder <> ''")
	if err != nil {
		return err
	}
	return same("folder", there, named)
}

// inStore compares the archives in the store with those that a record names. What nothing names is swept at a start.
func (w *world) inStore(ctx context.Context, conn *pgx.Conn) error {
	files, err := filepath.Glob(filepath.Join(w.store(), "*"))
	if err != nil {
		return err
	}
	var there []string
	for _, f := range files {
		if name := filepath.Base(f); name != "uploads" && name != "screenshots" {
			there = append(there, strings.TrimSuffix(name, ".parts"))
		}
	}
	named, err := texts(ctx, conn,
		"SELECT archive FROM releases WHERE archive <> '' UNION SELECT archive FROM site_copies WHERE archive <> ''")
	if err != nil {
		return err
	}
	written, err := texts(ctx, conn, "SELECT name FROM stored")
	if err != nil {
		return err
	}
	for _, name := range named {
		if !slices.Contains(there, name) {
			return fmt.Errorf("a record names the archive %s, which is not in the store", name)
		}
	}
	for _, name := range there {
		if !slices.Contains(written, name) {
			return fmt.Errorf("the archive %s is in the store, and no record says that it was written", name)
		}
	}
	return nil
}

func same(what string, there, named []string) error {
	slices.Sort(there)
	slices.Sort(named)
	if !slices.Equal(slices.Compact(there), slices.Compact(named)) {
		return fmt.Errorf("there are %ss %v, and the records name %v", what, there, named)
	}
	return nil
}

// releases verifies the newest archive of each starter, and keeps few of them.
func (w *world) releases(ctx context.Context) error {
	for _, starter := range []string{"music-base", "brought-in"} {
		all, err := w.client.Releases(ctx, starter)
		if err != nil || len(all) == 0 {
			continue
		}
		run, err := w.client.VerifyRelease(ctx, all[0].Ref)
		if err == nil {
			run, err = w.wait(ctx, run.ID)
		}
		if err != nil {
			return err
		}
		if run.Status != "done" {
			return fmt.Errorf("verify %s: %s", all[0].Ref, run.Error)
		}
		r, err := w.client.Release(ctx, all[0].Ref)
		if err != nil {
			return err
		}
		if r.Faults > 0 {
			return fmt.Errorf("%s has %d faults", r.Ref, r.Faults)
		}
		for _, old := range all[min(3, len(all)):] {
			if old.Ref != w.release && old.Kept && old.Sites == 0 {
				if _, err := w.client.DiscardArchive(ctx, old.Ref); err != nil {
					return err
				}
			}
		}
	}
	return w.thin(ctx)
}

// thin drops the oldest safety copies, so that the disk is not filled by rounds.
func (w *world) thin(ctx context.Context) error {
	s, err := w.site(ctx)
	if err != nil || s == nil {
		return err
	}
	for i, c := range s.Copies {
		if i >= 4 {
			run, err := w.client.DropCopy(ctx, s.Name, c.ID)
			if err == nil {
				_, err = w.wait(ctx, run.ID)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// doctor asks the service what does not hold between the records and the hosts.
func (w *world) doctor(ctx context.Context) error {
	report, err := w.client.ExamineHosts(ctx)
	if err != nil {
		return err
	}
	var faults []error
	for _, f := range report.Faults {
		faults = append(faults, fmt.Errorf("doctor: %s", f.Sentence))
	}
	return errors.Join(faults...)
}
