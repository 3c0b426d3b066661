// Package buffers lends memory that is used again and again: of a few sizes, so that it stays flat however much passes.
package buffers

import "sync"

var pools [9]sync.Pool // 32 KiB << i, up to 8 MiB

const least = 32 << 10

func class(n int) int {
	c := 0
	for size := least; size < n && c < len(pools)-1; size <<= 1 {
		c++
	}
	return c
}

// Room is how much memory Take sets aside for so many bytes. What is in flight is counted by it: a small piece may lie
// in a large buffer.
func Room(n int) int64 { return int64(max(n, least<<class(n))) }

// Take returns a buffer of n bytes, whose content is whatever was in it before.
func Take(n int) []byte {
	if b, ok := pools[class(n)].Get().(*[]byte); ok && cap(*b) >= n {
		return (*b)[:n]
	}
	return make([]byte, n, Room(n))
}

// Recycle gives a buffer back; nobody may use it any more. Any slice will do.
func Recycle(b []byte) {
	full := b[:0:cap(b)]
	if cap(full) >= least {
		// A buffer serves the largest class it fills.
		c := 0
		for size := least; c < len(pools)-1 && size<<1 <= cap(full); size <<= 1 {
			c++
		}
		pools[c].Put(&full)
	}
}

// Shrink moves bytes that wait into a buffer of their size, when they lie in a much larger one.
func Shrink(b []byte) []byte {
	if Room(len(b)) >= int64(cap(b)) {
		return b
	}
	out := append(Take(len(b))[:0], b...)
	Recycle(b)
	return out
}
