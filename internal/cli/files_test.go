package cli

import (
	"bytes"
	"context"
	"io"
	"math/rand"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/wire"
)

// content is answered as a file, by ranges where they are asked for.
type content []byte

func (c content) serve(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("ETag", `"x"`)
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(c))
}

// released builds a small archive of a made-up site, and says what the service has of it in its records.
func released(t *testing.T) (content, wire.Release) {
	t.Helper()
	dir := t.TempDir()
	noise := make([]byte, 1<<20)
	rand.New(rand.NewSource(1)).Read(noise)
	for name, text := range map[string]string{
		"wp-includes/version.php": "<?php $wp_version = '6.1.9'; $required_php_version " +
			"= '5.6.20';", "wp-load.php": "<?php", "wp-admin/index.php": "<?php",
		"wp-config.php":                        "<?php define('DB_NAME','lad'); define('DB_PASSWORD','pw-harp-and-lute'); $table_prefix='lad_';",
		"wp-content/uploads/2026/09/choir.jpg": string(noise), "wp-content/uploads/2026/09/notes.txt": "hello",
	} {
		p := filepath.Join(dir, "base", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o640))
		require.NoError(t, os.Chtimes(p, begun, begun))
	}
	require.NoError(t, os.Symlink("choir.jpg", filepath.Join(dir, "base/wp-content/uploads/2026/09/link.jpg")))
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	defer fsys.Close()
	kinds, err := kind.Stock()
	require.NoError(t, err)
	id, err := kind.Identify(t.Context(), fsys, "base", kinds)
	require.NoError(t, err)
	list, err := packing.Parse([]byte("only: files\n"))
	require.NoError(t, err)
	out, err := os.Create(filepath.Join(dir, "out.zip"))
	require.NoError(t, err)
	defer out.Close()
	built, err := build.Release(context.Background(), out, build.Input{FS: fsys, Root: "base", Identity: id, List: list,
		Manifest: archive.Manifest{ID: "t", Starter: "music-base", Number: 2, Made: begun, By: "ines", Source: "base"}}, progress.Discard)
	require.NoError(t, err)
	text, err := os.ReadFile(out.Name())
	require.NoError(t, err)
	return text, wire.Release{Ref: "music-base@2", Starter: "music-base", Number: 2, ArchiveBytes: int64(len(text)),
		SumsSHA256: built.SumsSHA256, Kept: true}
}

func TestADownloadIsWholeOrNotThere(t *testing.T) {
	text, r := released(t)
	s := &answers{by: map[string]any{"GET /releases/music-base@2": r, "GET /releases/music-base@2/archive": text}}
	dir := t.TempDir()
	p := s.typed(t, "", "release", "download", "music-base@2", "--to", dir)
	require.Zero(t, p.code, p.err)
	file := filepath.Join(dir, "music-base-2.zip")
	require.Contains(t, p.out, "music-base@2 is in "+file)
	require.Contains(t, p.out, "every sum holds")
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, bytes.Equal(text, got))
	require.NoFileExists(t, file+".part")
	p = s.typed(t, "", "release", "verify", file)
	require.Zero(t, p.code, p.err)
	require.Contains(t, p.out, "music-base@2 is whole")

	// Half of it is there from before: the rest is fetched.
	require.NoError(t, os.WriteFile(file+".part", text[:len(text)/2], 0o600))
	require.Zero(t, s.typed(t, "", "release", "download", "music-base@2", "--to", file).code)
	got, err = os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, bytes.Equal(text, got))

	// What is there from before is of something else: it is not kept, and the file stays as it was.
	spoilt := bytes.Clone(text[:len(text)/2])
	spoilt[len(spoilt)/2] ^= 1
	require.NoError(t, os.WriteFile(file+".part", spoilt, 0o600))
	p = s.typed(t, "", "release", "download", "music-base@2", "--to", file)
	require.Equal(t, exitFailed, p.code)
	require.Contains(t, p.err, "is damaged")
	require.Contains(t, p.err, "run the same command again")
	require.NoFileExists(t, file+".part")
	got, err = os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, bytes.Equal(text, got))

	require.NoError(t, os.WriteFile(file, append(bytes.Clone(text[:1000]), text[1001:]...), 0o600))
	require.NotZero(t, s.typed(t, "", "release", "verify", file).code)
}

func TestFilesAreTakenOutOfAnArchiveWithModesTimesAndLinks(t *testing.T) {
	text, r := released(t)
	s := &answers{by: map[string]any{"GET /releases/music-base@2": r, "GET /releases/music-base@2/archive": text,
		"HEAD /releases/music-base@2/archive": text}}
	to := filepath.Join(t.TempDir(), "out")
	p := s.typed(t, "", "release", "extract", "music-base@2", "wp-content/uploads", "wp-load.php", "--to", to)
	require.Zero(t, p.code, p.err)
	require.Equal(t, "4 files put into "+to+"\n", p.out)
	info, err := os.Stat(filepath.Join(to, "wp-load.php"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	require.True(t, begun.Equal(info.ModTime()))
	target, err := os.Readlink(filepath.Join(to, "wp-content/uploads/2026/09/link.jpg"))
	require.NoError(t, err)
	require.Equal(t, "choir.jpg", target)

	// Again, over what is there; a link that lies in the way is replaced and not followed.
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, []byte("mine"), 0o600))
	require.NoError(t, os.Remove(filepath.Join(to, "wp-load.php")))
	require.NoError(t, os.Symlink(outside, filepath.Join(to, "wp-load.php")))
	require.Zero(t, s.typed(t, "", "release", "extract", "music-base@2", "wp-load.php", "--to", to).code)
	mine, err := os.ReadFile(outside)
	require.NoError(t, err)
	require.Equal(t, "mine", string(mine))

	p = s.typed(t, "", "release", "extract", "music-base@2", "wp-content/videos", "--to", to)
	require.Equal(t, exitNotFound, p.code)
	require.Contains(t, p.err, "music-base@2 has no file or folder wp-content/videos; see nestseed release contents music-base@2")
}

func TestAnArchiveIsCutIntoVolumesThatAreReadBack(t *testing.T) {
	text, r := released(t)
	s := &answers{by: map[string]any{"GET /releases/music-base@2": r, "GET /releases/music-base@2/archive": text}}
	dir := t.TempDir()
	to := filepath.Join(dir, "music.zip")
	for words, says := range map[string]string{"huge": "is not a size; write it like 100MB", "10": "volumes have at least"} {
		p := s.typed(t, "", "release", "download", "music-base@2", "--to", to, "--volume", words)
		require.Equal(t, exitUsage, p.code)
		require.Contains(t, p.err, says)
	}
	p := s.typed(t, "", "release", "download", "music-base@2", "--to", to, "--volume", "300kB")
	if p.code == exitUsage { // the least is larger
		p = s.typed(t, "", "release", "download", "music-base@2", "--to", to, "--volume", "1MB")
	}
	require.Zero(t, p.code, p.err)
	require.Contains(t, p.out, "volumes; check them with: nestseed release verify music.zip.*")
	volumes, err := filepath.Glob(to + ".*")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(volumes), 3)
	p = s.typed(t, "", append([]string{"release", "verify"}, volumes...)...)
	require.Zero(t, p.code, p.err)
	require.Contains(t, p.out, "music-base@2 is whole")
	require.NoError(t, os.Remove(volumes[1]))
	p = s.typed(t, "", append([]string{"release", "verify"}, append(volumes[:1:1], volumes[2:]...)...)...)
	require.NotZero(t, p.code)
	require.Contains(t, p.out+p.err, filepath.Base(volumes[1]), "the missing one is named")
}

func TestAHandoverIsALinkThatIsToldOnceOrAPageWithoutTheSecret(t *testing.T) {
	s := &answers{by: map[string]any{"POST /sites/alder/handovers": wire.Handover{ID: 1, ExpiresAt: begun, Path: "/handover#key"},
		"DELETE /sites/alder/handovers": nil,
		"GET /sites/alder/sheet": wire.Sheet{Site: "alder", Title: "Alder <Valley>", Address: "http://alder.localhost",
			LoginAt: "http://alder.localhost/wp-login.php", Login: "alder-admin", ToDo: []string{"Change the password."}}}}
	p := s.typed(t, "", "site", "handover", "alder", "--days", "3")
	require.Zero(t, p.code, p.err)
	require.Equal(t, `POST /sites/alder/handovers {"days":3}`, s.asked[0])
	require.Regexp(t, `^http://127\.0\.0\.1:\d+/handover#key\nthis link opens once, until `, p.out)
	require.Contains(t, s.typed(t, "", "site", "handover", "alder", "--withdraw").out, "do not work any more")

	file := filepath.Join(t.TempDir(), "alder.html")
	p = s.typed(t, "", "site", "handover", "alder", "--sheet", file)
	require.Zero(t, p.code, p.err)
	page, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(page), "Alder &lt;Valley&gt;", "what others wrote is not markup")
	require.Contains(t, string(page), "alder-admin")
	p = s.typed(t, "", "site", "handover", "alder", "--sheet", file)
	require.Equal(t, exitFailed, p.code)
	require.Contains(t, p.err, "name a file that is not there yet")
}

func TestPicturesSideBySideAreWrittenWhereOneSays(t *testing.T) {
	begins, seen := ended(6, "screenshots", wire.SideBySide{Source: "base", Left: "http://base.localhost", Right: "http://alder.localhost",
		Pages: []wire.SideBySidePage{{Path: "lessons", Share: 0.123, Places: 4, Left: "1-left.png", Right: "1-right.png"},
			{Path: "gone", Problem: "answers 404"}}})
	s := &answers{by: map[string]any{"POST /sites/alder/side-by-side": begins, "GET /runs/6/events": seen,
		"GET /sites/alder/side-by-side/1-left.png":  content("\x89PNG left"),
		"GET /sites/alder/side-by-side/1-right.png": content("\x89PNG right")}}
	p := s.typed(t, "", "site", "side-by-side", "alder", "--pages", "2")
	require.Zero(t, p.code, p.err)
	require.Equal(t, `POST /sites/alder/side-by-side {"pages":2}`, s.asked[0])
	for _, part := range []string{"http://alder.localhost beside source base, http://base.localhost\n",
		"/lessons         12.3 %       4  1-left.png  1-right.png", "✗ answers 404", "/sites/alder/side-by-side; --to DIR writes them out"} {
		require.Contains(t, p.out, part)
	}
	dir := filepath.Join(t.TempDir(), "pictures")
	p = s.typed(t, "", "site", "side-by-side", "alder", "--to", dir)
	require.Zero(t, p.code, p.err)
	right, err := os.ReadFile(filepath.Join(dir, "1-right.png"))
	require.NoError(t, err)
	require.Equal(t, "\x89PNG right", string(right))
}

func TestAStarterIsCreatedWithFieldsAndTasksFromFiles(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(text), 0o600))
		return p
	}
	s := &answers{by: map[string]any{"POST /starters": wire.Starter{Name: "music-base", Source: "base"},
		"PUT /starters/music-base/retention": wire.Starter{Name: "music-base", Retention: wire.Retention{Last: 3, Weeks: 8}},
		"GET /starters/music-base": wire.Starter{Name: "music-base", Kind: "wordpress",
			Source: "base"}, "GET /releases?starter=music-base": []wire.Release{{Ref: "music-base@1",
			Kept: true}}, "DELETE /starters/music-base": nil}}
	p := s.typed(t, "", "starter", "create", "music-base", "--from", "base", "--fields",
		file("fields.yaml", "- {key: phone, label: Telephone, to: [{option: phone}]}\n"), "--tasks", file("tasks.yaml",
			"- {key: booking, title: Enter the licence}\n"))
	require.Zero(t, p.code, p.err)
	require.Contains(t, s.asked[0], `"key":"phone"`)
	require.Contains(t, s.asked[0], `"key":"booking"`)
	require.Contains(t, p.out, "build its first release with: nestseed release build music-base")
	p = s.typed(t, "", "starter", "create", "music-base", "--from", "base", "--fields",
		file("wrong.yaml", "- {key: phone, lable: Telephone}\n"))
	require.Equal(t, exitUsage, p.code)
	require.Contains(t, p.err, "lable", "a word that is mistyped is named")
	require.Empty(t, s.asked)
	require.Equal(t, exitFailed, s.typed(t, "", "starter", "create", "music-base", "--from", "base", "--tasks",
		filepath.Join(dir, "nothing.yaml")).code)

	require.Equal(t, "music-base: the last 3 archives are kept, and one a week for 8 weeks, and those that sites were made from\n",
		s.typed(t, "", "starter", "retain", "music-base", "--last", "3", "--weeks", "8").out)
	p = s.typed(t, "", "starter", "show", "music-base")
	require.Contains(t, p.out, "music-base: a wordpress starter from source base; all archives are kept")
	require.Contains(t, p.out, "music-base@1")
	require.Equal(t, "starter music-base removed\n", s.typed(t, "", "starter", "remove", "music-base").out)
}

func TestAReleaseIsBroughtInByLinkOrFile(t *testing.T) {
	begins, events := ended(7, "import", wire.ImportResult{Release: "harbour@1", Address: "http://old.example"})
	s := &answers{by: map[string]any{"POST /starters/harbour/imports": begins, "GET /runs/7/events": events,
		"GET /releases/harbour@1": wire.Release{Ref: "harbour@1", KindTitle: "WordPress", ImportedFrom: "site.tar.bz2"}}}
	p := s.typed(t, "the passphrase\n", "release", "import", "harbour", "https://files.example/site.tar.bz2", "--database",
		"https://files.example/dump.sql.gz", "--key-file", "-", "--note", "from the old agency")
	require.Zero(t, p.code, p.err)
	require.JSONEq(t, `{"files":[{"link":"https://files.example/site.tar.bz2"}],"database":{"link":"https://files.example/dump.sql.gz"},"key":"the passphrase","list":"starter","note":"from the old agency"}`, strings.TrimPrefix(s.asked[0], "POST /starters/harbour/imports "))
	require.Contains(t, p.out, "harbour@1 imported, in 1.5 s: WordPress, of http://old.example\n")
	p = s.typed(t, "", "release", "import", "harbour", filepath.Join(t.TempDir(), "nothing.zip"))
	require.Equal(t, exitFailed, p.code)
	require.Empty(t, s.asked)
}

func TestLoginKeepsServerAndTokenForOneselfAlone(t *testing.T) {
	s := &answers{by: map[string]any{"GET /me": wire.Me{Name: "ines", Role: "owner"}}}
	srv := s.start(t)
	config := os.Getenv("XDG_CONFIG_HOME")
	t.Setenv("NESTSEED_TOKEN", "")
	var out, errOut bytes.Buffer
	require.Zero(t, Run(t.Context(), "test", []string{"nestseed", "--server", srv, "login"}, strings.NewReader("nst_abc\n"), &out, &errOut),
		errOut.String())
	require.Contains(t, out.String(), "commands now run as ines (owner)")
	file := filepath.Join(config, "nestseed", "access.yaml")
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), "nst_abc")
	require.Equal(t, exitUsage, Run(t.Context(), "test", []string{"nestseed", "--server", srv, "login"}, strings.NewReader(""), io.Discard,
		&errOut))
	require.Contains(t, errOut.String(), "no secret was given")
	s.by["GET /me"] = problem{401, "this token is not known"}
	require.Equal(t, exitRefused, Run(t.Context(), "test", []string{"nestseed", "--server", srv, "login"}, strings.NewReader("nst_wrong\n"),
		io.Discard, io.Discard))
	again, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, text, again, "what worked stays")
}
