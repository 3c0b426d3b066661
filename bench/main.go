// Command bench measures what the design puts numbers on, beside plain system utilities in one run, on a
// site it generates. It prints ratios; docs/benchmarks.md keeps the last ones.
//
//	go run ./bench            # 800 MB, 8,900 files, 100 MB of rows
//	BENCH_MB=100 go run ./bench
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct {
	ctx     context.Context
	dir     string
	mb      int
	stack   *stack.Stack
	service *stack.Service
	svc     *client.Client
	address string
	site    string // folder of the generated site
	dump    string
	plain   time.Duration // zip and mariadb-dump of the site
}

func run(ctx context.Context) (err error) {
	b := &bench{ctx: ctx, mb: 800}
	if n, err := strconv.Atoi(os.Getenv("BENCH_MB")); err == nil {
		b.mb = n
	}
	if b.dir, err = os.MkdirTemp(os.Getenv("BENCH_DIR"), "nestseed-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.dir)
	if err := os.Chmod(b.dir, 0o755); err != nil {
		return err
	}
	b.stack = stack.New(filepath.Join(b.dir, "stack"))
	if err := os.Mkdir(b.stack.Dir, 0o755); err != nil {
		return err
	}
	defer b.stack.Stop()
	if err := errors.Join(b.stack.StartMariaDB(ctx), b.stack.StartWeb(ctx), scenario.InstallBase(ctx, b.stack)); err != nil {
		return err
	}
	if err := b.startService(); err != nil {
		return err
	}
	defer b.service.Stop()
	fmt.Printf("%d cores; %s\n\n", runtime.NumCPU(), time.Now().Format("2 January 2006"))
	if err := b.prepare(); err != nil {
		return err
	}
	// What is named on the command line is measured, or everything; building is what the rest stands on.
	for _, step := range []struct {
		name string
		do   func() error
	}{{"bare", b.bare}, {"table", b.table}, {"tenants", b.tenants}, {"lists", b.lists}, {"remote", b.remote}, {"engines", b.engines}, {"", b.grow}, {"", b.build}, {"rebuild", b.rebuild}, {"provision", b.provision}, {"rewrite",
		b.rewrite}, {"many", b.many}, {"import", b.importDump}, {"", b.memory}} {
		if step.name != "" && len(os.Args) > 1 && !slices.Contains(os.Args[1:], step.name) {
			continue
		}
		if err := step.do(); err != nil {
			return err
		}
		if last := os.Args[len(os.Args)-1]; len(os.Args) > 1 && slices.Contains([]string{"remote", "engines", "tenants", "lists"}, last) && step.name == last {
			return nil // the rest needs a large site
		}
	}
	return nil
}

func (b *bench) startService() (err error) {
	b.service = &stack.Service{Binary: "bin/nestseed", Data: filepath.Join(b.dir, "data"), Listen: fmt.Sprintf("127.0.0.1:%d", stack.FreePort())}
	if err := b.service.Start(); err != nil {
		return err
	}
	if err := b.service.Ready(); err != nil {
		return err
	}
	b.address = b.service.Address()
	b.svc, err = b.service.Client()
	return err
}

func (b *bench) prepare() error {
	_, err := b.svc.AddHost(b.ctx, wire.NewHost{Name: "preview", Files: "file://" + b.stack.Sites() + "?owner=www-data", WebRoot: "{name}",
		Address: b.stack.Address("{name}"), Database: b.stack.DatabaseURL()})
	if err != nil {
		return err
	}
	_, err = b.svc.AddHost(b.ctx, wire.NewHost{Name: "shared", Files: "file://" + b.stack.Sites() + "?owner=www-data", WebRoot: "{name}",
		Address: b.stack.SharedAddress("{name}"), Database: b.stack.DatabaseURL()})
	if err != nil {
		return err
	}
	if _, err = b.svc.AddSource(b.ctx, wire.NewSource{Name: "base", Host: "preview", Path: "base"}); err != nil {
		return err
	}
	if _, err = b.svc.CreateStarter(b.ctx, wire.NewStarter{Name: "music-base", Source: "base", Fields: scenario.NewFields()}); err != nil {
		return err
	}
	for _, s := range scenario.Schools(3) {
		if _, err := b.svc.AddClient(b.ctx, wire.NewClient{Name: s.Name, Settings: s.Settings}); err != nil {
			return err
		}
	}
	return nil
}

// quiet waits until what was written before is on the disk, so that no work pays for that of another.
func (b *bench) quiet() error {
	_, err := b.shell("sync")
	return err
}

// wait follows a run and returns how long it took.
func (b *bench) wait(run wire.Run, err error) (wire.Run, time.Duration, error) {
	if err != nil {
		return run, 0, err
	}
	if run, err = b.svc.Wait(b.ctx, run.ID, nil); err != nil {
		return run, 0, err
	}
	if run.Status != "done" {
		return run, 0, fmt.Errorf("%s %s: %s", run.Title, run.Status, run.Error)
	}
	return run, run.EndedAt.Sub(*run.StartedAt), nil
}

// bare provisions the CMS as it is, with all checks.
func (b *bench) bare() error {
	if _, _, err := b.wait(b.svc.BuildRelease(b.ctx, "music-base", wire.NewRelease{})); err != nil {
		return err
	}
	var last wire.Run
	took, err := b.medians(3, func(round int) (took time.Duration, err error) {
		last, took, err = b.wait(b.svc.ProvisionSite(b.ctx, wire.NewSite{Client: "alder-valley", Name: fmt.Sprintf("bare-%d", round),
			From: "music-base", Host: "preview"}))
		return took, err
	})
	if err != nil {
		return err
	}
	report("provision a bare CMS, checks included", took[0], "", 0, "2 s")
	fmt.Println("   ", steps(last))
	return nil
}

// table provisions fifty sites from one table, with all checks.
func (b *bench) table() error {
	n := max(2, 50*b.mb/800)
	in := wire.NewTable{From: "music-base", Host: "preview"}
	for i := range n {
		in.Rows = append(in.Rows, wire.TableRow{Client: fmt.Sprintf("school-%02d", i+1), Set: scenario.Schools(1)[0].Settings})
	}
	_, took, err := b.wait(b.svc.ProvisionTable(b.ctx, in))
	if err != nil {
		return err
	}
	report(fmt.Sprintf("provision %d sites from a table, checks included", n), took, "", 0, "")
	return b.memory()
}

// build beside zip and the database's own dump.
func (b *bench) build() error {
	var run wire.Run
	ours := func(int) (took time.Duration, err error) {
		run, took, err = b.wait(b.svc.BuildRelease(b.ctx, "music-base", wire.NewRelease{Full: true}))
		return took, err
	}
	zip := filepath.Join(b.dir, "site.zip")
	b.dump = filepath.Join(b.dir, "site.sql")
	byHand := func(int) (time.Duration, error) {
		os.Remove(zip)
		return b.shell(fmt.Sprintf("cd %s && zip -q -r -6 %s . && mariadb-dump %s lad_base > %s", b.site, zip, b.login(), b.dump))
	}
	took, err := b.medians(3, ours, byHand)
	if err != nil {
		return err
	}
	var res wire.BuildResult
	if err := json.Unmarshal(run.Result, &res); err != nil {
		return err
	}
	fmt.Printf("\nthe site: %d files, %d MB; %d rows, %d MB of SQL; archive %d MB\n", res.Totals.Files, res.Totals.Bytes>>20, res.Totals.Rows,
		res.Totals.SQLByte>>20, res.ArchiveBytes>>20)
	b.plain = took[1]
	report("build a release", took[0], "zip -r -6 and mariadb-dump", b.plain, "10 times")
	fmt.Println("   ", steps(run))
	return nil
}

// rebuild changes one file in a hundred and as many rows, and builds again beside the same.
func (b *bench) rebuild() error {
	n := 0
	err := filepath.WalkDir(filepath.Join(b.site, "wp-content"), func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if n++; n%100 != 0 {
			return nil
		}
		f, err := os.OpenFile(p, os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		_, err = f.WriteString("\n// changed\n")
		return errors.Join(err, f.Close())
	})
	if err != nil {
		return err
	}
	db, err := b.stack.Admin()
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(b.ctx, "UPDATE lad_base.lad_posts SET post_title = CONCAT(post_title, '!') WHERE ID % 100 = 7"); err != nil {
		return err
	}
	if err := b.quiet(); err != nil {
		return err
	}
	run, took, err := b.wait(b.svc.BuildRelease(b.ctx, "music-base", wire.NewRelease{}))
	if err != nil {
		return err
	}
	report("build again, 1 % changed", took, "zip -r -6 and mariadb-dump", b.plain, "25 times")
	fmt.Println("   ", steps(run))
	return nil
}

// many is a site of 200,000 files: how long a survey takes, a changed packing list, the first page of contents.
func (b *bench) many() error {
	n := 200_000 * b.mb / 800
	root := filepath.Join(b.stack.Sites(), "many")
	if _, err := b.shell(fmt.Sprintf("mkdir %s && cd %s && cp -a ../base/wp-config.php ../base/wp-includes ../base/wp-admin ../base/*.php .",
		root, root)); err != nil {
		return err
	}
	for i := range n {
		dir := filepath.Join(root, fmt.Sprintf("wp-content/uploads/%03d/%02d", i/1000, i/20%50))
		if i%20 == 0 {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("score-%06d.%s", i, []string{"jpg", "txt", "pdf"}[i%3])),
			[]byte(fmt.Sprintf("score %d", i)), 0o644); err != nil {
			return err
		}
	}
	if _, err := b.svc.AddSource(b.ctx, wire.NewSource{Name: "many", Host: "preview", Path: "many"}); err != nil {
		return err
	}
	_, took, err := b.wait(b.svc.SurveySource(b.ctx, "many"))
	if err != nil {
		return err
	}
	find, err := b.shell(fmt.Sprintf("find %s -type f -printf '%%s\\n' | awk '{s+=$1} END {print s}'", root))
	if err != nil {
		return err
	}
	report(fmt.Sprintf("survey %d files", n), took, "find with sizes", find, "seconds")
	t, err := b.svc.CreateStarter(b.ctx, wire.NewStarter{Name: "many", Source: "many"})
	if err != nil {
		return err
	}
	p, err := b.svc.Packing(b.ctx, t.Name)
	if err != nil {
		return err
	}
	start := time.Now()
	if _, err := b.svc.TryPacking(b.ctx, t.Name,
		strings.Replace(p.Text, "paths:", "paths:\n    - wp-content/uploads/007/**\n    - \"**/score-00*.pdf\"", 1)); err != nil {
		return err
	}
	report("total a changed packing list", time.Since(start), "", 0, "0.10 s")
	if _, _, err := b.wait(b.svc.BuildRelease(b.ctx, t.Name, wire.NewRelease{})); err != nil {
		return err
	}
	start = time.Now()
	if _, err := b.svc.Contents(b.ctx, "many@1", "", 0, ""); err != nil {
		return err
	}
	report(fmt.Sprintf("first page of contents, %d entries", n), time.Since(start), "", 0, "0.10 s")
	start = time.Now()
	if _, err := b.svc.Contents(b.ctx, "many@1", "wp-content/uploads/042", 0, ""); err != nil {
		return err
	}
	report("a further page", time.Since(start), "", 0, "")
	return os.RemoveAll(root)
}

// importDump imports a dump of 1 GB beside what the disk takes.
func (b *bench) importDump() error {
	file := filepath.Join(b.dir, "big.sql")
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	schema, err := b.shellOut(fmt.Sprintf("mariadb-dump %s --no-data lad_base", b.login()))
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(out, 1<<20)
	w.Write(schema)
	fmt.Fprintf(w, "INSERT INTO `lad_options` VALUES (1,'siteurl','%s','yes'),(2,'home','%s','yes');\n", b.stack.Address("base"),
		b.stack.Address("base"))
	para := strings.Repeat("Our learners play in ensembles from the first term on, and their teachers play with them. ", 11)
	noise := newNoise()
	total, written := int64(b.mb)<<20*10/8, int64(0)
	for i := 0; written < total; {
		n, _ := w.WriteString("INSERT INTO `lad_postmeta` VALUES ")
		for k := 0; k < 800; k, i = k+1, i+1 {
			m, _ := fmt.Fprintf(w, "%s(%d,%d,'_part','<p>%s %x</p>\\n<a href=\\\"%s/p-%d\\\">it''s here</a>')", []string{"", ","}[min(k, 1)], i+1,
				i/7, para, noise(60), b.stack.Address("base"), i)
			n += m
		}
		m, _ := w.WriteString(";\n")
		written += int64(n + m)
	}
	if err := errors.Join(w.Flush(), out.Close()); err != nil {
		return err
	}
	start := time.Now()
	id, err := b.svc.Upload(b.ctx, file, nil)
	if err != nil {
		return err
	}
	sent := time.Since(start)
	if err := b.quiet(); err != nil {
		return err
	}
	run, took, err := b.wait(b.svc.ImportRelease(b.ctx, "big", wire.NewImport{Files: []wire.GivenFile{{Upload: id}}}))
	if err != nil {
		return err
	}
	disk, err := b.shell(fmt.Sprintf("dd if=%s of=%s.copy bs=1M conv=fsync 2>/dev/null && rm %s.copy", file, file, file))
	if err != nil {
		return err
	}
	report(fmt.Sprintf("import a dump of %d MB", written>>20), took, "dd with fsync", disk, "0.5 times")
	fmt.Printf("    sent in %.1f s before; %s\n", sent.Seconds(), steps(run))
	return nil
}

func (b *bench) shellOut(script string) ([]byte, error) {
	return exec.CommandContext(b.ctx, "sh", "-ec", script).Output()
}

func (b *bench) login() string {
	return fmt.Sprintf("-h127.0.0.1 -P%d -u%s -p%s", b.stack.DatabasePort, b.stack.AdminUser, b.stack.AdminPassword)
}

func (b *bench) shell(script string) (time.Duration, error) {
	start := time.Now()
	out, err := exec.CommandContext(b.ctx, "sh", "-ec", script).CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("%s: %w\n%s", script, err, out)
	}
	return time.Since(start), nil
}

// provision beside unzip, sed and the database's own client. Checks are left out on both sides.
func (b *bench) provision() error {
	var last wire.Run
	ours := func(round int) (took time.Duration, err error) {
		last, _, err = b.wait(b.svc.ProvisionSite(b.ctx, wire.NewSite{Client: "brook-lane", Name: fmt.Sprintf("large-%d", round),
			From: "music-base", Host: "preview"}))
		for _, s := range last.Progress.Steps {
			took += time.Duration(s.Millis) * time.Millisecond
			if s.Name == "Swap in" {
				break
			}
		}
		return took, err
	}
	byHand := func(round int) (time.Duration, error) {
		sed, _ := seds(b.stack.Address("base"), b.stack.Address("by-hand"))
		return b.shell(fmt.Sprintf("mkdir %[1]s/by-hand-%[4]d && cd %[1]s/by-hand-%[4]d && unzip -q ../site.zip && %[2]s ../site.sql > "+
			"../new.sql && mariadb %[3]s -e 'CREATE DATABASE by_hand_%[4]d' && mariadb %[3]s by_hand_%[4]d < ../new.sql",
			b.dir, sed, b.login(), round))
	}
	took, err := b.medians(3, ours, byHand)
	if err != nil {
		return err
	}
	report("provision it", took[0], "unzip, sed and mariadb", took[1], "4 times")
	fmt.Println("   ", steps(last))
	var res wire.ProvisionResult
	if err := json.Unmarshal(last.Result, &res); err != nil {
		return err
	}
	for _, s := range res.Steps {
		if s.Millis > 300 {
			fmt.Printf("    %s %d ms\n", strings.ToLower(s.Name), s.Millis)
		}
	}
	return nil
}

// measured does something for the n-th time and returns how long it took.
type measured func(n int) (time.Duration, error)

// medians does several things in turn, so many times, when the disk is quiet, and returns how long each took in the middle.
// In turn, since what else the machine does changes from one minute to the next.
func (b *bench) medians(times int, all ...measured) ([]time.Duration, error) {
	took := make([][]time.Duration, len(all))
	for n := range times {
		for i, do := range all {
			if err := b.quiet(); err != nil {
				return nil, err
			}
			t, err := do(n)
			if err != nil {
				return nil, err
			}
			took[i] = append(took[i], t)
		}
	}
	var out []time.Duration
	for _, t := range took {
		slices.Sort(t)
		out = append(out, t[len(t)/2])
	}
	return out, nil
}

// memory is the most that the service has had resident (VmHWM of proc(5)).
func (b *bench) memory() error {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", b.service.Pid()))
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, _ := strconv.Atoi(strings.Fields(rest)[0])
			fmt.Printf("\nmemory of the service at its peak: %d MiB (to reach: 256 MiB)\n", kb>>10)
		}
	}
	return nil
}

func report(what string, took time.Duration, beside string, plain time.Duration, goal string) {
	fmt.Printf("\n%-40s %6.2f s", what, took.Seconds())
	if plain > 0 {
		fmt.Printf("   %s %.2f s   %.1f times", beside, plain.Seconds(), plain.Seconds()/took.Seconds())
	}
	if goal != "" {
		fmt.Printf("   (to reach: %s)", goal)
	}
	fmt.Println()
}

func steps(run wire.Run) string {
	var parts []string
	for _, s := range run.Progress.Steps {
		parts = append(parts, fmt.Sprintf("%s %d ms", strings.ToLower(s.Name), s.Millis))
	}
	return strings.Join(parts, ", ")
}
