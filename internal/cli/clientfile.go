package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func fileFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "file", TakesFile: true,
		Usage: "KEY=PATH of a picture or a document, such as logo=logo.png, any number of times; it goes to the client"}
}

// addFiles gives a client the files that --file names, and puts what they are called by into its settings.
func addFiles(ctx context.Context, svc *client.Client, name string, files []string, into map[string]string) error {
	named, err := pairs(files)
	if err != nil {
		return err
	}
	for key, path := range named {
		content, err := os.ReadFile(path)
		if err != nil {
			return usage("%s: %v", key, err)
		}
		f, err := svc.AddClientFile(ctx, name, filepath.Base(path), content)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		into[key] = f.Value
	}
	return nil
}

var fileValue = regexp.MustCompile(`^file:[0-9a-f]{64}/(.*)$`)

// shownValue is a value as people read it: of a file, its name.
func shownValue(v string) string {
	if m := fileValue.FindStringSubmatch(v); m != nil {
		return m[1]
	}
	return v
}

// fileCells puts files in the place of paths in the rows of a table: in the columns of fields whose values are files. With send, the
// clients get them; a client that is not there is added.
func (a *app) fileCells(ctx context.Context, svc *client.Client, table string, in *wire.NewTable, send bool) error {
	there := func(value string) string { // where the file is that a cell names; "" for none
		path := value
		if !filepath.IsAbs(path) && table != "-" {
			path = filepath.Join(filepath.Dir(table), path)
		}
		if e, err := os.Stat(path); err != nil || !e.Mode().IsRegular() || filepath.Ext(value) == "" {
			return ""
		}
		return path
	}
	named := slices.ContainsFunc(in.Rows, func(row wire.TableRow) bool {
		return slices.ContainsFunc(slices.Collect(maps.Values(row.Set)), func(v string) bool { return there(v) != "" })
	})
	if in.From == "" || !named {
		return nil
	}
	release, err := svc.Release(ctx, in.From)
	if err != nil {
		return err
	}
	for _, f := range release.Manifest.List.Fields {
		for i := range in.Rows {
			row := &in.Rows[i]
			path := there(row.Set[f.Key])
			if f.Type != "image" && f.Type != "file" || path == "" {
				continue
			}
			if row.Set[f.Key], err = giveFile(ctx, svc, row.Client, path, send); err != nil {
				return fmt.Errorf("row %d, %s: %w", i+1, f.Key, err)
			}
		}
	}
	return nil
}

// giveFile returns what a file is called by. With send, the client gets it.
func giveFile(ctx context.Context, svc *client.Client, name, path string, send bool) (string, error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return "", usage("%v", err)
	}
	sum := sha256.Sum256(content)
	value := "file:" + hex.EncodeToString(sum[:]) + "/" + regexp.MustCompile(`[^A-Za-z0-9._-]+`).ReplaceAllString(filepath.Base(path), "-")
	if !send {
		return value, nil
	}
	f, err := svc.AddClientFile(ctx, name, filepath.Base(path), content)
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == 404 {
		if _, err = svc.AddClient(ctx, wire.NewClient{Name: name}); err == nil {
			f, err = svc.AddClientFile(ctx, name, filepath.Base(path), content)
		}
	}
	return f.Value, err
}
