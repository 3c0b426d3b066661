package phpval

import (
	"fmt"
	"strconv"
)

// Member is one key of an array with its value, as serialised.
type Member struct {
	Key   string // as PHP prints it
	Int   bool   // the key is a number
	Value []byte
}

// Members takes an array apart. Errors: ErrBroken; ErrNoSuchPath when it is not an array.
func Members(src []byte) ([]Member, error) {
	if !Valid(src) {
		return nil, ErrBroken
	}
	s := scanner{src: src}
	if src[0] != 'a' {
		return nil, fmt.Errorf("%w: this is not an array", ErrNoSuchPath)
	}
	n := s.members()
	members := make([]Member, 0, min(n, 1<<10))
	for range n {
		m := Member{Int: s.src[s.pos] == 'i'}
		m.Key = s.key()
		from := s.pos
		if err := s.value(0); err != nil {
			return nil, err
		}
		m.Value = s.src[from:s.pos]
		members = append(members, m)
	}
	return members, nil
}

// AppendArray appends the serialised form of an array.
func AppendArray(dst []byte, members []Member) []byte {
	dst = append(dst, "a:"...)
	dst = strconv.AppendInt(dst, int64(len(members)), 10)
	dst = append(dst, ":{"...)
	for _, m := range members {
		if m.Int {
			dst = fmt.Appendf(dst, "i:%s;", m.Key)
		} else {
			dst = AppendString(dst, m.Key)
		}
		dst = append(dst, m.Value...)
	}
	return append(dst, '}')
}
