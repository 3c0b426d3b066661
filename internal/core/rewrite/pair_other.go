//go:build !amd64

package rewrite

const hasAVX2 = false

func pairIndex([]byte, *pair) int { panic("not on this processor") }
