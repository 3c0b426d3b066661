package scenario

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/klauspost/compress/gzip"

	"nestseed/demo/stack"
	"nestseed/internal/core/packing"

	"github.com/goccy/go-yaml"
)

// ForgottenArchive is what somebody left in the base site's tree; its size is ForgottenBytes.
const (
	ForgottenArchive = "wp-content/uploads/base-site-copy.zip"
	ForgottenBytes   = 30 << 20
)

// LaunchTasks returns what must still be done on each school's site.
func LaunchTasks() []packing.LaunchTask {
	text, err := files.ReadFile("files/launch-tasks.yaml")
	if err != nil {
		panic(err) // embedded
	}
	var tasks []packing.LaunchTask
	if err := yaml.Unmarshal(text, &tasks); err != nil {
		panic(err) // embedded
	}
	return tasks
}

// Autumn changes the base site as work on it does: a theme's colours, new pictures, a page, a setting, and a
// copy of the site that somebody made and forgot.
func Autumn(ctx context.Context, s *stack.Stack) error {
	dir := filepath.Join(s.Sites(), "base")
	for i, name := range []string{"autumn-concert", "lantern-walk", "new-harp"} {
		if err := WritePicture(filepath.Join(dir, "wp-content/uploads/2026/10", name+".jpg"), int64(100+i)); err != nil {
			return err
		}
	}
	style, err := os.OpenFile(filepath.Join(dir, "wp-content/themes/twentytwentythree/style.css"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = style.WriteString("\n/* Loom & Ladder, autumn */\n:root { --wp--preset--color--primary: #8a4b20; }\n")
	if err := errors.Join(err, style.Close()); err != nil {
		return err
	}
	// A ZIP as archive programs begin it; what follows does not shrink, as pictures do not.
	copyOf := append([]byte("PK\x03\x04\x14\x00\x00\x00\x08\x00"), make([]byte, ForgottenBytes)...)
	rand.New(rand.NewSource(30)).Read(copyOf[10:])
	if err := os.WriteFile(filepath.Join(dir, ForgottenArchive), copyOf[:ForgottenBytes], 0o644); err != nil {
		return err
	}
	// Only what is new changes hands: a file whose owner is set again counts as changed.
	for _, p := range []string{"wp-content/uploads/2026/10", ForgottenArchive} {
		if err := s.Own(filepath.Join(dir, p)); err != nil {
			return err
		}
	}
	return seeded(ctx, s, "base", "files/autumn.php", "autumn 3")
}

func seeded(ctx context.Context, s *stack.Stack, site, script, says string) error {
	text, err := files.ReadFile(script)
	if err != nil {
		return err
	}
	out, err := s.RunPHP(ctx, site, string(text))
	if err != nil {
		return fmt.Errorf("fill %s: %w", site, err)
	}
	if !bytes.HasPrefix([]byte(out), []byte(says)) {
		return fmt.Errorf("fill %s: %.800s", site, out)
	}
	return nil
}

// Secrets of the site by the harbour, which must not turn up in a release of it.
const (
	HarbourDatabasePassword = "harbour-db-Vq7sYk3n"
	HarbourAdminPassword    = "harbour-admin-Pw2xTd8r"
	HarbourSalt             = "hsalt-m4JcGz6bQy"
	HarbourToken            = "hm-tok-5fQ9zL2w"
)

// Names of what the other agency handed over, in the folder that the web server gives out as files.localhost.
const (
	HarbourFiles = "harbour-site.tar.bz2"
	HarbourDump  = "harbour-db.sql.gz"
)

// Harbour makes a site of another agency, packs it with tar and dumps its database as that agency would, puts
// both where they can be fetched by link, and takes the site away again.
func Harbour(ctx context.Context, s *stack.Stack) error {
	err := s.InstallWordPress(ctx, stack.WordPress{
		Name: "harbour", Title: "Harbour Music Hub", Database: "hm_site", Prefix: "hm_", DatabasePassword: HarbourDatabasePassword,
		AdminPassword: HarbourAdminPassword, Salt: HarbourSalt, AdminEmail: "piers@harbour.example",
	})
	if err != nil {
		return err
	}
	dir := filepath.Join(s.Sites(), "harbour")
	if err := WritePicture(filepath.Join(dir, "wp-content/uploads/2025/06/quay.jpg"), 77); err != nil {
		return err
	}
	if err := s.Own(dir); err != nil {
		return err
	}
	if err := seeded(ctx, s, "harbour", "files/harbour.php", "seeded 3"); err != nil {
		return err
	}
	out := filepath.Join(s.Sites(), "files")
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	if text, err := exec.CommandContext(ctx, "tar", "-C", s.Sites(), "--transform", "s,^harbour,public_html,", "-cjf",
		filepath.Join(out, HarbourFiles), "harbour").CombinedOutput(); err != nil {
		return fmt.Errorf("pack the site: %w: %s", err, text)
	}
	if err := dump(ctx, s, "hm_site", filepath.Join(out, HarbourDump)); err != nil {
		return err
	}
	db, err := s.Admin()
	if err != nil {
		return err
	}
	defer db.Close()
	for _, stmt := range []string{"DROP DATABASE hm_site", "DROP USER 'hm_site'@'%'"} {
		if _, err := db.ExecContext(ctx, stmt); err != nil {
			return err
		}
	}
	return os.RemoveAll(dir)
}

// dump writes a database with the server's own program, compressed.
func dump(ctx context.Context, s *stack.Stack, name, file string) error {
	cmd := exec.CommandContext(ctx, "mariadb-dump", "--no-defaults", "-h127.0.0.1", fmt.Sprintf("-P%d", s.DatabasePort), "-u"+s.AdminUser,
		name)
	cmd.Env = append(os.Environ(), "MYSQL_PWD="+s.AdminPassword)
	out, err := cmd.Output()
	if err != nil {
		return fmt.Errorf("dump %s: %w", name, err)
	}
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	z := gzip.NewWriter(f)
	_, err = io.Copy(z, bytes.NewReader(out))
	return errors.Join(err, z.Close(), f.Close())
}
