package rewrite

import (
	"bytes"
	"encoding/binary"
	"unicode/utf16"
	"unicode/utf8"
)

// IsWide reports whether a text is in UTF-16, by the mark that it begins with (RFC 2781 section 3.2).
func IsWide(head []byte) bool {
	return bytes.HasPrefix(head, []byte("\xff\xfe")) || bytes.HasPrefix(head, []byte("\xfe\xff"))
}

// Wide appends a text in UTF-16, rewritten, if it can be read as a whole; else as it is.
func (w *Worker) Wide(dst, src []byte) []byte {
	var order binary.AppendByteOrder = binary.LittleEndian
	if src[0] == 0xfe {
		order = binary.BigEndian
	}
	text, ok := fromWide(src[2:], order.(binary.ByteOrder))
	if !ok || !w.r.Has(text) {
		return append(dst, src...)
	}
	fresh := w.Value(nil, text)
	dst = append(dst, src[:2]...)
	for _, r := range string(fresh) {
		for _, unit := range utf16.AppendRune(nil, r) {
			dst = order.AppendUint16(dst, unit)
		}
	}
	return dst
}

// fromWide reads UTF-16 without its mark. It is not ok where a half of a pair stands alone.
func fromWide(src []byte, order binary.ByteOrder) (_ []byte, ok bool) {
	if len(src)%2 != 0 {
		return nil, false
	}
	out := make([]byte, 0, len(src)/2)
	for i := 0; i < len(src); i += 2 {
		r := rune(order.Uint16(src[i:]))
		if utf16.IsSurrogate(r) {
			if i += 2; i >= len(src) {
				return nil, false
			}
			if r = utf16.DecodeRune(r, rune(order.Uint16(src[i:]))); r == utf8.RuneError {
				return nil, false
			}
		}
		out = utf8.AppendRune(out, r)
	}
	return out, true
}
