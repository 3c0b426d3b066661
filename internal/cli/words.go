package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/core/archive"
	"nestseed/internal/core/progress"
	"nestseed/internal/wire"
)

// keyFile names the key of a sealed archive. Keys are read from files: what is on a command line, everybody on
// the machine can see.
func keyFile() cli.Flag {
	return &cli.StringFlag{Name: "key-file",
		Usage: "file with the key (AGE-SECRET-KEY-…) or passphrase of a sealed archive; - for standard input", TakesFile: true}
}

func (a *app) keyFrom(c *cli.Command, flag string) (string, error) {
	name := c.String(flag)
	if name == "" {
		return "", nil
	}
	text, err := a.readFile(name)
	return strings.TrimRight(string(text), "\r\n"), err
}

// isFile reports whether a word of verify or import is a file on this machine and not a release.
func isFile(word string) bool {
	info, err := os.Stat(word)
	return err == nil && info.Mode().IsRegular()
}

func (a *app) releaseVerify(ctx context.Context, c *cli.Command, args []string) error {
	if len(args) > 1 || isFile(args[0]) || strings.ContainsAny(args[0], "/.") {
		return a.verifyFiles(ctx, c, args)
	}
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	run, err := svc.VerifyRelease(ctx, args[0])
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var v archive.Verification
	if err := json.Unmarshal(ended.Result, &v); err != nil {
		return err
	}
	return a.printVerification(c, args[0], &v)
}

func (a *app) printVerification(c *cli.Command, what string, v *archive.Verification) error {
	err := a.print(c, v, func() {
		if len(v.Faults) == 0 {
			fmt.Fprintf(a.out, "%s is whole: %s entries, %s, every sum holds\n", what, count(v.Entries), size(v.Bytes))
			return
		}
		for _, f := range v.Faults {
			fmt.Fprintf(a.out, "✗ %s %s\n", f.Entry, f.What)
		}
		for _, u := range v.Usable {
			fmt.Fprintln(a.out, u)
		}
	})
	if err == nil && len(v.Faults) > 0 {
		return errFaults
	}
	return err
}

// verifyFiles verifies an archive that lies on this machine, whole or in volumes, sealed or not.
func (a *app) verifyFiles(ctx context.Context, c *cli.Command, names []string) error {
	key, err := a.keyFrom(c, "key-file")
	if err != nil {
		return err
	}
	var pieces []archive.Piece
	for _, name := range names {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return err
		}
		pieces = append(pieces, archive.Piece{Name: filepath.Base(name), R: f, SizeBytes: info.Size()})
	}
	faults, err := archive.CheckVolumes(ctx, pieces)
	if err != nil {
		return err
	}
	ar, _, err := archive.OpenPieces(pieces, key)
	if err != nil {
		if len(faults) > 0 { // the damaged volume is the better explanation
			return a.printVerification(c, names[0], &archive.Verification{Faults: faults})
		}
		return err
	}
	v, err := ar.Verify(ctx, progress.Discard)
	if err != nil {
		return err
	}
	v.Faults = append(faults, v.Faults...)
	return a.printVerification(c, ar.Manifest.Ref(), v)
}

var sizeForm = regexp.MustCompile(`(?i)^(\d+(?:\.\d+)?)\s*([kMGT]?)(i?)B?$`)

// parseSize reads a size: 100MB, 1.5 GiB, 4096.
func parseSize(s string) (int64, error) {
	m := sizeForm.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0, usage("%q is not a size; write it like 100MB", s)
	}
	v, err := strconv.ParseFloat(m[1], 64)
	if err != nil {
		return 0, usage("%q is not a size; write it like 100MB", s)
	}
	unit := 1000.0
	if m[3] != "" {
		unit = 1024
	}
	for range strings.Index("kmgt", strings.ToLower(m[2])) + 1 {
		if m[2] != "" {
			v *= unit
		}
	}
	return int64(v), nil
}

// downloadCutOrSealed writes an archive in volumes, or encrypted, or both.
func (a *app) downloadCutOrSealed(ctx context.Context, c *cli.Command, svc *client.Client, r wire.Release, to string) error {
	pass, err := a.keyFrom(c, "passphrase-file")
	if err != nil {
		return err
	}
	seal := wire.Seal{Recipients: c.StringSlice("seal"), Passphrase: pass}
	sealed := len(seal.Recipients) > 0 || pass != ""
	if sealed && !strings.HasSuffix(to, ".age") {
		to += ".age"
	}
	var files []string
	open := func(name string) (io.WriteCloser, error) {
		files = append(files, name)
		return os.OpenFile(filepath.Join(filepath.Dir(to), name), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	}
	var out io.WriteCloser
	if v := c.String("volume"); v != "" {
		bytes, err := parseSize(v)
		if err != nil {
			return err
		}
		if bytes < archive.MinVolumeBytes {
			return usage("volumes have at least %s", size(archive.MinVolumeBytes))
		}
		out = archive.NewCutter(filepath.Base(to), bytes, open)
	} else if out, err = open(filepath.Base(to)); err != nil {
		return err
	}
	var n int64
	if sealed {
		n, err = svc.Sealed(ctx, r.Ref, seal, out)
	} else {
		n, _, err = svc.Download(ctx, r.Ref, 0, out)
	}
	if err := errors.Join(err, out.Close()); err != nil {
		for _, f := range files {
			os.Remove(filepath.Join(filepath.Dir(to), f))
		}
		return fmt.Errorf("%w; what had come was removed, run the same command again", err)
	}
	return a.print(c, map[string]any{"release": r.Ref, "files": files, "bytes": n}, func() {
		how := "as it is"
		if sealed {
			how = "sealed"
		}
		fmt.Fprintf(a.out, "%s is in %s, %s, %s", r.Ref, filepath.Dir(to), size(n), how)
		if len(files) > 1 {
			fmt.Fprintf(a.out, ", in %d volumes; check them with: nestseed release verify %s.*", len(files)-1, filepath.Base(to))
		}
		fmt.Fprintln(a.out)
	})
}

// given uploads a file, or hands a link on.
func (a *app) given(ctx context.Context, svc *client.Client, word string) (wire.GivenFile, error) {
	if strings.HasPrefix(word, "https://") || strings.HasPrefix(word, "http://") {
		return wire.GivenFile{Link: word}, nil
	}
	last := -1
	id, err := svc.Upload(ctx, word, func(sent, of int64) {
		if percent := int(sent * 100 / max(1, of)); percent/25 != last/25 || last < 0 {
			last = percent
			fmt.Fprintf(a.err, "send %s: %s of %s\n", filepath.Base(word), size(sent), size(of))
		}
	})
	return wire.GivenFile{Upload: id}, err
}

func (a *app) releaseImport(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	in := wire.NewImport{Note: c.String("note"), List: c.String("list"), Trust: c.Bool("trust")}
	if in.Key, err = a.keyFrom(c, "key-file"); err != nil {
		return err
	}
	for _, word := range args[1:] {
		g, err := a.given(ctx, svc, word)
		if err != nil {
			return err
		}
		in.Files = append(in.Files, g)
	}
	if d := c.String("database"); d != "" {
		g, err := a.given(ctx, svc, d)
		if err != nil {
			return err
		}
		in.Database = &g
	}
	run, err := svc.ImportRelease(ctx, args[0], in)
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var res wire.ImportResult
	if err := json.Unmarshal(ended.Result, &res); err != nil {
		return err
	}
	r, err := svc.Release(ctx, res.Release)
	if err != nil {
		return err
	}
	return a.print(c, r, func() {
		fmt.Fprintf(a.out, "%s imported, in %s", r.Ref, millis(ended.EndedAt.Sub(*ended.StartedAt).Milliseconds()))
		if res.Address != "" {
			fmt.Fprintf(a.out, ": %s, of %s", r.KindTitle, res.Address)
		}
		fmt.Fprintln(a.out)
		a.printRelease(r)
	})
}
