package provision

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"runtime"
	"slices"
	"sync"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
)

// textBytes is the largest text file that is held in memory while it is rewritten; longer ones are in pieces.
const textBytes = 8 << 20

var copyBuffers = sync.Pool{New: func() any { return new([1 << 20]byte) }}

// Beside names a folder next to a site's, on the same file system, that is hidden and is a run's own.
func Beside(folder, runID string) string {
	dir, base := path.Split(path.Clean(folder))
	return path.Join(dir, "."+base+".nestseed-"+runID)
}

// placer is a worker who places files, and the memory that texts are rewritten into.
type placer struct {
	*rewrite.Worker
	text []byte
}

// placeFiles unpacks the tree into a folder beside the site's, on all cores, with text rewritten on the way. Half of the
// workers wait for the rows: those are in few large pieces, and whoever had the last of them would work alone at the end,
// where files can be shared out to the very last.
func (mk *maker) placeFiles(ctx context.Context) error {
	mk.staging = Beside(mk.req.Folder, mk.req.RunID)
	if err := mk.makingParents(ctx, mk.staging); err != nil {
		return err
	}
	if err := mk.making(ctx, "staging", mk.staging, ""); err != nil {
		return err
	}
	if err := mk.makeStaging(ctx); err != nil {
		return err
	}
	stage, err := mk.req.FS.Sub(ctx, mk.staging)
	if err != nil {
		return err
	}
	mk.stage = stage
	if b, can := stage.(hostfs.Bulker); can {
		if mk.bulk, err = b.Bulk(ctx); err != nil {
			return err
		}
	}
	err = mk.placeAll(ctx)
	if mk.bulk != nil {
		err = errors.Join(err, mk.bulk.Close())
	}
	if err != nil {
		return err
	}
	return mk.placeFolders(ctx)
}

// places reports whether a path of the release is placed in the folder that is prepared.
func (mk *maker) places(p string) bool {
	return !mk.links.covers(p) && (mk.code == nil || mk.code.brings(p))
}

// placeAll hands the files out to workers.
func (mk *maker) placeAll(ctx context.Context) error {
	batches, handedOut := make(chan []*zip.File, 8), make(chan struct{})
	group, ctx := parallel.WithContext(ctx)
	workers := max(2, runtime.GOMAXPROCS(0))
	for i := range workers {
		group.Go(func() error {
			if i >= workers/2 {
				select {
				case <-mk.rowsLoaded:
				case <-handedOut:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			p := &placer{Worker: mk.rewriter.Worker()}
			defer mk.merge(p.Worker)
			for batch := range batches {
				if err := mk.placeBatch(ctx, batch, p); err != nil {
					return err
				}
			}
			return nil
		})
	}
	group.Go(func() error {
		defer close(handedOut)
		defer close(batches)
		return mk.byFolder(func(batch []*zip.File) error {
			select {
			case batches <- batch:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	})
	return group.Wait()
}

// byFolder hands out the files of the tree, those of a folder together: two workers that make files in
// one folder wait for each other in the kernel.
func (mk *maker) byFolder(hand func([]*zip.File) error) error {
	const most = 64
	var batch []*zip.File
	err := mk.req.Archive.Regular(func(f *zip.File, p string) error {
		if !mk.places(p) {
			return nil
		}
		if len(batch) > 0 && (len(batch) == most || path.Dir(batch[0].Name) != path.Dir(f.Name)) {
			if err := hand(batch); err != nil {
				return err
			}
			batch = nil
		}
		batch = append(batch, f)
		return nil
	})
	if err != nil || len(batch) == 0 {
		return err
	}
	return hand(batch)
}

// makingParents notes the folders above p that are not there yet, topmost first. Undo takes them away only
// while they are empty: another site may have been placed below them meanwhile.
func (mk *maker) makingParents(ctx context.Context, p string) error {
	var missing []string
	for parent := path.Dir(p); parent != "." && parent != "/"; parent = path.Dir(parent) {
		if _, err := mk.req.FS.Stat(ctx, parent); !errors.Is(err, fs.ErrNotExist) {
			break
		}
		missing = append(missing, parent)
	}
	for _, parent := range slices.Backward(missing) {
		if err := mk.making(ctx, "parent", parent, ""); err != nil {
			return err
		}
	}
	return nil
}

// placeFolders gives folders their modes, and makes those that hold nothing.
func (mk *maker) placeFolders(ctx context.Context) error {
	group, within := parallel.WithContext(ctx)
	group.SetLimit(hostfs.Transfers(mk.stage))
	err := mk.req.Archive.Folders(func(f *zip.File, p string) error {
		if !mk.places(p) {
			return nil
		}
		mode := mk.shared(p, f.Mode().Perm()|0o700, groupReads|groupEnters)
		if mk.tree != nil {
			mode = sharedMode(mode)
		}
		group.Go(func() error { return mk.stage.Mkdir(within, p, mode) })
		return within.Err()
	})
	return errors.Join(err, group.Wait(), mk.placeWritten(ctx))
}

// placeWritten makes the folders that programs write in and could not make, as they run as another account.
func (mk *maker) placeWritten(ctx context.Context) error {
	if !mk.req.Runtime.byGroup() || mk.tree != nil {
		return nil
	}
	for _, folder := range mk.req.Kind.Written() {
		if !mk.places(folder) {
			continue
		}
		mode := fs.FileMode(folderMode)
		switch e, err := mk.stage.Stat(ctx, folder); {
		case err == nil && !e.Mode.IsDir():
			continue // a link to what several sites share
		case err == nil:
			mode = e.Mode.Perm()
		}
		if err := mk.stage.Mkdir(ctx, folder, mk.shared(folder, mode, groupReads|groupEnters)); err != nil {
			return err
		}
	}
	return nil
}

// shared adds to a mode what programs need that run as another account of the same group: to read, and to write where they write.
func (mk *maker) shared(p string, mode, reads fs.FileMode) fs.FileMode {
	if !mk.req.Runtime.byGroup() {
		return mode
	}
	if mode |= reads; mk.req.Kind.Writes(p) {
		mode |= groupWrites
	}
	return mode
}

func (mk *maker) merge(w *rewrite.Worker) {
	mk.mu.Lock()
	defer mk.mu.Unlock()
	mk.result.Rewritten.Merge(w.Tally())
}

// placeBatch places files of one folder.
func (mk *maker) placeBatch(ctx context.Context, batch []*zip.File, by *placer) error {
	p := path.Dir(batch[0].Name[len(archive.FilesDir):])
	if err := archive.CheckName(p); p != "." && err != nil {
		return fmt.Errorf("%s: %w", batch[0].Name, err)
	}
	if mk.bulk != nil {
		for _, f := range batch {
			if err := mk.placeInBulk(ctx, f, by); err != nil {
				return err
			}
		}
		return nil
	}
	folder, err := mk.stage.MakeSub(ctx, p)
	if err != nil {
		return err
	}
	defer folder.Close()
	for _, f := range batch {
		if err := mk.placeFile(ctx, folder, path.Base(f.Name), f, by); err != nil {
			return err
		}
	}
	return nil
}

// bulkBytes is the largest file that is sent along with others: it is held in memory until it is there.
const bulkBytes = 4 << 20

func (mk *maker) placeInBulk(ctx context.Context, f *zip.File, by *placer) error {
	p := f.Name[len(archive.FilesDir):]
	if f.Mode()&fs.ModeSymlink != 0 || f.UncompressedSize64 > bulkBytes {
		return mk.placeFile(ctx, mk.stage, p, f, by)
	}
	if err := archive.CheckName(p); err != nil {
		return fmt.Errorf("%s: %w", f.Name, err)
	}
	r, err := f.Open()
	if err != nil {
		return fmt.Errorf("%s: %w", f.Name, err)
	}
	defer r.Close()
	content := bytes.NewBuffer(make([]byte, 0, f.UncompressedSize64))
	if err := mk.fill(content, r, f, by); err != nil {
		return fmt.Errorf("place %s: %w", p, err)
	}
	if err := mk.bulk.Put(p, mk.modeOf(f), mk.timeOf(f), content.Bytes()); err != nil {
		return fmt.Errorf("place %s: %w", p, err)
	}
	mk.placed(int64(f.UncompressedSize64))
	return nil
}

// placeFile places a file in a folder, which is that of the site or one below it, under a name in that.
func (mk *maker) placeFile(ctx context.Context, folder hostfs.FS, name string, f *zip.File, by *placer) error {
	p := f.Name[len(archive.FilesDir):]
	if err := archive.CheckName(p); err != nil {
		return fmt.Errorf("%s: %w", f.Name, err)
	}
	r, err := f.Open()
	if err != nil {
		return fmt.Errorf("%s: %w", f.Name, err)
	}
	defer r.Close()
	if f.Mode()&fs.ModeSymlink != 0 {
		target, err := io.ReadAll(io.LimitReader(r, 4096))
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		mk.placed(0)
		return folder.Symlink(ctx, string(target), name)
	}
	out, err := folder.Create(ctx, name, mk.modeOf(f))
	if err != nil {
		return err
	}
	if err := mk.fill(out, r, f, by); err != nil {
		out.Close()
		return fmt.Errorf("place %s: %w", p, err)
	}
	if err := out.Close(); err != nil {
		return fmt.Errorf("place %s: %w", p, err)
	}
	mk.placed(int64(f.UncompressedSize64))
	return folder.Chtimes(ctx, name, mk.timeOf(f))
}

func (mk *maker) modeOf(f *zip.File) fs.FileMode {
	if mk.tree != nil {
		return sharedMode(f.Mode())
	}
	return mk.shared(f.Name[len(archive.FilesDir):], f.Mode().Perm()|0o600, groupReads)
}

// timeOf is the time that a file gets: its own, but in code that is shared, where a program that remembers a file by its name and time
// must not take that of another release for it.
func (mk *maker) timeOf(f *zip.File) time.Time {
	if mk.tree != nil {
		return mk.tree.at
	}
	return f.Modified
}

func (mk *maker) placed(bytes int64) {
	mk.mu.Lock()
	mk.result.Files++
	mk.mu.Unlock()
	mk.report.Add(progress.Amount{Files: 1, Bytes: bytes})
}

// fill copies an entry, and rewrites it when it is text that has something to rewrite. A serialised value of more than
// textBytes, whose lengths could not be mended in pieces, is left as it is.
func (mk *maker) fill(out io.Writer, r io.Reader, f *zip.File, by *placer) error {
	if mk.tree != nil {
		return mk.fillShared(out, r, f, by)
	}
	buf := copyBuffers.Get().(*[1 << 20]byte)
	defer copyBuffers.Put(buf)
	n, err := io.ReadFull(r, buf[:])
	head := buf[:n]
	whole := err == io.EOF || err == io.ErrUnexpectedEOF
	if err != nil && !whole {
		return err
	}
	isText, isWide := rewrite.IsText(head[:min(n, 8<<10)]), rewrite.IsWide(head)
	if isText && f.UncompressedSize64 > textBytes && !phpval.Looks(head) {
		by.Where = f.Name
		return mk.rewriter.Chunks(io.MultiReader(bytes.NewReader(head), r), func(chunk []byte) error {
			by.text = by.Text(by.text[:0], chunk)
			text, err := mk.fillTokens(f.Name[len(archive.FilesDir):], by.text)
			if err == nil {
				_, err = out.Write(text)
			}
			return err
		})
	}
	if !isText && !isWide || f.UncompressedSize64 > textBytes {
		if _, err := out.Write(head); err != nil || whole {
			return err
		}
		_, err = io.CopyBuffer(struct{ io.Writer }{out}, struct{ io.Reader }{r}, buf[:])
		return err
	}
	text := head
	if !whole {
		rest, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		text = append(bytes.Clone(head), rest...)
	}
	by.Where = f.Name
	if isWide {
		by.text = by.Wide(by.text[:0], text)
	} else {
		by.text = by.Value(by.text[:0], text)
	}
	if isRules(f.Name) {
		by.text = mk.plan.rebaseRules(by.text)
	}
	text, err = mk.fillTokens(f.Name[len(archive.FilesDir):], by.text)
	if err != nil {
		return err
	}
	_, err = out.Write(text)
	return err
}
