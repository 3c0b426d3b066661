package main

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"nestseed/demo/scenario"
	"nestseed/internal/wire"
)

const listed = 4000

// lists asks for what the console shows first, with thousands of sites and clients in the records: one was made, the others are copies of its
// records. Afterwards they are gone again.
func (b *bench) lists() error {
	school := scenario.Schools(1)[0]
	if _, _, err := b.wait(b.svc.BuildRelease(b.ctx, "music-base", wire.NewRelease{})); err != nil {
		return err
	}
	if _, _, err := b.wait(b.svc.ProvisionSite(b.ctx, wire.NewSite{Client: school.Name, From: "music-base", Host: "preview", Name: "listed", Set: school.Settings})); err != nil {
		return err
	}
	db, err := b.records()
	if err != nil {
		return err
	}
	defer db.Close(b.ctx)
	for _, stmt := range []string{
		`INSERT INTO clients (name, settings) SELECT 'copy-' || i, settings FROM clients, generate_series(1, %d) i WHERE name = '` + school.Name + `'`,
		`INSERT INTO sites (name, client_id, host_id, release_id, run_id, address, folder, plan, result, report, held, visible, admin)
			SELECT 'copy-' || i, (SELECT id FROM clients WHERE name = 'copy-' || i), host_id, release_id, run_id, 'http://copy-' || i || '.localhost', 'copy-' || i,
			plan, result, report, i %% 3 = 0, visible, admin FROM sites, generate_series(1, %d) i WHERE name = 'listed'`,
		`INSERT INTO launch_tasks (site_id, place, key, title, detail, page) SELECT s.id, k, 'task-' || k, 'Do it', '', '' FROM sites s, generate_series(1, 2) k
			WHERE s.name LIKE 'copy-%%' AND s.id %% %d <> 0`,
	} {
		if _, err := db.Exec(b.ctx, fmt.Sprintf(stmt, listed)); err != nil {
			return err
		}
	}
	if _, err := db.Exec(b.ctx, "ANALYZE"); err != nil {
		return err
	}
	for _, path := range []string{"/sites", "/sites?sort=attention&find=copy-39", "/sites?state=held&sort=newest", "/clients", "/clients?find=valley", "/today", "/runs"} {
		took, bytes, err := b.asked(path)
		if err != nil {
			return err
		}
		fmt.Printf("GET %-45s of %d  %5d ms %6d kB   (to reach: 100 ms)\n", path, listed, took.Milliseconds(), bytes/1000)
	}
	_, err = db.Exec(b.ctx, "DELETE FROM sites WHERE name LIKE 'copy-%'; DELETE FROM clients WHERE name LIKE 'copy-%'")
	return err
}

// records connects to the service's own.
func (b *bench) records() (*pgx.Conn, error) {
	data := filepath.Join(b.dir, "data")
	password, err := os.ReadFile(filepath.Join(data, "postgres-password"))
	if err != nil {
		return nil, err
	}
	pid, err := os.ReadFile(filepath.Join(data, "postgres/data/postmaster.pid"))
	if err != nil {
		return nil, err
	}
	port := strings.Split(string(pid), "\n")[3] // pid, folder, start, port
	return pgx.Connect(b.ctx, fmt.Sprintf("postgres://nestseed:%s@127.0.0.1:%s/postgres?sslmode=disable", strings.TrimSpace(string(password)), port))
}

// asked is how long an answer took, whole and unpacked: the middle of nine.
func (b *bench) asked(path string) (took time.Duration, bytes int64, err error) {
	token, err := os.ReadFile(filepath.Join(b.dir, "data", "owner-token"))
	if err != nil {
		return 0, 0, err
	}
	req, err := http.NewRequestWithContext(b.ctx, http.MethodGet, b.address+"/api/v1"+path, nil)
	if err != nil {
		return 0, 0, err
	}
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	var times []time.Duration
	for range 9 {
		begun := time.Now()
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return 0, 0, err
		}
		bytes, err = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if err != nil || res.StatusCode != http.StatusOK {
			return 0, 0, fmt.Errorf("%s: %s %w", path, res.Status, err)
		}
		times = append(times, time.Since(begun))
	}
	slices.Sort(times)
	return times[len(times)/2], bytes, nil
}
