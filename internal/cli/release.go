package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"archive/zip"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/core/archive"
	"nestseed/internal/core/progress"
	"nestseed/internal/wire"
)

func (a *app) release() *cli.Command {
	return noun("release", "builds of starters, written NAME@NUMBER; NAME alone is the newest",
		verb("build", "STARTER", "build a release", []cli.Flag{&cli.StringFlag{Name: "note", Usage: "what is new in it"},
			&cli.BoolFlag{Name: "full", Usage: "read everything, also what did not change since the release before"}, detach()}, a.releaseBuild),
		asking(a, "list", "[STARTER]", "list releases", nil, func(ctx context.Context, _ *cli.Command, svc *client.Client,
			args []string) ([]wire.Release, error) {
			return svc.Releases(ctx, at(args, 0))
		}, a.printReleases),
		asking(a, "show", "REF", "show a release", nil, func(ctx context.Context, _ *cli.Command, svc *client.Client,
			args []string) (wire.Release, error) {
			return svc.Release(ctx, args[0])
		}, func(r wire.Release) { a.printRelease(r) }),
		verb("contents", "REF [PATH]", "list what is in a release, largest first", []cli.Flag{
			&cli.IntFlag{Name: "largest", Usage: "the N largest files of all"},
			&cli.StringFlag{Name: "find", Usage: "what matches a pattern, like *.jpg or uploads/2026/**"},
		}, a.releaseContents),
		verb("extract", "REF PATH…", "take files or folders out; only what is taken is fetched", []cli.Flag{
			&cli.StringFlag{Name: "to", Required: true, Usage: "folder to put them in"}}, a.releaseExtract),
		verb("compare", "REF REF", "say how a release differs from another, or, with the word source, from its source today",
			[]cli.Flag{&cli.StringFlag{Name: "file", Usage: "the lines that differ in one file of two releases"}, detach()}, a.releaseCompare),
		verb("verify", "REF-OR-FILE…",
			"read everything and check every sum: of a release, or of files on this machine, volumes and sealed ones too", []cli.Flag{keyFile(),
				detach()}, a.releaseVerify),
		verb("download", "REF", "copy the archive; a partial copy is taken up where it ends", []cli.Flag{
			&cli.StringFlag{Name: "to", Required: true, Usage: "file to write, or folder"},
			&cli.StringFlag{Name: "volume", Usage: "cut it into pieces of this size, like 100MB"},
			&cli.StringSliceFlag{Name: "seal", Usage: "encrypt it for this recipient (age1…); may be given again"},
			&cli.StringFlag{Name: "passphrase-file", Usage: "encrypt it with the passphrase in this file; - for standard input",
				TakesFile: true}}, a.releaseDownload),
		verb("import", "STARTER FILE-OR-URL…", "import a release: an archive of a release, or archives and dumps that were made elsewhere",
			[]cli.Flag{
				&cli.StringFlag{Name: "database", Usage: "the SQL dump, where it is not in the archive: file or URL"},
				keyFile(),
				&cli.StringFlag{Name: "list", Usage: "stock packing list, for a starter that is new", Value: "starter"},
				&cli.StringFlag{Name: "note", Usage: "what it is"},
				&cli.BoolFlag{Name: "trust", Usage: "the archive is your own: take over its views, triggers and routines"}, detach()}, a.releaseImport),
		asking(a, "discard-archive", "REF", "remove a release's archive; its record stays", nil, func(ctx context.Context, _ *cli.Command,
			svc *client.Client, args []string) (wire.Release, error) {
			return svc.DiscardArchive(ctx, args[0])
		}, func(r wire.Release) {
			free := size(r.ArchiveBytes) + " free"
			if r.FreedBytes != nil && *r.FreedBytes < r.ArchiveBytes {
				free = size(*r.FreedBytes) + " free, the rest is shared with other archives"
			}
			fmt.Fprintf(a.out, "the archive of %s is gone, %s; its record stays\n", r.Ref, free)
		}))
}

func (a *app) releaseBuild(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	run, err := svc.BuildRelease(ctx, args[0], wire.NewRelease{Note: c.String("note"), Full: c.Bool("full")})
	if err != nil {
		return err
	}
	ended, ok, err := a.follow(ctx, c, svc, run)
	if err != nil || !ok {
		return err
	}
	var res wire.BuildResult
	if err := json.Unmarshal(ended.Result, &res); err != nil {
		return err
	}
	r, err := svc.Release(ctx, res.Release)
	if err != nil {
		return err
	}
	return a.print(c, r, func() {
		fmt.Fprintf(a.out, "%s built in %s", r.Ref, millis(ended.EndedAt.Sub(*ended.StartedAt).Milliseconds()))
		if res.Copied.Files > 0 {
			fmt.Fprintf(a.out, ", %s files (%s) as in the release before", count(res.Copied.Files), size(res.Copied.Bytes))
		}
		if res.SharedBytes > 0 {
			fmt.Fprintf(a.out, ", %s new in the store", size(res.ArchiveBytes-res.SharedBytes))
		}
		fmt.Fprintln(a.out)
		a.printRelease(r)
	})
}

func (a *app) printReleases(releases []wire.Release) {
	var rows [][]string
	for _, r := range releases {
		verified := "not verified"
		if !r.Kept {
			verified = "discarded"
		} else if r.VerifiedAt != nil {
			verified = "verified"
			if r.Faults > 0 {
				verified = fmt.Sprintf("%d faults", r.Faults)
			}
		}
		rows = append(rows, []string{r.Ref, day(r.Made), r.By, size(r.ArchiveBytes), difference(r), count(r.Totals.Files), count(r.Totals.Rows),
			fmt.Sprint(r.Sites), verified, r.Note})
	}
	table(a.out, []string{"release", "made", "by", ">archive", ">change", ">files", ">rows", ">sites", "sums", "note"}, rows)
}

// difference says how the archive's size differs from that of the release before.
func difference(r wire.Release) string {
	if r.BeforeBytes == nil {
		return "first"
	}
	d := r.ArchiveBytes - *r.BeforeBytes
	if d < 0 {
		return "-" + size(-d)
	}
	return "+" + size(d)
}

func (a *app) printRelease(r wire.Release) {
	fmt.Fprintf(a.out, "%s: %s %s from %s, made %s by %s", r.Ref, r.KindTitle, r.Version, r.Source, day(r.Made), r.By)
	if r.Note != "" {
		fmt.Fprintf(a.out, ": %s", r.Note)
	}
	fmt.Fprintf(a.out, "\narchive %s (%s unpacked), %s files, %s rows in %d tables; change to the one before: %s\n\n", size(r.ArchiveBytes),
		size(r.Totals.Bytes+r.Totals.SQLByte),
		count(r.Totals.Files), count(r.Totals.Rows), r.Totals.Tables, difference(r))
	var most int64
	for _, x := range r.Areas {
		most = max(most, x.Bytes)
	}
	var rows [][]string
	for _, x := range r.Areas {
		rows = append(rows, []string{x.Area, size(x.Bytes), bar(x.Bytes, most), count(x.Files)})
	}
	table(a.out, []string{"area", ">size", "", ">files"}, rows)
	if r.Difference != nil {
		fmt.Fprintln(a.out, r.Difference.Sentence)
	}
	if r.ImportedFrom != "" {
		fmt.Fprintf(a.out, "imported from %s\n", r.ImportedFrom)
	}
	if r.DiscardedAt != nil {
		fmt.Fprintf(a.out, "its archive was discarded %s, %s\n", day(*r.DiscardedAt), r.DiscardedWhy)
	}
	if r.Manifest == nil {
		return
	}
	fmt.Fprintln(a.out)
	rows = nil
	for _, l := range r.Manifest.LeftOut {
		rows = append(rows, []string{size(l.Bytes), count(l.Files + l.Rows), l.Rule})
	}
	table(a.out, []string{">left out", ">files or rows", "rule"}, rows)
	fmt.Fprintln(a.out)
	rows = nil
	for _, b := range r.Manifest.Blanked {
		rows = append(rows, []string{b.What, count(b.Times)})
	}
	table(a.out, []string{"blanked", ">values or rows"}, rows)
	for _, n := range r.Manifest.Notes {
		fmt.Fprintln(a.out, "note:", n)
	}
}

func (a *app) releaseContents(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	out, err := svc.Contents(ctx, args[0], at(args, 1), int(c.Int("largest")), c.String("find"))
	if err != nil {
		return err
	}
	return a.print(c, out, func() {
		var rows [][]string
		for _, n := range out.Nodes {
			name, things := n.Path, count(n.Files)+" files"
			switch {
			case n.Folder:
				name += "/"
			case n.Rows > 0:
				things = count(n.Rows) + " rows"
			case n.Link != "":
				name += " -> " + n.Link
				things = ""
			default:
				things = ""
			}
			rows = append(rows, []string{size(n.Bytes), bar(n.Bytes, out.Nodes[0].Bytes), size(n.Packed), things, n.Area, name})
		}
		if len(rows) == 0 {
			fmt.Fprintln(a.out, "nothing there")
		}
		table(a.out, []string{">size", "", ">packed", ">holds", "area", out.Ref}, rows)
	})
}

// releaseExtract reads the archive where it is, by ranges.
func (a *app) releaseExtract(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	ar, err := svc.OpenArchive(ctx, args[0])
	if err != nil {
		return err
	}
	to := c.String("to")
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return err
	}
	defer root.Close()
	var taken []string
	for _, want := range args[1:] {
		want = strings.Trim(path.Clean(want), "/")
		before := len(taken)
		err := ar.Regular(func(f *zip.File, p string) error {
			if p != want && !strings.HasPrefix(p, want+"/") {
				return nil
			}
			taken = append(taken, p)
			return extract(root, ar, f, p)
		})
		if err != nil {
			return err
		}
		if len(taken) == before {
			return &client.Problem{Status: 404, Detail: fmt.Sprintf("%s has no file or folder %s; see nestseed release contents %s", args[0], want,
				args[0])}
		}
	}
	return a.print(c, taken, func() { fmt.Fprintf(a.out, "%s files put into %s\n", count(int64(len(taken))), to) })
}

// extract writes one file below root, which cannot be left.
func extract(root *os.Root, ar *archive.Archive, f *zip.File, p string) error {
	if err := root.MkdirAll(path.Dir(p), 0o755); err != nil {
		return err
	}
	if err := root.Remove(p); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	r, err := ar.File(f.Name)
	if err != nil {
		return err
	}
	defer r.Close()
	if f.Mode()&os.ModeSymlink != 0 {
		target, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		return root.Symlink(string(target), p)
	}
	out, err := root.OpenFile(p, os.O_CREATE|os.O_WRONLY|os.O_EXCL, f.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(out, r)
	return errors.Join(err, out.Close(), root.Chtimes(p, f.Modified, f.Modified))
}

// releaseDownload writes to a .part file, so that the file that was asked for is always whole.
func (a *app) releaseDownload(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	r, err := svc.Release(ctx, args[0])
	if err != nil {
		return err
	}
	to := c.String("to")
	if info, err := os.Stat(to); err == nil && info.IsDir() {
		to = filepath.Join(to, fmt.Sprintf("%s-%d.zip", r.Starter, r.Number))
	}
	if c.String("volume") != "" || len(c.StringSlice("seal")) > 0 || c.String("passphrase-file") != "" {
		return a.downloadCutOrSealed(ctx, c, svc, r, to)
	}
	part := to + ".part"
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer f.Close()
	from, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if from > r.ArchiveBytes {
		from = 0
		if err := errors.Join(f.Truncate(0), rewind(f)); err != nil {
			return err
		}
	}
	if from < r.ArchiveBytes {
		if _, _, err := svc.Download(ctx, r.Ref, from, f); err != nil {
			return fmt.Errorf("%w; what has come is kept in %s, and the same command goes on from there", err, part)
		}
	}
	if err := wholeCopy(ctx, f, r); err != nil {
		os.Remove(part)
		return fmt.Errorf("what came of %s is damaged (%w) and was removed; run the same command again", r.Ref, err)
	}
	if err := errors.Join(f.Close(), os.Rename(part, to)); err != nil {
		return err
	}
	return a.print(c, map[string]any{"file": to, "bytes": r.ArchiveBytes, "sums_sha256": r.SumsSHA256}, func() {
		fmt.Fprintf(a.out, "%s is in %s: %s, every sum holds\n", r.Ref, to, size(r.ArchiveBytes))
	})
}

// wholeCopy checks that a copy has the sums the service recorded, and that they hold for all of it.
func wholeCopy(ctx context.Context, f *os.File, r wire.Release) error {
	ar, err := archive.Open(f, r.ArchiveBytes)
	if err != nil {
		return err
	}
	if pinned, err := ar.Pinned(); err != nil || pinned != r.SumsSHA256 {
		return errors.Join(err, errors.New("its sums are not those of the release"))
	}
	v, err := ar.Verify(ctx, progress.Discard)
	if err == nil && len(v.Faults) > 0 {
		err = fmt.Errorf("%s %s", v.Faults[0].Entry, v.Faults[0].What)
	}
	return err
}

func rewind(f *os.File) error {
	_, err := f.Seek(0, io.SeekStart)
	return err
}
