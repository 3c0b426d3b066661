package store

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strconv"
)

// An archive that was built from the one before shares with it what did not change: it is a folder with the bytes that
// are its own, hard links to the files of older archives, and a list of which bytes follow one another. A shared byte
// lies on the disk once, for as long as an archive needs it, whichever of them are removed.
//
// The list is plain text, so that archives can be joined without this service.
const (
	sharedSuffix = ".parts"
	ownName      = "own"
	listName     = "parts"
	listHead     = "# An archive in parts: file, first byte, number of bytes. To join it, here: " +
		`while read f a n; do [ "$f" = "#" ] || tail -c +$((a+1)) "$f" | head -c $n; done < parts > archive.zip` + "\n"
	listEnd = "# end "
)

// part is a run of bytes of an archive that lies in one file. It ends where the next begins.
type part struct {
	at   int64 // in the archive
	file int   // of the files that the archive is made of
	from int64 // in that file
}

// joined is an archive that is made of parts of files. Reading is safe for several goroutines.
type joined struct {
	files []io.ReaderAt
	parts []part // in order, without gaps
	size  int64
}

// find returns which part holds a byte of the archive.
func (j *joined) find(at int64) int {
	return sort.Search(len(j.parts), func(i int) bool { return j.parts[i].at > at }) - 1
}

func (j *joined) end(i int) int64 {
	if i+1 < len(j.parts) {
		return j.parts[i+1].at
	}
	return j.size
}

// each calls do for the parts that bytes of the archive lie in.
func (j *joined) each(at, n int64, do func(file int, from, n int64) error) error {
	for i := j.find(at); n > 0; i++ {
		if i < 0 || i >= len(j.parts) {
			return io.ErrUnexpectedEOF
		}
		p := j.parts[i]
		m := min(n, j.end(i)-at)
		if err := do(p.file, p.from+at-p.at, m); err != nil {
			return err
		}
		at, n = at+m, n-m
	}
	return nil
}

// ReadAt implements io.ReaderAt.
func (j *joined) ReadAt(p []byte, at int64) (n int, err error) {
	if at < 0 {
		return 0, errors.New("read before the beginning of an archive")
	}
	if at >= j.size {
		return 0, io.EOF
	}
	want := min(int64(len(p)), j.size-at)
	err = j.each(at, want, func(file int, from, m int64) error {
		k, err := j.files[file].ReadAt(p[n:n+int(m)], from)
		n += k
		if k == int(m) {
			return nil
		}
		if err == io.EOF {
			return io.ErrUnexpectedEOF
		}
		return err
	})
	if err == nil && want < int64(len(p)) {
		err = io.EOF
	}
	return n, err
}

// place puts a run of bytes of a file at a place of the archive, over what was there, or at its end.
func (j *joined) place(at, n int64, file int, from int64) {
	if n <= 0 {
		return
	}
	if at == j.size {
		if last := len(j.parts) - 1; last < 0 || j.parts[last].file != file || j.parts[last].from+at-j.parts[last].at != from {
			j.parts = append(j.parts, part{at, file, from})
		}
		j.size = at + n
		return
	}
	first := j.find(at)
	kept := append([]part(nil), j.parts[:first]...)
	if p := j.parts[first]; p.at < at {
		kept = append(kept, p)
	}
	kept = append(kept, part{at, file, from})
	end := at + n
	if end < j.size {
		last := j.find(end)
		p := j.parts[last]
		kept = append(append(kept, part{end, p.file, p.from + end - p.at}), j.parts[last+1:]...)
	}
	j.parts, j.size = kept, max(j.size, end)
}

// cut ends the archive after so many bytes.
func (j *joined) cut(size int64) {
	if size < j.size {
		j.parts, j.size = j.parts[:sort.Search(len(j.parts), func(i int) bool { return j.parts[i].at >= size })], size
	}
}

// list writes the parts down.
func (j *joined) list() []byte {
	b := []byte(listHead)
	for i, p := range j.parts {
		b = append(append(b, fileName(p.file)...), ' ')
		b = append(strconv.AppendInt(b, p.from, 10), ' ')
		b = append(strconv.AppendInt(b, j.end(i)-p.at, 10), '\n')
	}
	return fmt.Appendf(b, "%s%08x\n", listEnd, crc32.Checksum(b, castagnoli))
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func fileName(i int) string {
	if i == 0 {
		return ownName
	}
	return strconv.Itoa(i)
}

// shared is an open archive in parts.
type shared struct {
	*io.SectionReader
	joined
	open []*os.File
}

// ReadAt implements io.ReaderAt.
func (s *shared) ReadAt(p []byte, at int64) (int, error) { return s.joined.ReadAt(p, at) }

func (s *shared) Close() (err error) {
	for _, f := range s.open {
		err = errors.Join(err, f.Close())
	}
	return err
}

// openShared opens the archive in parts that lies in a folder. Errors: where its list is damaged, or leads out of its files.
func openShared(dir string) (*shared, error) {
	text, err := os.ReadFile(filepath.Join(dir, listName))
	if err != nil {
		return nil, err
	}
	damaged := fmt.Errorf("the list of its parts, %s, is damaged", filepath.Join(filepath.Base(dir), listName))
	end := bytes.LastIndex(text, []byte(listEnd))
	if end < 0 || string(text[end:]) != fmt.Sprintf("%s%08x\n", listEnd, crc32.Checksum(text[:end], castagnoli)) {
		return nil, damaged
	}
	s := &shared{}
	var sizes []int64
	s.parts = make([]part, 0, bytes.Count(text[:end], []byte("\n")))
	for line := range bytes.Lines(text[:end]) {
		if line[0] == '#' {
			continue
		}
		name, rest, _ := bytes.Cut(bytes.TrimSuffix(line, []byte("\n")), []byte(" "))
		first, count, _ := bytes.Cut(rest, []byte(" "))
		file := 0
		if string(name) != ownName {
			if file, err = strconv.Atoi(string(name)); err != nil || file < 1 {
				file = -1
			}
		}
		from, err1 := strconv.ParseInt(string(first), 10, 64)
		n, err2 := strconv.ParseInt(string(count), 10, 64)
		if file < 0 || err1 != nil || err2 != nil || from < 0 || n <= 0 {
			s.Close()
			return nil, damaged
		}
		for len(s.open) <= file && err == nil {
			var size int64
			if size, err = s.add(filepath.Join(dir, fileName(len(s.open)))); err == nil {
				sizes = append(sizes, size)
			}
		}
		if err == nil && (from > sizes[file] || n > sizes[file]-from) {
			err = fmt.Errorf("its part %s in %s is too short; bring the store back from a copy, or build the release again", fileName(file),
				filepath.Base(dir))
		}
		if err != nil {
			s.Close()
			return nil, err
		}
		s.place(s.size, n, file, from)
	}
	s.SectionReader = io.NewSectionReader(&s.joined, 0, s.size)
	return s, nil
}

// add opens one more file of the archive.
func (s *shared) add(name string) (size int64, err error) {
	f, err := os.Open(name)
	if err != nil {
		return 0, err
	}
	s.open, s.files = append(s.open, f), append(s.files, f)
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// writeFile makes a small file that is on disk for good.
func writeFile(name string, text []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	_, err = w.Write(text)
	return errors.Join(err, w.Flush(), f.Sync(), f.Close())
}
