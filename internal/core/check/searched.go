package check

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/rewrite"
)

// searchedBy changes with how files are searched: what an older version has searched is searched again.
const searchedBy = "1"

// Searched are files in which nothing was found, so that they need not be read again. Each is kept as the first eight bytes of a SHA-256 of
// what was searched for, its path, its size, and, on a site, the time of its last change, which the system sets and no program can.
type Searched struct {
	mu    sync.Mutex
	files map[uint64]bool
}

// MarshalBinary returns the files as big-endian numbers in ascending order.
func (s *Searched) MarshalBinary() ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := make([]uint64, 0, len(s.files))
	for f := range s.files {
		all = append(all, f)
	}
	slices.Sort(all)
	out := make([]byte, 0, 8*len(all))
	for _, f := range all {
		out = binary.BigEndian.AppendUint64(out, f)
	}
	return out, nil
}

// UnmarshalBinary reads what MarshalBinary has returned.
func (s *Searched) UnmarshalBinary(b []byte) error {
	if len(b)%8 != 0 {
		return fmt.Errorf("the list of searched files has %d bytes, which is no multiple of 8", len(b))
	}
	s.files = make(map[uint64]bool, len(b)/8)
	for ; len(b) > 0; b = b[8:] {
		s.files[binary.BigEndian.Uint64(b)] = true
	}
	return nil
}

func (s *Searched) add(key uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.files == nil {
		s.files = map[uint64]bool{}
	}
	s.files[key] = true
}

// has reports whether a file is among them; none is where s is nil.
func (s *Searched) has(key uint64) bool {
	if s == nil {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.files[key]
}

// keyOf tells a file from every other; changed is zero for one of a release. f is what was searched for.
func keyOf(f string, path string, sizeBytes int64, changed time.Time) uint64 {
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%d %s\n%q\n%d", searchedBy, len(f), f, path, sizeBytes)
	if !changed.IsZero() {
		fmt.Fprintf(h, " %d", changed.UnixNano())
	}
	return binary.BigEndian.Uint64(h.Sum(nil))
}

// oldSides are rules that replace the same by what is no address of any site: what does not name it has nothing of the source, whatever
// site is made.
func oldSides(rules rewrite.Rules) rewrite.Rules {
	out := rewrite.Rules{}
	for _, p := range rules.Addresses {
		out.Addresses = append(out.Addresses, rewrite.Pair{Old: p.Old, New: "http://invalid"})
	}
	for _, p := range rules.Paths {
		out.Paths = append(out.Paths, rewrite.Pair{Old: p.Old, New: "/invalid"})
	}
	return out
}

func searchedFor(rules rewrite.Rules) string {
	return fmt.Sprintf("%q %q", rules.Addresses, rules.Paths)
}

// ReleaseFile is a file of a release.
type ReleaseFile struct {
	Path      string
	SizeBytes int64
	Open      func() (io.ReadCloser, error)
}

// Search returns those of a release's files that do not name what rules replace, which are placed on every site as they are. They are
// searched as the files of a site are. Those in before are not read again: it has what a search for the same rules in the same release has
// returned, or is nil.
func Search(ctx context.Context, files []ReleaseFile, rules rewrite.Rules, before *Searched) (*Searched, error) {
	rules = oldSides(rules)
	f := searchedFor(rules)
	all := keyOf(f, "", 0, time.Time{}) // no file has this name: it says that all were searched
	if before.has(all) {
		return before, nil
	}
	traces, out := newTraces(rules), &Searched{}
	group, ctx := parallel.WithContext(ctx)
	group.SetLimit(readers)
	for _, file := range files {
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			r, err := file.Open()
			if err != nil {
				return err
			}
			defer r.Close()
			named, err := traces.inReader(r)
			if err == nil && !named {
				out.add(keyOf(f, file.Path, file.SizeBytes, time.Time{}))
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	out.add(all)
	return out, nil
}

// inReader reports whether there is a trace in what is read, if it looks like text.
func (t *traces) inReader(r io.Reader) (named bool, err error) {
	buf := make([]byte, 256<<10)
	n, err := io.ReadFull(r, buf[:8<<10])
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return false, err
	}
	if !looksLikeText(buf[:n]) {
		return false, nil
	}
	err = inPieces(io.MultiReader(bytes.NewReader(bytes.Clone(buf[:n])), r), buf, func(piece []byte) {
		t.in(piece, func(found) { named = true })
	})
	return named, err
}

// rested is how long before it is read a file must have been changed, for a later change to have another time: the clock of a file system
// has ticks.
var rested = 2 * time.Second

// known says of the files of a site which were searched before.
type known struct {
	release, site *Searched
	ofRelease, of string // what was searched for
	began         time.Time
	fresh         *Searched // of the site, as it is now
	passed        int64     // over
}

func (r *runner) knownFiles(ctx context.Context) (*known, error) {
	k := &known{ofRelease: searchedFor(oldSides(r.site.Origin)), of: searchedFor(r.site.Origin), began: time.Now(), fresh: &Searched{}}
	if r.site.Full {
		return k, nil
	}
	k.site = r.site.Searched
	if r.site.Placed == nil {
		return k, nil
	}
	var err error
	k.release, err = r.site.Placed(ctx)
	return k, err
}

// passes reports whether a file need not be read: it is as it was when nothing was found in it, or as the release has it, which has just
// been placed and whose content was compared then.
func (k *known) passes(e hostfs.Entry) bool {
	if !e.ChangeTime.IsZero() {
		if key := keyOf(k.of, e.Path, e.SizeBytes, e.ChangeTime); k.site.has(key) {
			k.fresh.add(key)
			k.passed++
			return true
		}
	}
	if !odd(e) && k.release.has(keyOf(k.ofRelease, e.Path, e.SizeBytes, time.Time{})) {
		k.passed++
		return true
	}
	return false
}

// clean keeps a file in which nothing was found.
func (k *known) clean(e hostfs.Entry) {
	if !e.ChangeTime.IsZero() && e.ChangeTime.Before(k.began.Add(-rested)) {
		k.fresh.add(keyOf(k.of, e.Path, e.SizeBytes, e.ChangeTime))
	}
}
