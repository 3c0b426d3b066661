package sqltext

import "golang.org/x/sys/cpu"

// wide is whether this processor compares 32 bytes at once (AVX2).
var wide = cpu.X86.HasAVX2

func setMarks(words []mark, src []byte) {
	if wide {
		setMarksWide(words, src)
		return
	}
	setMarksPlain(words, src)
}

// setMarksWide is setMarksPlain in steps of 32 bytes. There is at least one word.
//
//go:noescape
func setMarksWide(words []mark, src []byte)
