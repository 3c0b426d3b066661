package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// siteSideBySide looks at pages of a site beside its source's; with --to, the pictures are written there.
func (a *app) siteSideBySide(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	run, err := svc.LookSideBySide(ctx, args[0], int(c.Int("pages")))
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var seen wire.SideBySide
	if err := json.Unmarshal(ended.Result, &seen); err != nil {
		return err
	}
	if to := c.String("to"); to != "" {
		if err := savePictures(ctx, svc, args[0], to, seen); err != nil {
			return err
		}
	}
	return a.print(c, seen, func() { a.printSideBySide(svc.Address(), args[0], c.String("to"), seen) })
}

func savePictures(ctx context.Context, svc *client.Client, site, dir string, seen wire.SideBySide) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, p := range seen.Pages {
		for _, name := range []string{p.Left, p.Right} {
			if name == "" {
				continue
			}
			f, err := os.Create(filepath.Join(dir, filepath.Base(name)))
			if err != nil {
				return err
			}
			err = svc.Picture(ctx, site, name, f)
			if closeErr := f.Close(); err == nil {
				err = closeErr
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (a *app) printSideBySide(server, site, dir string, seen wire.SideBySide) {
	var rows [][]string
	for _, p := range seen.Pages {
		differs := fmt.Sprintf("%.1f %%", p.Share*100)
		if p.Problem != "" {
			differs = "✗ " + p.Problem
		}
		rows = append(rows, []string{"/" + p.Path, differs, count(int64(p.Places)), p.Left, p.Right})
	}
	fmt.Fprintf(a.out, "%s beside source %s, %s\n", seen.Right, seen.Source, seen.Left)
	table(a.out, []string{"page", ">differs", ">places", "source", "site"}, rows)
	if dir == "" {
		fmt.Fprintf(a.out, "the pictures are in the console, at %s/sites/%s/side-by-side; --to DIR writes them out\n", server, site)
		return
	}
	fmt.Fprintf(a.out, "the pictures are in %s, with frames around what differs\n", dir)
}
