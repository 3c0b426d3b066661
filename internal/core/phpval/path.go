package phpval

import (
	"bytes"
	"fmt"
	"strconv"
)

// span is where one value lies in the bytes.
type span struct{ from, to int }

// Lookup returns the string, number or boolean at the path of array keys or property names,
// as PHP would print it. Errors: ErrBroken, ErrNoSuchPath.
func Lookup(src []byte, path ...string) (string, error) {
	at, err := find(src, path)
	if err != nil {
		return "", err
	}
	return scalar(src[at.from:at.to])
}

// Set returns src with the value at the path replaced by the given string. Every key of the path
// must exist, so that a mistyped path is an error and not a new setting nobody reads.
// A value that was an integer, float or boolean keeps its type when the text fits it.
// Errors: ErrBroken, ErrNoSuchPath.
func Set(src []byte, value string, path ...string) ([]byte, error) {
	at, err := find(src, path)
	if err != nil {
		return nil, err
	}
	out := append([]byte{}, src[:at.from]...)
	out = appendTyped(out, src[at.from], value)
	return append(out, src[at.to:]...), nil
}

// AppendString appends the serialised form of a string.
func AppendString(dst []byte, s string) []byte {
	dst = append(dst, "s:"...)
	dst = strconv.AppendInt(dst, int64(len(s)), 10)
	dst = append(dst, `:"`...)
	dst = append(dst, s...)
	return append(dst, `";`...)
}

func appendTyped(dst []byte, tag byte, value string) []byte {
	switch tag {
	case 'i':
		if n, err := strconv.ParseInt(value, 10, 64); err == nil {
			return fmt.Appendf(dst, "i:%d;", n)
		}
	case 'b':
		if value == "0" || value == "1" {
			return fmt.Appendf(dst, "b:%s;", value)
		}
	case 'd':
		if f, err := strconv.ParseFloat(value, 64); err == nil {
			return fmt.Appendf(dst, "d:%s;", strconv.FormatFloat(f, 'g', -1, 64))
		}
	}
	return AppendString(dst, value)
}

func scalar(v []byte) (string, error) {
	s := scanner{src: v}
	switch v[0] {
	case 's':
		from, to, _ := s.text(2, ';')
		return string(v[from:to]), nil
	case 'i', 'd', 'b':
		return string(v[2 : len(v)-1]), nil
	case 'N':
		return "", nil
	}
	return "", fmt.Errorf("%w: it leads to an array or object, not to one value", ErrNoSuchPath)
}

func find(src []byte, path []string) (span, error) {
	if !Valid(src) {
		return span{}, ErrBroken
	}
	s := scanner{src: src}
	for depth, key := range path {
		if err := s.enter(key); err != nil {
			return span{}, fmt.Errorf("%w: %q is not there (step %d of the path)", ErrNoSuchPath, key, depth+1)
		}
	}
	from := s.pos
	if err := s.value(0); err != nil {
		return span{}, err
	}
	return span{from, s.pos}, nil
}

// enter moves from the start of an array or object to the start of its member with this key.
func (s *scanner) enter(key string) error {
	tag := s.src[s.pos]
	if tag != 'a' && tag != 'O' {
		return ErrNoSuchPath
	}
	for range s.members() {
		if s.key() == key {
			return nil
		}
		if err := s.value(0); err != nil {
			return err
		}
	}
	return ErrNoSuchPath
}

// members moves from the start of an array or object, which is known to be valid, to its first key, and returns how many
// it has.
func (s *scanner) members() (n int) {
	at := s.pos + 2
	if s.src[s.pos] == 'O' {
		_, _, at = s.text(at, ':')
	}
	n, s.pos = number(s.src, at, ":{")
	return n
}

// key reads an array key, or a property name without the NUL marks of private and protected ones. The value is known to be
// valid.
func (s *scanner) key() string {
	from := s.pos + 2
	if s.src[s.pos] == 'i' {
		s.pos = until(s.src, from, digit|sign)
		return string(s.src[from : s.pos-1])
	}
	from, to, end := s.text(from, ';')
	s.pos = end
	name := s.src[from:to]
	if len(name) > 0 && name[0] == 0 {
		if i := bytes.IndexByte(name[1:], 0); i >= 0 {
			name = name[i+2:]
		}
	}
	return string(name)
}

// Each calls visit with every string, number and boolean and the path that leads to it, in the order of the
// bytes. What is inside custom objects (C:…) is not visited. Bytes that are not valid visit nothing.
func Each(src []byte, visit func(path []string, value string)) {
	if Valid(src) {
		s := scanner{src: src}
		s.each(nil, visit)
	}
}

// each visits the value at the scanner's place, which is known to be valid.
func (s *scanner) each(path []string, visit func([]string, string)) error {
	from, tag := s.pos, s.src[s.pos]
	if tag != 'a' && tag != 'O' {
		if err := s.value(0); err != nil {
			return err
		}
		if v, err := scalar(s.src[from:s.pos]); err == nil {
			visit(path, v)
		}
		return nil
	}
	for range s.members() {
		key := s.key()
		if err := s.each(append(path[:len(path):len(path)], key), visit); err != nil {
			return err
		}
	}
	s.pos++
	return nil
}
