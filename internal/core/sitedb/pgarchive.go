package sitedb

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
)

// Sections of an archive of PostgreSQL's dump program, and the sorts of blocks in it.
const (
	pgPreData  = 2
	pgPostData = 4
	pgRows     = 1
	pgBlobs    = 3
)

// IsArchive reports whether a dump that begins so is one that Text makes text of.
func IsArchive(head []byte) bool { return bytes.HasPrefix(head, []byte(pgCustom)) }

// Text returns a dump as text: one in the custom format of PostgreSQL's dump program is written as its restore program would write it,
// without owners, rights and large objects; any other comes as it is, and changed says which. Close ends it. Errors, of reading:
// ErrRefused.
func Text(r io.Reader) (text io.ReadCloser, changed bool, err error) {
	in := bufio.NewReaderSize(r, 1<<20)
	head, err := in.Peek(len(pgCustom))
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, false, err
	}
	if !IsArchive(head) {
		return io.NopCloser(in), false, nil
	}
	out, to := io.Pipe()
	go func() {
		w := bufio.NewWriterSize(to, 1<<20)
		a := &pgArchive{in: in, out: w}
		err := a.text()
		if err == nil {
			err = w.Flush()
		}
		to.CloseWithError(err)
	}()
	return out, true, nil
}

// pgArchive reads an archive from its beginning to its end (PostgreSQL, src/bin/pg_dump/pg_backup_archiver.c and pg_backup_custom.c:
// versions 1.10 to 1.16 of the format, which programs from 8.3 to 17 write).
type pgArchive struct {
	in      *bufio.Reader
	out     *bufio.Writer
	version int // 1.14 is 114
	integer int // bytes of a whole number
	offset  int // bytes of a place
	packed  pgPacking
	items   map[int]*pgItem
	order   []*pgItem
	server  string
	program string
}

// pgPacking is how blocks are compressed (PostgreSQL, src/include/common/compression.h, pg_compress_algorithm).
type pgPacking int

const (
	pgPlain pgPacking = iota
	pgGzip
	pgLZ4
	pgZstd
)

// mostWindow bounds what unpacking a block takes of memory (RFC 8878 section 3.1.1.1.2 has 8 MB for what everybody can read; the
// dump program's highest levels take more).
const mostWindow = 128 << 20

// unpack returns what stands in a block. end is called when it has been read.
func (p pgPacking) unpack(block io.Reader) (in io.Reader, end func(), err error) {
	switch p {
	case pgGzip: // zlib's format (RFC 1950)
		z, err := zlib.NewReader(block)
		if err != nil {
			return nil, nil, err
		}
		return z, func() { z.Close() }, nil
	case pgLZ4:
		return lz4.NewReader(block), func() {}, nil
	case pgZstd:
		z, err := zstd.NewReader(block, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(mostWindow), zstd.WithDecoderLowmem(true))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	}
	return block, func() {}, nil
}

// pgItem is an entry of its table of contents.
type pgItem struct {
	id      int
	desc    string
	section int
	defn    string
	copy    string
	rows    bool
}

func refusedArchive(format string, args ...any) error {
	return fmt.Errorf("%w: the archive of PostgreSQL's dump program: %s", ErrRefused, fmt.Sprintf(format, args...))
}

func (a *pgArchive) byte() (int, error) {
	b, err := a.in.ReadByte()
	if errors.Is(err, io.EOF) {
		err = refusedArchive("it is cut off")
	}
	return int(b), err
}

// number is a whole number: a byte for its sign, and its bytes from the least on.
func (a *pgArchive) number() (int, error) {
	sign, err := a.byte()
	if err != nil {
		return 0, err
	}
	n := 0
	for i := range a.integer {
		b, err := a.byte()
		if err != nil {
			return 0, err
		}
		n |= b << (8 * i)
	}
	if sign != 0 {
		n = -n
	}
	return n, nil
}

// string is a text with its length before it; a length below 0 is none.
func (a *pgArchive) string() (text string, there bool, err error) {
	n, err := a.number()
	if err != nil || n < 0 {
		return "", false, err
	}
	if n > mostStatement {
		return "", false, refusedArchive("a text of %d bytes is too long", n)
	}
	var b bytes.Buffer
	if _, err := io.CopyN(&b, a.in, int64(n)); err != nil {
		return "", false, refusedArchive("it is cut off")
	}
	return b.String(), true, nil
}

// skip passes over texts.
func (a *pgArchive) skip(n int) error {
	for range n {
		if _, _, err := a.string(); err != nil {
			return err
		}
	}
	return nil
}

func (a *pgArchive) text() error {
	if err := a.head(); err != nil {
		return err
	}
	if err := a.contents(); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "--\n-- %s\n--\n\n-- Dumped from database version %s\n-- Dumped by pg_dump version %s\n\n", pgHead, a.server, a.program)
	for _, i := range a.order {
		if i.section <= pgPreData {
			a.write(i.defn)
		}
	}
	if err := a.blocks(); err != nil {
		return err
	}
	for _, i := range a.order {
		if i.section > pgPreData && i.section < pgPostData && !i.rows {
			a.write(i.defn) // where sequences go on
		}
	}
	for _, i := range a.order {
		if i.section >= pgPostData {
			a.write(i.defn)
		}
	}
	_, err := fmt.Fprintf(a.out, "--\n-- %s complete\n--\n", pgHead)
	return err
}

// write adds a statement.
func (a *pgArchive) write(defn string) {
	if strings.TrimSpace(defn) != "" {
		a.out.WriteString(strings.TrimRight(defn, "\n") + "\n\n")
	}
}

func (a *pgArchive) head() error {
	if _, err := a.in.Discard(len(pgCustom)); err != nil {
		return err
	}
	var b [6]int // version, size of a number, size of a place, format
	for i := range b {
		var err error
		if b[i], err = a.byte(); err != nil {
			return err
		}
	}
	a.version, a.integer, a.offset = b[0]*100+b[1], b[3], b[4]
	switch {
	case b[0] != 1 || a.version < 110 || a.version > 116:
		return refusedArchive("version %d.%d of its format is not read; make text of it with pg_restore -f FILE", b[0], b[1])
	case a.integer < 2 || a.integer > 8 || a.offset < 1 || a.offset > 8:
		return refusedArchive("its numbers have %d bytes", a.integer)
	case b[5] != 1:
		return refusedArchive("it is not of the custom format; make text of it with pg_restore -f FILE")
	}
	if err := a.compression(); err != nil {
		return err
	}
	for range 7 { // when it was made
		if _, err := a.number(); err != nil {
			return err
		}
	}
	if err := a.skip(1); err != nil { // the database
		return err
	}
	var err error
	if a.server, _, err = a.string(); err == nil {
		a.program, _, err = a.string()
	}
	return err
}

func (a *pgArchive) compression() error {
	if a.version < 115 {
		level, err := a.number()
		if level != 0 {
			a.packed = pgGzip
		}
		return err
	}
	by, err := a.byte()
	if a.packed = pgPacking(by); err == nil && a.packed > pgZstd {
		err = refusedArchive("it is compressed by a method that is not known; make text of it with pg_restore -f FILE")
	}
	return err
}

func (a *pgArchive) contents() error {
	n, err := a.number()
	if err != nil {
		return err
	}
	const most = 1 << 20
	if n < 0 || n > most {
		return refusedArchive("it says that it has %d entries", n)
	}
	a.items = map[int]*pgItem{}
	for range n {
		i, err := a.item()
		if err != nil {
			return err
		}
		switch i.desc { // what is of the place, and not of the site
		case "ACL", "DEFAULT ACL", "DATABASE", "DATABASE PROPERTIES", "BLOB", "BLOBS", "BLOB METADATA", "BLOB COMMENTS", "SECURITY LABEL":
			i.defn = ""
		}
		a.items[i.id] = i
		a.order = append(a.order, i)
	}
	return nil
}

func (a *pgArchive) item() (*pgItem, error) {
	i := &pgItem{}
	var err error
	number := func(to *int) {
		if err == nil {
			*to, err = a.number()
		}
	}
	text := func(to *string) {
		if err == nil {
			*to, _, err = a.string()
		}
	}
	var rows, none int
	var ignored string
	number(&i.id)
	number(&rows)
	for _, to := range []*string{&ignored, &ignored, &ignored, &i.desc} { // of the catalogue, its number, its name
		text(to)
	}
	if i.section = sectionOf(i.desc); a.version >= 111 {
		number(&i.section)
	}
	for _, to := range []*string{&i.defn, &ignored, &i.copy, &ignored, &ignored} { // dropping it, schema, table space
		text(to)
	}
	if a.version >= 114 {
		text(&ignored) // how the table is stored
	}
	if a.version >= 116 {
		number(&none)
	}
	text(&ignored) // owner
	text(&ignored) // with numbers of rows
	for there := true; there && err == nil; {
		_, there, err = a.string() // what it depends on
	}
	for range 1 + a.offset { // where its rows are
		if err == nil {
			_, err = a.byte()
		}
	}
	i.rows = rows != 0
	return i, err
}

// sectionOf is the section of an entry where the format does not tell it.
func sectionOf(desc string) int {
	switch desc {
	case "CONSTRAINT", "FK CONSTRAINT", "CHECK CONSTRAINT", "INDEX", "RULE", "TRIGGER":
		return pgPostData
	case "TABLE DATA", "SEQUENCE SET", "BLOBS", "BLOB":
		return pgPreData + 1
	}
	return pgPreData
}

// blocks writes the rows, in the order in which they are there.
func (a *pgArchive) blocks() error {
	for {
		sort, err := a.in.ReadByte()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		id, err := a.number()
		if err != nil {
			return err
		}
		switch item := a.items[id]; {
		case item == nil:
			return refusedArchive("there are rows of the entry %d, which it has not", id)
		case sort == pgBlobs:
			err = a.largeObjects()
		case sort != pgRows:
			err = refusedArchive("a block of the sort %d is not known", sort)
		default:
			if strings.TrimSpace(item.copy) != "" { // without it, rows are statements
				a.out.WriteString(strings.TrimRight(item.copy, "\n") + "\n")
			}
			if err = a.rows(a.out); err == nil {
				_, err = a.out.WriteString("\n")
			}
		}
		if err != nil {
			return err
		}
	}
}

// rows copies what is in one block.
func (a *pgArchive) rows(to io.Writer) error {
	c := &pgChunks{of: a}
	from, end, err := a.packed.unpack(c)
	if err != nil {
		return refusedArchive("rows are not compressed as they should be: %v", err)
	}
	defer end()
	if _, err := io.Copy(to, from); err != nil {
		return refusedArchive("rows cannot be read: %v", err)
	}
	if _, err := io.Copy(io.Discard, c); err != nil { // to the end of the block
		return err
	}
	return nil
}

// largeObjects passes over large objects: each has its number, and then pieces.
func (a *pgArchive) largeObjects() error {
	for {
		if n, err := a.number(); err != nil || n == 0 {
			return err
		}
		if _, err := io.Copy(io.Discard, &pgChunks{of: a}); err != nil {
			return err
		}
	}
}

// pgChunks reads pieces, each with its length before it, until one of none.
type pgChunks struct {
	of   *pgArchive
	left int
	done bool
}

func (c *pgChunks) Read(p []byte) (int, error) {
	for c.left == 0 && !c.done {
		n, err := c.of.number()
		if err != nil {
			return 0, err
		}
		if n < 0 {
			return 0, refusedArchive("a piece has %d bytes", n)
		}
		c.left, c.done = n, n == 0
	}
	if c.done {
		return 0, io.EOF
	}
	n, err := c.of.in.Read(p[:min(len(p), c.left)])
	c.left -= n
	if errors.Is(err, io.EOF) {
		err = refusedArchive("it is cut off")
	}
	return n, err
}
