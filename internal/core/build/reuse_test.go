package build_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/build"
	"nestseed/internal/core/build/buildtest"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
)

func TestARebuildCopiesWhatDidNotChangeAndGivesTheSameBytes(t *testing.T) {
	dir, in := buildtest.Site(t)
	in.Manifest.Made = buildtest.Later()
	buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "base/wp-load.php"), []byte("<?php // new"), 0o755))
	again, whole := in, in
	again.Before = buildtest.Open(t, filepath.Join(dir, "1.zip"))
	for _, x := range []*build.Input{&again, &whole} {
		x.Manifest.Number, x.Manifest.Made = 2, buildtest.Later().Add(time.Hour).Truncate(time.Hour)
	}
	b := buildtest.Rebuild(t, again, filepath.Join(dir, "2.zip"))
	buildtest.Rebuild(t, whole, filepath.Join(dir, "3.zip"))
	require.Equal(t, b.Manifest.Totals.Files-2, b.Copied.Files, "all but the settings file and the changed one")
	two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
	require.NoError(t, err)
	three, err := os.ReadFile(filepath.Join(dir, "3.zip"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(two, three), "copying must not show in the archive")
	v, err := buildtest.Open(t, filepath.Join(dir, "2.zip")).Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
}

func TestAFileWhoseTimeWasSetBackIsReadAgain(t *testing.T) {
	dir, in := buildtest.Site(t)
	time.Sleep(1200 * time.Millisecond) // releases are dated by the second
	in.Manifest.Made = time.Now().Truncate(time.Second)
	buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	p := filepath.Join(dir, "base/wp-load.php")
	require.NoError(t, os.WriteFile(p, []byte("<?PHP"), 0o755))
	require.NoError(t, os.Chtimes(p, time.Unix(1700000000, 0), time.Unix(1700000000, 0)))
	in.Before = buildtest.Open(t, filepath.Join(dir, "1.zip"))
	b := buildtest.Rebuild(t, in, filepath.Join(dir, "2.zip"))
	require.Equal(t, b.Manifest.Totals.Files-2, b.Copied.Files)
	r, err := buildtest.Open(t, filepath.Join(dir, "2.zip")).File("files/wp-load.php")
	require.NoError(t, err)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	require.Equal(t, "<?PHP", string(text))
}

// busy is a site on which files change while they are read: a file grows when it has been read to its end,
// so many times.
type busy struct {
	hostfs.FS
	file  string
	left  int
	grown func()
}

func (b *busy) Sub(ctx context.Context, name string) (hostfs.FS, error) {
	sub, err := b.FS.Sub(ctx, name)
	b.FS = sub
	return b, err
}

func (b *busy) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	f, err := b.FS.Open(ctx, name)
	if err != nil || !strings.HasSuffix(name, b.file) {
		return f, err
	}
	return &busyFile{f.(*os.File), b}, nil
}

type busyFile struct {
	*os.File
	b *busy
}

func (f *busyFile) Read(p []byte) (int, error) {
	n, err := f.File.Read(p)
	if err == io.EOF && f.b.left > 0 {
		f.b.left--
		f.b.grown()
	}
	return n, err
}

func TestFilesThatChangeWhileTheyAreReadAreReadAgain(t *testing.T) {
	for _, name := range []string{"wp-content/uploads/ünïcode näme.txt", "wp-content/uploads/big.jpg"} {
		for times, note := range map[int]string{1: "it was read again", 100: "changed each time"} {
			t.Run(fmt.Sprint(filepath.Base(name), times), func(t *testing.T) {
				dir, in := buildtest.Site(t)
				p := filepath.Join(dir, "base", name)
				grow := func() {
					f, err := os.OpenFile(p, os.O_APPEND|os.O_WRONLY, 0)
					require.NoError(t, err)
					defer f.Close()
					_, err = f.Write([]byte("more"))
					require.NoError(t, err)
				}
				in.FS = &busy{FS: in.FS, file: filepath.Base(name), left: times, grown: grow}
				b := buildtest.Rebuild(t, in, filepath.Join(dir, "1.zip"))
				require.Contains(t, fmt.Sprint(b.Manifest.Notes), note)
				a := buildtest.Open(t, filepath.Join(dir, "1.zip"))
				v, err := a.Verify(context.Background(), progress.Discard)
				require.NoError(t, err)
				require.Empty(t, v.Faults)
				if times == 1 {
					now, err := os.ReadFile(p)
					require.NoError(t, err)
					r, err := a.File("files/" + name)
					require.NoError(t, err)
					packed, err := io.ReadAll(r)
					require.NoError(t, err)
					require.True(t, bytes.Equal(now, packed))
				}
				out, err := exec.Command("unzip", "-tq", filepath.Join(dir, "1.zip")).CombinedOutput()
				require.NoError(t, err, string(out))
			})
		}
	}
}

func TestRowsAreKeptWithWhatBelongsToThemAndCopiedWhenTheSame(t *testing.T) {
	dir, in := buildtest.Site(t)
	in = buildtest.WithRows(t, in, buildtest.RowsBefore)
	in.Manifest.Made = buildtest.Later()
	list := *in.List
	packing.Edit{KeepRows: nil}.Apply(&list)
	b := buildtest.Rebuild(t, in, filepath.Join(dir, "1.zip"))
	rows := map[string]int64{}
	for _, x := range b.Manifest.Tables {
		rows[x.Name] = x.Rows
	}
	require.Equal(t, map[string]int64{"lad_options": 3, "lad_posts": 3, "lad_postmeta": 1, "lad_term_relationships": 2, "lad_notes": 2}, rows)

	again := in
	again.Before = buildtest.Open(t, filepath.Join(dir, "1.zip"))
	c := buildtest.Rebuild(t, again, filepath.Join(dir, "2.zip"))
	require.Equal(t, b.Manifest.Totals.SQLByte, c.Copied.Bytes-c.Manifest.Totals.Bytes+buildtest.SettingsBytes(t, again.Before))
	one, err := os.ReadFile(filepath.Join(dir, "1.zip"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(one, two))

	// One row differs at the end: what was equal before it must not be lost.
	changed := buildtest.WithRows(t, in, strings.Replace(buildtest.RowsBefore, "'Oboe'", "'Cor anglais'", 1))
	changed.Before = buildtest.Open(t, filepath.Join(dir, "1.zip"))
	buildtest.Rebuild(t, changed, filepath.Join(dir, "3.zip"))
	v, err := buildtest.Open(t, filepath.Join(dir, "3.zip")).Verify(context.Background(), progress.Discard)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	diff := buildtest.Compare(t, filepath.Join(dir, "1.zip"), filepath.Join(dir, "3.zip"), in)
	require.Len(t, diff.Tables, 1)
	require.Equal(t, int64(1), diff.Tables[0].Changed, "%+v", diff.Tables[0])
}

// copier is a target that copies by itself, and may fail at it.
type copier struct {
	*os.File
	copies int
	bytes  int64
	fails  error
}

func (c *copier) Shares(io.ReaderAt) bool { return true }

func (c *copier) CopyAt(f io.ReaderAt, from, n, at int64) error {
	c.copies++
	c.bytes += n
	if c.fails != nil {
		return c.fails
	}
	_, err := io.Copy(io.NewOffsetWriter(c.File, at), io.NewSectionReader(f, from, n))
	return err
}

func TestATargetThatCopiesByItselfIsAskedTo(t *testing.T) {
	dir, in := buildtest.Site(t)
	in.Manifest.Made = buildtest.Later()
	buildtest.Build(t, in, filepath.Join(dir, "1.zip"))
	again := in
	again.Before = buildtest.Open(t, filepath.Join(dir, "1.zip"))
	to := func() *copier {
		f, err := os.Create(filepath.Join(dir, "2.zip"))
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return &copier{File: f}
	}
	c := to()
	_, err := build.Release(context.Background(), c, again, progress.Discard)
	require.NoError(t, err)
	require.Positive(t, c.copies)
	require.GreaterOrEqual(t, c.bytes, int64(9<<20), "the picture at least")
	one, err := os.ReadFile(filepath.Join(dir, "1.zip"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(dir, "2.zip"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(one, two))

	c = to()
	c.fails = errors.New("the disk is full")
	_, err = build.Release(context.Background(), c, again, progress.Discard)
	require.ErrorContains(t, err, "the disk is full")
	require.ErrorContains(t, err, "from the release before")
}
