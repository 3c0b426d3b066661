//go:build !amd64

package sqltext

func setMarks(any, quote bitset, src []byte) { setMarksPlain(any, quote, src) }
