package phpval

import (
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
		s.pos = 2
		body, err := s.text(2, nil)
		return string(body), err
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
	s.pos += 2
	if tag == 'O' {
		if _, err := s.text(s.pos, nil); err != nil {
			return err
		}
		s.pos++
	}
	n, err := s.number(':')
	if err != nil {
		return err
	}
	s.pos++
	for range n {
		name, err := s.key()
		if err != nil {
			return err
		}
		if name == key {
			return nil
		}
		if err := s.value(0); err != nil {
			return err
		}
	}
	return ErrNoSuchPath
}

// key reads an array key, or a property name without the NUL marks of private and protected ones.
func (s *scanner) key() (string, error) {
	from := s.pos
	if s.src[s.pos] == 'i' {
		if err := s.value(0); err != nil {
			return "", err
		}
		return string(s.src[from+2 : s.pos-1]), nil
	}
	s.pos += 2
	body, err := s.text(s.pos, nil)
	if err != nil {
		return "", err
	}
	s.pos++
	if len(body) > 0 && body[0] == 0 {
		for i := 1; i < len(body); i++ {
			if body[i] == 0 {
				return string(body[i+1:]), nil
			}
		}
	}
	return string(body), nil
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
	s.pos += 2
	if tag == 'O' {
		if _, err := s.text(s.pos, nil); err != nil {
			return err
		}
		s.pos++
	}
	n, err := s.number(':')
	if err != nil {
		return err
	}
	s.pos++
	for range n {
		key, err := s.key()
		if err != nil {
			return err
		}
		if err := s.each(append(path[:len(path):len(path)], key), visit); err != nil {
			return err
		}
	}
	s.pos++
	return nil
}
