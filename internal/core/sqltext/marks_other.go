//go:build !amd64

package sqltext

func setMarks(words []mark, src []byte) { setMarksPlain(words, src) }
