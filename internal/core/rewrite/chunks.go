package rewrite

import (
	"bytes"
	"io"
)

// chunkBytes is how much of a long text is held at once, and longestChunk how much where no good place to cut is found.
const (
	chunkBytes   = 1 << 20
	longestChunk = 16 << 20
)

// Chunks gives a long text to each in pieces that can be rewritten, or looked through, one by one as the whole would be:
// no address, no folder, nothing else without white space, quotes or angle brackets, and no %TOKEN% of less than half a
// kilobyte lies in two of them. Only where 16 MiB have no place for that, as no text of a site has, what stands at the cut
// may be overlooked. A piece is valid until each returns. Errors: those of src and each.
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
			in = append(in, make([]byte, len(in))...)
			continue
		}
		if err := each(in[:cut]); err != nil {
			return err
		}
		have = copy(in, in[cut:])
	}
}

// cut returns a place at which nothing is cut apart: behind the last byte that no address has, or, in a text of one long
// word, where there is nothing to replace near it. 0 where there is none and the text may grow.
func (r *Rewriter) cut(text []byte) int {
	if i := bytes.LastIndexAny(text[len(text)/2:], " \n\t\"<>"); i >= 0 {
		return len(text)/2 + i + 1
	}
	const near = 512
	for at := len(text) - near; at > len(text)/2; at -= near {
		if around := text[at-near : at+near]; !r.Has(around) && bytes.IndexByte(around, '%') < 0 {
			return at
		}
	}
	if len(text) >= longestChunk {
		return len(text) - near
	}
	return 0
}
