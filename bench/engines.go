package main

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nestseed/demo/stack"
	"nestseed/internal/wire"
)

// own is an engine with its own tools.
type own struct {
	engine, name string
	grow         string // a command that fills in rows
	dump, load   string // commands; {file} is the dump
}

// enginesRows is how many pages are made: some 100 MB of rows.
const enginesRows = 60_000

// engines builds a release of a site on PostgreSQL and one on SQLite, and provisions it, beside the dump and load programs of each and zip
// and unzip of the same files.
func (b *bench) engines() error {
	if err := b.stack.StartPostgres(b.ctx); err != nil {
		return err
	}
	u, err := url.Parse(b.stack.PostgresURL())
	if err != nil {
		return err
	}
	secret, _ := u.User.Password()
	reach := fmt.Sprintf("-h 127.0.0.1 -p %s -U %s", u.Port(), u.User.Username())
	psql := "PGPASSWORD=" + secret + " psql -X -q -v ON_ERROR_STOP=1 " + reach
	if _, err := b.svc.AddHost(b.ctx, wire.NewHost{Name: "engines", Files: "file://" + b.stack.Sites() + "?owner=www-data", WebRoot: "{name}",
		Address: b.stack.Address("{name}"), Database: b.stack.DatabaseURL() + " " + b.stack.PostgresURL()}); err != nil {
		return err
	}
	file := filepath.Join(b.stack.Sites(), "base-sqlite", "sites/default/files/.ht.sqlite")
	body := "'<p>Lesson ' || i || ' of <a href=\"%s/node/' || i || '\">ours</a> ' || %s || '</p>'"
	noise := map[string]string{"postgres": "(SELECT string_agg(md5((i * 40 + j)::text), ' ') FROM generate_series(1, 48) j)",
		"sqlite": "hex(randomblob(800))"}
	series := map[string]string{"postgres": "generate_series(10, %d) i",
		"sqlite": "(WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i + 1 FROM n WHERE i < %d) SELECT i FROM n)"}
	insert := func(engine string) string {
		return fmt.Sprintf("INSERT INTO node__body (bundle, deleted, entity_id, revision_id, langcode, delta, body_value, body_summary, body_format) "+
			"SELECT 'page', 0, i, i, 'en', 0, %s, '', 'full_html' FROM %s", fmt.Sprintf(body, b.stack.Address("base-"+engine), noise[engine]),
			fmt.Sprintf(series[engine], enginesRows))
	}
	for _, o := range []own{
		{"postgres", "pg_dump", psql + " -d base_pg -c " + quoted("SET ROLE base_pg; "+insert("postgres")),
			"PGPASSWORD=" + secret + " pg_dump " + reach + " base_pg > {file}",
			psql + " -d postgres -c 'DROP DATABASE IF EXISTS by_hand' -c 'CREATE DATABASE by_hand' && " + psql + " -d by_hand -f {file} > /dev/null"},
		{"sqlite", "sqlite3 .dump", "sqlite3 " + file + " " + quoted(insert("sqlite")), "sqlite3 " + file + " .dump > {file}",
			"rm -f {file}.db && sqlite3 {file}.db < {file}"},
	} {
		if err := b.engine(o); err != nil {
			return err
		}
	}
	return nil
}

// quoted is a word of the shell.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func (b *bench) engine(o own) error {
	base := "base-" + o.engine
	in := stack.StandIn{Name: base, Title: "Folk music", Engine: o.engine, Database: "base_pg", DatabasePassword: "seven-scales-of-bench",
		Salt: "pepper-of-the-bench", Admin: "ines", AdminPassword: "let-me-in-please", AdminEmail: "ines@loomandladder.example",
		Pages: []stack.Page{{Title: "Lessons", Body: "<p>Every day</p>"}}}
	if o.engine == "sqlite" {
		in.Database = "sites/default/files/.ht.sqlite"
	}
	if err := b.stack.InstallDrupal(b.ctx, in); err != nil {
		return err
	}
	if _, err := b.shell(o.grow); err != nil {
		return err
	}
	if _, err := b.svc.AddSource(b.ctx, wire.NewSource{Name: base, Host: "engines", Path: base, Address: b.stack.Address(base)}); err != nil {
		return err
	}
	if _, err := b.svc.CreateStarter(b.ctx, wire.NewStarter{Name: base, Source: base}); err != nil {
		return err
	}
	file := filepath.Join(b.dir, base+".sql")
	zip, site := filepath.Join(b.dir, base+".zip"), filepath.Join(b.stack.Sites(), base)
	took, err := b.medians(3, func(int) (took time.Duration, err error) {
		_, took, err = b.wait(b.svc.BuildRelease(b.ctx, base, wire.NewRelease{Full: true}))
		return took, err
	}, func(int) (time.Duration, error) {
		os.Remove(zip)
		return b.shell(strings.ReplaceAll(o.dump, "{file}", file) + fmt.Sprintf(" && cd %s && zip -q -r -6 %s . %s -x %s", site, zip, file, "'*.ht.sqlite'"))
	})
	if err != nil {
		return err
	}
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	fmt.Printf("\n%s: %d MB of SQL\n", o.engine, info.Size()>>20)
	report("build a release ("+o.engine+")", took[0], o.name+" and zip -r -6", took[1], "as MariaDB")
	out := filepath.Join(b.dir, base+"-out")
	var last wire.Run
	took, err = b.medians(3, func(round int) (took time.Duration, err error) {
		last, took, err = b.wait(b.svc.ProvisionSite(b.ctx, wire.NewSite{Client: "alder-valley", Name: fmt.Sprintf("%s-%d", o.engine, round), From: base,
			Host: "engines"}))
		return took, err
	}, func(int) (time.Duration, error) {
		return b.shell(fmt.Sprintf("rm -rf %[1]s && unzip -q %[2]s -d %[1]s && sed -i s/%[3]s/xx-%[3]s/g %[4]s && ", out, zip, base, file) +
			strings.ReplaceAll(o.load, "{file}", file))
	})
	if err != nil {
		return err
	}
	report("provision it ("+o.engine+"), checks included", took[0], "unzip, sed and the engine's client", took[1], "as MariaDB")
	fmt.Println("   ", steps(last))
	return nil
}
