package job

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/wire"
	"nestseed/test/attack"
	"nestseed/test/world"
)

// forge makes another archive of a release's, whose sums are right all the same.
func forge(t *testing.T, whole string, change map[string]func(string) string) string {
	t.Helper()
	in, err := zip.OpenReader(whole)
	require.NoError(t, err)
	defer in.Close()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	var sums strings.Builder
	changed := 0
	for _, f := range in.File {
		r, err := f.Open()
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		if c := change[f.Name]; c != nil {
			text = []byte(c(string(text)))
			changed++
		}
		if f.Name == "SHA256SUMS" {
			text = []byte(sums.String())
		} else if f.Mode().IsRegular() {
			sum := sha256.Sum256(text)
			fmt.Fprintf(&sums, "%s  %s\n", hex.EncodeToString(sum[:]), f.Name)
		}
		if change[f.Name] == nil && f.Name != "SHA256SUMS" {
			require.NoError(t, z.Copy(f))
			continue
		}
		h := f.FileHeader
		h.CompressedSize64, h.UncompressedSize64, h.CRC32 = 0, 0, 0
		w, err := z.CreateHeader(&h)
		require.NoError(t, err)
		_, err = w.Write(text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.Equal(t, len(change), changed)
	name := filepath.Join(t.TempDir(), "forged.zip")
	require.NoError(t, os.WriteFile(name, out.Bytes(), 0o600))
	return name
}

// inManifest changes values of a manifest.
func inManifest(t *testing.T, values map[string]any) map[string]func(string) string {
	return map[string]func(string) string{"nestseed.json": func(text string) string {
		var m map[string]any
		require.NoError(t, json.Unmarshal([]byte(text), &m))
		for k, v := range values {
			m[k] = v
		}
		out, err := json.Marshal(m)
		require.NoError(t, err)
		return string(out)
	}}
}

func appended(name, text string) map[string]func(string) string {
	return map[string]func(string) string{name: func(was string) string { return was + text }}
}

func TestAttackByForgedArchivesWhoseSumsAreRightReachNothing(t *testing.T) {
	world.Prepared(t)
	whole := filepath.Join(t.TempDir(), "music-base.zip")
	world.Must(t, "release", "download", "music-base@1", "--to", whole)
	world.Execute(t, "CREATE DATABASE IF NOT EXISTS victim")
	world.Execute(t, "CREATE TABLE IF NOT EXISTS victim.secrets (word text)")
	t.Cleanup(func() { world.Execute(t, "DROP DATABASE victim") })
	var manifest struct {
		ID     string           `json:"id"`
		Tables []map[string]any `json:"tables"`
		List   map[string]any   `json:"packing_list"`
	}
	z, err := zip.OpenReader(whole)
	require.NoError(t, err)
	f, err := z.Open("nestseed.json")
	require.NoError(t, err)
	require.NoError(t, json.NewDecoder(f).Decode(&manifest))
	z.Close()
	many := append([]map[string]any{}, manifest.Tables...)
	many[0] = map[string]any{"name": many[0]["name"], "rows": many[0]["rows"], "bytes": many[0]["bytes"], "entries": 2147483647}

	before := world.Archives(t)
	for what, change := range map[string]map[string]func(string) string{
		"a settings file beside the site":   inManifest(t, map[string]any{"settings_file": "../neighbour/wp-config.php"}),
		"another file as the settings file": inManifest(t, map[string]any{"settings_file": "index.php"}),
		"more entries than memory":          inManifest(t, map[string]any{"tables": many}),
		"totals below nothing":              inManifest(t, map[string]any{"totals": map[string]any{"bytes": -5}}),
		"no packing list":                   inManifest(t, map[string]any{"packing_list": nil}),
		"rows of another database": appended("database/schema.sql",
			"\nCREATE TABLE `lad_x` (`a` int) PARTITION BY HASH(`a`) AS SELECT * FROM mysql.user;\n"),
		"a setting of the server": appended("database/schema.sql", "\nSET SESSION sql_mode = '', GLOBAL general_log = 1;\n"),
		"a setting behind names":  appended("database/schema.sql", "\nSET NAMES utf8mb4, GLOBAL general_log = 1;\n"),
		"a function behind odd white space": appended("database/schema.sql",
			"\nCREATE TABLE `lad_x` (`a` text DEFAULT (load_file\v('/etc/passwd')));\n"),
		"a comment of a later version": appended("database/schema.sql",
			"\nCREATE TABLE `lad_x` (`a` int /*!999999 , `b` int GENERATED ALWAYS AS (sleep(9)) */;\n"),
		"a view of another database": appended("database/after.sql", "\nCREATE VIEW `lad_v` AS SELECT * FROM `mysql`.`user`;\n"),
		"a trigger, though not trusted": appended("database/after.sql",
			"\nCREATE TRIGGER `lad_t` BEFORE INSERT ON `lad_posts` FOR EACH ROW SET NEW.`post_title` = '';\n"),
		"a foreign key to another database": appended("database/after.sql",
			"\nALTER TABLE `lad_posts` ADD CONSTRAINT `x` FOREIGN KEY (`ID`) REFERENCES `mysql`.`user` (`x`);\n"),
		"a drop": appended("database/schema.sql", "\nDROP DATABASE mysql;\n"),
	} {
		r := world.Nestseed(t, "release", "import", "forged", forge(t, whole, change))
		require.NotZero(t, r.Code, what)
		require.Regexp(t, "refused|damaged", r.Err, what)
	}
	require.Equal(t, before, world.Archives(t), "nothing of them is kept")
	attack.Stopped(t, "forged archives", "14 manifests and scripts whose sums are right: paths, other databases, functions, programs, settings",
		"parsed to the last word, refused, nothing kept")
	require.Equal(t, 3, world.Nestseed(t, "starter", "show", "forged").Code)

	// A trusted archive's programs are parsed all the same, and made with the site's own account.
	grab := forge(t, whole, appended("database/after.sql",
		"\nCREATE TRIGGER `lad_t` AFTER INSERT ON `lad_posts` FOR EACH ROW INSERT INTO `victim`.`secrets` VALUES ('reached');\n"))
	require.Contains(t, world.Nestseed(t, "release", "import", "forged", grab, "--trust").Err, "refused")

	// Its id is its own word: what is kept is named by us, and the other release stays as it is.
	again := world.Ask[wire.Release](t, "release", "import", "forged",
		forge(t, whole, inManifest(t, map[string]any{"note": "the same id as another"})))
	require.NotEmpty(t, again.Ref)
	world.Must(t, "release", "verify", "music-base@1")
	world.Must(t, "release", "verify", "forged@1")
}

func TestAnArchiveThatWasExchangedInTheStoreIsNotProvisioned(t *testing.T) {
	world.StarterOf(t, "swapped")
	world.Must(t, "release", "build", "swapped")
	world.Must(t, "release", "build", "swapped", "--full", "--note", "another")
	var names [2]string
	for i := range names {
		name, err := filepath.Glob(filepath.Join(world.Service.Data, "archives", fmt.Sprintf("swapped-%d-*.zip", i+1)))
		require.NoError(t, err)
		require.Len(t, name, 1)
		names[i] = name[0]
	}
	text, err := os.ReadFile(names[1])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(names[0], text, 0o600))
	world.AddClient(t, musicSchool(12))
	r := world.Nestseed(t, "site", "provision", musicSchool(12).Name, "--from", "swapped@1", "--host", "preview")
	require.NotZero(t, r.Code)
	require.Contains(t, r.Err, "not the archive that was kept")
	world.Must(t, "release", "discard-archive", "swapped@1")
	world.Must(t, "release", "discard-archive", "swapped@2")
}

func TestTheStartLeavesAloneWhatIsNotOurs(t *testing.T) {
	world.Prepared(t)
	store := filepath.Join(world.Service.Data, "archives")
	for _, name := range []string{"holiday-pictures.zip", ".scratch-999999", "other.zip.parts"} {
		p := filepath.Join(store, name)
		require.NoError(t, os.MkdirAll(p, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(p, "x"), []byte("ours"), 0o644))
		t.Cleanup(func() { os.RemoveAll(p) })
	}
	require.NoError(t, world.Service.Kill())
	world.Restart(t)
	for _, name := range []string{"holiday-pictures.zip", ".scratch-999999", "other.zip.parts"} {
		require.FileExists(t, filepath.Join(store, name, "x"))
	}
}

func TestAnUndoThatWaitedDoesNotTakeADroppedCopyForDone(t *testing.T) {
	s := world.SiteOf(t, 12)
	world.Must(t, "site", "provision", s.Client, "--from", "music-base@1", "--host", "preview", "--replace")
	now := world.Ask[wire.Site](t, "site", "show", s.Name)
	require.Len(t, now.Copies, 1)
	svc, ctx := world.Service.Client(t), context.Background()

	// A long run holds the site while somebody asks to undo and somebody else drops the copy.
	release := hold(t, s.Name)
	run, err := svc.UndoSite(ctx, s.Name, "")
	require.NoError(t, err)
	r := world.Nestseed(t, "site", "hold", s.Name)
	require.Equal(t, 4, r.Code, "nobody changes a site that a run works on")
	require.Contains(t, r.Err, "is being worked on")
	world.Execute(t, fmt.Sprintf("DROP DATABASE %s", s.Database)) // as dropping it would have
	world.Execute(t, fmt.Sprintf("DROP USER IF EXISTS '%[1]s'@'%%', '%[1]s'@'localhost', '%[1]s'@'127.0.0.1'", s.Database))
	sqlRecords(t, "DELETE FROM site_copies WHERE id = $1", now.Copies[0].ID)
	asides, err := filepath.Glob(filepath.Join(world.Stack.Sites(), "."+s.Name+".nestseed-*"))
	require.NoError(t, err)
	require.Len(t, asides, 1)
	require.NoError(t, os.RemoveAll(asides[0]))
	release()
	ended, err := svc.Wait(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, wire.Failed, ended.Status)
	require.Contains(t, ended.Error, "not there any more")
	code, _ := world.Visit(t, now.Address+"/")
	require.Equal(t, 200, code, "the site stands")
	require.Equal(t, 1, world.Rows(t, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", now.Database))
	world.Must(t, "site", "undo", s.Name)
}

// hold takes a site's lease as another instance of the service would, until release is called.
func hold(t *testing.T, site string) (release func()) {
	t.Helper()
	conn := connectRecords(t)
	ctx := context.Background()
	_, err := conn.Exec(ctx, `WITH i AS (INSERT INTO instances (expires_at) VALUES (now() + interval '1 hour') RETURNING id)
		INSERT INTO leases (name, instance_id) SELECT $1, id FROM i`, "site:"+site)
	require.NoError(t, err)
	return func() {
		_, err := conn.Exec(ctx, "DELETE FROM leases WHERE name = $1", "site:"+site)
		require.NoError(t, err)
		conn.Close(ctx)
	}
}
