package archive

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Piece is a file that was given: an archive, a dump, or a volume of one.
type Piece struct {
	Name      string
	R         io.ReaderAt
	SizeBytes int64
}

// MinVolumeBytes is the smallest size of volumes.
const MinVolumeBytes = 64 << 10

// VolumeName returns the name of a volume, counted from 1: NAME.zip.001.
func VolumeName(name string, n int) string { return fmt.Sprintf("%s.%03d", name, n) }

// VolumeSums returns the name of the file that has the sums of all volumes.
func VolumeSums(name string) string { return name + ".sums" }

// Cutter is a writer that cuts what is written into volumes: plain cuts, which cat joins.
type Cutter struct {
	name string
	size int64
	open func(name string) (io.WriteCloser, error)
	out  io.WriteCloser
	sum  hash.Hash
	left int64
	n    int
	sums bytes.Buffer
}

// NewCutter returns a cutter of volumes of so many bytes. open is called for each, and at the end for the file
// of sums.
func NewCutter(name string, sizeBytes int64, open func(name string) (io.WriteCloser, error)) *Cutter {
	return &Cutter{name: name, size: max(sizeBytes, MinVolumeBytes), open: open}
}

// Write implements io.Writer.
func (c *Cutter) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		if c.left == 0 {
			if err := c.next(); err != nil {
				return n, err
			}
		}
		m := min(int64(len(p)), c.left)
		if _, err := c.out.Write(p[:m]); err != nil {
			return n, err
		}
		c.sum.Write(p[:m])
		c.left -= m
		n += int(m)
		p = p[m:]
	}
	return n, nil
}

func (c *Cutter) next() (err error) {
	if err := c.endVolume(); err != nil {
		return err
	}
	c.n++
	c.sum, c.left = sha256.New(), c.size
	c.out, err = c.open(VolumeName(c.name, c.n))
	return err
}

func (c *Cutter) endVolume() error {
	if c.out == nil {
		return nil
	}
	c.sums.WriteString(sumLine(hex.EncodeToString(c.sum.Sum(nil)), VolumeName(c.name, c.n)))
	err := c.out.Close()
	c.out = nil
	return err
}

// Close ends the last volume and writes the sums. Volumes returns how many there are.
func (c *Cutter) Close() error {
	if err := c.endVolume(); err != nil {
		return err
	}
	w, err := c.open(VolumeSums(c.name))
	if err != nil {
		return err
	}
	_, err = w.Write(c.sums.Bytes())
	return errors.Join(err, w.Close())
}

// Volumes returns how many volumes there are.
func (c *Cutter) Volumes() int { return c.n }

var volumeForm = regexp.MustCompile(`^(.+)\.(\d{3,})$`)

// IsVolume reports whether a file is a volume or the sums of some, by its name, and of what.
func IsVolume(name string) (of string, n int, is bool) {
	name = path.Base(name)
	if of, found := strings.CutSuffix(name, ".sums"); found {
		return of, 0, true
	}
	m := volumeForm.FindStringSubmatch(name)
	if m == nil {
		return "", 0, false
	}
	n, err := strconv.Atoi(m[2])
	return m[1], n, err == nil && n > 0
}

// Join puts volumes, given in any order, perhaps with their sums, together again. A missing one is named; where
// sums are given, so is one that has another size than the others. Sums themselves are checked by CheckVolumes.
func Join(pieces []Piece) (Piece, error) {
	var volumes []Piece
	var sums map[string]string
	name := ""
	for _, p := range pieces {
		of, n, is := IsVolume(p.Name)
		if !is {
			return Piece{}, fmt.Errorf("%w: %s is not a volume; give the volumes of one archive, NAME.001 and so on, or one whole archive",
				ErrNotOurs, p.Name)
		}
		if name != "" && of != name {
			return Piece{}, fmt.Errorf("%w: %s and %s are volumes of different archives", ErrNotOurs, name, of)
		}
		name = of
		if n > 0 {
			volumes = append(volumes, p)
			continue
		}
		var err error
		if sums, err = readSums(io.NewSectionReader(p.R, 0, p.SizeBytes)); err != nil {
			return Piece{}, fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	number := func(p Piece) int { _, n, _ := IsVolume(p.Name); return n }
	slices.SortFunc(volumes, func(a, b Piece) int { return number(a) - number(b) })
	last := len(sums)
	if len(volumes) > 0 {
		last = max(last, number(volumes[len(volumes)-1]))
	}
	var missing []string
	for i, at := 1, 0; i <= last; i++ {
		if at < len(volumes) && number(volumes[at]) == i {
			if at++; at < len(volumes) && number(volumes[at]) == i {
				return Piece{}, fmt.Errorf("%w: %s is there twice", ErrDamaged, VolumeName(name, i))
			}
			continue
		}
		missing = append(missing, VolumeName(name, i))
	}
	if len(missing) > 0 || len(volumes) == 0 {
		return Piece{}, fmt.Errorf("%w: %s is missing", ErrDamaged, strings.Join(missing, ", "))
	}
	out := &joined{}
	for i, v := range volumes {
		if i < len(volumes)-1 && v.SizeBytes != volumes[0].SizeBytes {
			return Piece{}, fmt.Errorf("%w: %s has %d bytes where %d should be; copy it again", ErrDamaged, v.Name, v.SizeBytes,
				volumes[0].SizeBytes)
		}
		out.parts = append(out.parts, v)
		out.size += v.SizeBytes
	}
	return Piece{name, out, out.size}, nil
}

// joined reads several pieces as one.
type joined struct {
	parts []Piece // all but the last of one size
	size  int64
}

func (j *joined) ReadAt(p []byte, off int64) (n int, err error) {
	for len(p) > 0 {
		if off >= j.size {
			return n, io.EOF
		}
		each := j.parts[0].SizeBytes
		i := min(off/each, int64(len(j.parts)-1))
		at := off - i*each
		m, err := j.parts[i].R.ReadAt(p[:min(int64(len(p)), j.parts[i].SizeBytes-at)], at)
		n += m
		off += int64(m)
		p = p[m:]
		if err != nil && !errors.Is(err, io.EOF) || m == 0 {
			return n, errors.Join(err, io.ErrUnexpectedEOF)
		}
	}
	return n, nil
}

func readSums(r io.Reader) (map[string]string, error) {
	sums := map[string]string{}
	lines := bufio.NewScanner(io.LimitReader(r, 16<<20))
	for lines.Scan() {
		sum, name, ok := strings.Cut(lines.Text(), "  ")
		if !ok || len(sum) != 64 {
			return nil, fmt.Errorf("%w: line %q", ErrDamaged, lines.Text())
		}
		sums[name] = sum
	}
	return sums, lines.Err()
}

// CheckVolumes compares volumes with the sums among them and names those that are damaged.
func CheckVolumes(ctx context.Context, pieces []Piece) (faults []Fault, err error) {
	sums := map[string]string{}
	for _, p := range pieces {
		if _, n, is := IsVolume(p.Name); is && n == 0 {
			if sums, err = readSums(io.NewSectionReader(p.R, 0, p.SizeBytes)); err != nil {
				return nil, err
			}
		}
	}
	for _, p := range pieces {
		want := sums[path.Base(p.Name)]
		if want == "" {
			continue
		}
		h := sha256.New()
		if _, err := io.Copy(h, readerContext{ctx, io.NewSectionReader(p.R, 0, p.SizeBytes)}); err != nil {
			return nil, err
		}
		if hex.EncodeToString(h.Sum(nil)) != want {
			faults = append(faults, Fault{path.Base(p.Name), "does not have the sum it had when it was cut; copy it again"})
		}
	}
	return faults, nil
}
