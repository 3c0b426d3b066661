//go:build !amd64

package rewrite

const wide = false

func pairIndex([]byte, *pair) int { panic("not on this processor") }
