package rewrite

import (
	"fmt"
	"io"

	"nestseed/internal/core/sqltext"
)

// maxLiteral bounds what Script holds of one literal or comment.
const maxLiteral = 1 << 30

// Script copies SQL from src to dst, its single-quoted literals rewritten and all else as it is.
func (w *Worker) Script(dst io.Writer, src io.Reader) error {
	in, out := make([]byte, 256<<10), []byte(nil)
	for have := 0; ; {
		n, err := src.Read(in[have:])
		have += n
		if err != nil && err != io.EOF {
			return err
		}
		if have < len(in) && err == nil {
			continue
		}
		var done int
		out, done = w.chunk(out[:0], in[:have], err == io.EOF)
		if _, err := dst.Write(out); err != nil {
			return err
		}
		if err == io.EOF {
			return nil
		}
		if done == 0 && len(in) >= maxLiteral {
			return fmt.Errorf("%w: a literal or a comment is longer than %d bytes", sqltext.ErrSyntax, maxLiteral)
		}
		rest := in[done:have]
		if done == 0 {
			in = make([]byte, 2*len(in))
		}
		have = copy(in, rest)
	}
}

// chunk appends SQL with its literals rewritten, as far as they are whole, or all of it when it is the last, and returns
// how much of it that was.
func (w *Worker) chunk(dst, sql []byte, last bool) (_ []byte, done int) {
	w.Begin(sql)
	next, _ := w.sql.raw(0)
	for pos := 0; ; {
		begin, end, resume := w.marks.NextString(pos)
		if begin < 0 || !last && end+1 == len(sql) {
			if last {
				resume = len(sql)
			} else if begin >= 0 {
				resume = begin - 1
			}
			return append(dst, sql[done:resume]...), resume
		}
		if pos = end + 1; w.r.quoted != nil {
			if end <= next {
				continue
			}
			if next, _ = w.sql.raw(begin); end <= next {
				continue
			}
		}
		dst = append(dst, sql[done:begin]...)
		out, changed := w.touched(dst, sql[begin:end])
		if !changed {
			out = append(dst, sql[begin:end]...)
		}
		dst, done = out, end
	}
}
