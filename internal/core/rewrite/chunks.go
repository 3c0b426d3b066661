package rewrite

import (
	"bytes"
	"fmt"
	"io"

	"nestseed/internal/core/sqltext"
)

// chunkBytes is how much of a long text is held at once, unless there is no place to cut.
const chunkBytes = 1 << 20

// Chunks gives a long text to each in pieces that can be rewritten, or looked through, one by one as the whole would be:
// no address, no folder, nothing else without white space, and no %TOKEN% of less than half a kilobyte lies in two of
// them. A piece is valid until each returns. Errors: those of src and each; ErrSyntax of package sqltext where no place
// to cut is found in a gigabyte.
func (r *Rewriter) Chunks(src io.Reader, each func(chunk []byte) error) error {
	in := make([]byte, 32<<10) // most texts are short
	for have := 0; ; {
		n, err := io.ReadFull(src, in[have:])
		have += n
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			if have == 0 {
				return nil
			}
			return each(in[:have])
		}
		if err != nil {
			return err
		}
		cut := 0
		if have >= chunkBytes {
			cut = r.cut(in)
		}
		if cut == 0 {
			if len(in) >= maxLiteral {
				return fmt.Errorf("%w: a text has no place to cut in %d bytes", sqltext.ErrSyntax, len(in))
			}
			in = append(in, make([]byte, len(in))...)
			continue
		}
		if err := each(in[:cut]); err != nil {
			return err
		}
		have = copy(in, in[cut:])
	}
}

// cut returns a place at which nothing is cut apart: behind the last white space, or, in a text of little, where there is
// nothing to replace near it. 0 where there is none.
func (r *Rewriter) cut(text []byte) int {
	if i := bytes.LastIndexAny(text[len(text)/2:], " \n\t"); i >= 0 {
		return len(text)/2 + i + 1
	}
	const near = 512
	for at := len(text) - near; at > len(text)/2; at -= near {
		if around := text[at-near : at+near]; !r.Has(around) && bytes.IndexByte(around, '%') < 0 {
			return at
		}
	}
	return 0
}
