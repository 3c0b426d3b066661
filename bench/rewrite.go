package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"nestseed/internal/core/phpval"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sqltext"
)

// rewrite the dump beside sed: on one core, and with pieces of the file on all of them. The address stands there plainly
// and with escaped slashes; sed is given an expression for the first, as people do, and one for each. What is made is
// thrown away on both sides, as it is when rows go to a server; once more it is kept in files, and read.
func (b *bench) rewrite() error {
	old, fresh := b.stack.Address("base"), b.stack.Address("cedar-hill")
	r, err := rewrite.New(rewrite.Rules{Addresses: []rewrite.Pair{{Old: old, New: fresh}}})
	if err != nil {
		return err
	}
	pieces, err := b.split()
	if err != nil {
		return err
	}
	one, both := seds(old, fresh)
	sed := func(command, to string) measured {
		return func(int) (time.Duration, error) { return b.shell(command + " " + b.dump + " > " + to) }
	}
	ours := func(names []string, to func(name string) (io.WriteCloser, error)) measured {
		return func(int) (time.Duration, error) {
			start, errs := time.Now(), make([]error, len(names))
			var group sync.WaitGroup
			for i, name := range names {
				group.Go(func() { errs[i] = rewriteFile(r, name, to) })
			}
			group.Wait()
			return time.Since(start), errors.Join(errs...)
		}
	}
	nowhere := func(string) (io.WriteCloser, error) { return os.OpenFile(os.DevNull, os.O_WRONLY, 0) }
	files := func(name string) (io.WriteCloser, error) { return os.Create(name + ".new") }
	took, err := b.medians(9,
		sed(one, os.DevNull), sed(both, os.DevNull), ours([]string{b.dump}, nowhere), ours(pieces, nowhere),
		sed(both, b.dir+"/sed.sql"), ours([]string{b.dump}, files), ours(pieces, files),
	)
	if err != nil {
		return err
	}
	report("rewrite SQL, one core", took[2], "sed", took[0], "")
	report("rewrite SQL, all cores", took[3], "sed", took[0], "4 times")
	report("  beside sed that replaces as much", took[3], "sed", took[1], "")
	report("  the same into files", took[6], "sed", took[4], "")
	for _, name := range []string{b.dump + ".new", b.dir + "/sed.sql"} {
		whole, broken, err := readable(name)
		if err != nil {
			return err
		}
		fmt.Printf("    %s: %d serialised values can be read and %d cannot\n", filepath.Base(name), whole, broken)
	}
	return nil
}

// seds are sed for the address as it stands plainly, and for that and the same with escaped slashes, as the dump has both.
func seds(old, fresh string) (one, both string) {
	escaped := func(address string) string { return strings.ReplaceAll(address, "/", `\\\\/`) } // two backslashes to sed, as in the file
	one = fmt.Sprintf("sed -e 's#%s#%s#g'", old, fresh)
	return one, fmt.Sprintf("%s -e 's#%s#%s#g'", one, escaped(old), escaped(fresh))
}

// readable counts the serialised values of an SQL file.
func readable(name string) (whole, broken int, err error) {
	f, err := os.Open(name)
	if err != nil {
		return 0, 0, err
	}
	defer f.Close()
	sc := sqltext.NewScanner(f, 1<<30)
	var marks sqltext.Marks
	for sc.Scan() {
		stmt := sc.Statement()
		marks.Of(stmt)
		for at := 0; ; {
			begin, end, _ := marks.NextString(at)
			if begin < 0 {
				break
			}
			at = end + 1
			if v := sqltext.AppendUnescaped(nil, stmt[begin:end]); phpval.Looks(v) && phpval.Valid(v) {
				whole++
			} else if phpval.Looks(v) {
				broken++
			}
		}
	}
	return whole, broken, sc.Err()
}

func rewriteFile(r *rewrite.Rewriter, name string, to func(name string) (io.WriteCloser, error)) error {
	in, err := os.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := to(name)
	if err != nil {
		return err
	}
	return errors.Join(r.Worker().Script(out, in), out.Close())
}

// split cuts the dump at line ends into one piece a core.
func (b *bench) split() ([]string, error) {
	in, err := os.Open(b.dump)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	n := runtime.NumCPU()
	lines := bufio.NewReaderSize(in, 1<<20)
	var names []string
	for i := range n {
		name := fmt.Sprintf("%s.%d", b.dump, i)
		names = append(names, name)
		out, err := os.Create(name)
		if err != nil {
			return nil, err
		}
		for written := int64(0); written < info.Size()/int64(n)+1; {
			line, err := lines.ReadSlice('\n')
			for err == bufio.ErrBufferFull {
				m, _ := out.Write(line)
				written += int64(m)
				line, err = lines.ReadSlice('\n')
			}
			m, _ := out.Write(line)
			written += int64(m)
			if err == io.EOF {
				break
			}
			if err != nil {
				return nil, err
			}
		}
		if err := out.Close(); err != nil {
			return nil, err
		}
	}
	return names, nil
}
